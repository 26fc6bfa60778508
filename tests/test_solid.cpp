// Patches and features as a solid, and STEP out and back. Long because the solids of one ball serve all of it.
#include <QFile>
#include <QTemporaryDir>
#include <QTest>
#include <cmath>

#include "base/error.hpp"
#include "box_mesh.hpp"
#include "cage/automatic.hpp"
#include "organic_shapes.hpp"
#include "solid/build.hpp"
#include "surface/extract.hpp"

using namespace escultura;
using made_up::boxMesh;
using solid::Feature;

namespace {

constexpr double R = 40;

/// A ball of radius 40 as a cage and its patches; made once.
struct Ball {
    cage::Cage cage;
    cage::PatchSet patches;
    cage::LimitMeasures limit;
    Ball() {
        const auto f = [](const Vec3& p) { return p.norm() - R; };
        auto body = std::make_shared<shape::MachinedSolid>(std::make_shared<shape::FunctionBody>(f),
                                                           Box3{Vec3::Constant(-45), Vec3::Constant(45)});
        Progress progress;
        const cage::Target target(surface::extractSurface(*body, 4, false, progress), body, nullptr);
        cage::AutomaticOptions o;
        o.faceSize = 14;
        cage = cage::automaticCage(f, body->bounds(), target, o, progress).cage;
        patches = cage::makePatches(cage);
        limit = cage::measureLimit(cage);
    }
};
const Ball& ball() {
    static const Ball b;
    return b;
}

solid::SolidResult build(const std::vector<Feature>& features) {
    Progress progress;
    solid::SolidOptions o;
    o.deflection = 0.1;
    return solid::buildSolid(ball().cage, ball().patches, features, o, progress);
}

/// An imported body made of triangles.
solid::SolidResult buildWith(const surface::TriMesh& mesh, Feature f) {
    Progress progress;
    solid::SolidOptions o;
    o.deflection = 0.1;
    o.trianglesOf = [&](const Feature&) { return mesh; };
    f.kind = Feature::Kind::body;
    f.path = "made-up.stl";
    return solid::buildSolid(ball().cage, ball().patches, {f}, o, progress);
}

Feature bore(double diameter) {
    Feature f;
    f.name = "pin bore";
    f.interface = "pin";
    f.face = "bore";
    f.diameter = diameter;
    f.origin = Vec3(0, 0, -60);
    f.through = true;
    return f;
}

double removed(const solid::SolidResult& r) {
    return r.free.volume - r.solid.volume;
}

bool near(double value, double exact, double tolerance) {
    if (std::abs(value / exact - 1) < tolerance) return true;
    qWarning("%.10g is not %.10g within %g", value, exact, tolerance);
    return false;
}

}  // namespace

