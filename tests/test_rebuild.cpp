// Stage Rebuild on the demo and on a made-up lever: cage, solid, features, members, check on the solid, STEP. Long
// because all of it looks at solids that are slow to make, and are made once.
#include <QFile>
#include <QProcess>
#include <QTemporaryDir>
#include <QTest>
#include <cmath>
#include <map>
#include <nlohmann/json.hpp>

#include "box_mesh.hpp"
#include "duty/rebuild_text.hpp"
#include "exchange/body_files.hpp"
#include "exchange/step_reader.hpp"
#include "exchange/writers.hpp"
#include "fixtures.hpp"
#include "judge/requirements.hpp"
#include "project/project.hpp"
#include "project/run.hpp"
#include "store/storage.hpp"
#include "surface/mesh_body.hpp"

using namespace escultura;
using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using namespace escultura::store;
using namespace escultura::judge;
using made_up::folder;
using made_up::messageOf;
using made_up::near;

namespace {

Variant variantOf(const Recipe& recipe) {
    Variant v;
    v.recipe = recipe;
    return v;
}

/// The lever with its surface built; results are shared by the tests.
Project& lever() {
    static Project p = made_up::openLever(Stage::surface, [](Recipe& r) { r.rebuild.faceSize = 6; });
    return p;
}

const RebuildResult& built(const Recipe& recipe) {
    Progress progress;
    run(lever(), recipe, Stage::rebuild, progress);
    return *lever().rebuild(recipe);
}

CageStep member(const Vec3& from, const Vec3& to, double radius) {
    CageStep s;
    s.name = "brace";
    s.member = {from, to, radius, radius, 2};
    return s;
}

}  // namespace

