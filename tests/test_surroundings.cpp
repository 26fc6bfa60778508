/// What is seen around a place of a mesh: sizes, re-entrant edges, hollow radii; what tests of hotspots start from.
#include <QtTest>
#include <cmath>

#include "assess/hotspot_test.hpp"
#include "elastic/stress.hpp"
#include "verification.hpp"

using namespace escultura;
using namespace escultura::assess;
using namespace escultura::verification;

namespace {

/// A block of 20 x 20 x 10 mm whose upper right quarter is bent away, so that its side has a re-entrant edge along z.
/// @param empty  angle of the empty side at the edge, degrees
mesh::TetMesh corner(double empty, int n = 8) {
    // polar around the edge: the material fills what the empty side leaves
    const double filled = (360 - empty) * M_PI / 180;
    return mappedBlock(2 * n, n, 4, [=](const Vec3& p) {
        const double angle = -p[0] * filled, radius = 0.4 + 9.6 * p[1];
        return Vec3(radius * std::cos(angle), radius * std::sin(angle), 10 * p[2]);
    });
}

/// Half a tube: hollow inside, round outside.
mesh::TetMesh tube(double inner, double outer) {
    return mappedBlock(16, 3, 4, [=](const Vec3& p) {
        const double a = -M_PI * p[0], r = inner + (outer - inner) * p[1];
        return Vec3(r * std::cos(a), r * std::sin(a), 10 * p[2]);
    });
}

mesh::TetMesh box(int n) {
    return mappedBlock(n, n, n, [](const Vec3& p) { return Vec3(10 * p); });
}

/// A block of 20 x 20 x 10 mm about the z axis without its quarter at x < 0 < y: a square re-entrant edge along z.
mesh::TetMesh step() {
    const mesh::TetMesh whole =
        mappedBlock(8, 8, 4, [](const Vec3& p) { return Vec3(20 * p[0] - 10, 20 * p[1] - 10, 10 * p[2]); });
    std::vector<std::int32_t> number(whole.cornerCount, -1);
    std::vector<Vec3> corners;
    std::vector<lattice::Tet> tets;
    for (const auto& t : whole.tet) {
        Vec3 middle = Vec3::Zero();
        for (int c = 0; c < 4; ++c) middle += whole.position[t[c]] / 4;
        if (middle[0] < 0 && middle[1] > 0) continue;
        lattice::Tet kept;
        for (int c = 0; c < 4; ++c) {
            if (number[t[c]] < 0) {
                number[t[c]] = static_cast<std::int32_t>(corners.size());
                corners.push_back(whole.position[t[c]]);
            }
            kept[c] = number[t[c]];
        }
        tets.push_back(kept);
    }
    return mesh::quadraticMesh(corners, tets);
}

}  // namespace

class TestSurroundings : public QObject {
    Q_OBJECT

  private slots:
    /// Longest edges: the diagonal of a brick for six tetrahedra in it.
    void sizesAreThoseOfTheElements() {
        for (int n : {2, 5}) {
            const auto m = box(n);
            const double diagonal = std::sqrt(3.0) * 10 / n;
            QVERIFY(std::abs(sizeAround(m, Vec3(5, 5, 5), 4) - diagonal) < 1e-9);
            QVERIFY(std::abs(elementSizeAt(m, Vec3(1, 2, 3)) - diagonal) < 1e-9);
            // far away: the nearest element's
            QVERIFY(std::abs(sizeAround(m, Vec3(100, 0, 0), 1) - diagonal) < 1e-9);
            // peaks are looked for within what a test refines
            const double reach = testReach(m, Vec3(5, 5, 5));
            QVERIFY(reach > 0.5 * diagonal && reach < refinedBall[0] * diagonal);
        }
        // finer on one side
        const auto graded =
            mappedBlock(8, 2, 2, [](const Vec3& p) { return Vec3(40 * p[0] * p[0], 10 * p[1], 10 * p[2]); });
        QVERIFY(elementSizeAt(graded, Vec3(1, 5, 5)) < elementSizeAt(graded, Vec3(38, 5, 5)));
    }
    void convexBodiesHaveNoReEntrantEdge() {
        const auto m = box(3);
        for (const Vec3& p : {Vec3(0, 0, 0), Vec3(10, 5, 10), Vec3(5, 5, 0)}) {
            const Surroundings s = surroundings(m, p, 4, 6);
            QCOMPARE(s.angle, 180.0);
            QVERIFY(std::isinf(s.radius));
            QVERIFY(!isAtSharpEdge(m, p, 4));
        }
    }
    /// A square re-entrant corner leaves 90 degrees empty.
    void squareCornersAreSeen() {
        auto m = step();
        QVERIFY(mesh::measureQuality(m).minScaledJacobian > 0);
        const Surroundings s = surroundings(m, Vec3(0, 0, 5), 3, 4);
        QVERIFY2(std::abs(s.angle - 90) < 1, qPrintable(QString::number(s.angle)));
        QCOMPARE(surroundings(m, Vec3(-9, -10, 5), 3, 4).angle, 180.0);  // outside, nothing is hollow
    }
    /// Whether it is the body's own edge is told by the surfaces that meet there, not by the angle.
    void edgesAreSharpWhereTwoSurfacesMeet() {
        auto m = step();
        QVERIFY(!isAtSharpEdge(m, Vec3(0, 0, 5), 3));  // one surface: facets of something smooth
        m.owner.assign(m.boundary.size(), 0);
        for (std::size_t f = 0; f < m.boundary.size(); ++f) {
            double x = 0;
            for (auto n : m.boundary[f]) x += m.position[n][0] / 6;
            if (x > -1e-6) m.owner[f] = 1;
        }
        QVERIFY(isAtSharpEdge(m, Vec3(0, 0, 5), 3));
        QVERIFY(!isAtSharpEdge(m, Vec3(-8, -5, 5), 3));
    }
    void hollowRadiiAreMeasured() {
        const auto m = tube(6, 14);
        const Surroundings inside = surroundings(m, Vec3(0, -6, 5), 2, 2);
        QVERIFY2(std::abs(inside.radius / 6 - 1) < 0.05, qPrintable(QString::number(inside.radius)));
        const Surroundings outside = surroundings(m, Vec3(0, -14, 5), 2, 3);
        QVERIFY(std::isinf(outside.radius) || outside.radius > 100);
    }
    void anglesOfAnySizeAreSeen() {
        for (double empty : {60.0, 120.0}) {
            const auto m = corner(empty);
            // the two flat sides meet the small round at the edge's place; the edge itself is rounded by 0.4 mm
            const Surroundings s = surroundings(m, Vec3(0.4, 0, 5), 1, 1.5);
            QVERIFY(s.angle <= 180);
            QVERIFY(s.radius > 0);
        }
    }

