// Trees, rays, normals, quantiles, welding and patches of triangle surfaces, against searches and known answers.
#include <QtTest>
#include <cmath>
#include <random>
#include <set>

#include "base/error.hpp"
#include "box_mesh.hpp"
#include "surface/bins.hpp"
#include "surface/extract.hpp"
#include "surface/intersections.hpp"
#include "surface/mesh_body.hpp"
#include "surface/patched_body.hpp"
#include "surface/thickness.hpp"

using namespace escultura;
using namespace escultura::surface;
using made_up::boxMesh;

namespace {

/// A ring of radius 9 and 3 mm.
const TriMesh& ring() {
    static const TriMesh m = [] {
        Progress progress;
        const shape::MachinedSolid s(std::make_shared<shape::FunctionBody>([](const Vec3& p) {
                                         return std::hypot(std::hypot(p[0], p[1]) - 9, p[2]) - 3;
                                     }),
                                     Box3{Vec3::Constant(-13), Vec3::Constant(13)});
        return extractSurface(s, 1.5, true, progress);
    }();
    return m;
}

/// Distance along a ray to a triangle (Moeller and Trumbore 1997); negative: none.
double alongRay(const Vec3& o, const Vec3& d, const Vec3& a, const Vec3& b, const Vec3& c) {
    const Vec3 e = b - a, f = c - a, p = d.cross(f);
    const double det = e.dot(p);
    if (std::abs(det) < 1e-14) return -1;
    const Vec3 s = o - a, q = s.cross(e);
    const double u = s.dot(p) / det, v = d.dot(q) / det;
    return u < 0 || v < 0 || u + v > 1 ? -1 : f.dot(q) / det;
}

TriMesh joined(const TriMesh& a, const TriMesh& b) {
    TriMesh m = a;
    const auto first = static_cast<std::int32_t>(a.position.size());
    m.position.insert(m.position.end(), b.position.begin(), b.position.end());
    for (Triangle t : b.triangle) m.triangle.push_back({t[0] + first, t[1] + first, t[2] + first});
    m.owner.insert(m.owner.end(), b.owner.begin(), b.owner.end());
    return m;
}

}  // namespace

