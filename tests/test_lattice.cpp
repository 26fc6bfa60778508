#include <tbb/global_control.h>

#include <QtTest>
#include <random>
#include <set>

#include "base/error.hpp"
#include "lattice/improve.hpp"
#include "lattice/refine.hpp"
#include "lattice/stuffing.hpp"
#include "mesh/tet_mesh.hpp"
#include "shape/machined_solid.hpp"
#include "surface/extract.hpp"

using namespace escultura;
using namespace escultura::shape;
using namespace escultura::lattice;

namespace {

std::shared_ptr<MachinedSolid> solidOf(std::function<double(const Vec3&)> f, double half) {
    return std::make_shared<MachinedSolid>(std::make_shared<FunctionBody>(std::move(f)),
                                           Box3{Vec3::Constant(-half), Vec3::Constant(half)});
}

/// A random blend of balls and bars, cut by a plane and two bores.
std::shared_ptr<MachinedSolid> randomSolid(unsigned seed) {
    std::mt19937 random(seed);
    std::uniform_real_distribution<double> u(-12, 12), size(3, 8);
    std::vector<std::pair<Vec3, double>> balls;
    for (int i = 0; i < 4; ++i) balls.emplace_back(Vec3(u(random), u(random), u(random)), size(random));
    auto s = solidOf(
        [balls](const Vec3& p) {
            double v = p.norm() - 7;
            for (const auto& [c, r] : balls) v = smoothMinimum(v, (p - c).norm() - r, 3);
            return v;
        },
        26);
    s->addBar({Vec3(u(random), u(random), u(random)), Vec3(u(random), u(random), u(random)).normalized(), 14, 4, 1}, 2);
    s->addInside(
        {Primitive::Kind::plane, Vec3(0, 0, 6 + 0.3 * u(random)), Vec3(0.05 * u(random), 0.1, 1).normalized(), 0});
    for (int i = 0; i < 2; ++i)
        s->addCut({{Primitive::Kind::cylinder, Vec3(u(random), u(random), 0) / 2,
                    Vec3(u(random), u(random), 20).normalized(), 1.5 + 0.1 * i}});
    return s;
}

double worstSine(const TetComplex& c) {
    double worst = 1;
    for (const Tet& t : c.tets)
        worst = std::min(worst, minimumSine(c.position[t[0]], c.position[t[1]], c.position[t[2]], c.position[t[3]]));
    return worst;
}

}  // namespace

