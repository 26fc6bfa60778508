#include <QtTest>
#include <cmath>
#include <numbers>

#include "base/error.hpp"
#include "elastic/kernels.hpp"
#include "elastic/modes.hpp"
#include "elastic/solve.hpp"
#include "verification.hpp"

using namespace escultura;
using namespace escultura::elastic;
using namespace escultura::verification;

namespace {

constexpr double pi = std::numbers::pi;

/// Without lateral strain, so that beam theory is all there is.
Material beamSteel() {
    return {"steel", 210000, 0, 7.85e-6, 250, "typical"};
}

/// A bar along x.
mesh::TetMesh bar(double length, double width, double height, int n) {
    return mappedBlock(n, 2, 2, [=](const Vec3& p) { return Vec3(length * p[0], width * p[1], height * p[2]); });
}
Supports clampedStart(const mesh::TetMesh& m) {
    Supports s;
    for (auto n : nodesWhere(m, [](const Vec3& p) { return p[0] < 1e-9; }))
        for (int k = 0; k < 3; ++k) s.constraints.push_back({n, k});
    return s;
}
ModeOptions by(Method method, int count) {
    ModeOptions o;
    o.count = count;
    o.solve.method = method;
    return o;
}
/// Displacements under a force spread over the end of a bar.
std::vector<Vec3> under(const mesh::TetMesh& m, const Material& material, const Supports& s, const Vec3& force,
                        double length) {
    const auto end = facesWhere(m, [&](const Vec3& p) { return p[0] > length - 1e-9; });
    NodalForces f(m.position.size(), Vec3::Zero());
    double area = 0;
    for (auto e : end) area += faceArea(m, e);
    addTraction(
        m, end, [&](const Vec3&, const Vec3&) -> Vec3 { return force / area; }, f);
    SolveOptions o;
    o.method = Method::direct;
    Progress progress;
    return solve(m, material, s, {{f, {}}}, o, progress).cases[0].displacement;
}
/// Bending frequency of a clamped-free beam with rotary inertia and shear left out, Hz (Blevins 1979, table 8-1).
double bending(double root, double length, double depth, const Material& m) {
    return root * root / (2 * pi * length * length) *
           std::sqrt(1000 * m.youngsModulus * depth * depth / 12 / m.density);
}

}  // namespace

class TestModes : public QObject {
    Q_OBJECT

  private slots:
    /// A clamped bar of 200 x 10 x 8 mm: its two planes of bending, twice, and its first torsion, by beam theory; with
    /// shear and rotary inertia the beam is at most 1 % slower in its first mode and 3 % in its second.
    void aClampedBeamSwings() {
        Progress progress;
        const Material m = beamSteel();
        const auto mesh = bar(200, 10, 8, 24);
        const auto modes = naturalModes(mesh, m, clampedStart(mesh), by(Method::direct, 5), progress);
        QCOMPARE(modes.size(), 5u);
        const double weak = bending(1.875104, 200, 8, m), strong = bending(1.875104, 200, 10, m);
        const double weak2 = bending(4.694091, 200, 8, m), strong2 = bending(4.694091, 200, 10, m);
        QVERIFY2(modes[0].value < weak * 1.002 && modes[0].value > weak * 0.99,
                 qPrintable(QString::number(modes[0].value / weak)));
        QVERIFY2(modes[1].value < strong * 1.002 && modes[1].value > strong * 0.99,
                 qPrintable(QString::number(modes[1].value / strong)));
        QVERIFY(modes[2].value < weak2 * 1.003 && modes[2].value > weak2 * 0.97);
        QVERIFY(modes[3].value < strong2 * 1.003 && modes[3].value > strong2 * 0.97);
        // the weak plane is z, the strong one y; the first mode moves 61.3 % of a cantilever's mass (Blevins)
        QVERIFY(std::abs(modes[0].share[2] - 0.613) < 0.01);
        QVERIFY(modes[0].share[1] < 1e-6 && modes[0].share[0] < 1e-6);
        QVERIFY(std::abs(modes[1].share[1] - 0.613) < 0.01);
        QVERIFY(std::abs(modes[2].share[2] - 0.188) < 0.01);
        for (const Mode& x : modes) {
            double largest = 0;
            for (const Vec3& u : x.shape) largest = std::max(largest, u.norm());
            QVERIFY(std::abs(largest - 1) < 1e-12);
            QVERIFY(x.error <= 1e-4);
        }
    }

