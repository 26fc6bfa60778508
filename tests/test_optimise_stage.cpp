// A field made from the part's duty: loads and supports on the grid, against the check, through project and release.
#include <QProcess>
#include <QTemporaryDir>
#include <QTest>
#include <cmath>
#include <nlohmann/json.hpp>

#include "base/error.hpp"
#include "duty/duty_edit.hpp"
#include "duty/part_edit.hpp"
#include "exchange/field_reader.hpp"
#include "exchange/writers.hpp"
#include "project/run.hpp"
#include "store/storage.hpp"

using namespace escultura;
using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;

namespace {

bool near(double a, double b, double relative) {
    return std::abs(a - b) <= relative * std::max(std::abs(a), std::abs(b));
}

QString messageOf(const std::function<void()>& f) {
    try {
        f();
    } catch (const InputError& e) {
        return e.what();
    }
    return "no error";
}

/// A hanger in inches and pounds: a slanted eye above a foot with two bolts; no field.
const char* const hanger = R"({
  "format": "escultura-part", "version": 1, "name": "Instrument hanger",
  "units": {"length": "in", "force": "lbf", "stress": "psi", "density": "lb/in^3", "mass": "lb"},
  "material": {"name": "Steel", "youngs_modulus": 30e6, "poissons_ratio": 0.29, "density": 0.284,
               "yield_strength": 36000, "yield_source": "minimum"},
  "design_space": {"low": [0, -1, 0], "high": [3, 1, 2]},
  "interfaces": [
    {"name": "bolt a", "kind": "boss", "origin": [0, -0.6, 0.4], "axis": [1, 0, 0], "length": 0.4,
     "bore_diameter": 0.3, "ring_diameter": 0.7, "end": {"kind": "through"}},
    {"name": "bolt b", "kind": "boss", "origin": [0, 0.6, 0.4], "axis": [1, 0, 0], "length": 0.4,
     "bore_diameter": 0.3, "ring_diameter": 0.7, "end": {"kind": "through"}},
    {"name": "eye", "kind": "boss", "origin": [2.4, -0.25, 1.4], "axis": [0.1, 1, 0.2], "length": 0.5,
     "bore_diameter": 0.4, "ring_diameter": 0.9, "end": {"kind": "through"}}],
  "supports": [{"kind": "fixed", "interfaces": ["bolt a", "bolt b"], "face": "start"}],
  "load_cases": [
    {"name": "pull", "factor": 1.5,
     "loads": [{"kind": "bearing", "interfaces": ["eye"], "face": "bore", "force": [100, 20, -300]},
               {"kind": "torque", "interfaces": ["eye"], "face": "bore", "torque": 50}]},
    {"name": "push",
     "loads": [{"kind": "force", "interfaces": ["eye"], "face": "bore", "force": [-50, 200, 0], "moment": [10, 0, 5]},
               {"kind": "remote_force", "interfaces": ["eye"], "face": "bore", "force": [0, 0, 80], "point": [6, 1, 3]},
               {"kind": "pressure", "interfaces": ["eye"], "face": "start", "pressure": 1000}]},
    {"name": "spin", "use": "combinations_only",
     "loads": [{"kind": "spin", "speed": "3000 rpm", "axis": [0, 0, 1], "point": [0, 0, 0]},
               {"kind": "gravity", "acceleration": [0, 0, "-9.81 m/s^2"]}]}],
  "combinations": [{"name": "both", "sum": "1.2 pull + 0.5 spin"}],
  "requirements": [{"kind": "safety_factor", "limit": 2}],
  "optimisation": {"share": 0.25, "cell_size": 0.1, "steps": 40}
})";

std::string changed(const std::function<void(nlohmann::json&)>& change) {
    auto j = nlohmann::json::parse(hanger);
    change(j);
    return j.dump();
}

Part hangerPart() {
    return parsePart(hanger, "/nowhere/hanger.json");
}

}  // namespace

