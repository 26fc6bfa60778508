/// What the cage is built from, each against what it must give: basis functions, distances, moves, splits, places.
#include <QtTest>
#include <cmath>

#include "base/error.hpp"
#include "cage/fit.hpp"
#include "cage/limit.hpp"
#include "cage/patches.hpp"
#include "cage/split.hpp"
#include "cage/wrap.hpp"
#include "shape/machined_solid.hpp"
#include "surface/extract.hpp"

using namespace escultura;
using namespace escultura::cage;

namespace {

/// A cube from -size to size, each side split n times n.
Cage box(double size, int n) {
    Cage c;
    std::map<std::array<int, 3>, std::int32_t> at;
    auto vertex = [&](std::array<int, 3> g) {
        const auto [found, isNew] = at.try_emplace(g, static_cast<std::int32_t>(c.position.size()));
        if (isNew) c.position.push_back(size * (2.0 / n * Vec3(g[0], g[1], g[2]) - Vec3::Ones()));
        return found->second;
    };
    for (int axis = 0; axis < 3; ++axis)
        for (int end : {0, n})
            for (int j = 0; j < n; ++j)
                for (int i = 0; i < n; ++i) {
                    auto corner = [&](int di, int dj) {
                        std::array<int, 3> g;
                        g[axis] = end;
                        g[(axis + 1) % 3] = i + di;
                        g[(axis + 2) % 3] = j + dj;
                        return vertex(g);
                    };
                    Quad q{corner(0, 0), corner(1, 0), corner(1, 1), corner(0, 1)};
                    if (end == 0) std::swap(q[1], q[3]);
                    c.face.push_back(q);
                }
    return c;
}

std::unique_ptr<Target> ball(double radius, std::function<bool(const Vec3&)> leftOut = nullptr) {
    auto solid = std::make_shared<shape::MachinedSolid>(
        std::make_shared<shape::FunctionBody>([radius](const Vec3& p) { return p.norm() - radius; }),
        Box3{Vec3::Constant(-radius), Vec3::Constant(radius)});
    Progress progress;
    return std::make_unique<Target>(surface::extractSurface(*solid, 0.12 * radius, false, progress), solid,
                                    std::move(leftOut));
}

}  // namespace

class TestCageParts : public QObject {
    Q_OBJECT