    // ---- what a verdict may rest on
    void cutsMatterWhereNothingElseDecides() {
        QVERIFY(!cutMatters(0.01, 0));     // within the bar
        QVERIFY(cutMatters(0.05, 0.01));   // larger than what the refinement changed
        QVERIFY(!cutMatters(0.05, 0.40));  // it grows by much more than the cut could
        QVERIFY(cutMatters(0.05, -0.10));
    }
    void countedStresses() {
        using elastic::countedStress;
        QCOMPARE(countedStress(100, 95), 100.0);  // they agree: the judged one
        QCOMPARE(countedStress(100, 105), 100.0);
        QCOMPARE(countedStress(100, 80), 120.0);  // the larger, and as far again
        QCOMPARE(countedStress(80, 100), 120.0);
        QVERIFY(elastic::isResolved(100, 90) && !elastic::isResolved(100, 89));
        QVERIFY(elastic::isResolved(0, 0));
    }
    /// Peaks that follow h^-lambda, settle, or do neither, with the geometry that belongs to them.
    void classesFollowPeaksAndGeometry() {
        auto evidence = [](std::vector<double> peaks) {
            Evidence e;
            e.size = {4, 2, 1};
            e.peak = std::move(peaks);
            e.elements = {1000, 3000, 9000};
            e.alongEdge = {0, 0, 0};
            e.casePeak = {e.peak.back()};
            return e;
        };
        Evidence settled = evidence({95, 100, 100.5});
        classify(settled);
        QVERIFY(settled.verdict == HotspotClass::real);
        QCOMPARE(settled.counts(), 100.5);
        const double grow = std::pow(2, 0.456);
        Evidence edge = evidence({100, 100 * grow, 100 * grow * grow});
        edge.angle = 90;
        edge.sharp = true;
        edge.radius = 0;
        edge.alongEdge = edge.peak;
        classify(edge);
        QVERIFY2(edge.verdict == HotspotClass::singular, edge.reason.c_str());
        QVERIFY(std::abs(edge.exponent - 0.456) < 0.01);
        Evidence support = evidence({100, 130, 170});
        support.toSupport = 0.5;
        support.zone = 3;
        classify(support);
        QVERIFY2(support.verdict == HotspotClass::artefact, support.reason.c_str());
        Evidence strange = evidence({100, 130, 170});
        classify(strange);
        QVERIFY(strange.verdict == HotspotClass::unresolved);
        QVERIFY(strange.counts() > 170);  // the last step once more
        Evidence cut = evidence({95, 100, 100.5});
        cut.cutError = 0.3;
        classify(cut);
        QVERIFY(cut.verdict != HotspotClass::real);
        for (const Evidence* e : {&settled, &edge, &support, &strange, &cut}) QVERIFY(!e->reason.empty());
    }
};

QTEST_GUILESS_MAIN(TestSurroundings)
#include "test_surroundings.moc"