    /// Two planes of bending that hardly differ, looked for loosely: the frequency with its error taken off is never
    /// above the one that the same mesh has, though the neighbour was not asked for.
    void neighboursCountInErrors() {
        Progress progress;
        for (const double depth : {10.0, 10.02, 10.2, 11.0}) {
            const auto mesh = bar(120, 10, depth, 12);
            ModeOptions tight = by(Method::direct, 2), loose = by(Method::direct, 1);
            tight.tolerance = 1e-12;
            loose.tolerance = 0.2;
            const auto truth = naturalModes(mesh, beamSteel(), clampedStart(mesh), tight, progress);
            const auto found = naturalModes(mesh, beamSteel(), clampedStart(mesh), loose, progress);
            QVERIFY(found[0].value >= truth[0].value * (1 - 1e-9));
            QVERIFY2(found[0].value * (1 - found[0].error) <= truth[0].value * (1 + 1e-9),
                     qPrintable(QString("%1 %2 %3").arg(depth).arg(found[0].value).arg(found[0].error)));
            QVERIFY(found[0].error <= 0.1);
        }
    }

    /// Along its axis a bar without lateral strain swings at exactly a quarter of its speed of sound over its length.
    void aBarSwingsAlongItsAxis() {
        Progress progress;
        const Material m = beamSteel();
        const auto mesh = bar(60, 10, 10, 12);
        Supports sliding;  // y and z held everywhere: nothing but axial motion is left
        for (std::size_t n = 0; n < mesh.position.size(); ++n) {
            sliding.constraints.push_back({static_cast<std::int32_t>(n), 1});
            sliding.constraints.push_back({static_cast<std::int32_t>(n), 2});
            if (mesh.position[n][0] < 1e-9) sliding.constraints.push_back({static_cast<std::int32_t>(n), 0});
        }
        const auto modes = naturalModes(mesh, m, sliding, by(Method::direct, 1), progress);
        const double speed = std::sqrt(1000 * m.youngsModulus / m.density);  // mm/s
        QVERIFY(std::abs(modes.at(0).value / (speed / 240) - 1) < 1e-5);
        QVERIFY(std::abs(modes.at(0).share[0] - 8 / (pi * pi)) < 1e-3);
    }

    /// Both solvers, and a bar that lies askew: the same frequencies; a square bar has pairs of equal ones.
    void solversAndOrientationsAgree() {
        Progress progress;
        const Material m = beamSteel();
        const auto mesh = bar(120, 10, 10, 16);
        const auto direct = naturalModes(mesh, m, clampedStart(mesh), by(Method::direct, 6), progress);
        const auto grids = naturalModes(mesh, m, clampedStart(mesh), by(Method::multigrid, 6), progress);
        auto askew = mesh;
        const Mat3 turn = Eigen::AngleAxisd(0.7, Vec3(1, 2, -1).normalized()).toRotationMatrix();
        for (Vec3& p : askew.position) p = turn * p + Vec3(300, -20, 5);
        Supports held;
        for (auto n : nodesWhere(mesh, [](const Vec3& p) { return p[0] < 1e-9; }))
            for (int k = 0; k < 3; ++k) held.constraints.emplace_back(n, Vec3(turn.col(k)));
        const auto turned = naturalModes(askew, m, held, by(Method::direct, 6), progress);
        for (std::size_t i = 0; i < 6; ++i) {
            QVERIFY2(std::abs(grids[i].value / direct[i].value - 1) < 2e-4, qPrintable(QString::number(i)));
            QVERIFY2(std::abs(turned[i].value / direct[i].value - 1) < 2e-4, qPrintable(QString::number(i)));
        }
        QVERIFY(std::abs(direct[1].value / direct[0].value - 1) < 1e-3);
    }

    /// A remote support holds the mean motion of the end: between the clamped bar and the one on soft springs.
    void remoteSupportsHoldModes() {
        Progress progress;
        const Material m = beamSteel();
        const auto mesh = bar(120, 10, 10, 16);
        const auto start = facesWhere(mesh, [](const Vec3& p) { return p[0] < 1e-9; });
        Supports remote, soft;
        remote.meanHolds.push_back({start, Vec3(0, 5, 5)});
        soft.beds.push_back({start, 2000, 2000});
        const double clamped = naturalModes(mesh, m, clampedStart(mesh), by(Method::direct, 1), progress)[0].value;
        const double mean = naturalModes(mesh, m, remote, by(Method::multigrid, 1), progress)[0].value;
        const double bed = naturalModes(mesh, m, soft, by(Method::direct, 1), progress)[0].value;
        QVERIFY2(mean < clamped && mean > 0.97 * clamped, qPrintable(QString::number(mean / clamped)));
        QVERIFY2(bed < 0.9 * clamped && bed > 0.3 * clamped, qPrintable(QString::number(bed / clamped)));
    }

