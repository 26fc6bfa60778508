/// Thin members of the field: which are listed, what their decisions do, and lattices that hold them.

#include <QtTest>
#include <map>
#include <random>

#include "fuzz_shapes.hpp"
#include "lattice/edge_table.hpp"
#include "made_up_brace.hpp"
#include "project/run.hpp"
#include "surface/mirrored.hpp"

using namespace escultura;
using namespace escultura::duty;
using namespace escultura::stages;

class TestThinMembers : public QObject {
    Q_OBJECT
    QTemporaryDir folder_;
    std::optional<project::Project> brace_;  // grey: 1/1.5 of the density a cell

    static bool holds(const SurfaceResult& s, const Vec3& p) {
        const surface::TriangleTree tree(s.mesh);
        int crossings = 0;  // along a direction of no symmetry
        Vec3 from = p;
        const Vec3 along = Vec3(0.3, 0.2, 0.9).normalized();
        while (const auto hit = tree.firstHit(from, along, 1e-6)) {
            ++crossings;
            from = hit->point + 1e-5 * along;
        }
        return crossings % 2 == 1;
    }
    static double depth(const SurfaceResult& s, const Vec3& p) {
        return holds(s, p) ? surface::TriangleTree(s.mesh).distance(p) : 0;
    }
    SurfaceResult surfaceWith(const ThinMembers& thin) const {
        Progress progress;
        Recipe r = brace_->variants[0].recipe;
        r.thin = thin;
        return evaluateSurface(brace_->part, *brace_->field(), r, progress);
    }
    static int count(const SurfaceResult& s, GeometryFinding::Kind kind) {
        return static_cast<int>(
            std::count_if(s.findings.begin(), s.findings.end(), [&](const auto& f) { return f.kind == kind; }));
    }
    /// Middle of a strut.
    static Vec3 strut(int k) { return Vec3(made_up::braceFeet[k] + 2.5, 33, 18); }

  private slots:
    void initTestCase() {
        Progress progress;
        brace_ = project::openPart(made_up::writeBrace(folder_.path().toStdString(), true), progress);
    }
    /// All of the brace comes through with its nine handles: struts from 1.8 cells and a web of 1.2.
    void nothingOfTheBraceIsLost() {
        const SurfaceResult s = surfaceWith({});
        QVERIFY(s.measures.watertight);
        QCOMPARE(s.measures.pieces, 1);
        QCOMPARE(s.measures.genus, 9);
        QCOMPARE(count(s, GeometryFinding::Kind::memberLost) + count(s, GeometryFinding::Kind::memberThinned), 0);
        for (int k = 0; k < 5; ++k) {
            const double radius = made_up::braceStruts[k] * made_up::braceCell;
            // a tenth of the thinnest is lost in its cells already
            QVERIFY2(depth(s, strut(k)) > 0.78 * radius, qPrintable(QString("%1: %2").arg(k).arg(depth(s, strut(k)))));
        }
        // nothing is thinner than a cell, 1.5 mm, but the tips of the web
        QVERIFY(s.members.size() <= 1);
        for (const ThinMember& m : s.members) QVERIFY(std::abs(m.at[0] - 69) < 9);
        QCOMPARE(s.smallestMember, made_up::braceCell);
    }
    /// Below 2.4 mm there are the web of 1.8 mm and a strut of 2.7 mm, of which the cells know 2.3 mm.
    void membersBelowTheSmallestAreListed() {
        const SurfaceResult s = surfaceWith({.smallest = 2.4});
        QCOMPARE(s.members.size(), std::size_t(2));
        QVERIFY2(std::abs(s.members[0].thickness - 1.8) < 0.2, qPrintable(QString::number(s.members[0].thickness)));
        QVERIFY2(std::abs(s.members[1].thickness - 2.3) < 0.2, qPrintable(QString::number(s.members[1].thickness)));
        QVERIFY((s.members[0].at - Vec3(69, 33, 18)).norm() < 4);
        QVERIFY(made_up::barDistance(s.members[1].at, Vec3(30, 16, 16), Vec3(35, 50, 20), 0) < 1);
        for (const ThinMember& m : s.members) QVERIFY(m.after > 0.85 * m.thickness && m.fate == MemberFate::undecided);
        QCOMPARE(count(s, GeometryFinding::Kind::thinMember), 2);
    }
    void keptOnesAreToldNoMore() {
        const SurfaceResult s = surfaceWith({.smallest = 2.4, .others = MemberFate::keep});
        QCOMPARE(s.members.size(), std::size_t(2));
        QCOMPARE(count(s, GeometryFinding::Kind::thinMember), 0);
        QCOMPARE(s.measures.genus, 9);
    }
    /// What is left out is out whole: no stub stays, a handle goes, and the rest is as it was.
    void aStrutIsLeftOutWhole() {
        ThinMembers thin{.smallest = 2.4, .others = MemberFate::keep};
        thin.decisions.push_back({strut(0), MemberFate::leaveOut});
        const SurfaceResult s = surfaceWith(thin);
        QCOMPARE(s.measures.genus, 8);
        QCOMPARE(s.measures.pieces, 1);
        const Vec3 foot(30, 16, 16);
        for (int i = 0; i <= 20; ++i) {
            const Vec3 p = foot + Vec3(5, 34, 4) * (i / 20.0);
            const double fromChords = std::min(p[1] - 16, 50 - p[1]) - 6;  // mm outside of them
            if (fromChords > 1.5) QVERIFY2(!holds(s, p), qPrintable(QString("%1 mm").arg(fromChords)));
        }
        QVERIFY(depth(s, strut(1)) > 0.78 * 1.5 && holds(s, Vec3(69, 33, 18)));
        QCOMPARE(count(s, GeometryFinding::Kind::thinMember), 0);
    }
    void aStrutIsBroughtUp() {
        ThinMembers thin{.smallest = 4, .others = MemberFate::keep};
        thin.decisions.push_back({strut(0), MemberFate::thicken});
        const SurfaceResult s = surfaceWith(thin);
        for (int i = 8; i <= 12; ++i) {
            const double d = depth(s, Vec3(30, 16, 16) + Vec3(5, 34, 4) * (i / 20.0));
            QVERIFY2(d > 0.95 * 2 && d < 1.15 * 2, qPrintable(QString::number(d)));
        }
        // another one of 3 mm stays at its thickness
        QVERIFY2(depth(s, strut(1)) < 1.75, qPrintable(QString::number(depth(s, strut(1)))));
        QCOMPARE(s.measures.genus, 9);
    }
    void aDecisionWithoutMemberIsTold() {
        const SurfaceResult s =
            surfaceWith({.smallest = 2.4, .others = {}, .decisions = {{Vec3(60, 33, 30), MemberFate::leaveOut}}});
        QCOMPARE(count(s, GeometryFinding::Kind::lostDecision), 1);
    }

