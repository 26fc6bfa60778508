// The control cage: connectivity, limit surface, automatic wrap and fit, patches.
#include <QTest>
#include <cmath>
#include <map>

#include "base/error.hpp"
#include "cage/automatic.hpp"
#include "cage/patches.hpp"
#include "shape/machined_solid.hpp"
#include "surface/extract.hpp"

using namespace escultura;
using cage::Cage;

namespace {

/// A cube from -1 to 1.
Cage cube() {
    Cage c;
    for (int k = 0; k < 8; ++k) c.position.emplace_back(k & 1 ? 1 : -1, k & 2 ? 1 : -1, k & 4 ? 1 : -1);
    c.face = {{0, 4, 6, 2}, {1, 3, 7, 5}, {0, 1, 5, 4}, {2, 6, 7, 3}, {0, 2, 3, 1}, {4, 5, 7, 6}};
    return c;
}

/// A ring of four-sided tube: n faces around, four across; all vertices regular.
Cage ring(int n, double radius, double tube) {
    Cage c;
    for (int i = 0; i < n; ++i)
        for (int k = 0; k < 4; ++k) {
            const double a = 2 * M_PI * i / n, b = M_PI / 2 * k;
            c.position.emplace_back((radius + tube * std::cos(b)) * std::cos(a),
                                    (radius + tube * std::cos(b)) * std::sin(a), tube * std::sin(b));
        }
    auto id = [&](int i, int k) { return (i + n) % n * 4 + (k + 4) % 4; };
    for (int i = 0; i < n; ++i)
        for (int k = 0; k < 4; ++k) c.face.push_back({id(i, k), id(i + 1, k), id(i + 1, k + 1), id(i, k + 1)});
    return c;
}

struct Wrapped {
    std::shared_ptr<shape::MachinedSolid> solid;
    std::unique_ptr<cage::Target> target;
    cage::AutomaticCage result;
};

Wrapped wrap(std::function<double(const Vec3&)> f, const Box3& box, double faceSize, double spacing,
             std::vector<std::array<Vec3, 2>> symmetry = {}) {
    Wrapped w;
    w.solid = std::make_shared<shape::MachinedSolid>(std::make_shared<shape::FunctionBody>(f), box);
    Progress progress;
    w.target =
        std::make_unique<cage::Target>(surface::extractSurface(*w.solid, spacing, false, progress), w.solid, nullptr);
    cage::AutomaticOptions o;
    o.faceSize = faceSize;
    o.symmetry = std::move(symmetry);
    w.result = cage::automaticCage(f, box, *w.target, o, progress);
    return w;
}

bool isSound(const Cage& c) {
    const auto r = cage::inspect(c);
    return r.closed && r.manifold;
}

}  // namespace

