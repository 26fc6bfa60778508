// Loads, supports and stresses on meshes of blocks: resultants, exactness for fields that the elements hold, tensors in
// turned axes, quality of single elements, finding places.
#include <QtTest>
#include <cmath>
#include <random>
#include <set>

#include "base/error.hpp"
#include "elastic/loads.hpp"
#include "elastic/stress.hpp"
#include "elastic/supports.hpp"
#include "elastic/system.hpp"
#include "lattice/refine.hpp"
#include "mesh/point_location.hpp"
#include "verification.hpp"

using namespace escultura;
using namespace escultura::elastic;
using namespace escultura::verification;

namespace {

/// A block of 40 x 20 x 10 mm from (0, 0, 0).
const mesh::TetMesh& block() {
    static const mesh::TetMesh m =
        mappedBlock(4, 3, 2, [](const Vec3& p) { return Vec3(40 * p[0], 20 * p[1], 10 * p[2]); });
    return m;
}

/// A pipe of radii 10 and 16 mm, 24 mm long, about the z axis through (0, 0).
const mesh::TetMesh& pipe() {
    static const mesh::TetMesh m = [] {
        mesh::TetMesh q = mappedBlock(24, 2, 4, [](const Vec3& p) {
            const double r = 10 + 6 * p[1], a = -2 * M_PI * p[0];
            return Vec3(r * std::cos(a), r * std::sin(a), 24 * p[2]);
        });
        return q;
    }();
    return m;
}

std::vector<std::int32_t> top() {
    return facesWhere(block(), [](const Vec3& p) { return p[2] > 10 - 1e-9; });
}

Material steel() {
    return {"made-up steel", 200000, 0.3, 7.85e-6, 250, "made up"};
}

bool near(const Vec3& a, const Vec3& b, double tolerance) {
    if ((a - b).norm() <= tolerance) return true;
    qWarning("(%g, %g, %g) is not (%g, %g, %g)", a[0], a[1], a[2], b[0], b[1], b[2]);
    return false;
}

/// Displacements of a linear field with the gradient G.
std::vector<Vec3> linearField(const mesh::TetMesh& m, const Mat3& g) {
    std::vector<Vec3> u;
    for (const Vec3& p : m.position) u.push_back(g * p);
    return u;
}

Voigt6 strainOf(const Mat3& g) {
    const Mat3 e = 0.5 * (g + g.transpose());
    Voigt6 v;
    v << e(0, 0), e(1, 1), e(2, 2), 2 * e(0, 1), 2 * e(1, 2), 2 * e(2, 0);
    return v;
}

}  // namespace