    // ---- lattices
    void edgesAreFoundAgain() {
        std::mt19937 random(3);
        lattice::EdgeTable table(500);
        std::map<std::uint64_t, int> known;
        for (int n = 0; n < 20000; ++n) {
            const int a = static_cast<int>(random() % 500), b = static_cast<int>(random() % 500);
            if (a == b) continue;
            QCOMPARE(table.add(a, b, n), known.try_emplace(lattice::edgeKey(b, a), n).second);
        }
        QCOMPARE(table.size(), known.size());
        const auto keys = table.keys();
        QVERIFY(std::equal(keys.begin(), keys.end(), known.begin(), known.end(),
                           [](auto key, const auto& entry) { return key == entry.first; }));
        for (const auto& [key, value] : known)
            QCOMPARE(*table.find(lattice::lowEnd(key), lattice::highEnd(key)), value);
        QVERIFY(!lattice::EdgeTable(4).find(1, 2));
    }
    /// Curvature of a ball of 20 mm by its triangles, and the spacings that follow from it and from walls.
    void spacingFollowsCurvatureAndWalls() {
        Progress progress;
        const shape::MachinedSolid ball(
            std::make_shared<shape::FunctionBody>([](const Vec3& p) { return p.norm() - 20; }),
            Box3{Vec3::Constant(-20), Vec3::Constant(20)});
        const surface::TriMesh m = surface::extractSurface(ball, 2, true, progress);
        double sum = 0;
        for (const float c : surface::largestCurvature(m)) sum += c;
        const double mean = sum / static_cast<double>(m.position.size());
        QVERIFY2(std::abs(20 * mean - 1) < 0.15, qPrintable(QString::number(20 * mean)));
        surface::Sizing sizing;
        sizing.usual = 30;
        sizing.aroundCircle = 16;
        for (const float w : surface::wantedSpacing(m, {}, sizing))
            QVERIFY2(std::abs(w / (2 * M_PI * 20 / 16 / 0.9) - 1) < 0.35, qPrintable(QString::number(w)));
        sizing.aroundCircle = 0;
        sizing.chordError = 0.1;  // sqrt(8 r e) = 4 mm, but no finer than a quarter of the usual
        sizing.usual = 8;
        for (const float w : surface::wantedSpacing(m, {}, sizing))
            QVERIFY2(std::abs(w / 4 - 1) < 0.35, qPrintable(QString::number(w)));
        sizing.chordError = 0;
        sizing.through = 3;
        const std::vector<float> walls(m.position.size(), 5.4f);
        for (const float w : surface::wantedSpacing(m, walls, sizing)) QVERIFY(std::abs(w - 2) < 1e-5);
    }
    /// Random shapes that once were meshed with tetrahedra turned over (23, 50), and some of other kinds.
    void randomShapesAreMeshedWell() {
        for (const unsigned seed : {23u, 50u, 1u, 2u, 8u, 16u, 6u}) {
            const auto o = made_up::tryFuzz(made_up::fuzzShape(seed));
            QVERIFY2(o.problem.empty(), qPrintable(QString("%1: %2").arg(seed).arg(QString::fromStdString(o.problem))));
            QVERIFY(o.elements > 500);
        }
    }