  private slots:
    /// Values sum to one, derivatives are those of the values, both agree where the two spans meet.
    void basisFunctions() {
        for (double u : {0.0, 0.1, 0.3, 0.5, 0.50001, 0.8, 1.0}) {
            double value[6], slope[6], sum = 0, slopes = 0;
            patchBasis(u, value, slope);
            for (int k = 0; k < 6; ++k) {
                QVERIFY(value[k] >= -1e-12);
                sum += value[k];
                slopes += slope[k];
            }
            QVERIFY(std::abs(sum - 1) < 1e-12 && std::abs(slopes) < 1e-10);
            if (u <= 0 || u >= 1) continue;
            double low[6], high[6];
            patchBasis(u - 1e-6, low, nullptr);
            patchBasis(u + 1e-6, high, nullptr);
            for (int k = 0; k < 6; ++k) QVERIFY(std::abs((high[k] - low[k]) / 2e-6 - slope[k]) < 1e-4);
        }
        double start[6], end[6];
        patchBasis(0, start, nullptr);
        patchBasis(1, end, nullptr);
        QCOMPARE(start[0], 1.0);
        QCOMPARE(end[5], 1.0);
    }
    /// A plane's poles make a plane, with its own normal.
    void flatPatches() {
        Patch p;
        double knots[6] = {0, 1.0 / 6, 1.0 / 3, 2.0 / 3, 5.0 / 6, 1};
        for (int j = 0; j < 6; ++j)
            for (int i = 0; i < 6; ++i) p.pole[6 * j + i] = Vec3(4 * knots[i], 3 * knots[j], 4 * knots[i] - 2);
        for (double u : {0.0, 0.25, 0.6, 1.0})
            for (double v : {0.0, 0.4, 1.0}) {
                QVERIFY((p.point(u, v) - Vec3(4 * u, 3 * v, 4 * u - 2)).norm() < 1e-12);
                QVERIFY((p.cross(u, v) - Vec3(4, 0, 4).cross(Vec3(0, 3, 0))).norm() < 1e-9);
            }
    }
    /// Gauss points over two spans integrate polynomials of degree 9 exactly.
    void gaussPlacesIntegrate() {
        for (int degree = 0; degree <= 9; ++degree) {
            double sum = 0;
            for (int i = 0; i < 10; ++i) {
                const auto [u, w] = gaussPlace(i);
                sum += w * std::pow(u, degree);
            }
            QVERIFY(std::abs(sum * (degree + 1) - 1) < 1e-12);
        }
    }
    void edgesAndPlaces() {
        const Cage c = box(10, 4);
        QVERIFY(std::abs(meanEdge(c) - 5) < 1e-12);
        QCOMPARE(placeText(Vec3(1.23456, -0.0, 1e4)).empty(), false);
        QVERIFY((middleOf(c, 0) - 0.25 * (c.position[c.face[0][0]] + c.position[c.face[0][1]] +
                                          c.position[c.face[0][2]] + c.position[c.face[0][3]]))
                    .norm() < 1e-12);
        const Connectivity k(c);
        for (std::size_t e = 0; e < k.edge.size(); ++e) QVERIFY(!k.isBorder(static_cast<std::int32_t>(e)));
        Cage open = c;
        open.face.pop_back();
        const Connectivity o(open);
        int borders = 0;
        for (std::size_t e = 0; e < o.edge.size(); ++e) borders += o.isBorder(static_cast<std::int32_t>(e));
        QCOMPARE(borders, 4);
    }
    /// Outside is positive, inside negative, by the exact distance where there is a body.
    void distancesHaveTheirSign() {
        const auto target = ball(20);
        const std::vector<Vec3> points{{25, 0, 0}, {0, 18, 0}, {0, 0, -20}, {12, 12, 12}, {1, 0, 0}};
        const auto exact = signedDistances(*target, points), rough = signedDistances(*target, points, false);
        for (std::size_t k = 0; k + 1 < points.size(); ++k) {
            QVERIFY2(std::abs(exact[k] - (points[k].norm() - 20)) < 2e-3, qPrintable(QString::number(exact[k])));
            QVERIFY(std::abs(rough[k] - (points[k].norm() - 20)) < 0.1);
        }
        QVERIFY(exact.back() < -15);
        const Target::Point p = target->nearest(Vec3(21, 0.3, -0.2));
        QVERIFY2(std::abs(p.point.norm() - 20) < 2e-3, qPrintable(QString::number(p.point.norm())));
        QVERIFY2((p.point - 20 * Vec3(21, 0.3, -0.2).normalized()).norm() < 0.1,
                 qPrintable(QString::number(p.point[0])));
        QVERIFY((p.normal - p.point.normalized()).norm() < 0.01);
    }
    /// A cube's limit surface is no ball: the deviation says by how much, both ways, and leaves out what it is told to.
    void deviationsAreMeasuredBothWays() {
        Progress progress;
        const auto target = ball(20);
        Cage c = box(20, 3);
        for (Vec3& p : c.position) p *= 20 / p.norm();  // vertices on the ball: the limit surface lies inside
        const CageDeviation d = deviationOf(c, *target, 6, progress);
        QVERIFY(d.mean < 0 && d.largest > std::abs(d.mean) && d.rms >= std::abs(d.mean));
        QVERIFY(d.backLargest > 0.5 * d.largest && d.backLargest < 2 * d.largest);
        QCOMPARE(d.surface.triangle.size(), d.faceOf.size());
        QCOMPARE(d.ofFace.size(), c.face.size());
        double most = 0;
        for (float x : d.ofFace) most = std::max<double>(most, x);
        QVERIFY(std::abs(most - d.largest) < 1e-4);
        QVERIFY(std::abs(d.edge - meanEdge(c)) < 1e-9);
        QCOMPARE(d.zoneLargest, 0.0);
        const auto half = ball(20, [](const Vec3& p) { return p[2] > 0; });
        const CageDeviation left = deviationOf(c, *half, 6, progress);
        QVERIFY(left.zoneLargest > 0 && left.largestAt[2] <= 1e-6);
        QVERIFY(std::count(left.backFace.begin(), left.backFace.end(), -1) > 0);
    }
    /// The limit surface moves outward by the amount, near its vertices.
    void limitsMoveByTheAmount() {
        Progress progress;
        const auto target = ball(20), larger = ball(22);
        Cage c = box(20, 4);
        for (Vec3& p : c.position) p *= 20 / p.norm();
        FitOptions o;
        fitCage(c, *target, o, progress);
        QVERIFY(deviationOf(c, *target, 5, progress).rms < 0.05);
        moveLimit(c, [](const Vec3&) { return 2.0; });
        const CageDeviation d = deviationOf(c, *larger, 5, progress);
        QVERIFY2(std::abs(d.mean) < 0.05 && d.rms < 0.1, qPrintable(QString::number(d.rms)));
        // only where it is asked to
        Cage local = c;
        moveLimit(local, [](const Vec3& p) { return p[0] > 12 ? 1.0 : 0.0; });
        for (std::size_t v = 0; v < c.position.size(); ++v)
            if (c.position[v][0] < -5) QVERIFY((local.position[v] - c.position[v]).norm() < 0.05);
    }
    void splitsStaySymmetricAndClosed() {
        const auto target = ball(20);
        Cage c = box(20, 3);
        for (Vec3& p : c.position) p *= 20 / p.norm();
        std::vector<char> marked(c.position.size(), 0);
        std::size_t pole = 0;
        for (std::size_t v = 0; v < c.position.size(); ++v)
            if (c.position[v][0] > c.position[pole][0]) pole = v;
        marked[pole] = 1;
        const std::size_t before = c.face.size();
        const std::vector<std::array<Vec3, 2>> planes{{Vec3::Zero(), Vec3::UnitX()}};
        splitAround(c, marked, *target, planes);
        const CageReport r = inspect(c);
        QVERIFY(r.closed && r.manifold);
        QCOMPARE(r.genus, 0);
        QVERIFY(c.face.size() > before);
        const auto mirror = mirrorVertices(c, planes[0], 1e-6);
        QCOMPARE(std::count(mirror.begin(), mirror.end(), -1), std::ptrdiff_t(0));
    }
    /// Relaxing evens the edges out and stays on the surface.
    void relaxingStaysOnTheSurface() {
        const auto target = ball(20);
        Cage c = box(20, 4);
        for (Vec3& p : c.position) p *= 20 / p.norm();
        auto spread = [](const Cage& x) {
            const Connectivity k(x);
            double low = 1e9, high = 0;
            for (const auto& e : k.edge) {
                const double l = (x.position[e.a] - x.position[e.b]).norm();
                low = std::min(low, l);
                high = std::max(high, l);
            }
            return high / low;
        };
        const double before = spread(c);
        relaxOn(c, target->tree(), 10);
        QVERIFY(spread(c) < before);
        for (const Vec3& p : c.position) QVERIFY(std::abs(p.norm() - 20) < 0.15);
    }
    void cagesWithThreeFacesAtAnEdgeHaveNoLimit() {
        Cage c = box(10, 1);
        c.position.emplace_back(0, 0, 40);
        c.position.emplace_back(5, 0, 40);
        c.face.push_back({c.face[0][0], c.face[0][1], 8, 9});
        try {
            limitStencils(c, {{0, 0.5, 0.5}}, false);
            QFAIL("refused");
        } catch (const InputError& e) {
            QVERIFY(QString(e.what()).contains("one or two faces"));
        }
    }
};

QTEST_GUILESS_MAIN(TestCageParts)
#include "test_cage_parts.moc"