class TestCage : public QObject {
    Q_OBJECT
  private slots:
    void cubeIsSound() {
        const auto r = cage::inspect(cube());
        QVERIFY(r.closed && r.manifold);
        QCOMPARE(r.genus, 0);
        QCOMPARE(r.euler, 2);
        QCOMPARE(r.pieces, 1);
        QCOMPARE(r.valences[3], 8);
    }
    void handlesAreCounted() {
        const auto r = cage::inspect(ring(8, 10, 3));
        QVERIFY(r.closed && r.manifold);
        QCOMPARE(r.genus, 1);
        QCOMPARE(r.valences[4], 32);
    }
    void openAndTornCagesAreNamed() {
        Cage open = cube();
        open.face.pop_back();
        auto r = cage::inspect(open);
        QVERIFY(!r.closed && r.manifold);
        QVERIFY(r.problems.front().text.find("open") != std::string::npos);
        QCOMPARE(r.problems.front().at.z(), 1.0);  // the rim of the missing top
        Cage turned = cube();
        std::swap(turned.face[0][1], turned.face[0][3]);
        QVERIFY(!cage::inspect(turned).manifold);
        Cage twice = cube();
        twice.face.push_back(twice.face[0]);
        QVERIFY(!cage::inspect(twice).manifold);
        // two cubes that share a corner
        Cage pair = cube();
        Cage second = cube();
        for (auto& p : second.position) p += Vec3(2, 2, 2);
        std::map<int, int> number{{0, 7}};
        for (int k = 1; k < 8; ++k) {
            number[k] = static_cast<int>(pair.position.size());
            pair.position.push_back(second.position[k]);
        }
        for (auto q : second.face) pair.face.push_back({number[q[0]], number[q[1]], number[q[2]], number[q[3]]});
        r = cage::inspect(pair);
        QVERIFY(!r.manifold);
        QCOMPARE(r.problems.front().at, Vec3(1, 1, 1));
        QVERIFY_EXCEPTION_THROWN(cage::makePatches(open), InputError);
    }
    /// Catmull-Clark limit of a vertex: (n^2 v + 4 sum of neighbours + sum of diagonals) / (n (n + 5)); a cube's corner
    /// goes to half its place.
    void limitOfACube() {
        const Cage c = cube();
        const auto s = cage::limitStencils(c, {{0, 0, 0}, {0, 1, 0}, {0, 1, 1}, {0, 0, 1}, {0, 0.5, 0.5}}, true);
        const auto p = cage::asPoints(s.point * cage::asRows(c.position));
        for (int k = 0; k < 4; ++k) QVERIFY((p[k] - 0.5 * c.position[c.face[0][k]]).norm() < 1e-9);
        QVERIFY(std::abs(p[4].y()) < 1e-9 && std::abs(p[4].z()) < 1e-9 && p[4].x() < -0.5);
    }
    /// Far from extraordinary vertices the limit surface is the uniform bicubic B-spline; its derivatives are those of
    /// the points.
    void derivativesMatchDifferences() {
        const Cage c = ring(12, 20, 6);
        const double d = 1e-6;
        const auto s = cage::limitStencils(c, {{5, 0.3, 0.6}, {5, 0.3 + d, 0.6}, {5, 0.3, 0.6 + d}}, true);
        const auto rows = cage::asRows(c.position);
        const auto p = cage::asPoints(s.point * rows), u = cage::asPoints(s.du * rows), v = cage::asPoints(s.dv * rows);
        QVERIFY(((p[1] - p[0]) / d - u[0]).norm() < 1e-4 * u[0].norm());
        QVERIFY(((p[2] - p[0]) / d - v[0]).norm() < 1e-4 * v[0].norm());
    }
    /// Faces whose corners all have four edges are evaluated in closed form; a crease of no sharpness worth the name
    /// makes the library's way of all of them.
    void regularFacesMatchTheLibrary() {
        Cage c = ring(9, 40, 11);
        for (std::size_t v = 0; v < c.position.size(); ++v) c.position[v] += Vec3(std::sin(1.7 * v), std::cos(v), 0.3);
        Cage creased = c;
        for (const auto& e : cage::Connectivity(c).edge) creased.crease.push_back({e.a, e.b, 1e-9});
        std::sort(creased.crease.begin(), creased.crease.end(),
                  [](const auto& x, const auto& y) { return std::pair(x.a, x.b) < std::pair(y.a, y.b); });
        std::vector<cage::LimitPlace> places;
        for (std::size_t f = 0; f < c.face.size(); ++f)
            for (double u : {0.0, 0.21, 0.5, 1.0})
                for (double v : {0.0, 0.4, 0.93}) places.push_back({static_cast<std::int32_t>(f), u, v});
        const auto own = cage::limitStencils(c, places, true), theirs = cage::limitStencils(creased, places, true);
        const auto x = cage::asRows(c.position);
        QVERIFY((cage::product(own.point, x) - theirs.point * x).cwiseAbs().maxCoeff() < 1e-5);
        QVERIFY((cage::product(own.du, x) - theirs.du * x).cwiseAbs().maxCoeff() < 1e-4);
        QVERIFY((cage::product(own.dv, x) - theirs.dv * x).cwiseAbs().maxCoeff() < 1e-4);
    }
    /// A disc of 3 mm with a round rim under faces of 6 mm: a grid of that size would lose it here and there.
    void wallsThinnerThanAFaceAreWrapped() {
        auto disc = [](const Vec3& p) {
            const double r = std::max(std::hypot(p.x(), p.y()) - 38.5, 0.0);
            return std::hypot(r, p.z() - 1.3) - 1.5;
        };
        auto w = wrap(disc, Box3{Vec3(-44, -44, -4), Vec3(44, 44, 6)}, 6, 1.2);
        const auto& d = w.result.deviation;
        QVERIFY(w.result.agrees);
        QCOMPARE(w.result.report.pieces, 1);
        QCOMPARE(w.result.report.genus, 0);
        QVERIFY(w.result.folded.empty());
        QVERIFY2(std::max(d.largest, d.backLargest) < 0.25 * d.edge,
                 qPrintable(QString("%1 %2 edge %3").arg(d.largest).arg(d.backLargest).arg(d.edge)));
        QVERIFY2(std::max(d.rms, d.backRms) < 0.02 * d.edge,
                 qPrintable(QString("%1 %2 edge %3").arg(d.rms).arg(d.backRms).arg(d.edge)));
    }
    void limitMeshIsClosedAndFollows() {
        Cage c = ring(10, 30, 9);
        const cage::LimitMesh limit(c, 4);
        auto m = surface::measure(limit.at(c.position));
        QVERIFY(m.watertight);
        QCOMPARE(m.genus, 1);
        const auto exact = cage::measureLimit(c);
        QVERIFY(exact.volume > 0);
        QVERIFY(std::abs(m.volume / exact.volume - 1) < 0.05);
        // moved and scaled: so is the surface
        for (auto& p : c.position) p = 2 * p + Vec3(5, 0, 0);
        QVERIFY(std::abs(cage::measureLimit(c).volume / exact.volume - 8) < 1e-9);
        QVERIFY((cage::measureLimit(c).centroid - Vec3(5, 0, 0)).norm() < 1e-9);
        QVERIFY(std::abs(surface::measure(limit.at(c.position)).volume / m.volume - 8) < 1e-9);
    }
    void creaseKeepsAnEdge() {
        Cage c = cube();
        c.crease = {{4, 5, cage::sharpest}, {4, 6, cage::sharpest}, {5, 7, cage::sharpest}, {6, 7, cage::sharpest}};
        // the top's rim is a closed uniform cubic B-spline of its four corners: a corner goes to 2/3 of its place
        const auto s = cage::limitStencils(c, {{5, 0, 0}}, false);
        const auto p = cage::asPoints(s.point * cage::asRows(c.position));
        QVERIFY2((p[0] - Vec3(-2. / 3, -2. / 3, 1)).norm() < 1e-6,
                 qPrintable(QString("%1 %2 %3").arg(p[0].x()).arg(p[0].y()).arg(p[0].z())));
        const auto smooth = cage::measureLimit(cube()), sharp = cage::measureLimit(c);
        QVERIFY(sharp.volume > smooth.volume * 1.1);
        // patches follow the crease; neighbours share their borders
        const auto patches = cage::makePatches(c);
        const auto middle = cage::limitStencils(c, {{5, 0.5, 0.5}, {5, 0.25, 0.75}}, false);
        const auto q = cage::asPoints(middle.point * cage::asRows(c.position));
        QVERIFY((patches.patch[5].point(0.5, 0.5) - q[0]).norm() < 0.02);
        QVERIFY((patches.patch[5].point(0.25, 0.75) - q[1]).norm() < 0.02);
    }
    void foldIsFound() {
        Cage c = ring(12, 20, 6);
        QVERIFY(cage::foldedFaces(c).empty());
        for (int k = 0; k < 4; ++k) std::swap(c.position[k], c.position[8 + k]);  // a tube that runs back and forth
        QVERIFY(!cage::foldedFaces(c).empty());
    }
    /// 3 x 3 splitting with transitions: closed, same handles, the marked faces nine-fold.
    void refiningKeepsTopology() {
        Cage c = ring(12, 20, 6);
        c.crease = {{0, 4, 5.0}};
        std::vector<char> marked(c.position.size(), 0);
        for (auto v : c.face[5]) marked[v] = 1;
        const auto before = c.face.size();
        cage::refineAround(c, marked);
        const auto r = cage::inspect(c);
        QVERIFY(r.closed && r.manifold);
        QCOMPARE(r.genus, 1);
        QVERIFY(c.face.size() >= before + 8 + 4 * 6 + 4 * 2);
        for (const auto& x : c.crease) QCOMPARE(x.sharpness, 5.0);
        QVERIFY(cage::foldedFaces(c).empty());
        std::vector<char> one(c.position.size(), 0);
        one[0] = 1;
        cage::refineAround(c, one);
        QVERIFY(isSound(c));
    }
    /// Sphere of radius 40, faces of 14 mm: RMS within 1 % and largest within 12 % of the edge, both ways.
    void sphere() {
        auto w =
            wrap([](const Vec3& p) { return p.norm() - 40; }, Box3{Vec3::Constant(-45), Vec3::Constant(45)}, 14, 4);
        const auto& d = w.result.deviation;
        QVERIFY(w.result.agrees);
        QCOMPARE(w.result.report.genus, 0);
        QVERIFY(w.result.folded.empty());
        QVERIFY(std::max(d.rms, d.backRms) < 0.01 * d.edge);
        QVERIFY(std::max(d.largest, d.backLargest) < 0.12 * d.edge);
        const double exact = 4. / 3 * M_PI * 40 * 40 * 40;
        QVERIFY(std::abs(cage::measureLimit(w.result.cage).volume / exact - 1) < 2e-3);
    }
    /// Torus 40/14, symmetric about three planes: every vertex has its mirror images to the last bits.
    void symmetricTorus() {
        const std::vector<std::array<Vec3, 2>> planes{
            {Vec3::Zero(), Vec3::UnitX()}, {Vec3::Zero(), Vec3::UnitY()}, {Vec3::Zero(), -Vec3::UnitZ()}};
        auto w = wrap([](const Vec3& p) { return Vec3(std::hypot(p.x(), p.y()) - 40, p.z(), 0).norm() - 14; },
                      Box3{Vec3(-58, -58, -18), Vec3(58, 58, 18)}, 11, 3, planes);
        QVERIFY(w.result.agrees);
        QCOMPARE(w.result.report.genus, 1);
        for (const auto& plane : planes)
            for (auto v : cage::mirrorVertices(w.result.cage, plane, 1e-9)) QVERIFY(v >= 0);
        QVERIFY(std::abs(cage::measureLimit(w.result.cage).volume / (2 * M_PI * M_PI * 40 * 14 * 14) - 1) < 5e-3);
    }
    void faceCountIsMet() {
        const auto body = [](const Vec3& p) { return p.norm() - 40; };
        auto solid = std::make_shared<shape::MachinedSolid>(std::make_shared<shape::FunctionBody>(body),
                                                            Box3{Vec3::Constant(-45), Vec3::Constant(45)});
        Progress progress;
        const cage::Target target(surface::extractSurface(*solid, 4, false, progress), solid, nullptr);
        for (int wanted : {100, 400}) {
            cage::AutomaticOptions o;
            o.faceCount = wanted;
            const auto a = cage::automaticCage(body, solid->bounds(), target, o, progress);
            QVERIFY(static_cast<int>(a.cage.face.size()) > 0.6 * wanted);
            QVERIFY(static_cast<int>(a.cage.face.size()) < 1.5 * wanted);
        }
    }
    /// A ridge with a tight rim around a ball: faces of the wanted size would round it off, so they are split there.
    void curvedPlacesGetFinerFaces() {
        auto body = [](const Vec3& p) {
            const double ring = Vec3(std::hypot(p.x(), p.y()) - 40, p.z(), 0).norm() - 4;
            return shape::smoothMinimum(p.norm() - 40, ring, 5);
        };
        auto w = wrap(body, Box3{Vec3(-50, -50, -45), Vec3(50, 50, 45)}, 14, 2);
        QVERIFY(w.result.agrees);
        const auto& c = w.result.cage;
        auto meanAt = [&](bool rim) {
            double sum = 0;
            int n = 0;
            for (const auto& q : c.face)
                for (int k = 0; k < 4; ++k) {
                    const Vec3 &a = c.position[q[k]], &b = c.position[q[(k + 1) % 4]];
                    if ((std::abs(a.z()) < 8) != rim || (std::abs(b.z()) < 8) != rim) continue;
                    sum += (a - b).norm();
                    ++n;
                }
            return sum / n;
        };
        QVERIFY2(meanAt(true) < 0.85 * meanAt(false),
                 qPrintable(QString("%1 %2, %3 faces").arg(meanAt(true)).arg(meanAt(false)).arg(c.face.size())));
        QVERIFY(w.result.folded.empty());
    }
    void tooSmallFacesAreRefused() {
        const auto body = [](const Vec3& p) { return p.norm() - 40; };
        Progress progress;
        auto solid = std::make_shared<shape::MachinedSolid>(std::make_shared<shape::FunctionBody>(body),
                                                            Box3{Vec3::Constant(-45), Vec3::Constant(45)});
        const cage::Target target(surface::extractSurface(*solid, 4, false, progress), solid, nullptr);
        cage::WrapOptions o;
        o.faceSize = 0.2;
        QVERIFY_EXCEPTION_THROWN(cage::wrapBody(body, solid->bounds(), target.mesh(), target.tree(), o, progress),
                                 InputError);
        o.faceSize = 8;
        progress.cancel();
        QVERIFY_EXCEPTION_THROWN(cage::wrapBody(body, solid->bounds(), target.mesh(), target.tree(), o, progress),
                                 Cancelled);
    }
    /// Regular patches are the limit surface itself, and meet without a kink.
    void regularPatchesAreExact() {
        const Cage c = ring(12, 20, 6);
        const auto p = cage::makePatches(c);
        QVERIFY(p.regularJump < 1e-6);
        std::vector<cage::LimitPlace> places;
        for (int f = 0; f < 12; ++f) places.push_back({f, 0.1 + 0.06 * f, 0.9 - 0.05 * f});
        const auto s = cage::limitStencils(c, places, false);
        const auto exact = cage::asPoints(s.point * cage::asRows(c.position));
        for (int f = 0; f < 12; ++f) QVERIFY((p.patch[f].point(places[f].u, places[f].v) - exact[f]).norm() < 1e-6);
    }
    void bordersAreShared() {
        const Cage c = cube();
        const auto p = cage::makePatches(c);
        const cage::Connectivity n(c);
        for (const auto& e : n.edge) {
            // along the edge from its two faces
            auto place = [&](int side, double t) {
                return side == 0   ? std::pair(t, 0.0)
                       : side == 1 ? std::pair(1.0, t)
                       : side == 2 ? std::pair(1 - t, 1.0)
                                   : std::pair(0.0, 1 - t);
            };
            for (double t : {0.0, 0.2, 0.5, 0.77, 1.0}) {
                const auto [u0, v0] = place(e.side[0], t);
                const auto [u1, v1] = place(e.side[1], 1 - t);
                QVERIFY((p.patch[e.face[0]].point(u0, v0) - p.patch[e.face[1]].point(u1, v1)).norm() < 1e-13);
            }
        }
        QVERIFY2(p.irregularJump < 1, qPrintable(QString::number(p.irregularJump)));
    }
};

QTEST_APPLESS_MAIN(TestCage)
#include "test_cage.moc"
