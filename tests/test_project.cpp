#include <tbb/global_control.h>

#include <QtTest>
#include <filesystem>

#include "base/error.hpp"
#include "judge/factor.hpp"
#include "judge/findings.hpp"
#include "judge/requirements.hpp"
#include "judge/summary.hpp"
#include "made_up_part.hpp"
#include "project/run.hpp"
#include "store/storage.hpp"

using namespace escultura;
using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using namespace escultura::store;
using namespace escultura::judge;
using nlohmann::json;

class TestProject : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;
    std::optional<Project> lever_;

    static std::string parseError(const std::function<void(json&)>& change) {
        json part = made_up::leverPart();
        change(part);
        return made_up::messageOf([&] { parsePart(part.dump(), "lever.json"); });
    }
    Project lever() {
        if (!lever_) {
            Progress progress;
            lever_ = openPart(made_up::writeLever(dir_.path().toStdString()), progress);
            lever_->variants[0].recipe.elementSize = 3;
            run(*lever_, lever_->current().recipe, Stage::findings, progress);
        }
        return *lever_;
    }

  private slots:
    void readsUnits() {
        const Part p = parsePart(made_up::leverPart().dump(), "lever.json");
        QCOMPARE(p.material.youngsModulus, 210000.0);
        QVERIFY(std::abs(p.material.density - 7.85e-6) < 1e-18);
        QVERIFY((p.loadCases[0].loads[0].force - Vec3(0, -500, 0)).norm() < 1e-9);
        QCOMPARE(p.requirements[1].limit, 0.5);
        json inches = made_up::leverPart();
        inches["units"] = {{"length", "in"}, {"force", "lbf"}};
        const Part q = parsePart(inches.dump(), "lever.json");
        QCOMPARE(q.interfaces[0].boreDiameter, 8 * 25.4);
        QCOMPARE(q.requirements[1].limit, 0.5);  // carries its own unit
    }
    void namesThePlaceOfAnError_data() {
        QTest::addColumn<QString>("pointer");
        QTest::addColumn<QString>("value");
        QTest::addColumn<QString>("mentions");
        QTest::newRow("format") << "/format"
                                << "\"other\""
                                << "escultura-part";
        QTest::newRow("version") << "/version"
                                 << "9"
                                 << "version";
        QTest::newRow("unknown key") << "/colour"
                                     << "1"
                                     << "unknown key 'colour'";
        QTest::newRow("poisson high") << "/material/poissons_ratio"
                                      << "0.5"
                                      << "material.poissons_ratio";
        QTest::newRow("poisson low") << "/material/poissons_ratio"
                                     << "-1.2"
                                     << "above -1 and below 0.5";
        QTest::newRow("wrong unit") << "/material/yield_strength"
                                    << "\"250 mm\""
                                    << "material.yield_strength";
        QTest::newRow("zero axis") << "/interfaces/0/axis"
                                   << "[0,0,0]"
                                   << "interfaces[0].axis";
        QTest::newRow("ring in bore") << "/interfaces/1/ring_diameter"
                                      << "5"
                                      << "interfaces[1].ring_diameter";
        QTest::newRow("same name") << "/interfaces/1/name"
                                   << "\"pivot\""
                                   << "'pivot' again";
        QTest::newRow("unknown interface") << "/load_cases/0/loads/0/interfaces/0"
                                           << "\"ear\""
                                           << "one of the interfaces: pivot, eye";
        QTest::newRow("unknown face") << "/supports/0/face"
                                      << "\"top\""
                                      << "supports[0].face";
        QTest::newRow("bearing on a face") << "/load_cases/0/loads/0/face"
                                           << "\"start\""
                                           << "acts on a bore";
        QTest::newRow("no force") << "/load_cases/1/loads/0/force"
                                  << "[0,0,0]"
                                  << "load_cases[1].loads[0]";
        QTest::newRow("threshold") << "/field/threshold"
                                   << "1.5"
                                   << "field.threshold";
        QTest::newRow("negative limit") << "/requirements/0/limit"
                                        << "-1"
                                        << "requirements[0].limit";
    }
    void namesThePlaceOfAnError() {
        QFETCH(QString, pointer);
        QFETCH(QString, value);
        QFETCH(QString, mentions);
        const std::string m = parseError(
            [&](json& p) { p[json::json_pointer(pointer.toStdString())] = json::parse(value.toStdString()); });
        QVERIFY2(m.find(mentions.toStdString()) != std::string::npos && m.find("lever.json") != std::string::npos,
                 m.c_str());
    }
    void tellsTheLineOfBrokenJson() {
        QVERIFY(made_up::messageOf([] {
                    parsePart("{\n\"format\": \"escultura-part\",\n oops }", "x.json");
                }).find("line 3") != std::string::npos);
    }
    void demoPartsCanBeRead() {
        const Part yoke = readPart(ESCULTURA_DEMO "/tether-yoke.json"),
                   foot = readPart(ESCULTURA_DEMO "/sensor-mast-foot.json");
        QCOMPARE(yoke.interfaces.size(), std::size_t(6));
        QCOMPARE(foot.loadCases.size(), std::size_t(3));
        QVERIFY((foot.loadCases[0].loads[1].moment - Vec3(0, 90000, 0)).norm() < 1e-6);
    }
    /// One threshold for all loses thin members of the yoke; with the volume kept locally they stay, and what the field
    /// says is kept where it says it.
    void membersOfTheYokeAreKept() {
        Progress progress;
        Project p = openPart(ESCULTURA_DEMO "/tether-yoke.json", progress);
        Recipe recipe = p.variants[0].recipe;
        auto lost = [&](const SurfaceResult& s) {
            return std::count_if(s.findings.begin(), s.findings.end(),
                                 [](const auto& f) { return f.kind == GeometryFinding::Kind::memberLost; });
        };
        const double cell = p.field()->field.spacing.minCoeff();
        recipe.keepMembers = false;
        recipe.smoothing = 2 * cell;
        const SurfaceResult before = evaluateSurface(p.part, *p.field(), recipe, progress);
        QVERIFY(lost(before) > 0);
        const StageKeys keys = p.keys(recipe);
        recipe.keepMembers = true;
        recipe.smoothing = 4.5 * cell;
        QVERIFY(p.keys(recipe).surface != keys.surface && p.keys(recipe).field == keys.field);
        const SurfaceResult s = evaluateSurface(p.part, *p.field(), recipe, progress);
        QVERIFY(s.measures.watertight && s.measures.pieces == 1);
        QCOMPARE(lost(s), std::ptrdiff_t(0));
        for (const GeometryFinding& f : s.findings)
            if (f.kind == GeometryFinding::Kind::memberThinned)  // webs of hardly more than a cell
                QVERIFY2(f.before < 1.15 * cell && f.after > 0.7 * f.before, f.text.c_str());
        QCOMPARE(s.measures.genus, 7);
        QCOMPARE(s.rawGenus, 7);
        QVERIFY2(std::abs(s.deviationMean) < 0.02 * cell, qPrintable(QString::number(s.deviationMean)));
        QVERIFY(std::abs(s.measures.volume / s.askedVolume - 1) < 1e-3);
        for (const BoreFigure& b : s.bores) QVERIFY(b.error < 1e-6);
        // the same bits on one core
        const tbb::global_control one(tbb::global_control::max_allowed_parallelism, 1);
        const SurfaceResult again = evaluateSurface(p.part, *p.field(), recipe, progress);
        QVERIFY(again.mesh.position == s.mesh.position && again.mesh.triangle == s.mesh.triangle);
    }
    /// With members kept: other triangles enclose the same volume, and what is thickened comes on top of it.
    void keptMembersWithOtherTrianglesAndThickenings() {
        const Project p = lever();
        Progress progress;
        Recipe recipe = p.current().recipe;
        recipe.keepMembers = true;
        const SurfaceResult plain = evaluateSurface(p.part, *p.field(), recipe, progress);
        QVERIFY(plain.measures.watertight && plain.measures.genus == 2 && plain.draftVolume == 0);
        Recipe even = recipe;
        even.triangles = Triangles::even;
        const SurfaceResult laid = evaluateSurface(p.part, *p.field(), even, progress);
        QVERIFY(laid.mesh.triangle.size() != plain.mesh.triangle.size());
        QVERIFY2(std::abs(laid.measures.volume / plain.measures.volume - 1) < 1e-3,
                 qPrintable(QString::number(laid.measures.volume / plain.measures.volume)));
        Recipe thick = recipe;
        Thickening t;
        t.centre = Vec3(40, 15, 7.5);
        t.radius = 200;  // everywhere: the free surface moves by the amount
        t.amount = 0.5;
        t.edge = 1;
        thick.thickenings.push_back(t);
        const SurfaceResult more = evaluateSurface(p.part, *p.field(), thick, progress);
        QCOMPARE(more.solvedThreshold, plain.solvedThreshold);  // what is not thickened stays as it is
        const double grown = more.measures.volume - plain.measures.volume;
        // the two figures are measured differently: by samples, and by the triangles
        QVERIFY2(more.draftVolume > 0 && std::abs(grown / more.draftVolume - 1) < 0.15,
                 qPrintable(QString("%1 for %2").arg(grown).arg(more.draftVolume)));
    }
    void leverEndToEnd() {
        const Project p = lever();
        const auto s = p.surface(p.current().recipe);
        const auto c = p.check(p.current().recipe);
        QVERIFY(s && c && p.findings(p.current().recipe));
        QVERIFY(s->measures.watertight);
        QCOMPARE(s->measures.pieces, 1);
        QCOMPARE(s->measures.genus, 2);  // two bores through the part
        QVERIFY(std::abs(s->measures.volume / s->askedVolume - 1) < 1e-3);
        for (const BoreFigure& b : s->bores) QVERIFY(b.error < 1e-6 && std::abs(b.measured - 8) < 1e-6);
        for (const CaseResult& x : c->cases) {
            QVERIFY(x.equilibriumError < 1e-6);
            QVERIFY((x.applied - x.meant).norm() < 1e-9 * x.meant.norm());
            QVERIFY((x.reactions.at(0).force + x.applied).norm() < 1e-6 * x.meant.norm());
        }
        QVERIFY((c->cases[0].meant - Vec3(0, -500, 0)).norm() < 1e-9);
        // the bar in tension: F L / (E A) with the bar's section of 14 x 15 over 50 mm gives 2.3 um; rings add to it
        QVERIFY(c->cases[1].maxDisplacement > 0.0015 && c->cases[1].maxDisplacement < 0.006);
        // bending of the bar by 500 N: a beam clamped at the pivot, F L^3 / (3 E I), gives 29 um without shear and
        // rings
        QVERIFY2(c->cases[0].maxDisplacement > 0.015 && c->cases[0].maxDisplacement < 0.06,
                 qPrintable(QString::number(c->cases[0].maxDisplacement)));
        QVERIFY(std::abs(c->minSafetyFactor - 250 / c->envelope.maxStress) < 1e-9);
    }
    void keepsTheVolumeOfSphereAndTorus() {
        for (const bool torus : {false, true}) {
            Part part;
            part.material.density = 1e-6;
            field::DensityField f;
            f.cells = {64, 64, 64};
            f.spacing = Vec3::Constant(1.25);
            f.origin = Vec3::Constant(-40);
            f.density.resize(64 * 64 * 64);
            for (std::size_t c = 0; c < f.count(); ++c) {
                const Vec3 p = f.centre(c);
                const double d = torus ? std::hypot(std::hypot(p[0], p[1]) - 22, p[2]) - 9 : p.norm() - 25;
                f.density[c] = static_cast<float>(std::clamp(0.5 - d / 2.5, 0.0, 1.0));
            }
            Progress progress;
            const FieldResult field = prepareField(part, f);
            const SurfaceResult s = evaluateSurface(part, field, defaultRecipe(part, f), progress);
            const double exact = torus ? 2 * M_PI * M_PI * 22 * 81 : 4.0 / 3 * M_PI * std::pow(25, 3);
            QVERIFY2(std::abs(s.measures.volume / exact - 1) < 0.002,
                     qPrintable(QString::number(s.measures.volume / exact - 1)));
            QCOMPARE(s.measures.genus, torus ? 1 : 0);
            QVERIFY(s.deviationRms < 0.25 * 1.25);
        }
    }
    /// Every demo field in every format that it comes in: the same surface, within half a cell.
    void demoFieldsGiveTheSameSurfaceInAllFormats_data() {
        QTest::addColumn<QString>("part");
        QTest::addColumn<QStringList>("files");
        QTest::newRow("tether yoke") << "tether-yoke" << QStringList{"tether-yoke.vti", "tether-yoke.npy"};
        QTest::newRow("mast foot") << "sensor-mast-foot" << QStringList{"sensor-mast-foot.vti", "sensor-mast-foot.npy"};
        QTest::newRow("rocker plate") << "rocker-plate"
                                      << QStringList{"rocker-plate.vti", "rocker-plate.npy", "rocker-plate.vtu"};
    }
    void demoFieldsGiveTheSameSurfaceInAllFormats() {
        QFETCH(QString, part);
        QFETCH(QStringList, files);
        const std::string folder = ESCULTURA_DEMO "/";
        const Part p = readPart(folder + part.toStdString() + ".json");
        Progress progress;
        field::DensityField grid = exchange::readField({folder + files[0].toStdString()});
        SurfaceResult first;
        for (const QString& file : files) {
            exchange::FieldSource source{folder + file.toStdString()};
            source.origin = grid.origin;
            source.spacing = grid.spacing;
            const field::DensityField f = exchange::readField(source, p.designSpace, progress);
            Recipe r = defaultRecipe(p, f);
            r.surfaceSpacing = 1.2 * f.spacing.minCoeff();
            const SurfaceResult s = evaluateSurface(p, prepareField(p, f), r, progress);
            if (file == files[0]) {
                first = s;
                continue;
            }
            const surface::TriangleTree tree(first.mesh);
            double largest = 0;
            for (const Vec3& v : s.mesh.position) largest = std::max(largest, tree.distance(v));
            qInfo("%s against %s: largest distance %.2e mm, volume %+.2e %%", qPrintable(file), qPrintable(files[0]),
                  largest, 100 * (s.measures.volume / first.measures.volume - 1));
            QVERIFY2(largest < 0.5 * f.spacing.minCoeff(), qPrintable(QString::number(largest)));
            QCOMPARE(s.measures.genus, first.measures.genus);
        }
    }
    void freshnessFollowsTheRecipe() {
        Project p = lever();
        const Recipe old = p.current().recipe;
        Recipe r = old;
        r.threshold = 0.4;
        QVERIFY(!p.surface(r) && !p.check(r) && !p.findings(r));
        r = old;
        r.elementSize = 2.9;
        QVERIFY(p.surface(r) && !p.check(r));
        r = old;
        r.hotspotShare = 0.2;
        QVERIFY(p.check(r) && !p.findings(r));
        const auto before = p.check(old);
        QCOMPARE(p.check(old).get(), before.get());  // back again: the very same result
        Progress progress;
        QVERIFY(run(p, old, Stage::findings, progress).empty());  // nothing left to do
        p.part.material.yieldStrength = 300;
        p.part.dutyText += " ";
        QVERIFY(p.surface(old) && !p.check(old));
    }
    void requirementsNeedFreshResults() {
        Project p = lever();
        // before any test nothing is proven
        auto states = requirementStates(p, p.current(), nullptr, nullptr);
        if (!hotspotsToTest(p, p.current()).empty()) {
            QVERIFY(states[0].state != RequirementState::State::met);
            QVERIFY(!states[0].doubt.empty() && states[0].note.find("not tested") != std::string::npos);
        }
        const Factor before = factorOf(p, p.current(), *p.check(p.current().recipe));
        Progress progress;
        testWhatGoverns(p, p.current().recipe, progress);
        QVERIFY(hotspotsToTest(p, p.current()).empty());
        // what was said before the tests holds after them: within the band, which has no lower end at a support
        const Factor after = factorOf(p, p.current(), *p.check(p.current().recipe));
        QVERIFY(after.proves() && after.value <= 1.02 * before.band.high);
        QVERIFY(!before.bounded || after.value >= 0.98 * before.band.low);
        // the governing place is a tested one: every place on slopes that the mesh puts above it was looked at
        for (const Finding& f : findingsOf(p, p.current().recipe))
            if (f.canGoOn() && !f.beside.empty())
                QVERIFY(*std::max_element(f.beside.begin(), f.beside.end()) <=
                        elastic::strength(p.part.material) / after.value * (1 + 1e-9));
        states = requirementStates(p, p.current(), nullptr, nullptr);
        QVERIFY(std::all_of(states.begin(), states.end(),
                            [](const auto& s) { return s.state == RequirementState::State::met; }));
        const auto oldSurface = p.surface(p.current().recipe);
        const auto oldCheck = p.check(p.current().recipe);
        p.variants[0].recipe.threshold = 0.45;
        states = requirementStates(p, p.current(), oldSurface.get(), oldCheck.get());
        for (const auto& s : states) QCOMPARE(s.state, RequirementState::State::outOfDate);
        for (const auto& s : requirementStates(p, p.current(), nullptr, nullptr))
            QCOMPARE(s.state, RequirementState::State::unknown);
        p = lever();
        p.part.requirements[0].limit = 1e6;
        QCOMPARE(requirementStates(p, p.current(), nullptr, nullptr)[0].state, RequirementState::State::notMet);
    }
    void releaseOpensWhenAllIsSigned() {
        Project p = lever();
        Progress progress;
        testWhatGoverns(p, p.current().recipe, progress);
        const auto findings = findingsOf(p, p.current().recipe);
        QVERIFY(!findings.empty());
        QVERIFY(!releaseBlockers(p, p.variants[0]).empty());
        for (const Finding& f : findings)
            sign(p.variants[0],
                 signedDisposition(p, p.current().recipe, f, "accept", "made-up reason", "A. Tester", "2026-01-01"));
        QVERIFY2(releaseBlockers(p, p.variants[0]).empty(),
                 releaseBlockers(p, p.variants[0]).empty() ? "" : releaseBlockers(p, p.variants[0])[0].text.c_str());
        p.variants[0].dispositions[0].decision = "fix";
        QVERIFY(!releaseBlockers(p, p.variants[0]).empty());
        p.variants[0].dispositions[0].decision = "accept";
        p.variants[0].recipe.elementSize = 2.8;  // another check: the dispositions do not hold for it
        QVERIFY(!releaseBlockers(p, p.variants[0]).empty());
        QVERIFY(!p.findings(p.current().recipe));
    }
    void cutOffInterfacesAreNamed() {
        const Project p = lever();
        const auto f = p.field();
        QVERIFY(std::abs(f->largestConnectingThreshold - 0.62) < 0.011);  // density of the bar's middle cells
        Recipe r;
        r.threshold = 0.7;
        const ThresholdFigures t = thresholdFigures(p.part, *f, r);
        QCOMPARE(t.pieces, 2);
        QCOMPARE(t.cutOff.size(), std::size_t(1));
        const std::string m = made_up::messageOf([&] { requireConnected(p.part, *f, r); });
        QVERIFY2(m.find("cut off: " + t.cutOff[0]) != std::string::npos, m.c_str());
        r.threshold = 1.01;
        QVERIFY(made_up::messageOf([&] { thresholdFigures(p.part, *f, r); }).find("keeps nothing") !=
                std::string::npos);
    }
    void saveAndLoadKeepEverything() {
        Project p = lever();
        p.variants[0].reasons[1] = "because";
        p.variants.push_back(p.variants[0]);
        p.variants[1].id = 2;
        p.variants[1].name = "B";
        p.variants[1].recipe.threshold = 0.3;
        p.open = 1;
        const std::string path = (dir_.path() + "/lever.escultura").toStdString();
        saveProject(p, path);
        std::filesystem::rename(dir_.path().toStdString() + "/lever.npy", dir_.path().toStdString() + "/away.npy");
        const Project q = loadProject(path);  // holds the field itself
        std::filesystem::rename(dir_.path().toStdString() + "/away.npy", dir_.path().toStdString() + "/lever.npy");
        QVERIFY(q.variants == p.variants);
        QCOMPARE(q.open, std::size_t(1));
        const Recipe& r = p.variants[0].recipe;
        QVERIFY(q.surface(r) && q.check(r) && q.findings(r));
        QVERIFY(q.surface(r)->mesh.position == p.surface(r)->mesh.position);
        QVERIFY(q.check(r)->cases[1].displacement == p.check(r)->cases[1].displacement);
        QVERIFY(q.check(r)->envelope.stress == p.check(r)->envelope.stress);
        QCOMPARE(q.findings(r)->findings.size(), p.findings(r)->findings.size());
        QVERIFY(!q.surface(q.current().recipe));
    }
    void damagedProjectsAreRefused() {
        const std::string path = (dir_.path() + "/broken.escultura").toStdString();
        saveProject(lever(), path);
        const auto size = std::filesystem::file_size(path);
        for (const double share : {0.0, 0.01, 0.5, 0.9}) {
            std::filesystem::resize_file(path, static_cast<std::uintmax_t>(share * static_cast<double>(size)));
            QVERIFY_EXCEPTION_THROWN(loadProject(path), InputError);
            saveProject(lever(), path);
        }
        std::ofstream(path) << "not a database, but long enough to be looked at as if it were one";
        QVERIFY_EXCEPTION_THROWN(loadProject(path), InputError);
        QVERIFY_EXCEPTION_THROWN(loadProject("/nowhere/x.escultura"), InputError);
        QVERIFY_EXCEPTION_THROWN(saveProject(lever(), "/nowhere/x.escultura"), InputError);
    }
    void otherThreadCountsChangeNothingThatMatters() {
        const Project p = lever();
        const tbb::global_control one(tbb::global_control::max_allowed_parallelism, 1);
        Progress progress;
        const Recipe& r = p.current().recipe;
        const SurfaceResult s = evaluateSurface(p.part, *p.field(), r, progress);
        QVERIFY(s.mesh.position == p.surface(r)->mesh.position && s.mesh.triangle == p.surface(r)->mesh.triangle);
        const MeshResult m = evaluateMesh(p.part, *p.field(), s, r, progress);
        const CheckResult c = evaluateCheck(p.part, *p.field(), s, m, r, progress);
        const auto old = p.check(r);
        QVERIFY(c.mesh.position == old->mesh.position && c.mesh.tet == old->mesh.tet);
        for (std::size_t k = 0; k < c.cases.size(); ++k) {
            double u = 0, v = 0;
            for (std::size_t n = 0; n < c.mesh.position.size(); ++n) {
                u = std::max(u, (c.cases[k].displacement[n] - old->cases[k].displacement[n]).norm());
                v = std::max(v, std::abs(c.cases[k].vonMises[n] - old->cases[k].vonMises[n]));
            }
            QVERIFY(u <= 1e-8 * old->cases[k].maxDisplacement);
            QVERIFY(v <= 1e-8 * old->cases[k].maxVonMises);
        }
    }
    void summaryHoldsWhatIsPromised() {
        const Project p = lever();
        const json j = json::parse(summaryJson(p, p.current(), {{"Check", 1.5}}));
        for (const char* key :
             {"cells", "threshold", "share_kept", "pieces", "connected_interfaces", "largest_connecting_threshold"})
            QVERIFY2(j["field"].contains(key), key);
        for (const char* key : {"triangles", "volume_mm3", "mass_kg", "pieces", "genus", "watertight",
                                "deviation_rms_mm", "deviation_max_mm"})
            QVERIFY2(j["surface"].contains(key), key);
        for (const char* key : {"tetrahedra", "nodes", "min_dihedral_deg", "min_scaled_jacobian", "volume_mm3"})
            QVERIFY2(j["mesh"][key].is_number(), key);
        for (const char* key : {"name", "applied_N", "reaction_N", "equilibrium_error", "max_displacement_mm",
                                "max_von_mises_MPa", "min_safety_factor"})
            QVERIFY2(j["check"]["cases"][0].contains(key), key);
        for (const char* key : {"max_von_mises_MPa", "min_safety_factor", "governing_case"})
            QVERIFY2(j["check"]["envelope"].contains(key), key);
        for (const char* key : {"id", "class", "peak_MPa", "case", "position_mm", "nearest_interface", "distance_mm"})
            QVERIFY2(j["findings"][0].contains(key), key);
        for (const char* key : {"name", "limit", "value", "unit", "state"})
            QVERIFY2(j["requirements"][0].contains(key), key);
        QVERIFY(j["release"]["open"] == false && j["release"]["blocking"].size() > 0);
        QCOMPARE(j["timings_s"]["Check"].get<double>(), 1.5);
        QVERIFY(j["peak_memory_MB"].get<double>() > 1);
        QCOMPARE(j["field"]["cells"].get<int>(), 32 * 12 * 6);
    }
    void cancelLeavesNothingBehind() {
        Project p = lever();
        Recipe r = p.current().recipe;
        r.threshold = 0.47;
        int steps = 0;
        Progress* self = nullptr;
        Progress progress([&](const std::string&, double) {
            if (++steps == 6) self->cancel();
        });
        self = &progress;
        QVERIFY_EXCEPTION_THROWN(run(p, r, Stage::findings, progress), Cancelled);
        QVERIFY(!p.check(r));
    }
};

QTEST_GUILESS_MAIN(TestProject)
#include "test_project.moc"
