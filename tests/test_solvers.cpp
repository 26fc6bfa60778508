#include <QtTest>
#include <cmath>

#include "base/error.hpp"
#include "elastic/linear_solver.hpp"
#include "elastic/multigrid.hpp"
#include "elastic/stress.hpp"
#include "verification.hpp"

using namespace escultura;
using namespace escultura::elastic;
using namespace escultura::verification;

namespace {

Material steel() {
    return {"steel", 210000, 0.3, 7.85e-6, 250, "typical"};
}

double largestDifference(const std::vector<Vec3>& a, const std::vector<Vec3>& b) {
    double difference = 0, size = 0;
    for (std::size_t n = 0; n < a.size(); ++n) {
        difference = std::max(difference, (a[n] - b[n]).norm());
        size = std::max(size, b[n].norm());
    }
    return difference / size;
}

/// A bar of 60 x 10 x 10 mm along x.
mesh::TetMesh bar(int n = 2) {
    return mappedBlock(6 * n, n, n, [](const Vec3& p) { return Vec3(60 * p[0], 10 * p[1], 10 * p[2]); });
}
std::vector<std::int32_t> startFaces(const mesh::TetMesh& m) {
    return facesWhere(m, [](const Vec3& p) { return p[0] < 1e-9; });
}
std::vector<std::int32_t> endFaces(const mesh::TetMesh& m) {
    return facesWhere(m, [](const Vec3& p) { return p[0] > 60 - 1e-9; });
}
std::vector<std::int32_t> endNodes(const mesh::TetMesh& m) {
    return nodesWhere(m, [](const Vec3& p) { return p[0] > 60 - 1e-9; });
}
Supports clampedStart(const mesh::TetMesh& m) {
    Supports s;
    for (auto n : nodesWhere(m, [](const Vec3& p) { return p[0] < 1e-9; }))
        for (int k = 0; k < 3; ++k) s.constraints.push_back({n, k});
    return s;
}
LoadVector endForce(const mesh::TetMesh& m, const Vec3& force, const Vec3& moment = Vec3::Zero()) {
    LoadVector l{NodalForces(m.position.size(), Vec3::Zero()), {}};
    addSpreadForce(m, endFaces(m), force, moment, Vec3(60, 5, 5), l.forces);
    return l;
}
SolveOptions by(Method method) {
    SolveOptions o;
    o.method = method;
    return o;
}

}  // namespace

class TestSolvers : public QObject {
    Q_OBJECT