class TestMeshTools : public QObject {
    Q_OBJECT
  private slots:
    void raysHitWhatASearchHits() {
        const TriangleTree tree(ring());
        std::mt19937 random(4);
        std::normal_distribution<double> gauss;
        int hits = 0;
        for (int n = 0; n < 300; ++n) {
            const Vec3 from = 14 * Vec3(gauss(random), gauss(random), gauss(random)).normalized();
            const Vec3 to(6 * gauss(random), 6 * gauss(random), 2 * gauss(random));
            const Vec3 d = (to - from).normalized();
            double best = 1e300;
            for (const Triangle& t : ring().triangle) {
                const double x = alongRay(from, d, ring().position[t[0]], ring().position[t[1]], ring().position[t[2]]);
                if (x > 0) best = std::min(best, x);
            }
            const auto hit = tree.firstHit(from, d);
            QCOMPARE(hit.has_value(), best < 1e300);
            if (!hit) continue;
            ++hits;
            QVERIFY(std::abs(hit->distance - best) < 1e-9);
            QVERIFY((hit->point - (from + best * d)).norm() < 1e-9);
        }
        QVERIFY2(hits > 100, qPrintable(QString::number(hits)));
    }
    /// Straight through a box: the near side, then the far one.
    void raysGoOnBehindTheFirstHit() {
        const TriMesh box = boxMesh({0, 0, 0}, {10, 6, 4});
        const TriangleTree tree(box);
        const auto near = tree.firstHit(Vec3(-5, 2, 1), Vec3::UnitX());
        QVERIFY(near && std::abs(near->distance - 5) < 1e-12 && box.owner[near->triangle] == 0);
        const auto far = tree.firstHit(Vec3(-5, 2, 1), Vec3::UnitX(), near->distance + 1e-6);
        QVERIFY(far && std::abs(far->distance - 15) < 1e-12 && box.owner[far->triangle] == 1);
        QVERIFY(!tree.firstHit(Vec3(-5, 2, 1), Vec3::UnitX(), 15.1));
        QVERIFY(!tree.firstHit(Vec3(-5, 2, 1), -Vec3::UnitX()));
        QVERIFY(!tree.firstHit(Vec3(-5, 7, 1), Vec3::UnitX()));
    }
    void boxesFindTheirTriangles() {
        const TriangleTree tree(ring());
        std::mt19937 random(11);
        std::uniform_real_distribution<double> x(-13, 13), size(0.2, 6);
        for (int n = 0; n < 100; ++n) {
            Box3 box;
            const Vec3 at(x(random), x(random), 0.3 * x(random));
            box.include(at);
            box.include(at + Vec3(size(random), size(random), size(random)));
            std::set<std::int32_t> expected, found;
            for (std::size_t t = 0; t < ring().triangle.size(); ++t) {
                Box3 own;
                for (auto v : ring().triangle[t]) own.include(ring().position[v]);
                if ((own.low.array() <= box.high.array()).all() && (own.high.array() >= box.low.array()).all())
                    expected.insert(static_cast<std::int32_t>(t));
            }
            tree.forOverlapping(box, [&](std::int32_t t) { QVERIFY(found.insert(t).second); });
            // the tree may tell more, never fewer
            QVERIFY(std::includes(found.begin(), found.end(), expected.begin(), expected.end()));
            QVERIFY(found.size() <= expected.size() + ring().triangle.size() / 20);
        }
    }
    void nothingIsNearerThanTheLimit() {
        const TriMesh box = boxMesh({0, 0, 0}, {10, 6, 4});
        const TriangleTree tree(box);
        QCOMPARE(tree.closest(Vec3(5, 3, 9), 4.9).triangle, -1);
        QCOMPARE(tree.distance(Vec3(5, 3, 9), 4.9), 4.9);
        const auto c = tree.closest(Vec3(5, 3, 9), 5.1);
        QVERIFY(c.triangle >= 0 && box.owner[c.triangle] == 5 && (c.point - Vec3(5, 3, 4)).norm() < 1e-12);
        // few visits: a point of the surface all the same
        const auto rough = tree.closest(Vec3(5, 3, 2), 1e300, 2);
        QVERIFY(rough.triangle >= 0 && rough.distance >= 2 - 1e-12);
    }
    void normalsOfARing() {
        const auto normal = vertexNormals(ring());
        double worst = 1;
        for (std::size_t v = 0; v < normal.size(); ++v) {
            const Vec3& p = ring().position[v];
            const Vec3 axis = 9 * Vec3(p.x(), p.y(), 0).normalized();
            QVERIFY(std::abs(normal[v].norm() - 1) < 1e-12);
            worst = std::min(worst, normal[v].dot((p - axis).normalized()));
        }
        QVERIFY2(worst > std::cos(16 * M_PI / 180), qPrintable(QString::number(std::acos(worst) * 180 / M_PI)));
    }
    /// Machined edges keep a normal for each side.
    void cornersOfABoxAreSharp() {
        const TriMesh box = boxMesh({0, 0, 0}, {10, 6, 4});
        const auto corner = cornerNormals(box);
        QCOMPARE(corner.size(), 3 * box.triangle.size());
        for (std::size_t t = 0; t < box.triangle.size(); ++t) {
            const int side = box.owner[t];
            const Vec3 expected = (side % 2 ? 1 : -1) * Vec3::Unit(side / 2);
            for (int k = 0; k < 3; ++k) QVERIFY((corner[3 * t + k] - expected).norm() < 1e-12);
        }
        // one owner all round: the edges are rounded off
        TriMesh smooth = box;
        smooth.owner.assign(12, 0);
        int mixed = 0;
        for (const Vec3& n : cornerNormals(smooth)) mixed += n.cwiseAbs().maxCoeff() < 0.99;
        QCOMPARE(mixed, 36);
    }
    /// The value x over a square: the share s of the area lies below s.
    void quantilesByArea() {
        TriMesh square;
        constexpr int n = 40;
        std::vector<float> x;
        for (int j = 0; j <= n; ++j)
            for (int i = 0; i <= n; ++i) {
                square.position.emplace_back(static_cast<double>(i) / n, static_cast<double>(j) / n, 0);
                x.push_back(static_cast<float>(i) / n);
            }
        for (int j = 0; j < n; ++j)
            for (int i = 0; i < n; ++i) {
                const int a = j * (n + 1) + i;
                square.triangle.push_back({a, a + 1, a + n + 1});
                square.triangle.push_back({a + 1, a + n + 2, a + n + 1});
            }
        for (double share : {0.05, 0.25, 0.5, 0.9}) {
            const double q = areaQuantile(square, x, share);
            QVERIFY2(std::abs(q - share) < 1.5 / n, qPrintable(QString("%1 %2").arg(share).arg(q)));
        }
    }
    void weldingJoinsAndDrops() {
        TriMesh loose;
        const TriMesh box = boxMesh({0, 0, 0}, {10, 6, 4});
        for (std::size_t t = 0; t < 12; ++t) {
            const auto first = static_cast<std::int32_t>(loose.position.size());
            for (auto v : box.triangle[t]) loose.position.push_back(box.position[v] + Vec3(1e-7, 0, -1e-7) * (t % 2));
            loose.triangle.push_back({first, first + 1, first + 2});
            loose.owner.push_back(box.owner[t]);
        }
        // a needle between two copies of one corner
        loose.position.push_back(Vec3(0, 0, 1e-8));
        loose.triangle.push_back({0, static_cast<std::int32_t>(loose.position.size() - 1), 1});
        loose.owner.push_back(9);
        const TriMesh whole = weld(loose);
        QCOMPARE(whole.position.size(), std::size_t(8));
        QCOMPARE(whole.triangle.size(), std::size_t(12));
        QVERIFY(whole.owner == box.owner);
        const Measures m = measure(whole);
        QVERIFY(m.watertight && std::abs(m.volume - 240) < 1e-4);
        // with a tolerance as wide as the box nothing is left
        QVERIFY(weld(loose, 50).triangle.empty());
        // apart by more than the tolerance: stays apart
        QCOMPARE(weld(loose, 1e-12).position.size() > 8, true);
    }
    void measuresOfPiecesAndOpenSurfaces() {
        const TriMesh two = joined(boxMesh({0, 0, 0}, {2, 2, 2}), boxMesh({5, 0, 0}, {6, 1, 1}));
        Measures m = measure(two);
        QVERIFY(m.watertight);
        QCOMPARE(m.pieces, 2);
        QCOMPARE(m.genus, 0);
        QVERIFY(std::abs(m.volume - 9) < 1e-12 && std::abs(m.area - 30) < 1e-12);
        QVERIFY((m.centroid - (8 * Vec3(1, 1, 1) + Vec3(5.5, 0.5, 0.5)) / 9).norm() < 1e-12);
        m = measure(ring());
        QCOMPARE(m.genus, 1);
        // Pappus: 2 pi^2 R r^2, 4 pi^2 R r
        QVERIFY(std::abs(m.volume / (2 * M_PI * M_PI * 9 * 9) - 1) < 0.05);
        QVERIFY(std::abs(m.area / (4 * M_PI * M_PI * 27) - 1) < 0.03);
        TriMesh inside = boxMesh({0, 0, 0}, {2, 2, 2});
        for (Triangle& t : inside.triangle) std::swap(t[1], t[2]);
        QVERIFY(std::abs(measure(inside).volume + 8) < 1e-12);
        inside.triangle.pop_back();
        QVERIFY(!measure(inside).watertight);
        QVERIFY(!measure(joined(boxMesh({0, 0, 0}, {1, 1, 1}), inside)).watertight);
    }
    /// Boxes one in the other do not cut each other; pushed together they do.
    void boxesThatCutEachOther() {
        QVERIFY(selfIntersections(joined(boxMesh({0, 0, 0}, {9, 9, 9}), boxMesh({1, 1, 1}, {2, 2, 2}))).empty());
        const auto pairs = selfIntersections(joined(boxMesh({0, 0, 0}, {9, 9, 9}), boxMesh({8, 1, 1}, {12, 2, 2})));
        QVERIFY(!pairs.empty());
        for (const auto& [a, b] : pairs) QVERIFY((a < 12) != (b < 12));
        QCOMPARE(selfIntersections(joined(boxMesh({0, 0, 0}, {9, 9, 9}), boxMesh({8, 1, 1}, {12, 2, 2})), 1).size(),
                 std::size_t(1));
    }
    /// Grown by 2 mm the corners of a box are parts of balls.
    void grownBodiesAreRound() {
        const MeshBody body(boxMesh({0, 0, 0}, {10, 6, 4}), 2);
        QVERIFY(std::abs(body.value(Vec3(5, 3, 6))) < 1e-9);
        const Vec3 diagonal = Vec3(1, 1, 1).normalized();
        QVERIFY(std::abs(body.value(Vec3(10, 6, 4) + 2 * diagonal)) < 1e-9);
        QVERIFY(std::abs(body.value(Vec3(10, 6, 4) + 3 * diagonal) - 1) < 0.02);  // sampled away from the surface
        QVERIFY((body.gradient(Vec3(10, 6, 4) + 2 * diagonal) - diagonal).norm() < 1e-6);
        QVERIFY(std::abs(body.bounds().low.x() + 2) < 1e-12 && std::abs(body.bounds().high.y() - 8) < 1e-12);
    }
    /// A box falls into six patches with exact planes; its edges and corners are found by Newton's method.
    void patchesOfABox() {
        const PatchedBody body(boxMesh({0, 0, 0}, {10, 6, 4}));
        QCOMPARE(body.surfaceCount(), 6);
        std::set<std::int32_t> patches(body.patchOf().begin(), body.patchOf().end());
        QCOMPARE(patches.size(), std::size_t(6));
        std::mt19937 random(2);
        std::uniform_real_distribution<double> x(-0.2, 1.2);
        for (int n = 0; n < 200; ++n) {
            const Vec3 p(10 * x(random), 6 * x(random), 4 * x(random));
            const Vec3 d = (p - Vec3(5, 3, 2)).cwiseAbs() - Vec3(5, 3, 2);
            const double exact = d.maxCoeff() < 0 ? d.maxCoeff() : d.cwiseMax(0).norm();
            const auto s = body.evaluate(p);
            const double bar = std::abs(exact) < 0.1 ? 1e-9 : 0.05;  // sampled away from the surface
            QVERIFY2(std::abs(s.value - exact) < bar, qPrintable(QString("%1 %2").arg(s.value).arg(exact)));
            QVERIFY(s.surface >= 0 && s.surface < 6);
        }
        // from near a corner onto it, and onto one of its edges
        const Vec3 near(9.7, 5.8, 3.9);
        std::vector<int> sides;
        for (int side = 0; side < 6; ++side)
            if (std::abs(body.surfaceValue(side, near)) < 0.5) sides.push_back(side);
        QCOMPARE(sides.size(), std::size_t(3));
        Vec3 p = near;
        QVERIFY(shape::projectOnto(body, sides.data(), 3, p, 2) && (p - Vec3(10, 6, 4)).norm() < 1e-9);
        p = near;
        QVERIFY(shape::projectOnto(body, sides.data(), 2, p, 2));
        QVERIFY(std::abs(body.surfaceValue(sides[0], p)) < 1e-9 && std::abs(body.surfaceValue(sides[1], p)) < 1e-9);
        p = near;
        QVERIFY(!shape::projectOnto(body, sides.data(), 3, p, 0.05));  // farther than allowed
    }
    /// A ring by its owners, one of them exact: the exact surface counts, not its triangles.
    void patchesWithExactSurfaces() {
        TriMesh box = boxMesh({0, 0, 0}, {10, 6, 4});
        std::vector<std::optional<shape::Primitive>> exact(6);
        exact[5] = shape::Primitive{shape::Primitive::Kind::plane, Vec3(0, 0, 4), Vec3::UnitZ(), 0, false};
        for (Vec3& p : box.position)
            if (p.z() > 3) p.z() += 1e-3;  // triangles a little off the plane
        const PatchedBody body(box, exact);
        QCOMPARE(body.surfaceCount(), 6);
        QCOMPARE(body.surfaceValue(5, Vec3(3, 3, 4.25)), 0.25);
        QVERIFY(std::abs(body.surfaceValue(4, Vec3(3, 3, -0.5)) - 0.5) < 1e-9);
        TriMesh open = box;
        open.triangle.pop_back();
        open.owner.pop_back();
        QVERIFY_EXCEPTION_THROWN(PatchedBody(open, exact), InputError);
    }
    void binsTellWhatIsNear() {
        const Bins bins(2);
        QCOMPARE(bins.keyAt(Vec3(0.1, 0.1, 0.1)), bins.keyAt(Vec3(1.9, 1.9, 1.9)));
        QVERIFY(bins.keyAt(Vec3(-0.1, 0, 0)) != bins.keyAt(Vec3(0.1, 0, 0)));
        std::set<std::int64_t> keys;
        bins.within(Vec3(-3, -1, 0.5), Vec3(3, 1, 0.6), [&](std::int64_t key) { QVERIFY(keys.insert(key).second); });
        QCOMPARE(keys.size(), std::size_t(4 * 2 * 1));
        QVERIFY(keys.contains(bins.keyAt(Vec3(-2.5, 0.9, 0.5))) && !keys.contains(bins.keyAt(Vec3(0, 0, 2.1))));
    }
    /// A slab with slanted ends, meshed finely: balls between its sides, and none where sides meet in an edge.
    void inscribedBallsTellWallsFromEdges() {
        const TriMesh box = boxMesh({0, 0, 0}, {40, 30, 4});
        const TriangleTree tree(box);
        const auto wall = inscribedBall(tree, Vec3(20, 15, 4), Vec3::UnitZ(), 10);
        QVERIFY(wall && std::abs(wall->radius - 2) < 1e-3 && wall->separation > 177);
        const auto edge = inscribedBall(tree, Vec3(39.5, 15, 4), Vec3::UnitZ(), 10);
        // tangent to the top at 0.5 mm from the edge and to the end: r = 0.5, seen at a right angle
        QVERIFY(edge && std::abs(edge->radius - 0.5) < 1e-3 && std::abs(edge->separation - 90) < 2);
        QVERIFY(edge->separation < wallSeparation && wall->separation >= wallSeparation);
        QVERIFY(!inscribedBall(tree, Vec3(20, 15, 4), -Vec3::UnitZ(), 10));  // outside there is no other wall
        QVERIFY(!inscribedBall(tree, Vec3(20, 15, 4), Vec3::UnitZ(), 1.5));  // larger than looked for
    }
};

QTEST_GUILESS_MAIN(TestMeshTools)
#include "test_mesh_tools.moc"
