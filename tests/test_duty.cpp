// What a part file may say, and what is said of it: long because each kind of entry has its refusals.
#include <QTemporaryDir>
#include <QtTest>
#include <numeric>
#include <set>

#include "duty/duty_edit.hpp"
#include "duty/load_kind.hpp"
#include "duty/load_table.hpp"
#include "duty/materials.hpp"
#include "duty/names.hpp"
#include "duty/schema.hpp"
#include "duty/support_kind.hpp"
#include "exchange/writers.hpp"
#include "made_up_part.hpp"
#include "project/project.hpp"
#include "project/run.hpp"
#include "stages/quantities.hpp"
#include "stages/ready.hpp"
#include "surface/patched_body.hpp"

using namespace escultura;
using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using made_up::leverPart;
using made_up::messageOf;
using nlohmann::json;

namespace {

Part parse(const json& j) {
    return parsePart(j.dump(1), "/somewhere/lever.json");
}
json load(const char* text) {
    return json::parse(text);
}
bool mentions(const std::vector<ReadyNote>& notes, const std::string& words, ReadyNote::Severity severity) {
    for (const ReadyNote& n : notes)
        if (n.severity == severity && n.text.find(words) != std::string::npos) return !n.fix.empty();
    return false;
}

}  // namespace

class TestDuty : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;

    /// Checks a lever with a changed part file on a coarse mesh.
    std::shared_ptr<const CheckResult> check(const json& j, const std::function<void(Recipe&)>& change = {}) {
        Progress progress;
        const Project p = openPart(made_up::writeLever(dir_.path().toStdString(), j), progress);
        Recipe r = p.current().recipe;
        r.elementSize = 4;
        if (change) change(r);
        run(p, r, Stage::check, progress);
        return p.check(r);
    }

  private slots:
    void namesAreTakenTogether() {
        QCOMPARE(togetherText({"bolt 1", "bolt 2", "bolt 3", "bolt 4"}), std::string("bolt 1 to 4"));
        QCOMPARE(togetherText({"bolt 10", "bolt 9"}), std::string("bolt 9 to 10"));
        QCOMPARE(togetherText({"bolt 1", "bolt 3", "bolt 4"}), std::string("bolt 1 and 2 others"));
        QCOMPARE(togetherText({"pin L", "pin R"}), std::string("pin L and pin R"));
        QCOMPARE(togetherText({"lug 1", "bolt 2"}), std::string("lug 1 and bolt 2"));
        QCOMPARE(togetherText({"7", "8"}), std::string("7 and 8"));
        QCOMPARE(togetherText({"seat"}), std::string("seat"));
        QCOMPARE(togetherText({}), std::string());
    }
    void libraryIsSound() {
        QVERIFY(materialLibrary().size() >= 12);
        std::set<std::string> names;
        for (const auto& m : materialLibrary()) {
            elastic::validate(m.material);
            QVERIFY(names.insert(m.material.name).second);
            // every value says where it is from and whether it is a minimum
            QVERIFY2((m.material.yieldSource.find("minimum") == 0) == m.minimum, m.material.name.c_str());
            QVERIFY(m.minimum || m.material.yieldSource.find("typical") == 0);
            QVERIFY(m.material.ultimateStrength >= m.material.yieldStrength);
            // what the part file says comes back
            Part p = parse(leverPart());
            const Part q = parsePart(withMaterial(p, m.material), p.path);
            QCOMPARE(q.material.name, m.material.name);
            QVERIFY(std::abs(q.material.density / m.material.density - 1) < 1e-9);
            QVERIFY(std::abs(elastic::strength(q.material) - elastic::strength(m.material)) < 1e-9);
            QCOMPARE(q.optimisedWith, std::string("made-up steel"));
        }
    }
    void framesFromAnglesAndPoints() {
        const Mat3 a = axesFromAngles(Vec3(0, 0, 90));
        QVERIFY((a.col(0) - Vec3::UnitY()).norm() < 1e-12 && (a.col(1) + Vec3::UnitX()).norm() < 1e-12);
        const Mat3 b = axesFromPoints(Vec3(1, 1, 1), Vec3(1, 3, 1), Vec3(-4, 1, 1));
        QVERIFY((a - b).norm() < 1e-12);
        QVERIFY_EXCEPTION_THROWN(axesFromPoints(Vec3(0, 0, 0), Vec3(1, 0, 0), Vec3(2, 0, 0)), InputError);
        json j = leverPart();
        j["frames"] = load(R"([{"name": "tilted", "origin": [1, 2, 3], "angles": [0, 0, 30]}])");
        const Part p = parse(j);
        const Part q = parsePart(withFrame(p, "tilted", {"turned", Vec3(4, 5, 6), p.frames[0].axes}), p.path);
        QCOMPARE(q.frames[0].name, std::string("turned"));
        QVERIFY((q.frames[0].axes - p.frames[0].axes).norm() < 1e-9 &&
                (q.frames[0].origin - Vec3(4, 5, 6)).norm() < 1e-9);
    }
    void combinationsAreRead() {
        const std::vector<std::string> known{"steady", "storm", "storm snatch", "1.5 g"};
        const auto t = parseCombination("1.35 steady + 1.5 storm snatch - 0.5*storm", known);
        QCOMPARE(t.size(), std::size_t(3));
        QVERIFY(t[0] == std::pair(std::string("steady"), 1.35) && t[1] == std::pair(std::string("storm snatch"), 1.5) &&
                t[2] == std::pair(std::string("storm"), -0.5));
        QVERIFY(parseCombination("-storm", known)[0].second == -1);
        QVERIFY(parseCombination("2 1.5 g", known)[0] == std::pair(std::string("1.5 g"), 2.0));
        const Combination c{"x", t, true};
        QVERIFY(parseCombination(combinationText(c), known) == t);
        for (const char* bad : {"", "1.35", "2 calm", "steady storm", "steady + steady", "1.35 steady +"})
            QVERIFY2(messageOf([&] { parseCombination(bad, known); }).find("character") != std::string::npos, bad);
    }
    void kindsAreInTheOrderOfTheirNames() {
        for (std::size_t k = 0; k < loadKinds().size(); ++k) QCOMPARE(static_cast<std::size_t>(loadKinds()[k].kind), k);
        for (std::size_t k = 0; k < supportKinds().size(); ++k)
            QCOMPARE(static_cast<std::size_t>(supportKinds()[k].kind), k);
        for (const LoadKind& k : loadKinds()) {
            QVERIFY2(k.apply && k.describe && k.marks && !k.figures.empty(), k.key);
            // a heading of load tables means one figure, whatever the kind
            for (const LoadKind& other : loadKinds())
                for (const auto& a : k.figures)
                    for (const auto& b : other.figures)
                        if (*a.column && std::string(a.column) == b.column)
                            QVERIFY2(a.at == b.at && a.dimension == b.dimension, a.column);
        }
        for (const SupportKind& k : supportKinds()) QVERIFY2(k.apply && k.heldAt, k.key);
    }
    /// Every figure of every kind is written and read back, and the schema knows all that is written.
    void everyFigureOfEveryKindSurvives() {
        json j = leverPart();
        j["supports"].push_back(load(R"({"kind": "sliding", "interfaces": ["eye"], "face": "bore"})"));
        const Part p = parse(j);
        const json schema = json::parse(partSchema());
        auto properties = [&](const char* definition, const std::string& kind) {
            for (const json& one : schema["$defs"][definition]["oneOf"])
                if (one["properties"]["kind"]["const"] == kind) return one["properties"];
            return json();
        };
        auto filled = [](const auto& figures, auto& owner) {
            double next = 1.5;
            for (const auto& f : figures) {
                using Owner = std::decay_t<decltype(owner)>;
                if (const auto* yes = std::get_if<bool Owner::*>(&f.at)) owner.*(*yes) = true;
                Vec3 v(next, 0, 0);
                if (f.isVector()) v = Vec3(next, -2 * next, 3 * next);
                if (f.rule == std::decay_t<decltype(f)>::Rule::direction) v.normalize();
                setValue(f, owner, v);
                next += 1;
            }
        };
        for (const LoadKind& k : loadKinds()) {
            Load l;
            l.kind = k.kind;
            if (k.onFaces) l.on = {{"eye"}, "bore"};
            l.sharedTotal = !k.canShare;
            filled(k.figures, l);
            const Part q = parsePart(withLoad(p, "down", 0, l), p.path);
            const Load& back = q.loadCases[0].loads[0];
            for (const auto& f : k.figures)
                QVERIFY2((valueOf(f, l) - valueOf(f, back)).norm() <= 1e-9 * valueOf(f, l).norm(), f.key);
            QVERIFY(back.sharedTotal == l.sharedTotal && back.rigid == l.rigid);
            const json written = json::parse(q.text)["load_cases"][0]["loads"][0];
            for (const auto& [key, unused] : written.items())
                QVERIFY2(properties("load", k.key).contains(key), (k.key + std::string(" ") + key).c_str());
        }
        for (const SupportKind& k : supportKinds()) {
            Support s;
            s.kind = k.kind;
            s.on = {{"eye"}, "bore"};
            for (std::size_t m = 1; m < k.motions.size(); ++m) setHeld(s, m, false);
            filled(k.figures, s);
            const Part q = parsePart(withSupport(p, 0, s), p.path);
            for (const auto& f : k.figures)
                QVERIFY2((valueOf(f, s) - valueOf(f, q.supports[0])).norm() <= 1e-9 * valueOf(f, s).norm(), f.key);
            for (std::size_t m = 0; m < k.motions.size(); ++m) QCOMPARE(isHeld(q.supports[0], m), m == 0);
            const json written = json::parse(q.text)["supports"][0];
            for (const auto& [key, unused] : written.items())
                QVERIFY2(properties("support", k.key).contains(key), (k.key + std::string(" ") + key).c_str());
        }
    }
    void theSchemaIsFresh() {
        std::ifstream in(std::string(ESCULTURA_DEMO) + "/../docs/part.schema.json");
        std::stringstream text;
        text << in.rdbuf();
        QVERIFY2(text.str() == partSchema(),
                 "docs/part.schema.json is stale: escultura-cli schema > docs/part.schema.json");
    }
    void everyLoadSurvivesItsText() {
        json j = leverPart();
        j["frames"] = load(R"([{"name": "tilted", "angles": [0, 0, 30]}])");
        j["supports"].push_back(load(R"({"kind": "sliding", "interfaces": ["eye"], "face": "end"})"));
        j["load_cases"][0]["loads"] = load(R"([
          {"kind": "force", "interfaces": ["eye"], "face": "bore", "force": [1, 2, 3], "moment": [4, 5, 6], "frame": "tilted"},
          {"kind": "bearing", "interfaces": ["eye", "pivot"], "face": "bore", "magnitude": "2*450 lbf", "direction": [0, 1, 0], "share": "each"},
          {"kind": "pressure", "interfaces": ["eye"], "face": "end", "pressure": "20 bar"},
          {"kind": "torque", "interfaces": ["eye"], "face": "start", "torque": "12 N*m"},
          {"kind": "remote_force", "interfaces": ["eye", "pivot"], "face": "end", "force": [0, 0, 9], "point": [1, 2, 300], "rigid": true},
          {"kind": "gravity", "acceleration": [0, 0, -9.81]},
          {"kind": "acceleration", "acceleration": ["32.2 ft/s^2", 0, 0]},
          {"kind": "spin", "point": [0, 0, 0], "axis": [0, 0, 2], "speed": "3000 rpm"},
          {"kind": "displacement", "interfaces": ["eye"], "face": "end", "displacement": [0, 0, 0.1]}])");
        const Part p = parse(j);
        const auto& loads = p.loadCases[0].loads;
        QCOMPARE(loads.size(), std::size_t(9));
        QVERIFY(std::abs(loads[1].force[1] - 900 * 4.4482216152605) < 1e-6);
        QVERIFY(std::abs(loads[2].pressure - 2) < 1e-12);
        QVERIFY(std::abs(loads[3].torque - 12000) < 1e-9);
        QVERIFY(std::abs(loads[5].acceleration[2] + 9810) < 1e-9);
        QVERIFY(std::abs(loads[6].acceleration[0] - 32.2 * 304.8) < 1e-9);
        QVERIFY(std::abs(loads[7].speed - 100 * M_PI) < 1e-9 && std::abs(loads[7].axis[2] - 1) < 1e-12);
        for (std::size_t k = 0; k < loads.size(); ++k) {
            QVERIFY(!describe(loads[k]).empty());
            const Part q = parsePart(withLoad(p, "down", static_cast<int>(k), loads[k]), p.path);
            const Load &a = loads[k], &b = q.loadCases[0].loads[k];
            QVERIFY2(a.kind == b.kind && a.on.interfaces == b.on.interfaces && a.on.face == b.on.face &&
                         a.frame == b.frame && a.sharedTotal == b.sharedTotal && a.rigid == b.rigid,
                     name(a.kind));
            QVERIFY2((a.force - b.force).norm() + (a.moment - b.moment).norm() + std::abs(a.pressure - b.pressure) +
                             std::abs(a.torque - b.torque) + (a.point - b.point).norm() +
                             (a.acceleration - b.acceleration).norm() + (a.displacement - b.displacement).norm() +
                             std::abs(a.speed - b.speed) <
                         1e-6,
                     name(a.kind));
            // nothing else in the file changed
            json before = json::parse(p.text), after = json::parse(q.text);
            before["load_cases"][0]["loads"] = after["load_cases"][0]["loads"] = nullptr;
            QCOMPARE(before, after);
        }
        QCOMPARE(parsePart(withoutLoad(p, "down", 8), p.path).loadCases[0].loads.size(), std::size_t(8));
    }
    void everySupportSurvivesItsText() {
        json j = leverPart();
        j["supports"] = load(R"([
          {"kind": "fixed", "interfaces": ["pivot"], "face": "bore", "directions": ["x", "z"]},
          {"kind": "cylindrical", "interfaces": ["pivot"], "face": "bore", "held": ["radial", "axial"]},
          {"kind": "elastic_bed", "interfaces": ["eye"], "face": "end", "normal_stiffness": "5 kN/mm^3", "tangential_stiffness": 7},
          {"kind": "remote", "interfaces": ["eye"], "face": "start", "motions": ["x", "turn z"], "point": [1, 2, 3]},
          {"kind": "rigid", "interfaces": ["eye"], "face": "bore", "motions": ["x", "y", "z"]},
          {"kind": "sliding", "interfaces": ["eye"], "face": "end"}])");
        const Part p = parse(j);
        QVERIFY(std::abs(p.supports[2].normalStiffness - 5000) < 1e-9);
        for (std::size_t k = 0; k < p.supports.size(); ++k) {
            const Part q = parsePart(withSupport(p, static_cast<int>(k), p.supports[k]), p.path);
            QVERIFY(q.supports[k].kind == p.supports[k].kind && q.supports[k].held == p.supports[k].held &&
                    q.supports[k].motions == p.supports[k].motions && q.supports[k].point == p.supports[k].point);
            QCOMPARE(describe(q.supports[k]), describe(p.supports[k]));
        }
        QCOMPARE(parsePart(withoutSupport(p, 0), p.path).supports.size(), std::size_t(5));
    }
    void wrongDutyIsNamed_data() {
        QTest::addColumn<QString>("at");
        QTest::addColumn<QString>("value");
        QTest::addColumn<QString>("expected");
        QTest::newRow("kind") << "/load_cases/0/loads/0/kind"
                              << "\"push\""
                              << "load_cases[0].loads[0].kind";
        QTest::newRow("frame") << "/load_cases/0/loads/0/frame"
                               << "\"nowhere\""
                               << "one of the frames: global";
        QTest::newRow("key of another kind") << "/load_cases/0/loads/0/pressure"
                                             << "3"
                                             << "unknown key 'pressure'";
        QTest::newRow("held nothing") << "/supports/0/directions"
                                      << "[]"
                                      << "at least one of x, y and z";
        QTest::newRow("factor") << "/load_cases/0/factor"
                                << "\"2 mm\""
                                << "load_cases[0].factor";
        QTest::newRow("combination") << "/combinations"
                                     << R"([{"name": "c", "sum": "2 storm"}])"
                                     << "combinations[0].sum";
        QTest::newRow("name twice") << "/combinations"
                                    << R"([{"name": "down", "sum": "2 down"}])"
                                    << "a name used once";
        QTest::newRow("displacement of a free face")
            << "/load_cases/0/loads/0"
            << R"({"kind": "displacement", "interfaces": ["eye"], "face": "bore", "displacement": [1, 0, 0]})"
            << "no such support";
        QTest::newRow("brittle without strength") << "/material/rule"
                                                  << "\"brittle\""
                                                  << "material.ultimate_strength";
        QTest::newRow("shared load of no case") << "/shared_loads"
                                                << R"([{"kind": "gravity", "acceleration": [0, 0, 1], "cases": ["x"]}])"
                                                << "shared_loads[0].cases[0]";
    }
    void wrongDutyIsNamed() {
        QFETCH(QString, at);
        QFETCH(QString, value);
        QFETCH(QString, expected);
        json j = leverPart();
        j[json::json_pointer(at.toStdString())] = json::parse(value.toStdString());
        const std::string message = messageOf([&] { parse(j); });
        QVERIFY2(message.find(expected.toStdString()) != std::string::npos, message.c_str());
    }
    void casesAreEdited() {
        json j = leverPart();
        j["combinations"] = load(R"([{"name": "both", "sum": "1.35 down + 1.5 pull"}])");
        j["shared_loads"] = load(R"([{"kind": "gravity", "acceleration": [0, 0, -9.81], "cases": ["down"]}])");
        const Part p = parse(j);
        QCOMPARE(p.loadsOf(p.loadCases[0]).size(), std::size_t(2));
        QCOMPARE(p.loadsOf(p.loadCases[1]).size(), std::size_t(1));
        LoadCase c = p.loadCases[0];
        c.name = "weight";
        c.factor = 1.2;
        c.use = LoadCase::Use::combinationsOnly;
        const Part q = parsePart(withCase(p, "down", c), p.path);
        QCOMPARE(q.loadCases[0].name, std::string("weight"));
        QCOMPARE(q.loadCases[0].factor, 1.2);
        QVERIFY(q.loadCases[0].use == LoadCase::Use::combinationsOnly);
        QCOMPARE(combinationText(q.combinations[0]), std::string("1.35 weight + 1.5 pull"));
        QCOMPARE(q.sharedLoads[0].cases.front(), std::string("weight"));
        QVERIFY_EXCEPTION_THROWN(withoutCase(q, "pull"), InputError);
        const Part r = parsePart(withoutCombination(q, "both"), p.path);
        QCOMPARE(parsePart(withoutCase(r, "pull"), p.path).loadCases.size(), std::size_t(1));
        QCOMPARE(parsePart(withSharedCases(r, 0, {}), p.path).sharedLoads[0].cases.size(), std::size_t(0));
    }
    void readyListSaysWhatIsWrong() {
        using Severity = ReadyNote::Severity;
        Progress progress;
        const Project project = openPart(made_up::writeLever(dir_.path().toStdString()), progress);
        const auto field = project.field();
        auto notes = [&](const json& j, double threshold = 0.5) {
            Recipe r = project.current().recipe;
            r.threshold = threshold;
            return readyNotes(parse(j), r, field.get(), nullptr);
        };
        QVERIFY(notes(leverPart()).empty());
        json j = leverPart();
        j["supports"] = json::array();
        QVERIFY(mentions(notes(j), "Nothing holds the part", Severity::blocker));
        j = leverPart();
        j["supports"][0]["kind"] = "cylindrical";
        j["supports"][0]["held"] = {"radial", "axial"};
        QVERIFY(mentions(notes(j), "rotation about (0, 0, 1", Severity::blocker));
        j = leverPart();  // a frame that does nothing is told, not followed in silence
        j["frames"] = load(R"([{"name": "tilted", "angles": [0, 0, 30]}])");
        j["supports"][0] = load(R"({"kind": "rigid", "interfaces": ["pivot"], "face": "bore", "frame": "tilted"})");
        QVERIFY(mentions(notes(j), "frame 'tilted' has no effect on the rigid support", Severity::warning));
        j["supports"][0]["kind"] = "remote";
        QVERIFY(!mentions(notes(j), "has no effect", Severity::warning));
        QVERIFY(mentions(notes(leverPart(), 0.8), "does not reach interface 'eye'", Severity::blocker) ||
                mentions(notes(leverPart(), 0.8), "does not reach interface 'pivot'", Severity::blocker));
        j = leverPart();
        j["load_cases"][1]["loads"].push_back(
            load(R"({"kind": "force", "interfaces": ["eye"], "face": "bore", "force": [-2000, 0, 0]})"));
        QVERIFY(mentions(notes(j), "'pull' add up to nothing", Severity::warning));
        j = leverPart();
        j["load_cases"][1]["loads"][0]["force"] = {2e6, 0, 0};
        QVERIFY(mentions(notes(j), "factor of 1000", Severity::warning));
        j = leverPart();
        j["material"]["youngs_modulus"] = 210;
        QVERIFY(mentions(notes(j), "Young's modulus is 210", Severity::warning));
        j = leverPart();
        for (auto& c : j["load_cases"]) c["use"] = "off";
        QVERIFY(mentions(notes(j), "All load cases are switched off", Severity::blocker));
        j["combinations"] = load(R"([{"name": "both", "sum": "down + pull"}])");
        QVERIFY(mentions(notes(j), "uses case 'down', which is off", Severity::blocker));
    }
    void loadTableIsPreviewedAndTaken() {
        const Part p = parse(leverPart());
        const std::string text =
            "case; kind; interfaces; face; Fx [kN]; fy [kN]; mz [N*m]\n"
            "# from the load sheet\n"
            "down; bearing; eye; bore; 0; -0,5; \n"
            "pull; force; eye; bore; 2,5; 0; 3\n"
            "twist; force; eye+pivot; bore; 0; 1; \n";
        const LoadTable t = readLoadTable(text, "loads.csv", p);
        QCOMPARE(t.changes.size(), std::size_t(3));
        QVERIFY(t.changes[0].kind == LoadTableChange::Kind::unchanged);
        QVERIFY(t.changes[1].kind == LoadTableChange::Kind::changed);
        QVERIFY(t.changes[1].before.front().find("(2") != std::string::npos);
        QVERIFY(t.changes[2].kind == LoadTableChange::Kind::newCase && t.changes[2].before.empty());
        const Part q = parsePart(withLoadTable(p, t), p.path);
        QCOMPARE(q.loadCases.size(), std::size_t(3));
        QVERIFY((q.loadCases[1].loads[0].force - Vec3(2500, 0, 0)).norm() < 1e-9);
        QVERIFY((q.loadCases[1].loads[0].moment - Vec3(0, 0, 3000)).norm() < 1e-9);
        QCOMPARE(q.loadCases[2].loads[0].on.interfaces.size(), std::size_t(2));
        const LoadTable one = readLoadTable("case,interfaces,face,fx\npull,eye,bore,7\n", "l.csv", p);
        QCOMPARE(one.untouched.front(), std::string("down"));
        for (const auto& [bad, words] : std::map<std::string, std::string>{
                 {"interfaces,face,fx\neye,bore,1\n", "'case'"},
                 {"case,interfaces,face,fx\nx,nose,bore,1\n", "line 2, column 'interfaces'"},
                 {"case,interfaces,face,fx [kg]\nx,eye,bore,1\n", "a unit of force"},
                 {"case,interfaces,face,fx\nx,eye,bore,one\n", "line 2, column 'fx'"},
                 {"case,interfaces,face,fx\nx,eye,bore,0\n", "not zero"},
                 {"case,interfaces,face,weight\n", "'weight'"},
                 {"case,interfaces,face,fx\n", "at least one line"},
                 {"case,interfaces,face,fx\nx,eye,nose,1\n", "face"}})
            QVERIFY2(messageOf([&] { readLoadTable(bad, "loads.csv", p); }).find(words) != std::string::npos,
                     messageOf([&] { readLoadTable(bad, "loads.csv", p); }).c_str());
    }
    void loadsAreAppliedAsMeant() {
        json j = leverPart();
        j["frames"] = load(R"([{"name": "tilted", "angles": [0, 0, 30]}])");
        j["load_cases"] = load(R"([
          {"name": "remote", "loads": [{"kind": "remote_force", "interfaces": ["eye"], "face": "bore", "force": [10, 20, 30], "point": [100, 50, 40]}]},
          {"name": "torque", "factor": 2, "loads": [{"kind": "torque", "interfaces": ["eye"], "face": "bore", "torque": 5000}]},
          {"name": "gravity", "loads": [{"kind": "gravity", "acceleration": [0, 0, -9.81]}]},
          {"name": "pressure", "loads": [{"kind": "pressure", "interfaces": ["eye"], "face": "end", "pressure": 2}]},
          {"name": "spin", "loads": [{"kind": "spin", "point": [0, 0, 0], "axis": [0, 0, 1], "speed": "3000 rpm"}]},
          {"name": "tilted", "loads": [{"kind": "force", "interfaces": ["eye"], "face": "bore", "frame": "tilted", "force": [100, 0, 0]}]},
          {"name": "off", "use": "off", "loads": [{"kind": "force", "interfaces": ["eye"], "face": "bore", "force": [1, 0, 0]}]}])");
        j["shared_loads"] = load(
            R"([{"kind": "force", "interfaces": ["eye"], "face": "bore", "force": [0, 0, 5], "cases": ["tilted"]}])");
        j["combinations"] = load(R"([{"name": "sum", "sum": "2 remote - 3 tilted"}])");
        const auto c = check(j);
        QCOMPARE(c->cases.size(), std::size_t(7));  // six cases and the combination; the one that is off is not there
        for (const CaseResult& x : c->cases) {
            QVERIFY2(x.appliedAsMeant, x.name.c_str());
            QVERIFY2(x.equilibriumError < 1e-6, x.name.c_str());
        }
        QVERIFY((c->cases[0].meant - Vec3(10, 20, 30)).norm() < 1e-9);
        QVERIFY((c->cases[0].appliedMoment - Vec3(100, 50, 40).cross(Vec3(10, 20, 30))).norm() < 1e-3);
        QVERIFY((c->cases[1].appliedMoment - Vec3(0, 0, 10000)).norm() < 1e-3 && c->cases[1].applied.norm() < 1e-6);
        const double weight = 7850e-9 * c->quality.volume * 9.81;
        QVERIFY((c->cases[2].applied - Vec3(0, 0, -weight)).norm() < 1e-6 * weight);
        const double area = M_PI * (11 * 11 - 4 * 4);
        // the face goes on beyond the ring: triangles across its rim count whole or not at all
        QVERIFY2(std::abs(c->cases[3].applied[2] / (-2 * area) - 1) < 0.12,
                 qPrintable(QString::number(c->cases[3].applied[2])));
        QVERIFY((c->cases[5].applied - Vec3(100 * std::cos(M_PI / 6), 50, 5)).norm() < 1e-6);
        // the combination is the sum, in every place
        const CaseResult &sum = c->cases[6], &a = c->cases[0], &b = c->cases[5];
        QVERIFY(sum.combination);
        for (std::size_t n = 0; n < sum.stress.size(); n += 37)
            QVERIFY((sum.stress[n] - 2 * a.stress[n] + 3 * b.stress[n]).norm() < 1e-9);
        QVERIFY(sum.reactions.size() == 1 && (sum.reactions[0].force - sum.reaction).norm() < 1e-6);
    }
    void supportsActAsNamed() {
        json j = leverPart();
        // a pin joint that may turn, kept from turning by a bed on the eye's end
        j["supports"] = load(R"([
          {"kind": "cylindrical", "interfaces": ["pivot"], "face": "bore", "held": ["radial", "axial"]},
          {"kind": "elastic_bed", "interfaces": ["eye"], "face": "end", "normal_stiffness": 0, "tangential_stiffness": 40}])");
        j["load_cases"] = load(
            R"([{"name": "turn", "loads": [{"kind": "torque", "interfaces": ["eye"], "face": "bore", "torque": 2000}]}])");
        const auto c = check(j);
        QVERIFY(c->cases[0].equilibriumError < 1e-6);
        // the bed carries the couple that the joint cannot: 2000 N mm over 50 mm or less
        const auto& r = c->cases[0].reactions;
        QCOMPARE(r.size(), std::size_t(2));
        QVERIFY((r[0].force + r[1].force).norm() < 1e-3 && r[1].force.norm() > 5);
        j["supports"] = load(R"([{"kind": "remote", "interfaces": ["pivot"], "face": "bore"}])");
        const auto d = check(j);
        QVERIFY(d->cases[0].equilibriumError < 1e-6);
        QVERIFY((d->cases[0].reactions[0].moment - Vec3(0, 0, -2000)).norm() < 1e-2);
        j["supports"] = load(
            R"([{"kind": "fixed", "interfaces": ["pivot"], "face": "bore"}, {"kind": "sliding", "interfaces": ["eye"], "face": "end"}])");
        j["load_cases"] = load(
            R"([{"name": "lift", "loads": [{"kind": "displacement", "interfaces": ["eye"], "face": "end", "displacement": [0, 0, 0.05]}]}])");
        const auto e = check(j);
        double lifted = 0;
        for (const auto& f : e->faces)
            if (f.interface == "eye" && f.face == "end")
                for (auto face : facesOf(e->mesh, f))
                    for (auto n : e->mesh.boundary[face])
                        lifted = std::max(lifted, std::abs(e->cases[0].displacement[n][2] - 0.05));
        QVERIFY2(lifted < 1e-9, qPrintable(QString::number(lifted)));
        QVERIFY(e->cases[0].maxVonMises > 1);
    }
    void meshIsReusedWhenOnlyLoadsChange() {
        Progress progress;
        Project p = openPart(made_up::writeLever(dir_.path().toStdString()), progress);
        const Recipe r = p.current().recipe;
        run(p, r, Stage::check, progress);
        const auto mesh = p.mesh(r);
        const double before = p.check(r)->minSafetyFactor;
        json j = leverPart();
        j["load_cases"][0]["loads"][0]["magnitude"] = "1 kN";
        j["material"]["yield_strength"] = 1000;
        p.part = parsePart(j.dump(), p.part.path);
        QVERIFY(!p.check(r) && p.mesh(r) == mesh);
        run(p, r, Stage::check, progress);
        QVERIFY(p.mesh(r) == mesh);  // the same object
        QVERIFY(p.check(r)->minSafetyFactor > before);
        Recipe other = r;
        other.elementSize *= 0.9;
        QVERIFY(!p.mesh(other));
    }
    void localSizesRefine() {
        const auto usual = check(leverPart());
        const auto ball = check(leverPart(), [](Recipe& r) {
            LocalSize s;
            s.centre = Vec3(40, 15, 7.5);
            s.radius = 6;
            s.size = 1.5;
            r.check.localSizes = {s};
        });
        auto longestNear = [](const CheckResult& c) {
            double longest = 0;
            for (const auto& t : c.mesh.tet) {
                const Vec3 middle =
                    (c.mesh.position[t[0]] + c.mesh.position[t[1]] + c.mesh.position[t[2]] + c.mesh.position[t[3]]) / 4;
                if ((middle - Vec3(40, 15, 7.5)).norm() > 4) continue;
                for (int a = 0; a < 4; ++a)
                    for (int b = 0; b < a; ++b)
                        longest = std::max(longest, (c.mesh.position[t[a]] - c.mesh.position[t[b]]).norm());
            }
            return longest;
        };
        QVERIFY(longestNear(*usual) > 3 && longestNear(*ball) < 1.5 * 1.3);
        QVERIFY(ball->quality.minDihedral > 8 && ball->quality.minScaledJacobian > 0);
        QVERIFY(std::abs(ball->quality.volume / usual->quality.volume - 1) < 0.01);
        const auto ring = check(leverPart(), [](Recipe& r) {
            LocalSize s;
            s.kind = LocalSize::Kind::interface;
            s.interface = "eye";
            s.radius = 1;
            s.size = 2;
            r.check.localSizes = {s};
        });
        QVERIFY(ring->mesh.tet.size() > 1.5 * usual->mesh.tet.size());
        QVERIFY(messageOf([&] {
                    check(leverPart(), [](Recipe& r) {
                        LocalSize s;
                        s.kind = LocalSize::Kind::interface;
                        s.interface = "nose";
                        r.check.localSizes = {s};
                    });
                }).find("'nose'") != std::string::npos);
    }
    void convergedLevelRefinesUntilLittleChanges() {
        const auto c = check(leverPart(), [](Recipe& r) {
            r.elementSize = 5;
            r.check.level = Level::converged;
            r.check.convergence = 0.05;
            r.check.passes = 4;
        });
        QVERIFY(c->passes.size() >= 2);
        for (std::size_t k = 1; k < c->passes.size(); ++k) {
            QVERIFY(c->passes[k].unknowns > c->passes[k - 1].unknowns);
            QVERIFY(c->passes[k].energyError < c->passes[k - 1].energyError);
            QVERIFY(c->passes[k].change > 0);
        }
        QCOMPARE(c->converged, c->passes.back().change <= 0.05);
        const auto look = check(leverPart(), [](Recipe& r) { r.check.level = Level::look; });
        QVERIFY(look->mesh.tet.size() < check(leverPart())->mesh.tet.size());
        QVERIFY(look->passes.empty());
    }
    void forecastIsCloseToTheMesh() {
        Progress progress;
        const Project p = openPart(made_up::writeLever(dir_.path().toStdString()), progress);
        Recipe r = p.current().recipe;
        run(p, r, Stage::surface, progress);
        for (const double size : {4.0, 2.5}) {
            r.elementSize = size;
            run(p, r, Stage::check, progress);
            const MeshForecast f = forecastMesh(p.part, *p.surface(r), r);
            const auto c = p.check(r);
            QVERIFY2(std::abs(f.elements / static_cast<double>(c->mesh.tet.size()) - 1) < 0.3,
                     qPrintable(QString("%1 for %2").arg(f.elements).arg(c->mesh.tet.size())));
            QVERIFY2(std::abs(f.unknowns / static_cast<double>(c->unknowns) - 1) < 0.3,
                     qPrintable(QString("%1 for %2").arg(f.unknowns).arg(c->unknowns)));
        }
    }
    void qualityKnowsTheWorst() {
        const auto c = check(leverPart());
        const auto& q = c->quality;
        for (const auto* h : {&q.dihedralHistogram, &q.aspectHistogram, &q.jacobianHistogram})
            QCOMPARE(std::accumulate(h->begin(), h->end(), 0), static_cast<int>(c->mesh.tet.size()));
        QCOMPARE(q.failed, 0);
        QCOMPARE(q.worst.size(), std::size_t(50));
        double least = 180;
        for (const auto& w : q.worst) least = std::min(least, w.dihedral);
        QVERIFY(std::abs(least - q.minDihedral) < 8);
    }
    void quantitiesAgreeWithEachOther() {
        const auto c = check(leverPart());
        const Part p = parse(leverPart());
        const auto vonMises = quantityField(p, *c, Quantity::vonMises, 1);
        const auto is = quantityField(p, *c, Quantity::signedVonMises, 1);
        const auto s1 = quantityField(p, *c, Quantity::maximumPrincipal, 1);
        const auto s3 = quantityField(p, *c, Quantity::minimumPrincipal, 1);
        const auto shear = quantityField(p, *c, Quantity::maximumShear, 1);
        const auto strain = quantityField(p, *c, Quantity::equivalentStrain, 1);
        const auto factor = quantityField(p, *c, Quantity::safetyFactor, 1);
        const auto energy = quantityField(p, *c, Quantity::energyDensity, 1);
        for (std::size_t n = 0; n < vonMises.size(); n += 17) {
            QVERIFY(std::abs(std::abs(is[n]) - vonMises[n]) < 1e-9);
            QVERIFY(std::abs(shear[n] - 0.5 * (s1[n] - s3[n])) < 1e-9);
            // equivalent strain of a deviatoric elastic state: von Mises / (3 G)
            QVERIFY(std::abs(strain[n] - vonMises[n] / (3 * 210000 / 2.6)) < 1e-12 + 1e-9 * strain[n]);
            if (factor[n] < 900) QVERIFY(std::abs(factor[n] * vonMises[n] - 250) < 1e-6);
            QVERIFY(energy[n] >= 0);
        }
        // components in a turned frame keep the trace
        const Mat3 turned = axesFromAngles(Vec3(20, 30, 40));
        for (std::size_t n = 0; n < 200; n += 20) {
            double a = 0, b = 0;
            for (int k = 0; k < 3; ++k) {
                const auto q = static_cast<Quantity>(static_cast<int>(Quantity::stressXX) + k);
                a += quantityAt(p, *c, q, 1, n);
                b += quantityAt(p, *c, q, 1, n, turned);
            }
            QVERIFY(std::abs(a - b) < 1e-9 * (1 + std::abs(a)));
        }
        // the worst of all cases
        const auto worst = quantityField(p, *c, Quantity::minimumPrincipal, -1);
        const auto first = quantityField(p, *c, Quantity::minimumPrincipal, 0);
        for (std::size_t n = 0; n < worst.size(); n += 17) QCOMPARE(worst[n], std::min(first[n], s3[n]));
        QVERIFY(std::abs(inUnit(6.894757293168, Measure::stress, "ksi") - 1) < 1e-12);
        QVERIFY(std::abs(inUnit(25.4, Measure::length, "in") - 1) < 1e-12);
        QVERIFY(std::abs(inUnit(0.001, Measure::length, "um") - 1) < 1e-12);
    }
    void importedBodyKeepsItsEdges() {
        // a box of two triangles a side: twelve edges, eight corners
        surface::TriMesh box;
        for (int c = 0; c < 8; ++c) box.position.push_back(Vec3(c & 1 ? 41 : 1, c & 2 ? 22 : 2, c & 4 ? 13 : 3));
        for (const auto& q :
             {std::array{0, 2, 3, 1}, {4, 5, 7, 6}, {0, 1, 5, 4}, {2, 6, 7, 3}, {0, 4, 6, 2}, {1, 3, 7, 5}}) {
            box.triangle.push_back({q[0], q[1], q[2]});
            box.triangle.push_back({q[0], q[2], q[3]});
        }
        box.owner.assign(12, 0);
        const surface::PatchedBody body(box);
        QCOMPARE(body.surfaceCount(), 6);
        Progress progress;
        const mesh::TetMesh m = mesh::meshShape(body, {3.3}, progress);
        QCOMPARE(m.creases.unresolved, 0);
        QVERIFY(std::abs(mesh::measureQuality(m).volume / (40 * 20 * 10) - 1) < 1e-9);
        for (const Vec3& corner : box.position) {
            double nearest = 1e300;
            for (const Vec3& p : m.position) nearest = std::min(nearest, (p - corner).norm());
            QVERIFY2(nearest < 1e-6, qPrintable(QString::number(nearest)));
        }
    }
    void originalIsCheckedAsBaseline() {
        // the design space with its interfaces, then the same as an imported body
        const auto designSpace = check(leverPart(), [](Recipe& r) { r.check.original = true; });
        const double volume = 80 * 30 * 15 - 2 * M_PI * 16 * 15;
        // sides without a flat interface face have broken edges
        QVERIFY2(std::abs(designSpace->quality.volume / volume - 1) < 0.03,
                 qPrintable(QString::number(designSpace->quality.volume / volume)));
        Progress progress;
        const Project p = openPart(made_up::writeLever(dir_.path().toStdString()), progress);
        exchange::writeStl(dir_.filePath("original.stl").toStdString(),
                           designSpaceSurface(p.part, p.field()->regions, 1.0, progress), "original");
        json j = leverPart();
        j["original"] = {{"body", "original.stl"}};
        const auto imported = check(j, [](Recipe& r) { r.check.original = true; });
        QVERIFY2(std::abs(imported->quality.volume / designSpace->quality.volume - 1) < 0.02,
                 qPrintable(QString::number(imported->quality.volume / designSpace->quality.volume)));
        QCOMPARE(imported->cases.size(), designSpace->cases.size());
        for (std::size_t c = 0; c < imported->cases.size(); ++c) {
            QVERIFY(imported->cases[c].appliedAsMeant && imported->cases[c].equilibriumError < 1e-6);
            QVERIFY2(std::abs(imported->cases[c].maxDisplacement / designSpace->cases[c].maxDisplacement - 1) < 0.05,
                     qPrintable(QString("%1 for %2")
                                    .arg(imported->cases[c].maxDisplacement)
                                    .arg(designSpace->cases[c].maxDisplacement)));
        }
        const auto part = check(leverPart());
        QVERIFY(part->cases[0].maxDisplacement > designSpace->cases[0].maxDisplacement);
    }
    void brittlePartIsJudgedByItsPrincipalStress() {
        json j = leverPart();
        j["material"]["rule"] = "brittle";
        j["material"]["ultimate_strength"] = 200;
        const auto c = check(j);
        double highest = 0;
        for (const auto& x : c->cases)
            for (const auto& s : x.stress) highest = std::max(highest, elastic::principal(s)[0]);
        QVERIFY(std::abs(c->minSafetyFactor - 200 / highest) < 1e-9);
    }
};

QTEST_GUILESS_MAIN(TestDuty)
#include "test_duty.moc"