  private slots:
    /// A solver from elsewhere, behind the seam: its own diagonal alone as preconditioner gives the direct solution,
    /// free and with a held mean motion.
    void aSolverOfAnotherKindPlugsIn_data() {
        QTest::addColumn<bool>("mean");
        QTest::newRow("clamped") << false;
        QTest::newRow("mean motion held") << true;
    }
    void aSolverOfAnotherKindPlugsIn() {
        QFETCH(bool, mean);
        class Diagonal : public LinearSolver {
          public:
            explicit Diagonal(const System& system) : system_(system) {}
            std::string words() const override { return "diagonal"; }
            double bytes(std::size_t) const override { return 0; }
            bool isExact() const override { return false; }
            void apply(int vectors, const std::vector<float>& r, std::vector<float>& z) override {
                for (std::size_t row = 0; row < system_.rows(); ++row) {
                    const auto& k = system_.matrix();
                    const auto at = k.pattern.find(static_cast<std::int32_t>(row), static_cast<std::int32_t>(row));
                    const Mat3 block = k.block(at);
                    for (int a = 0; a < 3; ++a)
                        for (int v = 0; v < vectors; ++v) {
                            const std::size_t i = (3 * row + a) * static_cast<std::size_t>(vectors) + v;
                            z[i] = r[i] / static_cast<float>(block(a, a));
                        }
                }
            }

          private:
            const System& system_;
        };
        const mesh::TetMesh m = bar(1);
        Supports supports;
        if (mean)
            supports.meanHolds.push_back({startFaces(m), Vec3(0, 5, 5)});
        else
            supports = clampedStart(m);
        const LoadVector load = endForce(m, Vec3(100, -50, 20));
        Progress progress;
        const Solution wanted = solve(m, steel(), supports, {load}, by(Method::direct), progress);
        const System system(m, steel(), supports, 0, progress);
        Diagonal diagonal(system);
        SolveOptions options;
        options.iterationLimit = 3000;
        options.tolerance = 1e-9;
        Solutions solutions(system, diagonal, options);
        QVERIFY(!solutions.isExact() && (solutions.means() != nullptr) == mean);
        const auto x = solutions.solve({system.restricted(load.forces)}, progress);
        QVERIFY(solutions.report().iterations[0] > 20);
        QVERIFY(largestDifference(system.displacement(x[0]), wanted.cases[0].displacement) < 1e-6);
        options.iterationLimit = 5;  // what does not converge is refused
        Solutions tooFew(system, diagonal, options);
        QVERIFY_THROWS_EXCEPTION(SolveError, tooFew.solve({system.restricted(load.forces)}, progress));
    }
    /// A held mean motion of a whole side adds no more to the equations than an elastic bed there: no dense block.
    void heldMeanMotionsStaySparse() {
        const mesh::TetMesh m = verification::mappedBlock(10, 10, 10, [](const Vec3& p) { return Vec3(40 * p); });
        const Material steel{"steel", 210000, 0.3, 7.85e-6, 250, "typical"};
        Progress progress;
        Supports none, mean;
        mean.meanHolds.push_back(
            {verification::facesWhere(m, [](const Vec3& p) { return p[0] < 1e-9; }), Vec3(0, 20, 20)});
        const System free(m, steel, none, 0, progress), held(m, steel, mean, 0, progress);
        QCOMPARE(held.matrix().pattern.column.size(), free.matrix().pattern.column.size());
        QCOMPARE(held.meanRows().size(), std::size_t(6));
        // both solvers reach the same displacements, whose means are zero
        NodalForces f(m.position.size(), Vec3::Zero());
        addTraction(
            m, verification::facesWhere(m, [](const Vec3& p) { return p[0] > 40 - 1e-9; }),
            [](const Vec3&, const Vec3&) { return Vec3(30, -20, 10); }, f);
        std::vector<Solution> solutions;
        for (const Method method : {Method::direct, Method::multigrid}) {
            SolveOptions options;
            options.method = method;
            solutions.push_back(solve(m, steel, mean, {LoadVector{f, {}}}, options, progress));
            const CaseSolution& s = solutions.back().cases[0];
            QVERIFY2(s.residual < 1e-6 && s.equilibriumError < 1e-6, qPrintable(QString::number(s.residual)));
            const MeanMotion motion = meanMotion(m, mean.meanHolds[0]);
            Eigen::Matrix<double, 6, 1> sum = Eigen::Matrix<double, 6, 1>::Zero();
            double size = 0;
            for (std::size_t i = 0; i < motion.node.size(); ++i)
                sum += motion.weight[i] * s.displacement[motion.node[i]];
            for (const Vec3& u : s.displacement) size = std::max(size, u.norm());
            QVERIFY2(sum.norm() < 1e-6 * size, qPrintable(QString::number(sum.norm() / size)));
        }
        double apart = 0, size = 0;
        for (std::size_t n = 0; n < m.position.size(); ++n) {
            const Vec3 &a = solutions[0].cases[0].displacement[n], &b = solutions[1].cases[0].displacement[n];
            apart = std::max(apart, (a - b).norm());
            size = std::max(size, a.norm());
        }
        QVERIFY2(apart < 1e-5 * size, qPrintable(QString::number(apart / size)));
    }
    /// Two supports that want different things of one node are refused; the same thing twice is fine.
    void supportsThatContradictAreRefused() {
        const mesh::TetMesh m = verification::mappedBlock(2, 2, 2, [](const Vec3& p) { return Vec3(10 * p); });
        const Material steel{"steel", 210000, 0.3, 7.85e-6, 250, "typical"};
        Progress progress;
        auto solved = [&](double second) {
            Supports s;
            for (auto n : verification::nodesWhere(m, [](const Vec3& p) { return p[0] < 1e-9; }))
                for (int k = 0; k < 3; ++k) s.constraints.emplace_back(n, k);
            const auto node = s.constraints[0].node;
            s.constraints.emplace_back(node, 0, second);
            return solve(m, steel, s, {LoadVector{NodalForces(m.position.size(), Vec3(0, 1, 0)), {}}}, {}, progress);
        };
        QVERIFY(solved(0).cases[0].residual < 1e-9);
        QVERIFY_THROWS_EXCEPTION(InputError, solved(0.1));
    }
    void gridInterpolatesLinearFieldsExactly() {
        // three sizes of leaves, hanging corners included
        std::vector<Vec3> points;
        std::vector<int> level;
        for (int i = 0; i < 4000; ++i) {
            const Vec3 p(std::fmod(0.7548776 * i, 1.0) * 40, std::fmod(0.5698403 * i, 1.0) * 20,
                         std::fmod(0.3819660 * i, 1.0) * 20);
            points.push_back(p);
            level.push_back(p[0] < 8 ? 0 : p[0] < 20 ? 1 : 2);
        }
        BackgroundGrid grid(points, level, 1.0);
        for (int pass = 0; pass < 3; ++pass) {
            auto f = [](const Vec3& p) { return 3 + 0.5 * p[0] - 0.25 * p[1] + 2 * p[2]; };
            std::vector<GridWeight> shares;
            for (const Vec3& p : points) {
                const int leaf = grid.leafAt(p);
                QVERIFY(leaf >= 0);
                grid.interpolate(leaf, p, shares);
                double sum = 0, one = 0;
                for (const GridWeight& g : shares) sum += g.weight * f(grid.position()[g.node]), one += g.weight;
                QVERIFY(std::abs(sum - f(p)) < 2e-5 && std::abs(one - 1) < 1e-6);
            }
            const std::size_t before = grid.nodeCount();
            grid = grid.coarser();
            QVERIFY(grid.nodeCount() < before / 3);
        }
    }
    void productsAgree() {
        const mesh::TetMesh m = bar(3);
        Progress progress;
        const System system(m, steel(), clampedStart(m), 1.25, progress);
        // K u by the assembled matrix and by integrating the stresses
        std::vector<Vec3> q(system.rows());
        for (std::size_t r = 0; r < q.size(); ++r)
            for (int k = 0; k < 3; ++k)
                q[r][k] = system.row(r).freeMask >> k & 1 ? std::sin(0.37 * static_cast<double>(3 * r) + k) : 0.0;
        const auto force = system.restricted(internalForces(m, elasticity(steel()), system.displacement(q)));
        std::vector<double> x(12 * q.size()), y(x.size()), x1(3 * q.size()), y1(x1.size());
        std::vector<float> xf(x.size()), yf(x.size());
        for (std::size_t i = 0; i < x1.size(); ++i) {
            x1[i] = q[i / 3][i % 3];
            for (int v = 0; v < 4; ++v)
                x[4 * i + v] = (v + 1) * x1[i], xf[4 * i + v] = static_cast<float>(x[4 * i + v]);
        }
        multiply(system.matrix(), 4, x.data(), y.data());
        multiply(system.matrix(), 1, x1.data(), y1.data());
        multiply(system.matrix().pattern, system.matrix().high, 4, xf.data(), yf.data());
        double size = 0;
        for (const Vec3& f : force) size = std::max(size, f.norm());
        for (std::size_t i = 0; i < x1.size(); ++i) {
            if (!(system.row(i / 3).freeMask >> (i % 3) & 1)) continue;
            QVERIFY(std::abs(y1[i] - force[i / 3][i % 3]) < 1e-11 * size);
            for (int v = 0; v < 4; ++v) {
                QVERIFY(std::abs(y[4 * i + v] - (v + 1) * y1[i]) < 1e-11 * size);
                QVERIFY(std::abs(yf[4 * i + v] - (v + 1) * y1[i]) < 1e-4 * size);
            }
        }
    }
    void multigridAgreesWithDirect_data() {
        QTest::addColumn<double>("poissons");
        QTest::addColumn<int>("cases");
        QTest::newRow("one case") << 0.3 << 1;
        QTest::newRow("four cases") << 0.3 << 4;
        QTest::newRow("six cases") << 0.3 << 6;
        QTest::newRow("nearly incompressible") << 0.45 << 4;
    }
    void multigridAgreesWithDirect() {
        QFETCH(double, poissons);
        QFETCH(int, cases);
        const mesh::TetMesh m = bar(5);
        Material material = steel();
        material.poissonsRatio = poissons;
        std::vector<LoadVector> loads;
        for (int c = 0; c < cases; ++c)
            loads.push_back(endForce(m, Vec3(c == 0, c == 1, 1 + c), Vec3(0, c == 3 ? 20 : 0, c)));
        int curve = 0;
        Progress progress({},
                          [&](const std::string& name, double, double y) { curve += name == "residual" && y >= 0; });
        const Solution a = solve(m, material, clampedStart(m), loads, by(Method::direct), progress);
        QCOMPARE(curve, 0);
        const Solution b = solve(m, material, clampedStart(m), loads, by(Method::multigrid), progress);
        QCOMPARE(curve, static_cast<int>(b.residual.size()));
        for (int c = 0; c < cases; ++c) {
            QVERIFY2(b.cases[c].iterations > 3 && b.cases[c].iterations <= (poissons > 0.4 ? 55 : 45),
                     qPrintable(QString::number(b.cases[c].iterations)));
            const double difference = largestDifference(b.cases[c].displacement, a.cases[c].displacement);
            QVERIFY2(difference < 1e-6, qPrintable(QString::number(difference)));
            QVERIFY(b.cases[c].residual < 2e-8 && b.cases[c].equilibriumError < 1e-6);
            QVERIFY(a.cases[c].residual < 1e-10);
        }
        QVERIFY(b.solver.find("multigrid") != std::string::npos && a.solver.find("direct") != std::string::npos);
    }
    void choiceIsAutomaticAndSaid() {
        const mesh::TetMesh m = bar(3);
        Progress progress;
        SolveOptions o;
        Solution s = solve(m, steel(), clampedStart(m), {endForce(m, Vec3(0, 0, 1))}, o, progress);
        QVERIFY2(s.solver.find("direct") == 0 && s.solver.find("small") != std::string::npos, s.solver.c_str());
        o.directUnknowns = 500;
        s = solve(m, steel(), clampedStart(m), {endForce(m, Vec3(0, 0, 1))}, o, progress);
        QVERIFY2(s.solver.find("multigrid") != std::string::npos && s.solver.find("large") != std::string::npos,
                 s.solver.c_str());
        o = {};
        o.directMemory = 1e4;  // the predicted factor is larger
        s = solve(m, steel(), clampedStart(m), {endForce(m, Vec3(0, 0, 1))}, o, progress);
        QVERIFY2(s.solver.find("multigrid") != std::string::npos, s.solver.c_str());
    }
    void cancelsBetweenIterations() {
        const mesh::TetMesh m = bar(4);
        Progress* self = nullptr;
        int after = 0;
        Progress progress({}, [&](const std::string&, double x, double) {
            after = static_cast<int>(x);
            if (x == 3) self->cancel();
        });
        self = &progress;
        QVERIFY_EXCEPTION_THROWN(
            solve(m, steel(), clampedStart(m), {endForce(m, Vec3(0, 0, 1))}, by(Method::multigrid), progress),
            Cancelled);
        QCOMPARE(after, 3);
    }
    void tellsWhenItDoesNotConverge() {
        const mesh::TetMesh m = bar(3);
        Progress progress;
        SolveOptions o = by(Method::multigrid);
        o.iterationLimit = 2;
        QVERIFY_EXCEPTION_THROWN(solve(m, steel(), clampedStart(m), {endForce(m, Vec3(0, 0, 1))}, o, progress),
                                 SolveError);
    }
    /// A coarsest grid that cannot be inverted is refused: its inverse would be a wrong preconditioner.
    void aCoarsestGridThatCannotBeInvertedIsRefused() {
        const mesh::TetMesh m = bar(3);
        Material wrong = steel();
        wrong.youngsModulus = -wrong.youngsModulus;
        Progress progress;
        const System system(m, wrong, clampedStart(m), 1.25, progress);
        try {
            const Multigrid grids(system, {}, progress);
            QFAIL("no error");
        } catch (const SolveError& e) {
            QVERIFY2(std::string(e.what()).find("coarsest equations") != std::string::npos, e.what());
        }
        const System right(m, steel(), clampedStart(m), 1.25, progress);
        QVERIFY(!Multigrid(right, {}, progress).levelUnknowns().empty());
    }
    void slantedSlidingPlane_data() {
        QTest::addColumn<int>("method");
        QTest::newRow("direct") << int(Method::direct);
        QTest::newRow("multigrid") << int(Method::multigrid);
    }
    void slantedSlidingPlane() {
        // The same bar turned in space gives the same answer turned: held along its own axis on the start face.
        QFETCH(int, method);
        const Mat3 turn = (Eigen::AngleAxisd(0.6, Vec3(1, 2, 3).normalized())).toRotationMatrix();
        mesh::TetMesh m = bar(3), turned = m;
        for (Vec3& p : turned.position) p = turn * p;
        auto supports = [&](const mesh::TetMesh& at, const Mat3& t) {
            Supports s;
            for (auto n : nodesWhere(m, [](const Vec3& p) { return p[0] < 1e-9; }))
                s.constraints.push_back({n, Vec3(t.col(0))});
            const auto corner = nodeAt(at, t * Vec3(0, 0, 0)), side = nodeAt(at, t * Vec3(0, 10, 0));
            s.constraints.push_back({corner, Vec3(t.col(1))});
            s.constraints.push_back({corner, Vec3(t.col(2))});
            s.constraints.push_back({side, Vec3(t.col(2))});
            return s;
        };
        LoadVector load = endForce(m, Vec3(1000, 0, 0)), turnedLoad = load;
        for (Vec3& f : turnedLoad.forces) f = turn * f;
        Progress progress;
        const auto plain = solve(m, steel(), supports(m, Mat3::Identity()), {load}, by(Method::direct), progress);
        const auto slanted = solve(turned, steel(), supports(turned, turn), {turnedLoad}, by(Method(method)), progress);
        std::vector<Vec3> back = slanted.cases[0].displacement;
        for (Vec3& u : back) u = turn.transpose() * u;
        QVERIFY(largestDifference(back, plain.cases[0].displacement) < 1e-6);
        // 1000 N over 100 mm2: elongation F L / (E A)
        QVERIFY(std::abs(plain.cases[0].displacement[nodeAt(m, Vec3(60, 5, 5))][0] - 1000 * 60 / (210000. * 100)) <
                1e-9);
    }
    void enforcedDisplacementStretches() {
        const mesh::TetMesh m = bar(2);
        Supports s = clampedStart(m);
        for (auto n : endNodes(m)) s.constraints.push_back({n, Vec3(Vec3::UnitX())});
        LoadVector none{NodalForces(m.position.size(), Vec3::Zero()), {}}, pulled = none;
        pulled.given.assign(s.constraints.size(), 0.0);
        for (std::size_t c = s.constraints.size() - endNodes(m).size(); c < s.constraints.size(); ++c)
            pulled.given[c] = 0.06;
        Material loose = steel();
        loose.poissonsRatio = 0;  // then the bar is exactly uniaxial
        Progress progress;
        for (auto method : {Method::direct, Method::multigrid}) {
            const auto r = solve(m, loose, s, {none, pulled}, by(method), progress);
            QVERIFY(r.cases[0].strainEnergy < 1e-20);
            double force = 0;
            for (auto n : endNodes(m)) force += r.cases[1].reaction[n][0];
            QVERIFY2(std::abs(force / (210000 * 100 * 0.001) - 1) < 1e-7, qPrintable(QString::number(force)));
            QVERIFY(r.cases[1].equilibriumError < 1e-6);
        }
    }
    void elasticBedSettles() {
        const mesh::TetMesh m = bar(2);
        Supports s;
        s.beds.push_back({startFaces(m), 50, 20});
        QVERIFY(freeMotions(m, s).empty());
        Progress progress;
        for (auto method : {Method::direct, Method::multigrid}) {
            const auto r = solve(m, steel(), s, {endForce(m, Vec3(1000, 0, 0)), endForce(m, Vec3(0, 0, 100))},
                                 by(method), progress);
            double mean = 0;  // of the start face: F / (k A)
            const auto nodes = nodesWhere(m, [](const Vec3& p) { return p[0] < 1e-9; });
            for (auto n : nodes) mean += r.cases[0].displacement[n][0] / static_cast<double>(nodes.size());
            QVERIFY2(std::abs(mean / (1000 / (50. * 100)) - 1) < 1e-3, qPrintable(QString::number(mean)));
            QVERIFY((r.cases[1].reactions.force + Vec3(0, 0, 100)).norm() < 1e-4);
            QVERIFY(r.cases[0].equilibriumError < 1e-6);
        }
        // without tangential stiffness the bar slides
        s.beds[0].tangential = 0;
        QCOMPARE(freeMotions(m, s).size(), std::size_t(3));
    }
    void remoteSupportHoldsTheMeanOnly() {
        const mesh::TetMesh m = bar(3);
        Supports s;
        s.meanHolds.push_back({startFaces(m), Vec3(0, 5, 5)});
        QVERIFY(freeMotions(m, s).empty());
        Progress progress;
        for (auto method : {Method::direct, Method::multigrid}) {
            const auto r = solve(m, steel(), s, {endForce(m, Vec3(2000, 0, 0)), endForce(m, Vec3(0, 0, 100))},
                                 by(method), progress);
            for (const auto& c : r.cases) {
                MeanHold hold = s.meanHolds[0];
                const MeanMotion mean = meanMotion(m, hold);
                Eigen::Matrix<double, 6, 1> motion = Eigen::Matrix<double, 6, 1>::Zero();
                for (std::size_t n = 0; n < mean.node.size(); ++n)
                    motion += mean.weight[n] * c.displacement[mean.node[n]];
                QVERIFY2(motion.norm() < 1e-7, qPrintable(QString::number(motion.norm())));
                QVERIFY2(c.residual < 1e-6, qPrintable(QString::number(c.residual)));
                QVERIFY2(c.equilibriumError < 1e-6, qPrintable(QString::number(c.equilibriumError)));
            }
            // free to contract: the bar is uniaxial everywhere, which a clamped face would not be
            const auto gauss = gaussStress(m, steel(), r.cases[0].displacement);
            for (const auto& g : gauss) QVERIFY(std::abs(g[0] - 20) < 0.05 && std::abs(g[1]) < 0.05);
        }
    }
    void rigidConnectionKeepsItsShape() {
        const mesh::TetMesh m = bar(3);
        Supports s = clampedStart(m);
        s.rigidGroups.push_back({endNodes(m), {}});
        Progress progress;
        std::vector<Vec3> first;
        for (auto method : {Method::direct, Method::multigrid}) {
            const auto r = solve(m, steel(), s, {endForce(m, Vec3(0, 0, 100), Vec3(5000, 0, 0))}, by(method), progress);
            const auto& u = r.cases[0].displacement;
            // distances within the end face do not change (small rotations: to first order)
            const auto a = nodeAt(m, Vec3(60, 0, 0)), b = nodeAt(m, Vec3(60, 10, 0)), c = nodeAt(m, Vec3(60, 5, 10));
            for (auto [i, j] : {std::pair{a, b}, std::pair{b, c}, std::pair{a, c}}) {
                const Vec3 d = m.position[i] - m.position[j];
                QVERIFY(std::abs(d.dot(u[i] - u[j])) < 1e-9 * d.norm());
            }
            QVERIFY(r.cases[0].equilibriumError < 1e-6);
            if (!first.empty()) QVERIFY(largestDifference(u, first) < 1e-6);
            first = u;
        }
    }
    void orthotropicBar() {
        // pulled along axis 1 of a turned frame: E1 and both Poisson's ratios show
        Material wood = steel();
        const double angle = 0.5;
        Mat3 frame = Eigen::AngleAxisd(angle, Vec3::UnitZ()).toRotationMatrix();
        wood.orthotropic = Orthotropic{Vec3(12000, 900, 600), Vec3(0.4, 0.35, 0.02), Vec3(800, 60, 700), frame};
        validate(wood);
        mesh::TetMesh m = bar(2);
        for (Vec3& p : m.position) p = frame * p;
        const Stiffness6 compliance = elasticity(wood).inverse();
        QVERIFY((compliance - compliance.transpose()).norm() < 1e-15);
        Supports s;
        const auto start = nodeAt(m, Vec3(0, 0, 0)), side = nodeAt(m, frame * Vec3(0, 10, 0));
        for (std::size_t n = 0; n < m.position.size(); ++n)
            if (std::abs(m.position[n].dot(frame.col(0))) < 1e-9)
                s.constraints.push_back({static_cast<std::int32_t>(n), Vec3(frame.col(0))});
        s.constraints.push_back({start, Vec3(frame.col(1))});
        s.constraints.push_back({start, Vec3(frame.col(2))});
        s.constraints.push_back({side, Vec3(frame.col(2))});
        LoadVector load{NodalForces(m.position.size(), Vec3::Zero()), {}};
        const auto end = facesWhere(m, [&](const Vec3& p) { return p.dot(frame.col(0)) > 60 - 1e-9; });
        addTraction(
            m, end, [&](const Vec3&, const Vec3& n) -> Vec3 { return 30 * n; }, load.forces);
        Progress progress;
        for (auto method : {Method::direct, Method::multigrid}) {
            const auto r = solve(m, wood, s, {load}, by(method), progress);
            const Vec3 u = frame.transpose() * r.cases[0].displacement[nodeAt(m, frame * Vec3(60, 10, 10))];
            QVERIFY(std::abs(u[0] / (60 * 30.0 / 12000) - 1) < 1e-6);
            QVERIFY(std::abs(u[1] / (-10 * 0.4 * 30.0 / 12000) - 1) < 1e-6);
            QVERIFY(std::abs(u[2] / (-10 * 0.02 * 30.0 / 600) - 1) < 1e-6);  // nu13 / E1 = nu31 / E3
        }
        wood.orthotropic->poissons = Vec3(0.99, 0.99, 0.99);
        QVERIFY_EXCEPTION_THROWN(validate(wood), InputError);
    }
    void brittleRule() {
        Material cast = steel();
        cast.rule = FailureRule::brittle;
        QVERIFY_EXCEPTION_THROWN(validate(cast), InputError);
        cast.ultimateStrength = 200;
        validate(cast);
        Voigt6 pull, push;
        pull << 80, -20, 0, 0, 0, 0;
        push << -80, -20, 0, 0, 0, 0;
        QCOMPARE(failureStress(cast, pull), 80.0);
        QCOMPARE(failureStress(cast, push), 0.0);
        QCOMPARE(strength(cast), 200.0);
        QCOMPARE(failureStress(steel(), push), vonMises(push));
        const Mat3 d = principalDirections(pull);
        QVERIFY(std::abs(std::abs(d(0, 0)) - 1) < 1e-12);
        const Mat3 turn = Eigen::AngleAxisd(M_PI / 4, Vec3::UnitZ()).toRotationMatrix();
        const Voigt6 local = stressInFrame(pull, turn);  // Mohr: mean 30, shear -50
        QVERIFY(std::abs(local[0] - 30) < 1e-12 && std::abs(local[3] + 50) < 1e-12);
    }
};

QTEST_GUILESS_MAIN(TestSolvers)
#include "test_solvers.moc"