class TestLattice : public QObject {
    Q_OBJECT
  private slots:
    void sineOfTheRegularTetrahedron() {
        // all dihedral angles are acos(1/3)
        const double s = minimumSine(Vec3(1, 1, 1), Vec3(-1, 1, -1), Vec3(1, -1, -1), Vec3(-1, -1, 1));
        QVERIFY(std::abs(std::abs(s) - std::sqrt(8.0) / 3) < 1e-12);
        for (double a : dihedralAngles(Vec3(1, 1, 1), Vec3(1, -1, -1), Vec3(-1, 1, -1), Vec3(-1, -1, 1)))
            QVERIFY(std::abs(a - std::acos(1.0 / 3) * 180 / M_PI) < 1e-9);
    }
    void fillsASphere() {
        // volume 4/3 pi r^3; the error of an inscribed polyhedron falls with the square of the spacing
        const auto s = solidOf([](const Vec3& p) { return p.norm() - 20; }, 20);
        Progress progress;
        double last = 1;
        for (double a : {4.0, 2.0}) {
            const TetComplex c = stuff(*s, {a, Vec3::Zero(), true}, progress);
            double volume = 0;
            for (const Tet& t : c.tets)
                volume += tetVolume(c.position[t[0]], c.position[t[1]], c.position[t[2]], c.position[t[3]]);
            const double error = 1 - volume / (4.0 / 3 * M_PI * 8000);
            QVERIFY2(error > 0 && error < 0.012 && error < 0.3 * last, qPrintable(QString::number(error)));
            last = error;
            QVERIFY(worstSine(c) > std::sin(10.0 * M_PI / 180));  // Labelle and Shewchuk 2007: 10.7 degrees
        }
    }
    void boundaryIsAManifoldOnRandomShapes() {
        Progress progress;
        for (unsigned seed = 1; seed <= 60; ++seed) {
            const auto s = randomSolid(seed);
            const surface::TriMesh m = surface::extractSurface(*s, 2.0, true, progress);
            const surface::Measures f = surface::measure(m);
            QVERIFY2(f.watertight && f.volume > 0, qPrintable(QString("seed %1").arg(seed)));
            for (const auto& p : m.position) QVERIFY(p.allFinite());
        }
    }
    void elementsAreValidOnRandomShapes() {
        Progress progress;
        for (unsigned seed = 101; seed <= 125; ++seed) {
            const auto s = randomSolid(seed);
            const mesh::TetMesh m = mesh::meshShape(*s, {2.5}, progress);
            const mesh::Quality q = mesh::measureQuality(m);
            QVERIFY2(q.minScaledJacobian > 0, qPrintable(QString("seed %1: %2").arg(seed).arg(q.minScaledJacobian)));
            QVERIFY2(q.minDihedral >= 8, qPrintable(QString("seed %1: %2 degrees").arg(seed).arg(q.minDihedral)));
        }
    }
    void thinAndTouchingShapesStillMesh() {
        // a wall as thin as a quarter of the spacing, two balls that touch in a point, a ball full of bores
        Progress progress;
        auto balls = solidOf(
            [](const Vec3& p) { return std::min((p - Vec3(8, 0, 0)).norm(), (p + Vec3(8, 0, 0)).norm()) - 8.001; }, 17);
        QVERIFY(mesh::measureQuality(mesh::meshShape(*balls, {2.0}, progress)).minScaledJacobian > 0);
        auto full = solidOf([](const Vec3& p) { return p.norm() - 15; }, 15);
        for (int i = -2; i <= 2; ++i)
            for (int j = -2; j <= 2; ++j)
                full->addCut({{Primitive::Kind::cylinder, Vec3(4.5 * i, 4.5 * j, 0), Vec3::UnitZ(), 1.3}});
        QVERIFY(mesh::measureQuality(mesh::meshShape(*full, {1.5}, progress)).minScaledJacobian > 0);
        auto sheet = solidOf([](const Vec3& p) { return std::max(std::abs(p[2] - 0.13) - 1.0, p.norm() - 15); }, 16);
        QVERIFY(mesh::measureQuality(mesh::meshShape(*sheet, {2.2}, progress)).minScaledJacobian > 0);
        auto nothing = solidOf([](const Vec3&) { return 1.0; }, 5);
        QVERIFY_EXCEPTION_THROWN(mesh::meshShape(*nothing, {2.0}, progress), InputError);
    }
    void machinedEdgesAreSharp() {
        // a plate with a bore: the volume is that of the exact solid apart from the chords of the circle
        MachinedSolid s(nullptr, Box3{Vec3(0, 0, 0), Vec3(60, 40, 10)});
        for (int a = 0; a < 3; ++a) {
            s.addInside({Primitive::Kind::plane, Vec3::Zero(), -Vec3::Unit(a), 0});
            s.addInside({Primitive::Kind::plane, Vec3(60, 40, 10), Vec3::Unit(a), 0});
        }
        s.addCut({{Primitive::Kind::cylinder, Vec3(30, 20, 0), Vec3::UnitZ(), 8}});
        Progress progress;
        const mesh::TetMesh m = mesh::meshShape(s, {3}, progress);
        QCOMPARE(m.creases.unresolved, 0);
        QVERIFY(m.creases.crossings > 100);
        const double exact = 60 * 40 * 10 - M_PI * 64 * 10;
        QVERIFY(std::abs(mesh::measureQuality(m).volume / exact - 1) < 2e-4);
        int corners = 0;
        for (int c = 0; c < 8; ++c)
            for (std::size_t n = 0; n < m.cornerCount; ++n)
                corners += (m.position[n] - Vec3(c & 1 ? 60 : 0, c & 2 ? 40 : 0, c & 4 ? 10 : 0)).norm() < 1e-6;
        QCOMPARE(corners, 8);
    }
    /// A block that carries a wall of a quarter of the elements' size: an even lattice tears it, one that is finer
    /// there holds it, with the volume and without slivers; away from it the elements stay as they are.
    void gradedLatticeHoldsThinWalls() {
        auto body = solidOf(
            [&](const Vec3& p) {
                const double block = std::max({std::abs(p[0] + 10) - 10, std::abs(p[1]) - 10, std::abs(p[2]) - 10});
                const double wall =
                    std::max({std::abs(p[0] - 15) - 16, std::abs(p[1]) - 8, std::abs(p[2] - 0.3) - 0.5});
                return std::min(block, wall);
            },
            45);
        const double exact = 30 * 16 * 1;  // of the wall beyond 1 mm
        auto wallOf = [](const mesh::TetMesh& m) {
            double volume = 0;
            for (const auto& t : m.tet)
                if (m.position[t[0]][0] > 1)
                    volume += tetVolume(m.position[t[0]], m.position[t[1]], m.position[t[2]], m.position[t[3]]);
            return volume;
        };
        Progress progress;
        mesh::MeshOptions even;
        even.elementSize = 4;
        mesh::MeshOptions graded = even;
        graded.wallSize = [](const Vec3& p) { return p[0] > -1 && std::abs(p[2] - 0.3) < 2 ? 0.7 : 1e9; };
        QVERIFY(wallOf(mesh::meshShape(*body, even, progress)) < 0.5 * exact);
        const mesh::TetMesh m = mesh::meshShape(*body, graded, progress);
        const auto q = mesh::measureQuality(m);
        // its edges are rounded by elements of 0.7 mm
        QVERIFY2(std::abs(wallOf(m) / exact - 1) < 0.04, qPrintable(QString::number(wallOf(m))));
        QVERIFY2(q.minDihedral > 10, qPrintable(QString::number(q.minDihedral)));
        QVERIFY(q.minScaledJacobian > 0);
        double reaches = 0;
        int coarse = 0;
        for (std::size_t n = 0; n < m.cornerCount; ++n) reaches = std::max(reaches, m.position[n][0]);
        QVERIFY2(reaches > 30.5, qPrintable(QString::number(reaches)));
        for (const auto& t : m.tet) {
            const double edge = (m.position[t[0]] - m.position[t[1]]).norm();
            if (m.position[t[0]][0] < -14) coarse += edge > 2.5;
            if (m.position[t[0]][0] > 5) QVERIFY2(edge < 2.5, qPrintable(QString::number(edge)));
        }
        QVERIFY(coarse > 50);
    }
    void gradedElementsAreValidOnRandomShapes() {
        Progress progress;
        for (unsigned seed = 201; seed <= 225; ++seed) {
            const auto s = randomSolid(seed);
            mesh::MeshOptions o;
            o.elementSize = 3.5;
            std::mt19937 random(seed);
            std::uniform_real_distribution<double> u(-8, 8);
            const Vec3 a(u(random), u(random), u(random)), b(u(random), u(random), u(random));
            o.wallSize = [=](const Vec3& p) { return (p - a).norm() < 5 ? 1.2 : (p - b).norm() < 4 ? 2.0 : 1e9; };
            const mesh::TetMesh m = mesh::meshShape(*s, o, progress);
            const mesh::Quality q = mesh::measureQuality(m);
            const surface::Measures skin = surface::measure(surface::extractSurface(*s, 1.0, true, progress));
            QVERIFY2(q.minScaledJacobian > 0, qPrintable(QString("seed %1: %2").arg(seed).arg(q.minScaledJacobian)));
            QVERIFY2(q.minDihedral >= 8, qPrintable(QString("seed %1: %2 degrees").arg(seed).arg(q.minDihedral)));
            // bores narrower than the coarse elements are lost either way
            o.wallSize = {};
            const double even = mesh::measureQuality(mesh::meshShape(*s, o, progress)).volume;
            QVERIFY2(std::abs(q.volume - skin.volume) < std::max(0.03 * skin.volume, std::abs(even - skin.volume)),
                     qPrintable(QString("seed %1: %2 of %3 mm3").arg(seed).arg(q.volume).arg(skin.volume)));
        }
    }
    /// Halving elements around a place leaves the vertices far from it alone, keeps the volume, puts new boundary
    /// vertices on the shape and keeps elements fair.
    void refinementStaysWhereItIsAskedFor() {
        const auto s = solidOf([](const Vec3& p) { return p.norm() - 12; }, 14);
        Progress progress;
        lattice::CreaseReport creases;
        mesh::MeshOptions options;
        options.elementSize = 3;
        lattice::TetComplex c = mesh::cornerMesh(*s, options, creases, progress);
        const auto before = c;
        const Vec3 place(12, 0, 0);
        const auto report = refine(
            *s, c, [&](const Vec3& p) { return (p - place).norm() < 4 ? 1.0 : 1e9; }, 1000000, progress);
        QVERIFY(report.newVertices > 100);
        auto volume = [](const lattice::TetComplex& x) {
            double v = 0;
            for (const auto& t : x.tets)
                v += (x.position[t[1]] - x.position[t[0]])
                         .cross(x.position[t[2]] - x.position[t[0]])
                         .dot(x.position[t[3]] - x.position[t[0]]) /
                     6;
            return v;
        };
        // new nodes follow the ball: the polyhedron grows a little towards it
        QVERIFY(volume(c) > volume(before) && volume(c) < 4.0 / 3 * M_PI * 12 * 12 * 12);
        std::size_t still = 0;
        for (std::size_t v = 0; v < before.position.size(); ++v)
            if ((before.position[v] - place).norm() > 14) {
                QCOMPARE(c.position[v], before.position[v]);
                ++still;
            }
        QVERIFY(still > before.position.size() / 3);
        double worst = 1;
        int near = 0;
        for (const auto& t : c.tets) {
            worst =
                std::min(worst, minimumSine(c.position[t[0]], c.position[t[1]], c.position[t[2]], c.position[t[3]]));
            near += (c.position[t[0]] - place).norm() < 2;
        }
        QVERIFY2(worst > std::sin(14 * M_PI / 180), qPrintable(QString::number(std::asin(worst) * 180 / M_PI)));
        QVERIFY(near > 100);
        for (std::size_t v = before.position.size(); v < c.position.size(); ++v)
            if (c.surfaces[v].count() > 0) QVERIFY(std::abs(c.position[v].norm() - 12) < 0.05);
    }
    void sameBitsForAnyNumberOfThreads() {
        const auto s = randomSolid(42);
        Progress progress;
        const mesh::TetMesh many = mesh::meshShape(*s, {2.0}, progress);
        const tbb::global_control one(tbb::global_control::max_allowed_parallelism, 1);
        const mesh::TetMesh single = mesh::meshShape(*s, {2.0}, progress);
        QVERIFY(many.tet == single.tet && many.owner == single.owner);
        QVERIFY(many.position == single.position);
    }
    /// Where an element is as long as a bore is wide its edges cannot follow the bore: they stay straight, and are
    /// counted.
    void edgesThatStayStraightAreCounted() {
        Progress progress;
        for (const double radius : {2.0, 8.0}) {
            const auto s = solidOf([](const Vec3& p) { return p.norm() - 16; }, 18);
            s->addCut({{Primitive::Kind::cylinder, Vec3::Zero(), Vec3::UnitZ(), radius}});
            const mesh::TetMesh m = mesh::meshShape(*s, {3.5}, progress);
            int straight = 0;  // middles of edges between two nodes of the bore that lie off it
            std::set<std::pair<std::int32_t, std::int32_t>> seen;
            auto off = [&](std::int32_t n) { return std::abs(m.position[n].head<2>().norm() - radius); };
            for (const auto& t : m.boundary)
                for (int k = 0; k < 3; ++k) {
                    const auto a = t[k], b = t[(k + 1) % 3];
                    if (off(a) > 1e-6 || off(b) > 1e-6 || !seen.insert(std::minmax(a, b)).second) continue;
                    straight += off(t[3 + k]) > 1e-4;
                }
            QCOMPARE(m.straightEdges > 0, radius < 3);
            QVERIFY2(m.straightEdges + m.relaxedEdges >= straight && (radius > 3 || straight > 40),
                     qPrintable(QString("%1 of %2").arg(m.straightEdges).arg(straight)));
        }
    }
    void cancels() {
        const auto s = randomSolid(1);
        Progress progress;
        progress.cancel();
        QVERIFY_EXCEPTION_THROWN(stuff(*s, {2.0, Vec3::Zero(), true}, progress), Cancelled);
    }
};

QTEST_GUILESS_MAIN(TestLattice)
#include "test_lattice.moc"