class TestLoads : public QObject {
    Q_OBJECT
  private slots:
    void areasOfFaces() {
        double area = 0;
        for (auto f : top()) area += faceArea(block(), f);
        QVERIFY(std::abs(area - 800) < 1e-9);
        double inner = 0;
        for (auto f : facesWhere(pipe(), [](const Vec3& p) { return std::hypot(p[0], p[1]) < 10.01; }))
            inner += faceArea(pipe(), f);
        QVERIFY2(std::abs(inner / (2 * M_PI * 10 * 24) - 1) < 1e-4, qPrintable(QString::number(inner)));
    }
    /// A pressure of 2 MPa on 800 mm2, and one that grows linearly: volume and middle of a wedge.
    void tractionsHaveTheirResultant() {
        NodalForces f(block().position.size(), Vec3::Zero());
        addTraction(
            block(), top(), [](const Vec3&, const Vec3& n) { return Vec3(-2 * n); }, f);
        Resultant r = resultant(block(), f, Vec3(20, 10, 10));
        QVERIFY(near(r.force, Vec3(0, 0, -1600), 1e-9) && near(r.moment, Vec3::Zero(), 1e-7));
        std::fill(f.begin(), f.end(), Vec3::Zero());
        addTraction(
            block(), top(), [](const Vec3& p, const Vec3&) { return Vec3(0, 0, -0.1 * p[0]); }, f);
        r = resultant(block(), f, Vec3::Zero());
        // sum = 0.1 * 40^2 / 2 * 20 = 1600 N at two thirds of the length
        QVERIFY(near(r.force, Vec3(0, 0, -1600), 1e-8));
        QVERIFY(near(r.moment, Vec3(-16000, 1600 * 80. / 3, 0), 1e-6));
        // nothing acts inside
        for (std::size_t n = 0; n < f.size(); ++n)
            if (block().position[n][2] < 9.9) QVERIFY(f[n] == Vec3::Zero());
    }
    void spreadForcesMeetForceAndMoment_data() {
        QTest::addColumn<double>("fx");
        QTest::addColumn<double>("fy");
        QTest::addColumn<double>("fz");
        QTest::addColumn<double>("mx");
        QTest::addColumn<double>("my");
        QTest::addColumn<double>("mz");
        QTest::newRow("force") << 100. << -50. << 25. << 0. << 0. << 0.;
        QTest::newRow("torque") << 0. << 0. << 0. << 0. << 0. << 5000.;
        QTest::newRow("bending") << 0. << 0. << -10. << 3000. << -2000. << 0.;
        QTest::newRow("all") << 1. << 2. << 3. << 400. << 500. << 600.;
    }
    void spreadForcesMeetForceAndMoment() {
        QFETCH(double, fx);
        QFETCH(double, fy);
        QFETCH(double, fz);
        QFETCH(double, mx);
        QFETCH(double, my);
        QFETCH(double, mz);
        const Vec3 force(fx, fy, fz), moment(mx, my, mz), centre(12, 5, 30);  // away from the face
        NodalForces f(block().position.size(), Vec3::Zero());
        addSpreadForce(block(), top(), force, moment, centre, f);
        const Resultant r = resultant(block(), f, centre);
        QVERIFY(near(r.force, force, 1e-9 * (1 + force.norm())));
        QVERIFY(near(r.moment, moment, 1e-8 * (1 + moment.norm() + force.norm() * 40)));
    }
    /// A pin's pressure acts on the half that it presses on, and passes through the axis.
    void bearingsPressOnHalfABore() {
        const auto bore = facesWhere(pipe(), [](const Vec3& p) { return std::hypot(p[0], p[1]) < 10.01; });
        const Vec3 centre(0, 0, 12), force(0, -3000, 400);
        NodalForces f(pipe().position.size(), Vec3::Zero());
        addBearing(pipe(), bore, Vec3::UnitZ(), centre, force, f);
        const Resultant r = resultant(pipe(), f, centre);
        QVERIFY(near(r.force, force, 1e-6) && near(r.moment, Vec3::Zero(), 1e-3));
        double across = 0;
        for (std::size_t n = 0; n < f.size(); ++n)
            if (pipe().position[n][1] > 1) across = std::max(across, std::hypot(f[n][0], f[n][1]));
        QVERIFY2(across < 1e-9, qPrintable(QString::number(across)));  // the other half bears nothing
        try {
            addBearing(block(), top(), Vec3::UnitX(), Vec3(20, 10, 12), Vec3(0, 0, 500), f);
            QFAIL("no error");
        } catch (const InputError& e) {
            QVERIFY(!e.detail().expected.empty() && !e.detail().found.empty());
        }
    }
    void bodyForcesWeighThePart() {
        NodalForces f(block().position.size(), Vec3::Zero());
        const double weight = 7.85e-6 * 9806.65 / 1000;  // N/mm3
        addBodyForce(
            block(), [&](const Vec3&) { return Vec3(0, 0, -weight); }, f);
        Resultant r = resultant(block(), f, Vec3(20, 10, 5));
        QVERIFY(near(r.force, Vec3(0, 0, -weight * 8000), 1e-9) && near(r.moment, Vec3::Zero(), 1e-8));
        // a centrifugal field about z through the corner: force is mass times distance of the middle
        std::fill(f.begin(), f.end(), Vec3::Zero());
        addBodyForce(
            block(), [](const Vec3& p) { return Vec3(p[0], p[1], 0); }, f);
        r = resultant(block(), f, Vec3::Zero());
        QVERIFY(near(r.force, 8000 * Vec3(20, 10, 0), 1e-6));
    }
    /// Rigid motions are what a mean motion measures exactly.
    void meanMotionsOfRigidBodies() {
        MeanHold hold;
        hold.faces = top();
        hold.centre = Vec3(5, 30, 12);
        const MeanMotion mean = meanMotion(block(), hold);
        const Vec3 shift(0.1, -0.2, 0.3), turn(1e-3, 2e-3, -3e-3);
        Eigen::Matrix<double, 6, 1> found = Eigen::Matrix<double, 6, 1>::Zero();
        for (std::size_t k = 0; k < mean.node.size(); ++k) {
            const Vec3& p = block().position[mean.node[k]];
            found += mean.weight[k] * (shift + turn.cross(p - hold.centre));
        }
        QVERIFY(near(found.head<3>(), shift, 1e-12) || (found.tail<3>() - turn).norm() < 1e-12);
        QVERIFY(near(found.tail<3>(), turn, 1e-12));
        // in a turned frame the components turn
        hold.frame.col(0) = Vec3::UnitY();
        hold.frame.col(1) = -Vec3::UnitX();
        const MeanMotion turned = meanMotion(block(), hold);
        Eigen::Matrix<double, 6, 1> other = Eigen::Matrix<double, 6, 1>::Zero();
        for (std::size_t k = 0; k < turned.node.size(); ++k) other += turned.weight[k] * shift;
        QVERIFY(std::abs(other[0] - shift.y()) < 1e-12 && std::abs(other[1] + shift.x()) < 1e-12);
    }
    void supportsLeaveMotionsFree() {
        Supports s;
        QCOMPARE(freeMotions(block(), s).size(), std::size_t(6));
        const auto foot = nodesWhere(block(), [](const Vec3& p) { return p[2] < 1e-9; });
        for (auto n : foot) s.constraints.emplace_back(n, 2);
        QCOMPARE(freeMotions(block(), s).size(), std::size_t(3));
        s.constraints.emplace_back(foot.front(), 0);
        s.constraints.emplace_back(foot.front(), 1);
        const auto left = freeMotions(block(), s);
        QCOMPARE(left.size(), std::size_t(1));
        QVERIFY(left[0].find("rotation about (0, 0, 1") != std::string::npos);
        s.constraints.emplace_back(foot.back(), Vec3(Vec3(1, 1, 0).normalized()));
        QVERIFY(freeMotions(block(), s).empty());
        Supports bed;
        bed.beds.push_back({top(), 50, 0});
        QCOMPARE(freeMotions(block(), bed).size(), std::size_t(3));
        bed.beds[0].tangential = 1;
        QVERIFY(freeMotions(block(), bed).empty());
        Supports mean;
        mean.meanHolds.push_back({top()});
        QVERIFY(freeMotions(block(), mean).empty());
        mean.meanHolds[0].held[3] = false;
        QCOMPARE(freeMotions(block(), mean).size(), std::size_t(1));
    }
    /// A linear displacement: the stress is that of Hooke's law everywhere, forces act on the boundary only.
    void linearFieldsAreExact() {
        Mat3 g;
        g << 1e-3, 2e-4, 0, -1e-4, -5e-4, 3e-4, 2e-4, 0, 7e-4;
        const auto u = linearField(block(), g);
        const Voigt6 exact = elasticity(steel()) * strainOf(g);
        const auto gauss = gaussStress(block(), steel(), u);
        QCOMPARE(gauss.size(), 4 * block().tet.size());
        for (const Voigt6& s : gauss) QVERIFY((s - exact).norm() < 1e-9 * exact.norm());
        Progress progress;
        const auto nodal = recoverStress(block(), gauss, progress);
        for (const Voigt6& s : nodal) QVERIFY((s - exact).norm() < 1e-8 * exact.norm());
        QVERIFY(errorEstimate(block(), steel(), gauss, nodal).relative < 1e-8);
        const auto forces = internalForces(block(), elasticity(steel()), u);
        Mat3 sigma;
        sigma << exact[0], exact[3], exact[5], exact[3], exact[1], exact[4], exact[5], exact[4], exact[2];
        NodalForces traction(block().position.size(), Vec3::Zero());
        std::vector<std::int32_t> all(block().boundary.size());
        for (std::size_t f = 0; f < all.size(); ++f) all[f] = static_cast<std::int32_t>(f);
        addTraction(
            block(), all, [&](const Vec3&, const Vec3& n) { return Vec3(sigma * n); }, traction);
        double largest = 0;
        for (const Vec3& f : traction) largest = std::max(largest, f.norm());
        for (std::size_t n = 0; n < forces.size(); ++n) QVERIFY((forces[n] - traction[n]).norm() < 1e-8 * largest);
    }
    /// Pure bending: stresses are linear, which quadratic elements and the recovery hold exactly.
    void linearStressesAreRecovered() {
        const double e = steel().youngsModulus, nu = steel().poissonsRatio, k = 1e-5;  // curvature, 1/mm
        std::vector<Vec3> u;
        for (const Vec3& p : block().position) {
            const double x = p[0] - 20, y = p[1] - 10, z = p[2] - 5;
            u.emplace_back(k * x * z, -nu * k * y * z, -0.5 * k * (x * x - nu * y * y + nu * z * z));
        }
        const auto gauss = gaussStress(block(), steel(), u);
        Progress progress;
        const auto nodal = recoverStress(block(), gauss, progress);
        for (std::size_t n = 0; n < nodal.size(); ++n) {
            Voigt6 exact = Voigt6::Zero();
            exact[0] = e * k * (block().position[n][2] - 5);
            QVERIFY2((nodal[n] - exact).norm() < 1e-6 * e * k * 5,
                     qPrintable(QString::number((nodal[n] - exact).norm())));
        }
        const auto estimate = errorEstimate(block(), steel(), gauss, nodal);
        QVERIFY2(estimate.relative < 1e-6, qPrintable(QString::number(estimate.relative)));
    }
    /// The estimate falls with the mesh for a field that elements do not hold.
    void estimatesFallWithTheMesh() {
        double last = 1e9;
        for (int n : {2, 4, 8}) {
            const mesh::TetMesh m = mappedBlock(n, n, n, [](const Vec3& p) { return Vec3(10 * p); });
            std::vector<Vec3> u;
            for (const Vec3& p : m.position) u.emplace_back(1e-3 * std::sin(0.3 * p[0]) * p[1], 0, 0);
            Progress progress;
            const auto gauss = gaussStress(m, steel(), u);
            const auto estimate = errorEstimate(m, steel(), gauss, recoverStress(m, gauss, progress));
            QVERIFY2(estimate.relative < 0.45 * last, qPrintable(QString::number(estimate.relative)));
            QCOMPARE(estimate.element.size(), m.tet.size());
            last = estimate.relative;
        }
        QVERIFY(last < 0.05);
    }
    /// Invariants stay in turned axes; principal stresses are the tensor's in the axes of their directions.
    void tensorsTurn() {
        Voigt6 s;
        s << 120, -40, 15, 60, -25, 10;
        const Mat3 turn = (Eigen::AngleAxisd(0.7, Vec3(1, 2, -1).normalized())).toRotationMatrix();
        const Voigt6 t = stressInFrame(s, turn);
        QVERIFY(std::abs(vonMises(t) - vonMises(s)) < 1e-10);
        QVERIFY((principal(t) - principal(s)).norm() < 1e-9);
        QVERIFY(std::abs(t.head<3>().sum() - s.head<3>().sum()) < 1e-10);
        const Voigt6 p = stressInFrame(s, principalDirections(s));
        QVERIFY((p.head<3>() - principal(s)).norm() < 1e-9 && p.tail<3>().norm() < 1e-9);
        QVERIFY(principal(s)[0] >= principal(s)[1] && principal(s)[1] >= principal(s)[2]);
        // brittle: only what pulls counts
        Material m = steel();
        m.rule = FailureRule::brittle;
        m.ultimateStrength = 300;
        QVERIFY(std::abs(failureStress(m, s) - principal(s)[0]) < 1e-9);
        QCOMPARE(failureStress(m, Voigt6(-Voigt6::Unit(0) * 50)), 0.0);
        QCOMPARE(strength(m), 300.0);
    }
    /// The regular tetrahedron is the best one: dihedral angle acos(1/3), aspect 1.
    void qualityOfSingleElements() {
        const double a = 1 / std::sqrt(2.0);
        const mesh::TetMesh regular =
            mesh::quadraticMesh({{1, 0, -a}, {-1, 0, -a}, {0, 1, a}, {0, -1, a}}, {{0, 1, 3, 2}});
        const mesh::Quality q = mesh::measureQuality(regular);
        const double angle = std::acos(1.0 / 3) * 180 / M_PI;
        QVERIFY2(std::abs(q.minDihedral - angle) < 1e-9 && std::abs(q.maxDihedral - angle) < 1e-9,
                 qPrintable(QString::number(q.minDihedral)));
        QVERIFY(std::abs(q.maxAspectRatio - 1) < 1e-9 && std::abs(q.minScaledJacobian - 1) < 1e-9);
        QVERIFY(std::abs(q.volume - std::sqrt(2.0) / 12 * 8) < 1e-12);  // edge 2: sqrt(2)/12 a^3
        QCOMPARE(q.warned + q.failed, 0);
        // a flat one is told with its place
        const mesh::TetMesh flat =
            mesh::quadraticMesh({{0, 0, 0}, {10, 0, 0}, {0, 10, 0}, {3, 3, 0.3}}, {{0, 1, 2, 3}});
        const mesh::Quality f = mesh::measureQuality(flat);
        QCOMPARE(f.failed, 1);
        QVERIFY(!f.worst.empty() && f.worst[0].element == 0 && f.worst[0].dihedral < 6 && f.worst[0].aspect > 20);
        QVERIFY(near(f.worst[0].middle, Vec3(3.25, 3.25, 0.075), 1e-9));
        int counted = 0;
        for (int n : f.dihedralHistogram) counted += n;
        QCOMPARE(counted, 1);
        const Mat3 j = mesh::jacobian(regular, 0, Vec3(0.2, 0.3, 0.1));
        QVERIFY(std::abs(j.determinant() - 6 * q.volume) < 1e-12);  // straight: the same everywhere
    }
    void facesOfTheBoundary() {
        lattice::TetComplex c;
        c.position = {{0, 0, 0}, {1, 0, 0}, {0, 1, 0}, {0, 0, 1}, {1, 1, 1}};
        c.tets = {{0, 1, 2, 3}, {1, 2, 3, 4}};
        if (tetVolume(c.position[1], c.position[2], c.position[3], c.position[4]) < 0)
            std::swap(c.tets[1][0], c.tets[1][1]);
        c.surfaces.resize(5);
        for (auto& s : c.surfaces) s.add(0);
        const auto faces = lattice::boundaryFaces(c);
        QCOMPARE(faces.triangle.size(), std::size_t(6));  // the shared one is inside
        double volume = 0;
        for (const Triangle& t : faces.triangle)
            volume += c.position[t[0]].dot(c.position[t[1]].cross(c.position[t[2]])) / 6;
        double tets = 0;
        for (const auto& t : c.tets)
            tets += tetVolume(c.position[t[0]], c.position[t[1]], c.position[t[2]], c.position[t[3]]);
        QVERIFY(std::abs(volume - tets) < 1e-12);  // oriented outward
        const auto at = lattice::incidence(5, c.tets);
        QCOMPARE(at.offset[1] - at.offset[0], 1);
        QCOMPARE(at.offset[2] - at.offset[1], 2);
        lattice::keepTets(c, {0, 1});
        QCOMPARE(c.tets.size(), std::size_t(1));
        QCOMPARE(c.position.size(), std::size_t(4));
        lattice::SurfaceSet s;
        QVERIFY(s.add(7) && s.add(2) && s.add(5) && !s.add(9));
        QVERIFY(s.id == (std::array<std::int16_t, 3>{2, 5, 7}) && s.count() == 3);
        lattice::SurfaceSet other;
        other.add(5);
        other.add(8);
        QVERIFY(s.common(other).count() == 1 && s.common(other).has(5));
    }
    /// A place is in the element that holds it, with its own coordinates.
    void placesAreFound() {
        const mesh::PointLocation location(block());
        std::mt19937 random(6);
        std::uniform_real_distribution<double> x(0.01, 0.99);
        for (int n = 0; n < 200; ++n) {
            const Vec3 p(40 * x(random), 20 * x(random), 10 * x(random));
            const auto at = location.at(p);
            QVERIFY(at.element >= 0);
            const Vec3 back = location.interpolate(block().position, at);
            QVERIFY(near(back, p, 1e-8));
            double sum = 0;
            for (double w : at.weight) sum += w;
            QVERIFY(std::abs(sum - 1) < 1e-12);
        }
        // a little outside the nearest element goes on; a quadratic field is met exactly inside
        std::vector<Vec3> square;
        for (const Vec3& p : block().position) square.emplace_back(p[0] * p[0], p[1] * p[2], 3 - p[2] * p[0]);
        const Vec3 p(17.3, 8.1, 6.6);
        QVERIFY(
            near(location.interpolate(square, location.at(p)), Vec3(p[0] * p[0], p[1] * p[2], 3 - p[2] * p[0]), 1e-6));
        QVERIFY(
            near(location.interpolate(block().position, location.at(Vec3(40.01, 10, 5))), Vec3(40.01, 10, 5), 1e-6));
    }
};

QTEST_GUILESS_MAIN(TestLoads)
#include "test_loads.moc"
