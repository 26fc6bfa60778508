// Every operation on a cage: topology before and after, refusals that change nothing.
#include <QTest>
#include <cmath>
#include <map>

#include "base/error.hpp"
#include "cage/edit.hpp"
#include "cage/wrap.hpp"
#include "shape/machined_solid.hpp"
#include "surface/extract.hpp"

using namespace escultura;
using namespace escultura::cage;

namespace {

/// A box of n x n x n faces a side, with edges of 10 mm, its low corner at `from`.
Cage box(int n, const Vec3& from = Vec3::Zero()) {
    Cage c;
    std::map<std::array<int, 3>, std::int32_t> id;
    auto at = [&](int i, int j, int k) {
        const auto [found, isNew] = id.try_emplace({i, j, k}, static_cast<std::int32_t>(c.position.size()));
        if (isNew) c.position.push_back(from + 10 * Vec3(i, j, k));
        return found->second;
    };
    for (int a = 0; a < n; ++a)
        for (int b = 0; b < n; ++b)
            for (int axis = 0; axis < 3; ++axis)
                for (int side : {0, n}) {
                    auto p = [&](int u, int w) {
                        std::array<int, 3> i{};
                        i[axis] = side;
                        i[(axis + 1) % 3] = u;
                        i[(axis + 2) % 3] = w;
                        return at(i[0], i[1], i[2]);
                    };
                    if (side)
                        c.face.push_back({p(a, b), p(a + 1, b), p(a + 1, b + 1), p(a, b + 1)});
                    else
                        c.face.push_back({p(a, b), p(a, b + 1), p(a + 1, b + 1), p(a + 1, b)});
                }
    return c;
}

Cage merged(const Cage& a, const Cage& b) {
    Cage c = a;
    const auto shift = static_cast<std::int32_t>(a.position.size());
    c.position.insert(c.position.end(), b.position.begin(), b.position.end());
    for (auto q : b.face) c.face.push_back({q[0] + shift, q[1] + shift, q[2] + shift, q[3] + shift});
    return c;
}

std::int32_t faceAt(const Cage& c, const Vec3& p) {
    std::int32_t best = 0;
    double least = 1e300;
    for (std::size_t f = 0; f < c.face.size(); ++f) {
        Vec3 m = Vec3::Zero();
        for (auto v : c.face[f]) m += 0.25 * c.position[v];
        if ((m - p).norm() < least) least = (m - p).norm(), best = static_cast<std::int32_t>(f);
    }
    return best;
}

std::int32_t vertexAt(const Cage& c, const Vec3& p) {
    std::int32_t best = 0;
    for (std::size_t v = 0; v < c.position.size(); ++v)
        if ((c.position[v] - p).norm() < (c.position[best] - p).norm()) best = static_cast<std::int32_t>(v);
    return best;
}

#define SOUND(cage, wantedGenus, wantedPieces)                                     \
    do {                                                                           \
        const CageReport report = inspect(cage);                                   \
        QVERIFY(report.closed&& report.manifold);                                  \
        QCOMPARE(report.genus, wantedGenus);                                       \
        QCOMPARE(report.pieces, wantedPieces);                                     \
        QCOMPARE(report.valences[0] + report.valences[1] + report.valences[2], 0); \
    } while (false)

#define REFUSED(cage, call)                         \
    do {                                            \
        const Cage before = cage;                   \
        QVERIFY_EXCEPTION_THROWN(call, InputError); \
        QVERIFY(cage == before);                    \
    } while (false)

}  // namespace