class TestSolid : public QObject {
    Q_OBJECT
  private slots:
    void freeBody() {
        const auto r = build({});
        QVERIFY(r.free.valid && r.free.closed);
        QVERIFY(r.solid.valid && r.solid.closed);
        QVERIFY(!r.sewn);
        QCOMPARE(r.solid.solids, 1);
        QCOMPARE(r.solid.faces, static_cast<int>(ball().cage.face.size()));
        QVERIFY(near(r.solid.volume, ball().limit.volume, 1e-3));
        QVERIFY(near(r.solid.volume, 4. / 3 * M_PI * R * R * R, 2e-3));
        const auto m = surface::measure(r.mesh);
        QVERIFY(m.watertight);
        QCOMPARE(m.genus, 0);
        QVERIFY(near(m.volume, r.solid.volume, 1e-2));
    }
    /// Far from the origin the digits of volume and centroid are the same.
    void measuresHoldFarAway() {
        const Vec3 far(1e6, -1e6, 5e5);
        cage::Cage cage = ball().cage;
        for (Vec3& p : cage.position) p += far;
        Progress progress;
        const auto here = build({});
        const auto there = solid::buildSolid(cage, cage::makePatches(cage), {}, {}, progress);
        QVERIFY(near(there.solid.volume, here.solid.volume, 1e-8));
        QVERIFY((there.solid.centroid - here.solid.centroid - far).norm() < 1e-5);
    }
    /// A bore through the middle of a ball removes 4/3 pi (R^3 - (R^2 - a^2)^(3/2)).
    void boreIsExact() {
        const auto r = build({bore(20)});
        QVERIFY(r.features[0].built);
        QVERIFY(r.features[0].identity < 1e-5);
        QVERIFY(near(removed(r), 4. / 3 * M_PI * (R * R * R - std::pow(R * R - 100, 1.5)), 5e-3));
        QVERIFY(r.solid.valid && r.solid.closed);
        QCOMPARE(surface::measure(r.mesh).genus, 1);
        QCOMPARE(r.surfaces.size(), std::size_t(2));
        const auto& s = r.surfaces[1];
        QCOMPARE(s.feature, std::string("pin bore"));
        QCOMPARE(s.face, std::string("bore"));
        QVERIFY(s.kind == solid::SolidSurface::Kind::cylinder && s.hollow);
        QVERIFY(std::abs(s.radius - 10) < 1e-12);
        QVERIFY(s.faces >= 1 && s.faces <= 2);
        // every triangle of the bore lies on the cylinder
        for (std::size_t t = 0; t < r.mesh.triangle.size(); ++t)
            if (r.mesh.owner[t] == 1)
                for (auto v : r.mesh.triangle[t])
                    QVERIFY(std::abs(std::hypot(r.mesh.position[v].x(), r.mesh.position[v].y()) - 10) < 1e-6);
    }
    /// A body of triangles has one face for each of its planes; the cap above z = 20 holds pi h^2 (3 R - h) / 3.
    void bodiesOfTriangles() {
        const auto box = boxMesh({-50, -50, 20}, {50, 50, 60});
        QVERIFY(surface::measure(box).watertight && surface::measure(box).volume > 0);
        Feature f;
        f.name = "milled";
        const auto r = buildWith(box, f);
        QVERIFY2(r.features[0].built, r.features[0].problem.c_str());
        QVERIFY(near(removed(r), M_PI * 20 * 20 * (3 * R - 20) / 3, 5e-3));
        QVERIFY(r.solid.valid && r.solid.closed);
        int planes = 0;
        for (const auto& s : r.surfaces)
            if (s.kind == solid::SolidSurface::Kind::plane) {
                ++planes;
                QCOMPARE(s.faces, 1);
                QVERIFY((s.axis - Vec3::UnitZ()).norm() < 1e-9 && std::abs(s.point.z() - 20) < 1e-9);
            }
        QCOMPARE(planes, 1);
        // added: a bar of 10 x 10 mm from the middle to 20 mm beyond the ball
        f.adds = true;
        const auto bar = buildWith(boxMesh({0, -5, -5}, {60, 5, 5}), f);
        QVERIFY2(bar.features[0].built, bar.features[0].problem.c_str());
        // the ball's surface over the square: x = R - (y^2 + z^2) / 2R in good approximation
        QVERIFY(near(-removed(bar), 100 * (60 - (R - 25. / 3 / R)), 1e-2));
        QCOMPARE(bar.solid.solids, 1);
    }
    void bodiesThatCannotBeUsedSayWhy() {
        Feature f;
        f.name = "broken";
        auto open = boxMesh({-50, -50, 20}, {50, 50, 60});
        open.triangle.pop_back();
        open.owner.pop_back();
        const auto r = buildWith(open, f);
        QVERIFY(!r.features[0].built && r.solid.valid);
        QVERIFY2(r.features[0].problem.find("open edges") != std::string::npos, r.features[0].problem.c_str());
        surface::TriMesh many;
        many.triangle.resize(30001);
        QVERIFY(buildWith(many, f).features[0].problem.find("30001") != std::string::npos);
        // beside the ball: told for a body, nothing to tell for a place that must stay empty
        const auto beside = boxMesh({50, 50, 50}, {60, 60, 60});
        QVERIFY(buildWith(beside, f).features[0].problem.find("does not touch") != std::string::npos);
        f.face = "keep-out";
        const auto empty = buildWith(beside, f);
        QVERIFY(empty.features[0].built && empty.features[0].problem.empty());
        QCOMPARE(empty.solid.faces, static_cast<int>(ball().cage.face.size()));
    }
    void headsOfBores() {
        Feature f = bore(10);
        f.origin = Vec3(0, 0, 20);  // the head's mouth lies inside the ball; what is above it goes too
        f.axis = -Vec3::UnitZ();
        f.before = 40;
        f.head = Feature::Head::counterbore;
        f.headDiameter = 20;
        f.headDepth = 5;
        const auto r = build({f});
        QVERIFY(r.features[0].built);
        // the ball above z = 15 within radius 10, and below it within radius 5
        auto cap = [](double a, double from) {  // integral of the ball's height above `from` over a disc of radius a
            return 2 * M_PI / 3 * (R * R * R - std::pow(R * R - a * a, 1.5)) - M_PI * a * a * from;
        };
        QVERIFY(near(removed(r), cap(10, 15) + cap(5, -15), 5e-3));
        bool seat = false;
        for (const auto& s : r.surfaces)
            if (s.face == "seat") {
                seat = true;
                QVERIFY(s.kind == solid::SolidSurface::Kind::plane);
                QVERIFY(std::abs(s.point.z() - 15) < 1e-9);
                QVERIFY((s.axis - Vec3::UnitZ()).norm() < 1e-9);  // out of the material
            }
        QVERIFY(seat);
        f.head = Feature::Head::countersink;
        f.headAngle = 90;
        const auto c = build({f});
        // the cone from radius 10 at z = 20 to 5 at z = 15
        const double cone = M_PI * 5 / 3 * (100 + 50 + 25);
        QVERIFY(near(removed(c), cap(10, 20) + cone + cap(5, -15), 5e-3));
        Feature blind = bore(10);
        blind.origin = Vec3(0, 0, 50);
        blind.axis = -Vec3::UnitZ();
        blind.through = false;
        blind.length = 30;  // floor at z = 20
        QVERIFY(near(removed(build({blind})), cap(5, 20), 5e-3));
    }
    /// Milled within polygons only: the volume above the plane, summed over their area.
    void flatHasAnOutline() {
        Feature f;
        f.kind = Feature::Kind::flat;
        f.name = f.interface = "seat";
        f.face = "start";
        f.origin = Vec3(0, 0, 30);
        f.length = 30;
        f.outline = {{{-10, -8, 30}, {12, -8, 30}, {12, 0, 30}, {2, 0, 30}, {2, 9, 30}, {-10, 9, 30}}};
        auto above = [](auto inside) {
            double sum = 0;
            constexpr double h = 0.02;
            for (double x = -15 + 0.5 * h; x < 15; x += h)
                for (double y = -15 + 0.5 * h; y < 15; y += h)
                    if (inside(x, y)) sum += h * h * (std::sqrt(R * R - x * x - y * y) - 30);
            return sum;
        };
        const auto r = build({f});
        QVERIFY(r.features[0].built && r.solid.valid);
        QVERIFY(near(removed(r), above([](double x, double y) {
                         return x > -10 && y > -8 && ((x < 12 && y < 0) || (x < 2 && y < 9));
                     }),
                     5e-3));
        QVERIFY(std::any_of(r.surfaces.begin(), r.surfaces.end(), [](const auto& s) {
            return s.interface == "seat" && s.face == "start" && (s.axis - Vec3::UnitZ()).norm() < 1e-9;
        }));
        f.outline = {{{-10, -8, 30}, {12, -8, 30}, {12, 9, 30}, {-10, 9, 30}}};
        f.margin = 2;  // corners go round
        QVERIFY(near(removed(build({f})), above([](double x, double y) {
                         const double dx = std::max({-10 - x, x - 12, 0.0}), dy = std::max({-8 - y, y - 9, 0.0});
                         return std::hypot(dx, dy) < 2;
                     }),
                     5e-3));
    }
    /// A milled plane at height 30 removes a cap: pi h^2 (3 R - h) / 3.
    void flatIsAPlane() {
        Feature f;
        f.kind = Feature::Kind::flat;
        f.name = "seat";
        f.face = "start";
        f.interface = "seat";
        f.origin = Vec3(0, 0, 30);
        f.diameter = 0;
        const auto whole = build({f});
        QVERIFY(whole.features[0].built);
        QVERIFY(near(removed(whole), M_PI * 100 * (3 * R - 10) / 3, 5e-3));
        QCOMPARE(whole.surfaces.size(), std::size_t(2));
        QVERIFY((whole.surfaces[1].axis - Vec3::UnitZ()).norm() < 1e-9);
        f.diameter = 30;
        f.length = 30;
        const auto round = build({f});
        QVERIFY(round.features[0].built);
        QCOMPARE(round.surfaces.size(), std::size_t(3));  // the plane and the wall of the clearance
    }
    /// Two features that mill the same plane are both there.
    void coincidentPlanes() {
        Feature box;
        box.kind = Feature::Kind::keepOut;
        box.name = "clear";
        box.origin = Vec3(0, 0, 30);
        box.longSide = box.shortSide = 200;
        box.length = 100;
        Feature flat;
        flat.kind = Feature::Kind::flat;
        flat.name = flat.interface = "seat";
        flat.face = "start";
        flat.origin = Vec3(0, 0, 30);
        flat.diameter = 20;
        for (const auto& r : {build({box, flat}), build({flat, box})})
            for (const auto& f : r.features) QVERIFY2(f.built, f.problem.c_str());
    }
    void slotPocketRibPadBossKeepOut() {
        Feature slot;
        slot.kind = Feature::Kind::slot;
        slot.name = "slot";
        slot.origin = Vec3(0, 0, -60);
        slot.longSide = 30;
        slot.shortSide = 10;
        slot.through = true;
        Feature pocket = slot;
        pocket.kind = Feature::Kind::pocket;
        pocket.name = "pocket";
        pocket.origin = Vec3(0, 0, 50);
        pocket.axis = -Vec3::UnitZ();
        pocket.through = false;
        pocket.length = 20;
        pocket.corner = 3;
        for (const auto& f : {slot, pocket}) {
            const auto r = build({f});
            QVERIFY2(r.features[0].built, r.features[0].problem.c_str());
            QVERIFY(r.solid.valid && r.solid.closed);
            QVERIFY(r.features[0].volume < -1000);
        }
        Feature boss;
        boss.kind = Feature::Kind::boss;
        boss.name = "boss";
        boss.origin = Vec3(0, 0, 30);
        boss.diameter = 16;
        boss.length = 20;  // to z = 50
        boss.radius = 0;
        const auto b = build({boss});
        QVERIFY(b.features[0].built);
        // above the ball: the disc's height to 50 minus the ball's
        const double ballAbove = 2 * M_PI / 3 * (R * R * R - std::pow(R * R - 64, 1.5));
        QVERIFY(near(b.features[0].volume, M_PI * 64 * 50 - ballAbove, 1e-2));
        Feature pad = boss;
        pad.kind = Feature::Kind::pad;
        pad.name = "pad";
        Feature rib = pad;
        rib.kind = Feature::Kind::rib;
        rib.name = "rib";
        rib.longSide = 40;
        rib.shortSide = 8;
        for (const auto& f : {pad, rib}) {
            const auto r = build({f});
            QVERIFY2(r.features[0].built, r.features[0].problem.c_str());
            QVERIFY(r.solid.valid && r.features[0].volume > 100);
        }
        Feature box;
        box.kind = Feature::Kind::keepOut;
        box.name = "clear";
        box.origin = Vec3(0, 0, 35);
        box.longSide = box.shortSide = 100;
        box.length = 100;
        QVERIFY(near(removed(build({box})), M_PI * 25 * (3 * R - 5) / 3, 1e-2));
        // a pin: the ring around it is cleared
        Feature pin = boss;
        pin.name = pin.interface = "pin";
        pin.face = "side";
        pin.outer = 40;
        const auto p = build({pin});
        QVERIFY(p.features[0].built && p.features[0].volume < 0);
        bool side = false;
        for (const auto& s : p.surfaces)
            side = side || (s.face == "side" && !s.hollow && std::abs(s.radius - 8) < 1e-12);
        QVERIFY(side);
    }
    /// A boss by hand with material cleared around it is turned, not added.
    void turnedBossRemovesOnly() {
        Feature f;
        f.kind = Feature::Kind::boss;
        f.name = "spigot";
        f.origin = Vec3(0, 0, 30);
        f.diameter = 16;
        f.outer = 60;
        f.length = 20;
        f.radius = 0;
        QVERIFY(!solid::addsMaterial(f));
        QVERIFY(solid::describe(f).find("turned") != std::string::npos);
        const auto r = build({f});
        QVERIFY(r.features[0].built);
        // the cap above z = 30 (radius sqrt(R^2 - 900)) but for a core of radius 8
        const double cap = M_PI * 100 * (3 * R - 10) / 3;
        const double core = 2 * M_PI / 3 * (R * R * R - std::pow(R * R - 64, 1.5)) - M_PI * 64 * 30;
        QVERIFY(near(-r.features[0].volume, cap - core, 1e-2));
    }
    /// Every kind says its figures in words and refuses numbers that cannot be made, naming them.
    void wordsAndProblemsOfFeatures_data() {
        QTest::addColumn<int>("kind");
        QTest::addColumn<QString>("words");
        QTest::addColumn<QString>("problem");
        using K = Feature::Kind;
        auto row = [](K k, const char* words, const char* problem) {
            QTest::newRow(solid::name(k)) << static_cast<int>(k) << words << problem;
        };
        row(K::bore, "deep", "diameter must be above 0");
        row(K::boss, "high", "diameter must be above 0");
        row(K::pad, "high", "long side must be above 0");
        row(K::flat, "side milled", "");
        row(K::slot, "deep", "long side must be above 0");
        row(K::pocket, "corners", "long side must be above 0");
        row(K::rib, "draft", "long side must be above 0");
        row(K::body, "cut", "Choose the file");
        row(K::keepOut, "box", "long side must be above 0");
        row(K::fillet, "edges of", "radius must be above 0");
        row(K::chamfer, "edges of", "radius must be above 0");
    }
    void wordsAndProblemsOfFeatures() {
        QFETCH(int, kind);
        QFETCH(QString, words);
        QFETCH(QString, problem);
        Feature f;
        f.kind = static_cast<Feature::Kind>(kind);
        f.name = "one";
        f.diameter = f.longSide = f.radius = 0;
        f.on1 = "one";
        QVERIFY2(QString::fromStdString(solid::describe(f)).contains(words), solid::describe(f).c_str());
        const std::string found = solid::problemOf(f, {f});
        QVERIFY2(problem.isEmpty() ? found.empty() : QString::fromStdString(found).contains(problem), found.c_str());
        QVERIFY(solid::problemOf(f, {f, f}).find("Two features") != std::string::npos);
        f.name.clear();
        QVERIFY(solid::problemOf(f, {f}).find("needs a name") != std::string::npos);
    }
    void filletsAndChamfers() {
        Feature flat;
        flat.kind = Feature::Kind::flat;
        flat.name = "top";
        flat.face = "start";
        flat.origin = Vec3(0, 0, 30);
        flat.diameter = 0;
        Feature hole = bore(16);
        Feature chamfer;
        chamfer.kind = Feature::Kind::chamfer;
        chamfer.name = "lead-in";
        chamfer.on1 = "pin bore: bore";
        chamfer.on2 = "top";
        chamfer.radius = 1;
        auto r = build({flat, hole, chamfer});
        QVERIFY2(r.features.back().built, r.features.back().problem.c_str());
        // ring of triangular section 1/2 at radius 8 + 1/3
        QVERIFY(near(-r.features.back().volume, 2 * M_PI * (8 + 1. / 3) * 0.5, 1e-3));
        chamfer.kind = Feature::Kind::fillet;
        r = build({flat, hole, chamfer});
        QVERIFY2(r.features.back().built, r.features.back().problem.c_str());
        QVERIFY(r.features.back().volume < 0 && r.solid.valid);
        chamfer.on2 = "nothing";
        QVERIFY(!build({flat, hole, chamfer}).features.back().built);
        chamfer.on2.clear();
        chamfer.on1 = "pin bore: floor";
        QVERIFY(!build({flat, hole, chamfer}).features.back().built);
    }
    /// A feature that fails is left out with its reason; the rest is built. Features that are off do nothing.
    void failuresAreNamed() {
        Feature far = bore(10);
        far.name = "far";
        far.origin = Vec3(500, 0, 0);
        Feature bad = bore(-3);
        bad.name = "bad";
        Feature off = bore(30);
        off.name = "off";
        off.on = false;
        Feature missing;
        missing.kind = Feature::Kind::body;
        missing.name = "import";
        missing.path = "/nowhere.step";
        Feature all;
        all.kind = Feature::Kind::keepOut;
        all.name = "all";
        all.origin = Vec3(0, 0, -100);
        all.longSide = all.shortSide = all.length = 500;
        const auto r = build({bore(20), far, bad, off, missing, all});
        QCOMPARE(r.features.size(), std::size_t(5));
        std::map<std::string, solid::FeatureOutcome> by;
        for (const auto& f : r.features) by[f.name] = f;
        QVERIFY(by["pin bore"].built);
        for (const char* name : {"far", "bad", "import", "all"}) {
            QVERIFY2(!by[name].built, name);
            QVERIFY(!by[name].problem.empty());
        }
        QVERIFY2(by["bad"].problem.find("must be above 0 mm") != std::string::npos, by["bad"].problem.c_str());
        QVERIFY(near(removed(r), 4. / 3 * M_PI * (R * R * R - std::pow(R * R - 100, 1.5)), 5e-3));
        QVERIFY(r.solid.valid);
    }
    void stepComesBack() {
        QTemporaryDir folder;
        Feature f = bore(20);
        f.head = Feature::Head::counterbore;
        f.origin = Vec3(0, 0, -35);
        f.before = 20;
        f.headDiameter = 26;
        const auto r = build({f});
        const std::string path = folder.filePath("ball.step").toStdString();
        solid::writeStep(path, r, "Test ball");
        const auto s = solid::readStepFigures(path);
        QVERIFY(s.figures.valid && s.figures.closed);
        QCOMPARE(s.figures.solids, 1);
        QCOMPARE(s.figures.faces, r.solid.faces);
        QVERIFY(near(s.figures.volume, r.solid.volume, 3e-5));
        QVERIFY(near(s.figures.area, r.solid.area, 3e-5));
        QVERIFY((s.figures.centroid - r.solid.centroid).norm() < 1e-3);
        QCOMPARE(s.partName, std::string("Test ball"));
        for (const char* name : {"free surface", "pin bore: bore", "pin bore: seat", "pin bore: head"})
            QVERIFY2(std::count(s.faceNames.begin(), s.faceNames.end(), name) == 1, name);
        QFile file(QString::fromStdString(path));
        QVERIFY(file.open(QIODevice::ReadOnly));
        const QByteArray text = file.readAll();
        QVERIFY(text.contains("AUTOMOTIVE_DESIGN"));
        QVERIFY(text.contains("SI_UNIT(.MILLI.,.METRE.)"));
        QVERIFY(text.contains("COLOUR_RGB"));
        QVERIFY_EXCEPTION_THROWN(solid::writeStep(folder.filePath("no/such/folder.step").toStdString(), r, "x"),
                                 InputError);
        QFile broken(folder.filePath("broken.step"));
        QVERIFY(broken.open(QIODevice::WriteOnly));
        broken.write(text.left(text.size() / 2));
        broken.close();
        QVERIFY_EXCEPTION_THROWN(solid::readStepFigures(broken.fileName().toStdString()), InputError);
    }
    /// A ball of half the size, written as STEP, is added beside and cut from the large one: V(A+B) + V(A and B) = V(A)
    /// + V(B).
    void importedBody() {
        QTemporaryDir folder;
        cage::Cage small = ball().cage;
        for (auto& p : small.position) p = 0.5 * p + Vec3(36, 3, 2);
        Progress progress;
        solid::SolidOptions o;
        o.deflection = 0.1;
        const auto body = solid::buildSolid(small, cage::makePatches(small), {}, o, progress);
        Feature import;
        import.kind = Feature::Kind::body;
        import.name = "import";
        import.path = folder.filePath("small.step").toStdString();
        solid::writeStep(import.path, body, "small");
        const auto cut = build({import});
        QVERIFY2(cut.features[0].built, cut.features[0].problem.c_str());
        import.adds = true;
        const auto added = build({import});
        QVERIFY2(added.features[0].built, added.features[0].problem.c_str());
        QVERIFY(near(added.solid.volume + removed(cut), cut.free.volume + body.solid.volume, 1e-5));
        // two balls' common lens: pi (R + r - d)^2 (d^2 + 2 d (r + R) - 3 (r - R)^2) / (12 d)
        const double d = Vec3(36, 3, 2).norm(), r = R / 2;
        const double lens =
            M_PI * std::pow(R + r - d, 2) * (d * d + 2 * d * (r + R) - 3 * (r - R) * (r - R)) / (12 * d);
        QVERIFY(near(removed(cut), lens, 2e-2));
    }
    void openCageIsRefused() {
        Ball b = ball();
        b.cage.face.pop_back();
        QVERIFY_EXCEPTION_THROWN(cage::makePatches(b.cage), InputError);
    }
    void cancelled() {
        Progress progress;
        progress.cancel();
        QVERIFY_EXCEPTION_THROWN(solid::buildSolid(ball().cage, ball().patches, {}, {}, progress), Cancelled);
    }
    /// The slow gate: a sound solid has nothing to report.
    void soundSolidPassesTheGate() {
        Progress progress;
        const auto r = build({bore(20)});
        const auto problems = solid::selfInterference(*r.brep, progress);
        QVERIFY2(problems.empty(), problems.empty() ? "" : problems.front().c_str());
    }
    /// Random organic shapes with a bore: valid and closed, the boolean's volume identity holds.
    void randomShapes_data() {
        QTest::addColumn<int>("seed");
        for (int seed = 1; seed <= 15; ++seed) QTest::addRow("%d", seed) << seed;
    }
    void randomShapes() {
        QFETCH(int, seed);
        const auto shape = made_up::organicSolid(static_cast<unsigned>(seed));
        const auto& a = shape.cage;
        const auto& target = *shape.target;
        const auto& patches = shape.patches;
        const auto& r = shape.solid;
        // the cage: closed, right handles and pieces, no folds, within the bars both ways, patches with small kinks
        QVERIFY(a.report.closed && a.report.manifold);
        QCOMPARE(a.report.genus, target.measures().genus);
        QCOMPARE(a.report.pieces, target.measures().pieces);
        QVERIFY(a.folded.empty());
        const auto& d = a.deviation;
        QVERIFY(std::max(d.rms, d.backRms) <= 0.01 * d.edge);
        QVERIFY(std::max(d.largest, d.backLargest) <= 0.12 * d.edge);
        QVERIFY(patches.regularJump < 1e-6);
        QVERIFY2(patches.irregularJump < 1, qPrintable(QString::number(patches.irregularJump)));
        QVERIFY(r.free.valid && r.free.closed);
        QVERIFY(near(r.free.volume, cage::measureLimit(a.cage).volume, 1e-3));
        QVERIFY2(r.features[0].built, r.features[0].problem.c_str());
        QVERIFY(r.solid.valid && r.solid.closed);
    }
};

QTEST_APPLESS_MAIN(TestSolid)
#include "test_solid.moc"