class TestOptimiseStage : public QObject {
    Q_OBJECT
  private slots:
    void text() {
        const Part p = hangerPart();
        QVERIFY(p.fields.empty());
        QCOMPARE(p.optimisation.share, 0.25);
        QVERIFY(near(p.optimisation.cellSize, 2.54, 1e-12));
        Optimisation o;
        o.aim = Optimisation::Aim::lightest;
        o.safetyFactor = 2.5;
        o.compliance = 3;
        o.cellSize = 1.27;
        o.filterRadius = 5.08;
        o.symmetric = false;
        o.rules = {{MakingRule::Kind::draw, -Vec3::UnitY()}, {MakingRule::Kind::overhang, Vec3::UnitZ()}};
        o.steps = 120;
        QCOMPARE(parsePart(withOptimisation(p, o), p.path).optimisation, o);
        o = {};
        o.mass = 1.25;
        o.worstCase = true;
        o.weights = {{"both", 2}};
        const Part again = parsePart(withOptimisation(p, o), p.path);
        QVERIFY(near(again.optimisation.mass, 1.25, 1e-12));
        QCOMPARE(again.optimisation.weights, o.weights);
        // a new name of what is weighed goes along
        const Part renamed =
            parsePart(withCombination(again, "both", {"sum", again.combinations[0].terms, true}), p.path);
        QCOMPARE(renamed.optimisation.weights[0].first, std::string("sum"));
        QVERIFY(describe(o).find("1.250 kg") != std::string::npos);
        auto refused = [&](const char* json) {
            return messageOf(
                [&] { parsePart(changed([&](auto& j) { j["optimisation"] = nlohmann::json::parse(json); }), p.path); });
        };
        QVERIFY(refused(R"({"share": 1.2})").contains("optimisation.share"));
        QVERIFY(refused(R"({"aim": "lightest"})").contains("safety_factor or compliance"));
        QVERIFY(refused(R"({"aim": "lightest", "safety_factor": 2, "share": 0.3})").contains("aim stiffest"));
        QVERIFY(refused(R"({"share": 0.3, "mass": 1})").contains("both"));
        QVERIFY(refused(R"({"weights": [{"case": "storm", "weight": 1}]})").contains("'storm'"));
        QVERIFY(refused(R"({"rules": [{"kind": "draw", "direction": [1, 1, 0]}]})").contains("along x, y or z"));
        QVERIFY(refused(R"({"steps": 2.5})").contains("whole number"));
        QVERIFY(refused(R"({"colour": 1})").contains("unknown key 'colour'"));
    }
    /// Forces and moments of every case are the meant ones, though faces lie between the nodes.
    void loadsOnTheGrid() {
        const Part p = hangerPart();
        std::vector<std::string> notes;
        const optimise::Problem g = gridProblem(p, 2.54, &notes);
        QVERIFY(notes.empty());
        QCOMPARE(g.cases.size(), 3U);  // pull, push, both: spin serves the combination only
        QCOMPARE(g.cases[2].name, std::string("both"));
        auto sums = [&](const optimise::GridCase& c, const Vec3& about) {
            Vec3 force = Vec3::Zero(), moment = Vec3::Zero();
            for (const auto& [node, f] : c.forces) {
                force += f;
                moment += (g.grid.position(node) - about).cross(f);
                bool touches = false;
                for (unsigned k = 0; k < 8 && !touches; ++k) {
                    auto at = g.grid.nodeAt(node);
                    for (unsigned a = 0; a < 3; ++a) at[a] -= static_cast<int>(k >> a & 1U);
                    bool inside = true;
                    for (unsigned a = 0; a < 3; ++a) inside &= at[a] >= 0 && at[a] < g.grid.cells[a];
                    touches = inside && g.use[g.grid.cell(at[0], at[1], at[2])] == optimise::CellUse::solid;
                }
                if (!touches) return std::pair(Vec3(1e9, 0, 0), moment);
            }
            return std::pair(force, moment);
        };
        const double lbf = 4.4482216152605, in = 25.4;
        const Vec3 axis = Vec3(0.1, 1, 0.2).normalized();
        const Vec3 middle = Vec3(2.4, -0.25, 1.4) * in + 0.25 * in * axis;
        auto [pull, pullMoment] = sums(g.cases[0], middle);
        QVERIFY((pull - 1.5 * lbf * Vec3(100, 20, -300)).norm() < 1e-9 * pull.norm());
        QVERIFY((pullMoment - 1.5 * 50 * lbf * in * axis).norm() < 1e-6 * pullMoment.norm());
        auto [push, pushMoment] = sums(g.cases[1], middle);
        // what a pressure adds up to follows the facets of its face: 0.4 % of its 454 lbf at most
        const Vec3 meant = lbf * Vec3(-50, 200, 80) + 1000 * M_PI * (0.45 * 0.45 - 0.2 * 0.2) * lbf * axis;
        QVERIFY2((push - meant).norm() < 0.006 * 454 * lbf, qPrintable(QString::number((push - meant).norm())));
        const Vec3 meantMoment = lbf * in * Vec3(10, 0, 5) + (Vec3(6, 1, 3) * in - middle).cross(lbf * Vec3(0, 0, 80));
        QVERIFY((pushMoment - meantMoment).norm() < 0.01 * meantMoment.norm());
        QVERIFY((sums(g.cases[2], middle).first - 1.2 * pull).norm() < 1e-9 * pull.norm());
        // half of 3000 rpm about z, and of the weight
        const Vec3 at(30, 10, 5);
        const double density = p.material.density / 1000, w = 3000 * 2 * M_PI / 60;
        const Vec3 body = 0.5 * density * (w * w * Vec3(30, 10, 0) + Vec3(0, 0, -9810));
        QVERIFY((g.cases[2].bodyForce(at) - body).norm() < 1e-9 * body.norm());
        // the bores are never filled
        for (std::size_t c = 0; c < g.use.size(); ++c) {
            const Vec3 d = g.grid.centre(c) / in - Vec3(0, -0.6, 0.4);
            if (Vec3(0, d[1], d[2]).norm() < 0.14 && d[0] < 0.4) QVERIFY(g.use[c] == optimise::CellUse::empty);
        }
    }
    /// A cylinder that is held radially can still turn about its slanted axis and slide along it.
    void supportsOnTheGrid() {
        const Part p = parsePart(
            changed([](auto& j) {
                j["supports"].push_back(
                    {{"kind", "cylindrical"}, {"interfaces", {"eye"}}, {"face", "bore"}, {"held", {"radial"}}});
                j["supports"].push_back({{"kind", "elastic_bed"},
                                         {"interfaces", {"bolt a"}},
                                         {"face", "bore"},
                                         {"normal_stiffness", 100},
                                         {"tangential_stiffness", 40}});
                j["supports"].push_back({{"kind", "remote"}, {"interfaces", {"bolt b"}}, {"face", "bore"}});
            }),
            "/nowhere/hanger.json");
        std::vector<std::string> notes;
        const optimise::Problem g = gridProblem(p, 2.54, &notes);
        QCOMPARE(notes.size(), 1U);
        QVERIFY(notes[0].find("bolt b") != std::string::npos);
        const Interface& eye = *p.findInterface("eye");
        int radial = 0;
        for (const optimise::Hold& h : g.holds) {
            const Vec3 d = g.grid.position(h.node) - eye.origin;
            if (d.norm() > 25) continue;
            ++radial;
            QVERIFY(std::abs(h.direction.dot(eye.axis)) < 1e-12);
            QVERIFY(std::abs(h.direction.dot(eye.axis.cross(d))) < 1e-9);
        }
        QVERIFY(radial > 20);
        // pushed evenly a bed answers with its area times its stiffness: half across, half along the normal
        Mat3 sum = Mat3::Zero();
        for (const optimise::Spring& s : g.springs) sum += s.stiffness;
        const double area = M_PI * 0.3 * 0.4 * 25.4 * 25.4;
        QVERIFY2(near(sum(0, 0), area * 40, 0.02), qPrintable(QString::number(sum(0, 0) / area)));
        QVERIFY(near(sum(1, 1), area * 70, 0.02) && near(sum(2, 2), area * 70, 0.02));
    }
    /// A solid block, so large that its broken edges do not count: compliance on the grid and by the check's
    /// tetrahedra.
    void againstTheCheck() {
        const Part p = parsePart(R"({
          "format": "escultura-part", "version": 1, "name": "Block",
          "material": {"name": "A", "youngs_modulus": 71000, "poissons_ratio": 0.33, "density": 2660,
                       "yield_strength": 215, "yield_source": "minimum"},
          "design_space": {"low": [0, -120, -100], "high": [600, 120, 100]},
          "interfaces": [
            {"name": "wall", "kind": "pad", "origin": [0, 0, 0], "axis": [1, 0, 0], "length": 60, "ring_diameter": 180},
            {"name": "tip", "kind": "pad", "origin": [600, 0, 0], "axis": [-1, 0, 0], "length": 60, "ring_diameter": 180}],
          "supports": [{"kind": "fixed", "interfaces": ["wall"], "face": "start"}],
          "load_cases": [
            {"name": "bend", "loads": [{"kind": "force", "interfaces": ["tip"], "face": "start", "force": [0, 0, -2000]}]},
            {"name": "twist", "loads": [{"kind": "torque", "interfaces": ["tip"], "face": "start", "torque": 40000}]}],
          "requirements": []})",
                                 "/nowhere/block.json");
        Progress progress;
        const optimise::Problem g = gridProblem(p, 10);
        optimise::Responses r(g, 1e-8);
        std::vector<double> density(g.use.size());
        for (std::size_t c = 0; c < density.size(); ++c) density[c] = g.use[c] == optimise::CellUse::empty ? 0 : 1;
        r.solve(density, progress);
        field::DensityField field;
        field.cells = g.grid.cells;
        field.origin = g.grid.origin;
        field.spacing = g.grid.spacing;
        field.density.assign(density.begin(), density.end());
        const FieldResult prepared = prepareField(p, field);
        Recipe recipe = defaultRecipe(p, field);
        recipe.smoothing = 0;
        recipe.elementSize = 20;
        recipe.edges.radius = 4;  // the grid has sharp edges
        recipe.check.elementsThrough = 0;
        const SurfaceResult surface = evaluateSurface(p, prepared, recipe, progress);
        const MeshResult mesh = evaluateMesh(p, prepared, surface, recipe, progress, nullptr, nullptr);
        const CheckResult check = evaluateCheck(p, prepared, surface, mesh, recipe, progress, nullptr, nullptr);
        for (std::size_t i = 0; i < 2; ++i) {
            const double grid = r.compliance(i).value, tets = 2 * check.cases[i].strainEnergy;
            QVERIFY2(near(grid, tets, 0.02), qPrintable(QString("%1, %2").arg(grid).arg(tets)));
        }
    }
    /// From a part without a field to a made one, a surface, a project file and back; out of date with its duty.
    void throughTheProject() {
        QTemporaryDir dir;
        const std::string path = dir.filePath("hanger.json").toStdString();
        exchange::writeText(path, hanger);
        Progress progress;
        Project p = openPart(path, progress);
        Recipe& recipe = p.variants[0].recipe;
        QCOMPARE(recipe.field.how, FieldChoice::How::made);
        QVERIFY(!p.field(recipe) && near(recipe.elementSize, 1.45 * 2.54, 1e-9));
        QVERIFY(messageOf([&] { run(p, recipe, Stage::surface, progress); }).contains("not made yet"));
        int heard = 0;
        recipe.field.made = runMadeField(
            p, recipe,
            [&](const optimise::Step& s, const field::DensityField& f) {
                ++heard;
                return s.share > 0.2 && f.count() == 30 * 20 * 20;
            },
            progress);
        QVERIFY(heard > 10);
        const auto made = p.made(recipe);
        QVERIFY(near(made->share, 0.25, 2e-3) && made->within);
        QCOMPARE(made->cases, (std::vector<std::string>{"pull", "push", "both"}));
        run(p, recipe, Stage::surface, progress);
        const auto field = p.field(recipe);
        const ThresholdFigures t = thresholdFigures(p.part, *field, recipe);
        QVERIFY2(t.cutOff.empty() && near(t.share, 0.25, 0.05), qPrintable(QString::number(t.share)));
        QVERIFY(t.grey < 0.25);
        QCOMPARE(p.surface(recipe)->measures.pieces, 1);
        QCOMPARE(p.madeKey(recipe), recipe.field.made);
        // kept in the project file with how it came about
        const std::string file = dir.filePath("hanger.escultura").toStdString();
        store::saveProject(p, file);
        const Project again = store::loadProject(file);
        const Recipe& restored = again.variants[0].recipe;
        QCOMPARE(restored, recipe);
        QVERIFY(again.field(restored) && again.made(restored));
        QCOMPARE(again.made(restored)->field.density, made->field.density);
        QCOMPARE(again.made(restored)->steps.size(), made->steps.size());
        QCOMPARE(again.keys(restored).surface, p.keys(recipe).surface);
        // another load: the field stays, and is known to be of another duty; a case's name alone is not what matters
        Project other = p;
        other.part = parsePart(changed([](auto& j) {
                                   j["load_cases"][0]["loads"][0]["force"] = {100, 20, -400};
                               }),
                               path);
        QVERIFY(other.madeKey(recipe) != recipe.field.made);
        QVERIFY(other.field(recipe) != nullptr);
        // the same again: the same digits
        Project repeated = openPart(path, progress);
        makeMissingFields(repeated, progress);
        QCOMPARE(repeated.made(repeated.variants[0].recipe)->digest, made->digest);
    }
    /// What the grid says of a safety factor is never left to stand alone.
    void theGridsFactorIsNoProof() {
        Progress progress;
        const MadeField made = makeField(
            parsePart(
                changed([](auto& j) {
                    j["optimisation"] = {{"aim", "lightest"}, {"safety_factor", 2}, {"cell_size", 0.12}, {"steps", 20}};
                }),
                "/nowhere/hanger.json"),
            {}, progress);
        QVERIFY(made.share > 0.05 && made.share < 0.9);
        QVERIFY(!made.steps.back().limits.empty());
        QVERIFY(std::any_of(made.notes.begin(), made.notes.end(),
                            [](const auto& n) { return n.find("Only the check tells") != std::string::npos; }));
    }
    void refusals() {
        Progress progress;
        auto message = [&](const std::function<void(nlohmann::json&)>& change) {
            return messageOf([&] { makeField(parsePart(changed(change), "/nowhere/hanger.json"), {}, progress); });
        };
        QVERIFY(message([](auto& j) { j["supports"] = nlohmann::json::array(); }).contains("supports"));
        QVERIFY(message([](auto& j) { j["supports"][0]["directions"] = {"x"}; }).contains("free: "));
        QVERIFY(message([](auto& j) {
                    j["load_cases"] = nlohmann::json::array(), j.erase("combinations");
                }).contains("a load case with a load"));
        QVERIFY(message([](auto& j) { j.erase("design_space"); }).contains("design_space"));
        QVERIFY(message([](auto& j) { j["optimisation"]["share"] = 0.01; }).contains("interfaces keep anyway"));
        QVERIFY(message([](auto& j) { j["optimisation"]["cell_size"] = 0.001; }).contains("million cells"));
        QVERIFY(message([](auto& j) { j["optimisation"]["cell_size"] = 0.9; }).contains("interface 'bolt a'"));
    }
    void commandLine() {
        QTemporaryDir dir;
        exchange::writeText(dir.filePath("hanger.json").toStdString(), hanger);
        auto run = [&](const QStringList& arguments) {
            QProcess cli;
            cli.start(ESCULTURA_CLI, arguments);
            if (!cli.waitForFinished(120000)) return std::pair(-1, QString());
            return std::pair(cli.exitCode(), QString(cli.readAllStandardOutput() + cli.readAllStandardError()));
        };
        const QString out = dir.filePath("made.vti");
        auto [code, said] = run({"optimise", dir.filePath("hanger.json"), "--out", out, "--stiffest", "0.3", "--steps",
                                 "12", "--save", dir.filePath("hanger.escultura")});
        QVERIFY2(code == 0, qPrintable(said));
        QVERIFY(said.contains("30 x 20 x 20 cells") && said.contains("both: compliance"));
        Progress progress;
        exchange::FieldSource source;
        source.path = out.toStdString();
        const field::DensityField field = exchange::readField(source, std::nullopt, progress);
        QCOMPARE(field.cells, (std::array<int, 3>{30, 20, 20}));
        QVERIFY(near(field.spacing[1], 2.54, 1e-12) && near(field.origin[1], -25.4, 1e-12));
        const Project saved = store::loadProject(dir.filePath("hanger.escultura").toStdString());
        QCOMPARE(saved.made(saved.variants[0].recipe)->field.density, field.density);
        QCOMPARE(run({"optimise", dir.filePath("hanger.json"), "--out", dir.filePath("made.txt")}).first, 3);
        // a run makes the field that is missing; its release is made again from the folder alone
        exchange::writeText(dir.filePath("quick.json").toStdString(),
                            changed([](auto& j) { j["optimisation"]["steps"] = 12; }));
        const QString release = dir.filePath("release");
        auto ran = run({"run", dir.filePath("quick.json"), "--level", "look", "--untested", "--out", release});
        QVERIFY2(ran.first == 0, qPrintable(ran.second));
        QVERIFY(QFile::exists(release + "/inputs/made-field.vti"));
        ran = run({"verify-release", release});
        QVERIFY2(ran.first == 0 && ran.second.contains("items, 0 differ"), qPrintable(ran.second.right(400)));
        QVERIFY(run({"optimise", dir.filePath("hanger.json"), "--out", out, "--stiffest", "0.3", "--lightest", "2"})
                    .second.contains("--lightest"));
    }
};

QTEST_APPLESS_MAIN(TestOptimiseStage)
#include "test_optimise_stage.moc"