class TestCageEdit : public QObject {
    Q_OBJECT
  private slots:
    void loopsAndRings() {
        const Cage c = box(3);
        const Connectivity n(c);
        // an edge in the middle of a side: its ring runs around the box through 12 faces
        const auto e = n.edgeBetween(vertexAt(c, {10, 10, 30}), vertexAt(c, {20, 10, 30}));
        QCOMPARE(ringOf(c, e).size(), std::size_t(12));
        // its loop too: vertices at the box's edges have four edges, only the corners have three
        QCOMPARE(loopOf(c, e).size(), std::size_t(12));
        // a loop along the box's edge ends at the corners
        const auto rim = n.edgeBetween(vertexAt(c, {10, 0, 30}), vertexAt(c, {20, 0, 30}));
        QCOMPARE(loopOf(c, rim).size(), std::size_t(3));
        QCOMPARE(verticesOfEdges(c, {rim}).size(), std::size_t(2));
        const Indices one{vertexAt(c, {10, 10, 30})};
        QCOMPARE(grown(c, one).size(), std::size_t(9));
        QCOMPARE(facesWithin(c, grown(c, one)).size(), std::size_t(4));
        QCOMPARE(edgesWithin(c, grown(c, one)).size(), std::size_t(12));
    }
    void moving() {
        Cage c = box(2);
        const auto v = vertexAt(c, {10, 10, 20});
        Eigen::Affine3d up(Eigen::Translation3d(0, 0, 5));
        transform(c, softWeights(c, {v}, 0), up, {});
        QCOMPARE(c.position[v], Vec3(10, 10, 25));
        QCOMPARE(inspect(c).genus, 0);
        // soft: those nearer move further
        Cage soft = box(4);
        const auto s = vertexAt(soft, {20, 20, 40});
        const auto w = softWeights(soft, {s}, 25);
        const auto beside = vertexAt(soft, {10, 20, 40}), corner = vertexAt(soft, {0, 0, 40});
        QVERIFY(w[s] == 1 && w[beside] > 0 && w[beside] < 1 && w[corner] == 0);
        // smooth step at 1 - 10/25: 0.648
        QVERIFY(std::abs(w[beside] - 0.648) < 1e-12);
        // turning and scaling about a place
        const Vec3 about(20, 20, 40);
        transform(
            soft, softWeights(soft, verticesOfFaces(soft, {faceAt(soft, {15, 15, 40})}), 0),
            Eigen::Translation3d(about) * Eigen::AngleAxisd(M_PI / 2, Vec3::UnitZ()) * Eigen::Translation3d(-about),
            {});
        QVERIFY((soft.position[beside] - Vec3(20, 10, 40)).norm() < 1e-9);
    }
    void movingKeepsSymmetry() {
        Cage c = box(4, Vec3(-20, -20, -20));
        const std::vector<std::array<Vec3, 2>> planes{{Vec3::Zero(), Vec3::UnitX()}, {Vec3::Zero(), Vec3::UnitY()}};
        const auto v = vertexAt(c, {10, 10, 20}), onPlane = vertexAt(c, {0, 10, 20});
        transform(c, softWeights(c, {v, onPlane}, 0), Eigen::Affine3d(Eigen::Translation3d(3, 2, 1)), planes);
        QCOMPARE(c.position[v], Vec3(13, 12, 21));
        QCOMPARE(c.position[onPlane], Vec3(0, 12, 21));
        for (const auto& plane : planes)
            for (auto m : mirrorVertices(c, plane, 1e-9)) QVERIFY(m >= 0);
        QCOMPARE(c.position[vertexAt(c, {-13, -12, 21})], Vec3(-13, -12, 21));
    }
    void snappingMeetsTheTarget() {
        auto ball = std::make_shared<shape::MachinedSolid>(
            std::make_shared<shape::FunctionBody>([](const Vec3& p) { return p.norm() - 30; }),
            Box3{Vec3::Constant(-35), Vec3::Constant(35)});
        Progress progress;
        const Target target(surface::extractSurface(*ball, 3, false, progress), ball, nullptr);
        Cage c = box(4, Vec3(-20, -20, -20));
        Indices all;
        for (std::size_t v = 0; v < c.position.size(); ++v) all.push_back(static_cast<std::int32_t>(v));
        snapTo(c, all, target);
        const LimitMesh limit(c, 1);
        for (const Vec3& p : limit.at(c.position).position)
            QVERIFY2(std::abs(p.norm() - 30) < 0.3, qPrintable(QString::number(p.norm())));
    }
    void relaxingEvensOut() {
        Cage c = box(4);
        const auto v = vertexAt(c, {20, 20, 40});
        c.position[v] += Vec3(4, 3, 0);
        relax(c, {v}, 20);
        QVERIFY((c.position[v] - Vec3(20, 20, 40)).norm() < 4.9);
        const double before = measureLimit(box(4)).volume;
        QVERIFY(std::abs(measureLimit(c).volume / before - 1) < 0.02);
    }
    void extruding() {
        Cage c = box(3);
        const auto faces = c.face.size();
        extrude(c, {faceAt(c, {15, 15, 30}), faceAt(c, {5, 15, 30})}, 12);
        SOUND(c, 0, 1);
        QCOMPARE(c.face.size(), faces + 6);
        double top = 0;
        for (const Vec3& p : c.position) top = std::max(top, p.z());
        QCOMPARE(top, 42.0);
        REFUSED(c, extrude(c, {}, 5));
        Indices all;
        for (std::size_t f = 0; f < c.face.size(); ++f) all.push_back(static_cast<std::int32_t>(f));
        REFUSED(c, extrude(c, all, 5));
    }
    void bridging() {
        // a handle over one box
        Cage c = box(4);
        const auto faces = c.face.size();
        bridge(c, {faceAt(c, {5, 15, 40})}, {faceAt(c, {35, 15, 40})}, 4);
        SOUND(c, 1, 1);
        QCOMPARE(c.face.size(), faces - 2 + 16);
        // a strut between two boxes, over rims of eight edges
        Cage two = merged(box(4), box(4, Vec3(80, 0, 0)));
        QCOMPARE(inspect(two).pieces, 2);
        Indices a, b;
        for (double y : {15., 25.})
            for (double z : {15., 25.}) {
                a.push_back(faceAt(two, {40, y, z}));
                b.push_back(faceAt(two, {80, y, z}));
            }
        const double before = measureLimit(two).volume;
        bridge(two, a, b, 3);
        SOUND(two, 0, 1);
        QVERIFY(measureLimit(two).volume > before + 0.4 * 20 * 20 * 40);
        QVERIFY(flawsOf(two).empty());
        // refused: rims that differ, patches that touch
        Cage other = box(4);
        REFUSED(other, bridge(other, {faceAt(other, {5, 5, 40})},
                              {faceAt(other, {25, 25, 40}), faceAt(other, {35, 25, 40})}, 2));
        REFUSED(other, bridge(other, {faceAt(other, {5, 5, 40})}, {faceAt(other, {15, 5, 40})}, 2));
        REFUSED(other, bridge(other, {faceAt(other, {5, 5, 40})}, {faceAt(other, {35, 35, 40})}, 0));
    }
    void insertingAndDissolvingLoops() {
        Cage c = box(3);
        const Cage before = c;
        const Connectivity n(c);
        const auto e = n.edgeBetween(vertexAt(c, {10, 10, 30}), vertexAt(c, {20, 10, 30}));
        setCrease(c, {e}, 3);
        const auto loop = insertLoop(c, e, 0.25);
        SOUND(c, 0, 1);
        QCOMPARE(c.face.size(), before.face.size() + 12);
        QCOMPARE(loop.size(), std::size_t(12));
        QCOMPARE(c.crease.size(), std::size_t(2));
        for (auto v : verticesOfEdges(c, loop)) {
            const double x = c.position[v].x();
            QVERIFY(std::abs(x - 12.5) < 1e-9 || std::abs(x - 17.5) < 1e-9);
        }
        // back again: the ring between the new loop and the old one
        const Connectivity m(c);
        const auto first = vertexAt(c, {10, 10, 30});
        std::int32_t cut = -1;
        for (auto x : m.edgesOfVertex[first]) {
            const Vec3 d = c.position[m.edge[x].a] - c.position[m.edge[x].b];
            if (std::abs(d.x()) > 1 && std::max(c.position[m.edge[x].a].x(), c.position[m.edge[x].b].x()) > 10.1)
                cut = x;
        }
        QVERIFY(cut >= 0);
        dissolveRing(c, cut);
        SOUND(c, 0, 1);
        QCOMPARE(c.face.size(), before.face.size());
        // a cube without one of its rings would be two faces back to back
        Cage cube = box(1);
        REFUSED(cube, dissolveRing(cube, 0));
    }
    void splitting() {
        Cage c = box(3);
        const auto faces = c.face.size();
        split(c, {faceAt(c, {15, 15, 30})});
        SOUND(c, 0, 1);
        // 9 for 1, four neighbours by their edges with 7, four by their corners with 3
        QCOMPARE(c.face.size(), faces + 8 + 4 * 6 + 4 * 2);
        REFUSED(c, split(c, {}));
    }
    void collapsing() {
        Cage c = box(3);
        const auto faces = c.face.size();
        const auto f = faceAt(c, {15, 15, 30});
        int corner = 0;
        collapse(c, f, corner);
        SOUND(c, 0, 1);
        QCOMPARE(c.face.size(), faces - 1);
        Cage cube = box(1);
        REFUSED(cube, collapse(cube, 0, 0));  // corners with three edges would be left with two
    }
    void creases() {
        Cage c = box(2);
        const Connectivity n(c);
        const auto e = n.edgeBetween(vertexAt(c, {0, 0, 20}), vertexAt(c, {10, 0, 20}));
        setCrease(c, {e}, 99);
        QCOMPARE(c.crease.size(), std::size_t(1));
        QCOMPARE(c.crease[0].sharpness, sharpest);
        QVERIFY(measureLimit(c).volume > measureLimit(box(2)).volume);
        setCrease(c, {e}, 0);
        QVERIFY(c.crease.empty());
    }
    void holes() {
        Cage c = box(4);
        const Cage before = c;
        Indices patch;
        for (double x : {15., 25.})
            for (double y : {15., 25.}) patch.push_back(faceAt(c, {x, y, 40}));
        removeFaces(c, patch);
        QVERIFY(!inspect(c).closed && inspect(c).manifold);
        QCOMPARE(c.position.size(), before.position.size() - 1);
        QVERIFY(!flawsOf(c).empty());
        QCOMPARE(fillHoles(c), 1);
        SOUND(c, 0, 1);
        QCOMPARE(c.face.size(), before.face.size());
        removeFaces(c, {faceAt(c, {5, 5, 40}), faceAt(c, {35, 35, 0})});
        QCOMPARE(fillHoles(c), 2);
        SOUND(c, 0, 1);
        REFUSED(c, fillHoles(c));
        // taking two faces that touch in a vertex leaves a vertex with two fans
        Cage torn = box(4);
        REFUSED(torn, removeFaces(torn, {faceAt(torn, {15, 15, 40}), faceAt(torn, {25, 25, 40})}));
        Indices all;
        for (std::size_t f = 0; f < torn.face.size(); ++f) all.push_back(static_cast<std::int32_t>(f));
        REFUSED(torn, removeFaces(torn, all));
    }
    void flawsHavePlaces() {
        Cage c = box(4);
        QVERIFY(flawsOf(c).empty());
        // the top is pushed through the bottom
        for (auto& p : c.position)
            if (p.z() > 35 && std::abs(p.x() - 20) < 1 && std::abs(p.y() - 20) < 1) p.z() = -60;
        const auto flaws = flawsOf(c);
        QVERIFY(!flaws.empty());
        bool through = false;
        for (const auto& f : flaws) through = through || f.text.find("itself") != std::string::npos;
        QVERIFY(through);
    }
};

QTEST_APPLESS_MAIN(TestCageEdit)
#include "test_cage_edit.moc"