    /// Euler's column, clamped below and free above: pi^2 E I / (4 L^2) about its weak and its strong axis.
    void aColumnBuckles_data() {
        QTest::addColumn<int>("method");
        QTest::newRow("direct") << static_cast<int>(Method::direct);
        QTest::newRow("multigrid") << static_cast<int>(Method::multigrid);
    }
    void aColumnBuckles() {
        QFETCH(int, method);
        Progress progress;
        const Material m = beamSteel();
        const auto mesh = bar(200, 10, 8, 24);
        const Supports s = clampedStart(mesh);
        const auto u = under(mesh, m, s, Vec3(-1000, 0, 0), 200);
        const auto modes = bucklingModes(mesh, m, s, {&u}, by(static_cast<Method>(method), 2), progress).at(0);
        QCOMPARE(modes.size(), 2u);
        const double weak = pi * pi * m.youngsModulus * 10 * std::pow(8, 3) / 12 / (4 * 200 * 200) / 1000;
        const double strong = pi * pi * m.youngsModulus * 8 * std::pow(10, 3) / 12 / (4 * 200 * 200) / 1000;
        QVERIFY2(std::abs(modes[0].value / weak - 1) < 0.005, qPrintable(QString::number(modes[0].value / weak)));
        QVERIFY2(std::abs(modes[1].value / strong - 1) < 0.005, qPrintable(QString::number(modes[1].value / strong)));
        // it bows like a quarter of a cosine: at half its height by 1 - cos(45 degrees) of the top
        for (std::size_t n = 0; n < mesh.position.size(); ++n)
            if (std::abs(mesh.position[n][0] - 100) < 1e-6)
                QVERIFY(std::abs(std::abs(modes[0].shape[n][2]) - (1 - std::sqrt(0.5))) < 0.01);
    }

    void aBarThatIsPulledDoesNotBuckle() {
        Progress progress;
        const Material m = beamSteel();
        const auto mesh = bar(120, 10, 8, 12);
        const Supports s = clampedStart(mesh);
        const auto u = under(mesh, m, s, Vec3(1000, 0, 0), 120);
        // at the edges of the clamped end nothing presses either: without lateral strain the pull is even
        QVERIFY(bucklingModes(mesh, m, s, {&u}, by(Method::direct, 2), progress).at(0).empty());
    }

    void aPartThatIsFreeIsRefused() {
        Progress progress;
        const auto mesh = bar(60, 10, 10, 4);
        try {
            naturalModes(mesh, beamSteel(), {}, by(Method::direct, 1), progress);
            QFAIL("refused");
        } catch (const InputError& e) {
            QVERIFY(std::string(e.what()).find("free to move") != std::string::npos);
        }
    }

    void aSearchIsCancelled() {
        Progress progress;
        progress.cancel();
        const auto mesh = bar(60, 10, 10, 4);
        QVERIFY_EXCEPTION_THROWN(naturalModes(mesh, beamSteel(), clampedStart(mesh), by(Method::direct, 1), progress),
                                 Cancelled);
    }

    /// The kernels against what they must give: the mass of the whole, the work of a rigid motion, the geometric
    /// stiffness of a turn under even stress.
    void kernelsKeepTheirSums() {
        auto mesh = bar(60, 10, 10, 4);
        for (Vec3& p : mesh.position) p[1] += 0.002 * p[0] * p[0];  // curved elements
        const Material m = beamSteel();
        ElementMatrix k;
        auto sumOf = [&](const ElementKernel& kernel, const std::function<Vec3(const Vec3&)>& u) {
            double sum = 0;
            for (std::size_t e = 0; e < mesh.tet.size(); ++e) {
                kernel(e, k);
                int at = 0;
                for (int a = 0; a < 10; ++a)
                    for (int b = a; b < 10; ++b, ++at) {
                        const double v = u(mesh.position[mesh.tet[e][a]]).dot(k[at] * u(mesh.position[mesh.tet[e][b]]));
                        sum += a == b ? v : 2 * v;
                    }
            }
            return sum;
        };
        auto even = [](const Vec3&) -> Vec3 { return Vec3::UnitY(); };
        QVERIFY(std::abs(sumOf(massKernel(mesh, 7.85e-6), even) / (6000 * 7.85e-6) - 1) < 1e-6);
        QVERIFY(std::abs(sumOf(stiffnessKernel(mesh, m), even)) < 1e-6);
        // even stress of 100 MPa along x; a turn about z by one radian has the gradient 1 along x of v, hence 100 V
        std::vector<Vec3> u(mesh.position.size());
        for (std::size_t n = 0; n < u.size(); ++n) u[n] = Vec3(100 / m.youngsModulus * mesh.position[n][0], 0, 0);
        auto bow = [](const Vec3& p) -> Vec3 { return Vec3(0, p[0], 0); };
        QVERIFY(std::abs(sumOf(geometricKernel(mesh, m, u), bow) / (100.0 * 6000) - 1) < 1e-6);
        QVERIFY(std::abs(sumOf(geometricKernel(mesh, m, u), even)) < 1e-6);
    }
};

QTEST_GUILESS_MAIN(TestModes)
#include "test_modes.moc"