class TestRebuild : public QObject {
    Q_OBJECT
  private slots:
    /// The tether yoke has walls thinner than a face: half a cell of 2.5 mm at most, a tenth RMS,
    /// with few faces, and both planes of symmetry.
    void yokeCage() {
        Progress progress;
        Project p = openPart(ESCULTURA_DEMO "/tether-yoke.json", progress);
        const Recipe& recipe = p.variants[0].recipe;
        run(p, recipe, Stage::surface, progress);
        runCage(p, recipe, progress);
        const auto cage = p.cage(recipe);
        const auto surface = p.surface(recipe);
        const auto& d = cage->deviation;
        QVERIFY(cage->agrees && cage->folded.empty());
        QVERIFY(cage->within);
        QCOMPARE(cage->tolerance, 1.25);
        QVERIFY2(std::max(d.rms, d.backRms) <= 0.25, qPrintable(QString("%1 %2").arg(d.rms).arg(d.backRms)));
        QVERIFY2(std::max(d.largest, d.backLargest) <= 1.25,
                 qPrintable(QString("%1 %2").arg(d.largest).arg(d.backLargest)));
        QVERIFY2(cage->cage.face.size() <= 700, qPrintable(QString::number(cage->cage.face.size())));
        for (int axis : {1, 2})
            for (auto v : cage::mirrorVertices(cage->cage, {Vec3::Zero(), Vec3::Unit(axis)}, 1e-6)) QVERIFY(v >= 0);
        const auto patches = cage::makePatches(cage->cage);
        QVERIFY(patches.regularJump < 1e-6);
        QVERIFY2(patches.irregularJump < 2.5, qPrintable(QString::number(patches.irregularJump)));
        QVERIFY(near(cage::measureLimit(cage->cage).volume, cage->target->measures().volume, 5e-3));
    }
    /// The very cage of the tolerance, taken by hand, is compared with what it was fitted to; with a member the fewest
    /// faces are found anew.
    void changesStartFromTheFewestFaces() {
        Progress progress;
        Project p = openPart(ESCULTURA_DEMO "/rocker-plate.json", progress);
        Recipe recipe = p.variants[0].recipe;
        run(p, recipe, Stage::surface, progress);
        runCage(p, recipe, progress);
        const auto few = p.cage(recipe);
        QVERIFY(few->within && few->faceSize > 10);
        recipe.rebuild.steps = {byHandStep(few->cage, few->faceSize)};
        runCage(p, recipe, progress);
        const auto hand = p.cage(recipe);
        QVERIFY(hand->byHand && hand->agrees);
        QVERIFY(near(hand->deviation.rms, few->deviation.rms, 0.1));
        QVERIFY(near(hand->deviation.largest, few->deviation.largest, 0.1));
        QCOMPARE(hand->tolerance, 0.0);  // a change on purpose is not held against it
        // the size goes with the recipe's text
        QCOMPARE(rebuildFrom(rebuildJson(recipe.rebuild)), recipe.rebuild);
        const Box3 box = p.field(recipe)->field.bounds();
        recipe.rebuild.steps = {member(box.centre(), box.centre() + Vec3(0, 0, 0.5 * box.size().z() + 12), 6)};
        runCage(p, recipe, progress);
        const auto braced = p.cage(recipe);
        QVERIFY(braced->agrees && braced->within);
        QVERIFY2(braced->cage.face.size() < 250, qPrintable(QString::number(braced->cage.face.size())));
    }
    /// Rocker plate and mast foot: within half a cell and a tenth RMS both ways with few faces, handles right, solid
    /// sound, bores and faces exact, volume of STEP, solid, limit surface and surface in agreement.
    void demos_data() {
        QTest::addColumn<QString>("name");
        QTest::addColumn<double>("cell");
        QTest::addColumn<int>("faces");
        QTest::addColumn<double>("volume");
        QTest::newRow("rocker plate") << "rocker-plate" << 2.0 << 90 << 8e-3;
        QTest::newRow("mast foot") << "sensor-mast-foot" << 2.5 << 120 << 1e-2;  // a slender part: much surface
    }
    void demos() {
        QFETCH(QString, name);
        QFETCH(double, cell);
        QFETCH(int, faces);
        QFETCH(double, volume);
        Progress progress;
        Project p = openPart(std::string(ESCULTURA_DEMO) + "/" + name.toStdString() + ".json", progress);
        const Recipe& recipe = p.variants[0].recipe;
        run(p, recipe, Stage::rebuild, progress);
        const auto cage = p.cage(recipe);
        const auto b = p.rebuild(recipe);
        const auto surface = p.surface(recipe);
        const auto& d = cage->deviation;
        QVERIFY(cage->agrees && cage->folded.empty());
        QVERIFY(cage->within);
        QVERIFY2(std::max(d.rms, d.backRms) <= 0.1 * cell, qPrintable(QString("%1 %2").arg(d.rms).arg(d.backRms)));
        QVERIFY(std::max(d.largest, d.backLargest) <= 0.5 * cell);
        QVERIFY2(static_cast<int>(cage->cage.face.size()) <= faces,
                 qPrintable(QString::number(cage->cage.face.size())));
        QVERIFY2(b->problems.empty(), b->problems.empty() ? "" : b->problems.front().c_str());
        QCOMPARE(b->genus, surface->measures.genus);
        QVERIFY(b->solid.solid.valid && b->solid.solid.closed);
        QVERIFY(near(b->solid.free.volume, b->limit.volume, 1e-3));
        QVERIFY2(near(b->solid.solid.volume, surface->measures.volume, volume),
                 qPrintable(QString::number(b->solid.solid.volume / surface->measures.volume)));
        QVERIFY(b->regularJump < 1e-6);
        QVERIFY(b->irregularJump < 2.5);
        for (const auto& f : b->solid.features) QVERIFY(f.identity < 1e-4);
        // read by another process: bores are one or two cylinders of the exact diameter, machined faces planes
        const QString step = folder().filePath(name + ".step");
        QVERIFY(writeCheckedStep(step.toStdString(), p.part, *b).empty());
        QProcess cli;
        cli.start(ESCULTURA_CLI, {"step", step});
        QVERIFY(cli.waitForFinished(120000));
        QCOMPARE(cli.exitCode(), 0);
        const auto j = nlohmann::json::parse(cli.readAllStandardOutput().toStdString());
        QVERIFY(j["valid"].get<bool>() && j["closed"].get<bool>());
        QCOMPARE(j["solids"].get<int>(), 1);
        QVERIFY(near(j["volume_mm3"].get<double>(), b->solid.solid.volume, 1e-4));
        QCOMPARE(j["part"].get<std::string>(), p.part.name);
        for (const Interface& i : p.part.interfaces) {
            auto vec = [](const nlohmann::json& v) { return Vec3(v[0], v[1], v[2]); };
            if (i.boreDiameter > 0) {
                int found = 0;
                for (const auto& c : j["cylinders"]) {
                    const Vec3 off = vec(c["point_mm"]) - i.origin;
                    found += std::abs(c["diameter_mm"].get<double>() - i.boreDiameter) < 1e-9 &&
                             std::abs(std::abs(vec(c["axis"]).dot(i.axis)) - 1) < 1e-9 &&
                             (off - off.dot(i.axis) * i.axis).norm() < 1e-6;
                }
                QVERIFY2(found == 1 || found == 2,
                         qPrintable(QString::fromStdString(i.name) + QString(" %1").arg(found)));
            }
            for (const auto& [end, at] : {std::pair{&i.start, 0.0}, std::pair{&i.end, i.length}}) {
                if (end->kind != EndKind::flat) continue;
                bool found = false;
                for (const auto& f : j["planes"])
                    found = found || (std::abs(std::abs(vec(f["normal"]).dot(i.axis)) - 1) < 1e-9 &&
                                      std::abs((vec(f["point_mm"]) - i.origin).dot(i.axis) - at) < 1e-6);
                QVERIFY2(found, i.name.c_str());
            }
        }
    }
    void leverIsRebuilt() {
        const Recipe recipe = lever().variants[0].recipe;
        const RebuildResult& b = built(recipe);
        QVERIFY2(b.problems.empty(), b.problems.empty() ? "" : b.problems.front().c_str());
        QCOMPARE(b.genus, 2);  // two bores
        QVERIFY(near(b.solid.solid.volume, lever().surface(recipe)->measures.volume, 1e-2));
        QVERIFY(near(b.mass, b.solid.solid.volume * 7.85e-6, 1e-12));
        QCOMPARE(b.faces.size(), lever().surface(recipe)->faces.size());
    }
    /// What is checked is what is exported: volumes of solid, triangles and mesh agree within 0.3 %.
    void checkRunsOnTheSolid() {
        Recipe recipe = lever().variants[0].recipe;
        recipe.check.rebuilt = true;
        recipe.elementSize = 1.8;
        Progress progress;
        run(lever(), recipe, Stage::findings, progress);
        const auto check = lever().check(recipe);
        const auto& b = *lever().rebuild(recipe);
        QVERIFY(near(check->quality.volume, b.solid.solid.volume, 3e-3));
        QVERIFY(near(surface::measure(b.solid.mesh).volume, b.solid.solid.volume, 3e-3));
        QCOMPARE(check->quality.failed, 0);
        for (const CaseResult& c : check->cases) {
            QVERIFY(c.equilibriumError < 1e-6);
            QVERIFY(c.appliedAsMeant);
        }
        // near the same answer as on the implicit solid
        Recipe plain = recipe;
        plain.check.rebuilt = false;
        run(lever(), plain, Stage::check, progress);
        QVERIFY(near(check->cases[1].maxDisplacement, lever().check(plain)->cases[1].maxDisplacement, 0.1));
        QVERIFY(lever().keys(plain).check != lever().keys(recipe).check);
        // mass of the requirement is the solid's
        for (const auto& s : requirementStates(lever(), variantOf(recipe), nullptr, nullptr))
            if (s.name == "mass") QVERIFY(near(s.value, b.mass, 1e-9));
    }
    /// The mass that counts is that of the body that is checked, and it is out of date with it.
    void massFollowsTheCheckedBody() {
        Recipe recipe = lever().variants[0].recipe;
        recipe.check.rebuilt = true;
        recipe.check.level = Level::look;
        Progress progress;
        run(lever(), recipe, Stage::check, progress);
        auto massOf = [&](const Recipe& r, const CheckResult* last) {
            for (const auto& s : requirementStates(lever(), variantOf(r), nullptr, last))
                if (s.name == "mass") return s;
            return RequirementState{};
        };
        const auto check = lever().check(recipe);
        QVERIFY(massOf(recipe, nullptr).state == RequirementState::State::met);
        QVERIFY(near(massOf(recipe, nullptr).value, lever().rebuild(recipe)->mass, 1e-9));
        Recipe other = recipe;
        other.rebuild.faceSize = 6.5;  // the surface is still fresh, the solid and its check are not
        QVERIFY(lever().surface(other) && !lever().rebuild(other));
        const auto stale = massOf(other, check.get());
        QVERIFY(stale.state == RequirementState::State::outOfDate);
        QVERIFY(near(stale.value, check->quality.volume * 7.85e-6, 1e-9));
    }
    /// Another name of a step is the same cage; another number is not.
    void keysFollowNumbersNotNames() {
        Recipe recipe = lever().variants[0].recipe;
        recipe.rebuild.steps = {member({22, 22, 7.5}, {58, 22, 7.5}, 4)};
        const auto first = lever().keys(recipe);
        recipe.rebuild.steps[0].name = "strut";
        QCOMPARE(lever().keys(recipe).cage, first.cage);
        recipe.rebuild.steps[0].member.blend += 0.1;
        QVERIFY(lever().keys(recipe).cage != first.cage);
        recipe.rebuild.steps[0].on = false;
        QCOMPARE(lever().keys(recipe).cage, lever().keys(lever().variants[0].recipe).cage);
        recipe.rebuild.ownFeatures = true;
        solid::Feature f;
        f.name = "hole";
        recipe.rebuild.features = {f};
        const auto withHole = lever().keys(recipe).rebuild;
        recipe.rebuild.features[0].headAngle += 1;
        QVERIFY(lever().keys(recipe).rebuild != withHole);
    }
    /// A variant is copied under the next free letter, without signatures.
    void variantsAreAdded() {
        Project p = lever();
        Disposition d;
        d.findingsKey = "k";
        d.finding = "H1";
        d.decision = "accept";
        p.variants[0].dispositions.push_back(d);
        const Variant& v = addVariant(p, 0);
        QCOMPARE(v.name, std::string("B"));
        QVERIFY(v.id != p.variants[0].id && v.dispositions == p.variants[0].dispositions);
        QVERIFY(v.recipe == p.variants[0].recipe);
        QCOMPARE(p.open, std::size_t(1));
    }
    void membersAndThickenings() {
        Recipe recipe = lever().variants[0].recipe;
        const double before = built(recipe).solid.solid.volume;
        // a handle over the bar: radius 3, from ring to ring at 14 mm beside the axis
        recipe.rebuild.steps.push_back(member({22, 22, 7.5}, {58, 22, 7.5}, 3.5));
        recipe.rebuild.faceSize = 4;
        const double withMember = built(recipe).solid.solid.volume;
        QVERIFY(withMember > before + 300);
        QVERIFY(lever().cage(recipe)->agrees);
        recipe.rebuild.steps[0].member.radiusFrom = recipe.rebuild.steps[0].member.radiusTo = 4.5;
        QVERIFY(built(recipe).solid.solid.volume > withMember + 200);  // swept by its number
        recipe.rebuild.steps[0].on = false;
        recipe.rebuild.faceSize = 6;
        QVERIFY(near(built(recipe).solid.solid.volume, before, 1e-9));  // switched off: the same recipe as before
        // thickened by 1 mm on all sides of the bar's middle
        CageStep t;
        t.kind = CageStep::Kind::thickening;
        t.name = "middle";
        t.thickening.centre = Vec3(40, 15, 7.5);
        t.thickening.radius = 12;
        t.thickening.edge = 6;
        recipe.rebuild.steps = {t};
        const double thick = built(recipe).solid.solid.volume;
        QVERIFY2(thick > before + 400 && thick < before + 1800, qPrintable(QString::number(thick - before)));
        recipe.rebuild.steps[0].thickening.amount = -1;
        QVERIFY(built(recipe).solid.solid.volume < before - 300);
        // numbers that cannot be used are refused by name
        recipe.rebuild.steps = {member({0, 0, 0}, {0, 0, 0}, 3)};
        QVERIFY(messageOf([&] { built(recipe); }).find("'brace'") != std::string::npos);
        recipe.rebuild.steps = {member({0, 0, 0}, {10, 0, 0}, -1)};
        QVERIFY(messageOf([&] { built(recipe); }).find("radii above 0") != std::string::npos);
    }
    /// A boss on the bar: where the kernel does not fillet its foot the cage goes over into it.
    void bossesAreBlendedInTheCage() {
        Recipe recipe = lever().variants[0].recipe;
        recipe.rebuild.faceSize = 4;
        const RebuildResult plain = built(recipe);
        solid::Feature f;
        f.kind = solid::Feature::Kind::boss;
        f.name = "spigot";
        f.origin = Vec3(40, 15, 14);
        f.axis = Vec3::UnitZ();
        f.diameter = 8;
        f.length = 8;
        f.before = 4;
        f.radius = 0;
        recipe.rebuild.ownFeatures = true;
        recipe.rebuild.features =
            effectiveFeatures(lever().part, lever().field()->regions, lever().variants[0].recipe.rebuild);
        recipe.rebuild.features.push_back(f);
        const RebuildResult sharp = built(recipe);
        QVERIFY2(sharp.problems.empty(), sharp.problems.empty() ? "" : sharp.problems.front().c_str());
        const std::string before = lever().keys(recipe).cage;
        auto& last = recipe.rebuild.features.back();
        last.radius = 3;
        QCOMPARE(lever().keys(recipe).cage, before);  // a fillet on the solid leaves the cage alone
        last.blendInCage = true;
        QVERIFY(isBlendedInCage(last) && lever().keys(recipe).cage != before);
        const RebuildResult blended = built(recipe);
        QVERIFY2(blended.problems.empty(), blended.problems.empty() ? "" : blended.problems.front().c_str());
        QVERIFY(lever().cage(recipe)->agrees && lever().cage(recipe)->folded.empty());
        // the exact outside is still there, and material at its foot: a fillet of 3 mm around 8 mm on a plane holds
        // (1 - pi/4) r^2 * 2 pi (R + 0.22 r) = 56 mm3
        bool outside = false;
        for (const auto& s : blended.solid.surfaces)
            outside = outside || (s.feature == "spigot" && s.kind == solid::SolidSurface::Kind::cylinder &&
                                  std::abs(s.radius - 4) < 1e-9);
        QVERIFY(outside);
        const double more = blended.solid.solid.volume - sharp.solid.solid.volume;
        QVERIFY2(more > 0.6 * 56 && more < 2.2 * 56, qPrintable(QString::number(more)));
        last.on = false;
        QVERIFY(!isBlendedInCage(last));
        QVERIFY(near(built(recipe).solid.solid.volume, plain.solid.solid.volume, 1e-9));
    }
    /// A painted region is the union of balls; only the side that was painted moves.
    void paintedRegions() {
        Thickening t;
        t.painted = {Vec3(0, 0, 0), Vec3(10, 0, 0)};
        t.radius = 2;
        t.edge = 4;
        QCOMPARE(weightAt(t, Vec3(10, 2, 0)), 1.0);
        QCOMPARE(weightAt(t, Vec3(0, 0, 6)), 0.0);
        QCOMPARE(weightAt(t, Vec3(5, 0, 0)), 0.15625);  // 3 of the edge's 4 mm outside: x^2 (3 - 2 x) at 1/4
        Recipe recipe = lever().variants[0].recipe;
        const RebuildResult plain = built(recipe);
        CageStep s;
        s.kind = CageStep::Kind::thickening;
        s.name = "painted";
        for (int x = 28; x <= 52; x += 4) s.thickening.painted.push_back(Vec3(x, 22, 7.5));
        s.thickening.radius = 6;
        s.thickening.edge = 3;
        recipe.rebuild.steps = {s};
        const RebuildResult thick = built(recipe);
        // how far the bar's middle reaches towards a place beyond it, whatever the triangles
        auto reach = [](const RebuildResult& b, double y) {
            return -surface::TriangleTree(b.solid.mesh).distance(Vec3(40, y, 7.5));
        };
        const double moved = reach(thick, 40) - reach(plain, 40), other = reach(thick, -10) - reach(plain, -10);
        QVERIFY2(std::abs(moved - 1) < 0.15, qPrintable(QString::number(moved)));
        QVERIFY2(std::abs(other) < 0.02, qPrintable(QString::number(other)));
        recipe.rebuild.steps[0].thickening.radius = 0;
        QVERIFY(messageOf([&] { built(recipe); }).find("radius above 0") != std::string::npos);
        recipe.rebuild.steps[0].thickening = {};
        recipe.rebuild.steps[0].thickening.box = true;
        recipe.rebuild.steps[0].thickening.low = Vec3(5, 0, 0);
        QVERIFY(messageOf([&] { built(recipe); }).find("first corner") != std::string::npos);
    }
    /// Keep-outs that are bodies from files are cut as exactly as boxes; grown ones by their offset.
    void keepOutBodiesAreCutExactly() {
        const std::string stl = folder().filePath("tool.stl").toStdString();
        exchange::writeStl(stl, made_up::boxMesh({34, 20, -5}, {46, 40, 20}), "tool");
        auto json = made_up::leverPart();
        json["keep_outs"] = {{{"kind", "body"}, {"name", "tool"}, {"body", stl}},
                             {{"kind", "box"}, {"name", "far away"}, {"low", {0, 60, 0}}, {"high", {10, 70, 10}}}};
        QTemporaryDir dir;
        Progress progress;
        Project p = openPart(made_up::writeLever(dir.path().toStdString(), json), progress);
        p.variants[0].recipe.rebuild.faceSize = 5;
        run(p, p.variants[0].recipe, Stage::rebuild, progress);
        const auto b = p.rebuild(p.variants[0].recipe);
        for (const auto& o : b->solid.features) QVERIFY2(o.built, (o.name + ": " + o.problem).c_str());
        QVERIFY2(b->problems.empty(), b->problems.empty() ? "" : b->problems.front().c_str());
        bool floor = false;
        for (const auto& s : b->solid.surfaces)
            if (s.interface == "tool" && s.kind == solid::SolidSurface::Kind::plane && s.axis.y() > 0.5) {
                floor = true;
                QVERIFY(std::abs(s.point.y() - 20) < 1e-6 && (s.axis - Vec3::UnitY()).norm() < 1e-9);
                QCOMPARE(s.face, std::string("keep-out"));
            }
        QVERIFY(floor);
        for (const Vec3& q : b->solid.mesh.position) QVERIFY(!(q.x() > 34.01 && q.x() < 45.99 && q.y() > 20.01));
        const auto surface = p.surface(p.variants[0].recipe);
        QVERIFY(near(b->solid.solid.volume, surface->measures.volume, 1e-2));
        // grown by 1.5 mm
        json["keep_outs"][0]["offset"] = 1.5;
        Project grown = openPart(made_up::writeLever(dir.path().toStdString(), json), progress);
        grown.variants[0].recipe.rebuild.faceSize = 5;
        run(grown, grown.variants[0].recipe, Stage::rebuild, progress);
        const auto g = grown.rebuild(grown.variants[0].recipe);
        QVERIFY2(g->problems.empty(), g->problems.empty() ? "" : g->problems.front().c_str());
        bool moved = false;
        for (const auto& x : g->solid.surfaces)
            moved = moved || (x.interface == "tool" && x.kind == solid::SolidSurface::Kind::plane &&
                              (x.axis - Vec3::UnitY()).norm() < 1e-3 && std::abs(x.point.y() - 18.5) < 1e-3);
        QVERIFY(moved);
        QVERIFY(near(g->solid.solid.volume, grown.surface(grown.variants[0].recipe)->measures.volume, 1e-2));
    }
    void cagesByHandAreKept() {
        Recipe recipe = lever().variants[0].recipe;
        const double before = built(recipe).solid.solid.volume;
        cage::Cage c = lever().cage(recipe)->cage;
        for (auto& p : c.position)
            if (std::abs(p.x() - 40) < 12) p.y() += p.y() > 15 ? 2 : 0;
        recipe.rebuild.steps.push_back(byHandStep(c));
        const RebuildResult& b = built(recipe);
        QVERIFY(b.solid.solid.volume > before + 200);
        QVERIFY(lever().cage(recipe)->byHand);
        QVERIFY(lever().cage(recipe)->cage == c);
        // a member after it is added to the body as it was left
        recipe.rebuild.steps.push_back(member({22, 22, 7.5}, {58, 22, 7.5}, 4));
        recipe.rebuild.faceSize = 4;
        QVERIFY(built(recipe).solid.solid.volume > b.solid.solid.volume + 200);
        // an open cage gives an error with its place
        c.face.pop_back();
        recipe.rebuild.steps = {byHandStep(c)};
        const std::string message = messageOf([&] { built(recipe); });
        QVERIFY2(message.find("does not close") != std::string::npos && message.find("mm") != std::string::npos,
                 message.c_str());
    }
    void featuresFollowTheInterfaces() {
        Project p = lever();
        const auto field = p.field(p.variants[0].recipe);
        Rebuild r;
        auto list = effectiveFeatures(p.part, field->regions, r);
        QCOMPARE(
            std::count_if(list.begin(), list.end(), [](const auto& f) { return f.kind == solid::Feature::Kind::bore; }),
            2);
        // switched off, with a head, and one of our own: kept when the interface changes
        r.ownFeatures = true;
        r.features = list;
        for (auto& f : r.features)
            if (f.name == "pivot bore") f.on = false, f.head = solid::Feature::Head::countersink, f.diameter = 99;
        solid::Feature own;
        own.name = "oil hole";
        own.diameter = 3;
        own.origin = Vec3(40, 15, -5);
        own.through = true;
        r.features.insert(r.features.begin(), own);
        p.part.interfaces[0].boreDiameter = 9;
        p.part.interfaces.push_back(p.part.interfaces[1]);
        p.part.interfaces.back().name = "third";
        list = effectiveFeatures(p.part, field->regions, r);
        std::map<std::string, solid::Feature> by;
        for (const auto& f : list) by[f.name] = f;
        QCOMPARE(list.front().name, std::string("oil hole"));
        QCOMPARE(by["pivot bore"].diameter, 9.0);  // size from the interface
        QVERIFY(!by["pivot bore"].on);
        QVERIFY(by["pivot bore"].head == solid::Feature::Head::countersink);
        QVERIFY(by.contains("third bore"));
        p.part.interfaces.erase(p.part.interfaces.begin());
        for (const auto& f : effectiveFeatures(p.part, field->regions, r)) QVERIFY(f.interface != "pivot");
    }
    void ownFeaturesAreBuilt() {
        Recipe recipe = lever().variants[0].recipe;
        const double before = built(recipe).solid.solid.volume;
        const auto cageKey = lever().keys(recipe).cage;
        recipe.rebuild.ownFeatures = true;
        recipe.rebuild.features = built(recipe).features;
        solid::Feature hole;
        hole.name = "oil hole";
        hole.diameter = 4;
        hole.origin = Vec3(40, 15, -5);
        hole.through = true;
        recipe.rebuild.features.push_back(hole);
        const RebuildResult& b = built(recipe);
        QCOMPARE(lever().keys(recipe).cage, cageKey);  // a feature does not ask for another cage
        QCOMPARE(b.genus, 3);
        const double depth = (before - b.solid.solid.volume) / (M_PI * 4);
        QVERIFY(depth > 8 && depth < 16);
        recipe.rebuild.features.back().origin = Vec3(40, 500, 0);
        const RebuildResult& far = built(recipe);
        QCOMPARE(far.problems.size(), std::size_t(1));
        QVERIFY(far.problems.front().find("oil hole") != std::string::npos);
        QVERIFY(near(far.solid.solid.volume, before, 1e-9));  // the rest is built
        // a face that carries a load must be there
        for (auto& f : recipe.rebuild.features)
            if (f.name == "eye bore") f.on = false;
        recipe.check.rebuilt = true;
        QVERIFY(!built(recipe).problems.empty());
        Progress progress;
        QVERIFY(messageOf([&] { run(lever(), recipe, Stage::check, progress); }).find("eye") != std::string::npos);
    }
    void recipesAreSaved() {
        Rebuild r;
        r.faceSize = 5;
        r.faceCount = 300;
        r.adapt = false;
        r.steps.push_back(member({1, 2, 3}, {4, 5, 6}, 7));
        CageStep t;
        t.kind = CageStep::Kind::thickening;
        t.name = "box";
        t.on = false;
        t.thickening.box = true;
        t.thickening.low = Vec3(1, 1, 1);
        t.thickening.high = Vec3(2, 3, 4);
        r.steps.push_back(t);
        t.thickening.box = false;
        t.thickening.painted = {Vec3(1, 2, 3), Vec3(4, 5, 6)};
        r.steps.push_back(t);
        cage::Cage c =
            lever().cage(lever().variants[0].recipe) ? lever().cage(lever().variants[0].recipe)->cage : cage::Cage{};
        c.crease = {{0, 1, 2.5}};
        r.steps.push_back(byHandStep(c));
        r.ownFeatures = true;
        for (int k = 0; k <= static_cast<int>(solid::Feature::Kind::chamfer); ++k) {
            solid::Feature f;
            f.kind = static_cast<solid::Feature::Kind>(k);
            f.name = "f" + std::to_string(k);
            f.head = solid::Feature::Head::countersink;
            f.diameter = 3.25 + k;
            f.path = "body.stl";
            f.unit = "in";
            f.offset = 0.5;
            f.on1 = "a";
            r.features.push_back(f);
        }
        QVERIFY(rebuildFrom(rebuildJson(r)) == r);
        auto broken = rebuildJson(r);
        broken["features"][0]["kind"] = "gear";
        QVERIFY(messageOf([&] { rebuildFrom(broken); }).find("'gear'") != std::string::npos);
        broken = rebuildJson(r);
        broken["steps"][3]["cage"]["faces"][0] = 999999;
        QVERIFY(messageOf([&] { rebuildFrom(broken); }).find("damaged") != std::string::npos);
        // with the project
        Project p = lever();
        p.variants[0].recipe.rebuild = r;
        p.variants[0].recipe.check.rebuilt = true;
        const std::string path = folder().filePath("lever.escultura").toStdString();
        saveProject(p, path);
        const Project q = loadProject(path);
        QVERIFY(q.variants[0].recipe == p.variants[0].recipe);
        QCOMPARE(q.keys(q.variants[0].recipe).rebuild, p.keys(p.variants[0].recipe).rebuild);
    }
    void solidsAreWrittenAndReadBack() {
        const RebuildResult& b = built(lever().variants[0].recipe);
        for (const char* name : {"lever.stl", "lever.obj", "lever.ply"})
            QVERIFY2(writeCheckedBody(folder().filePath(name).toStdString(), lever().part, b).empty(), name);
        const std::string step = folder().filePath("lever.step").toStdString();
        QVERIFY(writeCheckedStep(step, lever().part, b).empty());
        const std::string iges = folder().filePath("lever.iges").toStdString();
        const auto differ = writeCheckedIges(iges, lever().part, b);
        QVERIFY2(differ.empty(), differ.empty() ? "" : differ.front().c_str());
        QVERIFY(messageOf([&] { solid::readIgesFigures(step); }).find("no solid") != std::string::npos);
        const auto back = surface::measure(surface::weld(exchange::readBody(step)));
        QVERIFY(back.watertight);
        QVERIFY(near(back.volume, b.solid.solid.volume, 1e-2));
        QVERIFY(messageOf([&] {
                    writeCheckedStep("/no/such/folder/x.step", lever().part, b);
                }).find("cannot be written") != std::string::npos);
    }
    void cancelled() {
        Recipe recipe = lever().variants[0].recipe;
        recipe.rebuild.faceSize = 5.5;
        Progress progress;
        progress.cancel();
        QVERIFY_EXCEPTION_THROWN(run(lever(), recipe, Stage::rebuild, progress), Cancelled);
        QVERIFY(!lever().cage(recipe));
    }
};

QTEST_APPLESS_MAIN(TestRebuild)
#include "test_rebuild.moc"