    // ---- symmetry
    /// Sides of the design space keep their radii in a frame that swaps axes and turns one around.
    void radiiOfSidesFollowTheFrame() {
        OwnFrame frame;
        frame.axis = {1, 0, 2};
        frame.sense = {-1, 1, 1};
        Recipe r;
        r.edges.side = {1, 2, 3, 4, 5, 6};  // x low, x high ... z high
        const DesignEdges own = into(frame, r).edges;
        QVERIFY((own.side == std::array<double, 6>{4, 3, 1, 2, 5, 6}));
    }
    /// A solid with a bore on each side of one plane and through another: the triangles are the same to the last bit.
    void symmetricSolidsHaveSymmetricTriangles() {
        const auto body = std::make_shared<shape::FunctionBody>([](const Vec3& p) {
            const double x = std::abs(p[0] - 3);
            return shape::smoothMinimum(std::hypot(x - 16, p[1], p[2]) - 11, std::hypot(p[1], p[2]) - 6, 5);
        });
        shape::MachinedSolid solid(body, Box3{Vec3(-30, -20, -20), Vec3(36, 20, 20)});
        using P = shape::Primitive;
        for (const double side : {-1.0, 1.0}) {
            solid.addCut({{P::Kind::cylinder, Vec3(3 + side * 16, 0, 0), Vec3::UnitZ(), 4}});
            solid.addInside({P::Kind::plane, Vec3(3 + side * 21, 0, 0), side * Vec3::UnitX(), 0});
        }
        const std::vector<surface::MirrorPlane> planes{{0, 3}, {1, 0}};
        Progress progress;
        std::vector<lattice::SurfaceSet> sets;
        std::vector<surface::MirrorImage> images;
        const auto mesh =
            surface::extractMirrored(solid, {1.7, true, {}, {}, Vec3::Zero()}, planes, progress, sets, images);
        QVERIFY(mesh.has_value());
        const surface::Measures m = surface::measure(*mesh),
                                whole = surface::measure(surface::extractSurface(solid, 1.7, true, progress));
        QVERIFY(m.watertight);
        QCOMPARE(m.genus, 2);
        QVERIFY2(std::abs(m.volume / whole.volume - 1) < 2e-3, qPrintable(QString::number(m.volume / whole.volume)));
        auto key = [&](Vec3 p) { return std::array<double, 3>{p[0], p[1], p[2]}; };
        std::map<std::array<double, 3>, std::size_t> at;
        for (std::size_t v = 0; v < mesh->position.size(); ++v) at[key(mesh->position[v])] = v;
        QCOMPARE(at.size(), mesh->position.size());
        for (std::size_t v = 0; v < mesh->position.size(); ++v) {
            Vec3 p = mesh->position[v];
            p[1] = -p[1];
            QVERIFY(at.count(key(p)));
            // each vertex lies on the surfaces that it names
            for (const auto id : sets[v].id)
                if (id >= 0) QVERIFY(std::abs(solid.surfaceValue(id, mesh->position[v])) < 1e-6);
        }
        // owners: each bore has as many triangles as the other
        std::map<int, int> owned;
        for (const auto o : mesh->owner) ++owned[o];
        QCOMPARE(owned.size(), std::size_t(5));
        QCOMPARE(owned[1], owned[3]);
        // what is not symmetric is left to the ordinary way: a bump of a millimetre on one side, a bore more
        const auto bumped = std::make_shared<shape::FunctionBody>([body](const Vec3& p) {
            return shape::smoothMinimum(body->value(p), (p - Vec3(19, 7.8, 7.8)).norm() - 1, 0.3);
        });
        shape::MachinedSolid uneven(bumped, Box3{Vec3(-30, -20, -20), Vec3(36, 20, 20)});
        QVERIFY(!surface::extractMirrored(uneven, {1.7, true, {}, {}, Vec3::Zero()}, planes, progress, sets, images));
        solid.addCut({{P::Kind::cylinder, Vec3(8, 0, 0), Vec3::UnitZ(), 2}});
        QVERIFY(!surface::extractMirrored(solid, {1.7, true, {}, {}, Vec3::Zero()}, planes, progress, sets, images));
    }
};

QTEST_MAIN(TestThinMembers)
#include "test_thin_members.moc"
