// Optimisation on a grid: bricks and equations against direct solutions, gradients against differences, known layouts.
#include <tbb/global_control.h>

#include <QTest>
#include <cmath>
#include <random>

#include "base/error.hpp"
#include "optimise/mma.hpp"
#include "optimise/optimise.hpp"

using namespace escultura;
using namespace escultura::optimise;

namespace {

bool near(double a, double b, double relative) {
    return std::abs(a - b) <= relative * std::max(std::abs(a), std::abs(b));
}

Grid grid(int x, int y, int z, const Vec3& spacing = Vec3::Ones()) {
    Grid g;
    g.cells = {x, y, z};
    g.spacing = spacing;
    return g;
}

Problem problem(const Grid& g) {
    Problem p;
    p.grid = g;
    p.use.assign(g.cellCount(), CellUse::free);
    p.youngsModulus = 71000;
    p.poissonsRatio = 0.33;
    return p;
}

template <class Use>
void forNodes(const Grid& g, const Use& use) {
    for (std::size_t n = 0; n < g.nodeCount(); ++n) use(n, g.nodeAt(n));
}

void holdWhere(Problem& p, int axis, int at, std::initializer_list<int> directions) {
    forNodes(p.grid, [&](std::size_t n, const std::array<int, 3>& i) {
        if (i[static_cast<std::size_t>(axis)] != at) return;
        for (int d : directions) p.holds.push_back({n, Vec3::Unit(d)});
    });
}

/// Uneven cells, a void, a kept cell, a spring, a force, a body force and a moved support.
Problem mixed() {
    Problem p = problem(grid(8, 5, 6, Vec3(2, 2.5, 1.5)));
    p.use[p.grid.cell(3, 2, 2)] = CellUse::empty;
    p.use[p.grid.cell(5, 1, 0)] = CellUse::empty;
    p.use[p.grid.cell(7, 2, 2)] = CellUse::solid;
    holdWhere(p, 0, 0, {0, 1, 2});
    p.springs.push_back({p.grid.node(8, 5, 6), 500 * Mat3::Identity()});
    GridCase force{"force", {{p.grid.node(8, 2, 2), Vec3(0, 100, 50)}, {p.grid.node(8, 3, 3), Vec3(10, 0, -200)}}};
    GridCase weight{"weight", {{p.grid.node(8, 2, 2), Vec3(0, 20, 0)}}};
    weight.bodyForce = [](const Vec3& x) { return Vec3(0.1, 0.02 * x[0], -0.3); };
    GridCase moved{"moved", {}};
    moved.given.assign(p.holds.size(), 0.0);
    for (std::size_t i = 0; i < 18; ++i) moved.given[i] = 0.01 * (static_cast<double>(i % 5) - 2);
    p.cases = {force, weight, moved};
    return p;
}

std::vector<double> randomDesign(std::size_t n) {
    std::mt19937 random(3);
    std::uniform_real_distribution<double> value(0.2, 0.9);
    std::vector<double> x(n);
    for (double& v : x) v = value(random);
    return x;
}

}  // namespace

class TestOptimise : public QObject {
    Q_OBJECT
  private slots:
    /// The blocks are the brick; rigid motions cost nothing, a constant strain what the material says.
    void brick() {
        const Vec3 spacing(2, 3, 1.5);
        const BrickMatrix k = brickStiffness(spacing, 0.3);
        QVERIFY((k - k.transpose()).norm() < 1e-12 * k.norm());
        Eigen::Matrix<double, 24, 1> turn, strain;
        for (unsigned c = 0; c < 8; ++c) {
            const Vec3 p = spacing.cwiseProduct(Vec3(c & 1U, c >> 1 & 1U, c >> 2));
            turn.segment<3>(3 * c) = Vec3(0.3, -0.2, 0.5).cross(p) + Vec3(1, 2, 3);
            strain.segment<3>(3 * c) = Vec3(p[0], -0.3 * p[1], -0.3 * p[2]);  // uniaxial stress of 1 MPa
        }
        QVERIFY((k * turn).norm() < 1e-12 * k.norm() * turn.norm());
        QVERIFY(near(strain.dot(k * strain), spacing.prod(), 1e-12));
        const BrickBlocks blocks = brickBlocks(k);
        Eigen::Matrix<double, 24, 24> walsh = Eigen::Matrix<double, 24, 24>::Zero(), inside = walsh;
        for (unsigned w = 0; w < 8; ++w)
            for (unsigned c = 0; c < 8; ++c)
                for (unsigned d = 0; d < 3; ++d) walsh(3 * w + d, 3 * c + d) = __builtin_popcount(w & c) % 2 ? -1 : 1;
        for (unsigned b = 0; b < 8; ++b)
            for (unsigned d = 0; d < 3; ++d)
                for (unsigned e = 0; e < 3; ++e)
                    inside(3 * (b ^ (1U << d)) + d, 3 * (b ^ (1U << e)) + e) = blocks.block[b][d][e];
        QVERIFY((walsh.transpose() * inside * walsh - k).norm() < 1e-12 * k.norm());
    }
    /// Against a dense factorisation: cells of any stiffness, a void, springs, holds along slanted directions.
    void equations() {
        Problem p = problem(grid(6, 5, 7, Vec3(1, 1.2, 0.8)));
        p.use[p.grid.cell(2, 2, 3)] = CellUse::empty;
        std::vector<char> empty(p.use.size());
        for (std::size_t c = 0; c < empty.size(); ++c) empty[c] = p.use[c] == CellUse::empty;
        const Vec3 slant = Vec3(1, 2, -1).normalized();
        holdWhere(p, 2, 0, {0, 1, 2});
        for (int i = 0; i < 4; ++i) p.holds.push_back({p.grid.node(6, i, 5), slant});
        p.holds.push_back({p.grid.node(6, 1, 5), slant});  // said twice
        p.springs = {{p.grid.node(0, 5, 7), 3e4 * slant * slant.transpose()}};
        std::mt19937 random(7);
        std::uniform_real_distribution<double> value(-4, 0);
        std::vector<double> factor(p.use.size());
        for (double& f : factor) f = std::pow(10.0, value(random));
        GridSolver solver(p.grid, empty, p.youngsModulus, p.poissonsRatio, p.holds, p.springs);
        Progress progress;
        solver.setFactors(factor, progress);
        const auto n = static_cast<Eigen::Index>(3 * p.grid.nodeCount());
        Eigen::MatrixXd k = Eigen::MatrixXd::Zero(n, n);
        const BrickMatrix brick = p.youngsModulus * brickStiffness(p.grid.spacing, p.poissonsRatio);
        for (std::size_t c = 0; c < factor.size(); ++c) {
            if (empty[c]) continue;
            for (unsigned a = 0; a < 8; ++a)
                for (unsigned b = 0; b < 8; ++b)
                    k.block<3, 3>(static_cast<Eigen::Index>(3 * p.grid.corner(c, a)),
                                  static_cast<Eigen::Index>(3 * p.grid.corner(c, b))) +=
                        factor[c] * brick.block<3, 3>(3 * a, 3 * b);
        }
        for (const Spring& s : p.springs)
            k.block<3, 3>(static_cast<Eigen::Index>(3 * s.node), static_cast<Eigen::Index>(3 * s.node)) += s.stiffness;
        Eigen::MatrixXd held = k;
        const double stiff = 1e6 * k.diagonal().maxCoeff();
        for (const Hold& h : p.holds)
            held.block<3, 3>(static_cast<Eigen::Index>(3 * h.node), static_cast<Eigen::Index>(3 * h.node)) +=
                stiff * h.direction * h.direction.transpose();
        std::vector<Vec3> f(p.grid.nodeCount(), Vec3::Zero()), u;
        f[p.grid.node(3, 5, 7)] = Vec3(5, -3, 10);
        f[p.grid.node(6, 1, 5)] = Vec3(20, 1, 0);  // partly into a hold
        const auto report = solver.solve(f, u, 1e-11, 100, progress);
        QVERIFY2(report.iterations < 45, qPrintable(QString::number(report.iterations)));
        Eigen::VectorXd b(n);
        for (std::size_t i = 0; i < f.size(); ++i) b.segment<3>(static_cast<Eigen::Index>(3 * i)) = f[i];
        const Eigen::VectorXd x = held.ldlt().solve(b);
        double worst = 0, most = x.cwiseAbs().maxCoeff();
        for (std::size_t i = 0; i < f.size(); ++i)
            worst = std::max(worst, (x.segment<3>(static_cast<Eigen::Index>(3 * i)) - u[i]).norm());
        QVERIFY2(worst < 1e-5 * most, qPrintable(QString::number(worst / most)));  // the penalty's error
        for (const Hold& h : p.holds) QVERIFY(std::abs(u[h.node].dot(h.direction)) < 1e-12 * most);
        // the product and the energies are those of the matrix
        std::vector<Vec3> product;
        solver.multiply(u, product);
        Eigen::VectorXd ux(n);
        for (std::size_t i = 0; i < u.size(); ++i) ux.segment<3>(static_cast<Eigen::Index>(3 * i)) = u[i];
        const Eigen::VectorXd kx = k * ux;
        for (std::size_t i = 0; i < u.size(); ++i)
            QVERIFY((kx.segment<3>(static_cast<Eigen::Index>(3 * i)) - product[i]).norm() < 1e-9 * kx.norm());
        std::vector<double> energy;
        solver.energies(u, energy);
        double sum = 0;
        for (std::size_t c = 0; c < energy.size(); ++c) sum += energy[c] * factor[c];
        for (const Spring& s : p.springs) sum += u[s.node].dot(s.stiffness * u[s.node]);
        QVERIFY2(near(sum, ux.dot(kx), 1e-8),
                 qPrintable(QString("%1 %2").arg(sum, 0, 'g', 12).arg(ux.dot(kx), 0, 'g', 12)));
    }
    /// Hardly more iterations at a contrast of ten millions, on a grid of odd size.
    void iterations() {
        Problem p = problem(grid(37, 21, 18));
        holdWhere(p, 0, 0, {0, 1, 2});
        GridSolver solver(p.grid, std::vector<char>(p.use.size(), 0), 71000, 0.33, p.holds, {});
        std::vector<Vec3> f(p.grid.nodeCount(), Vec3::Zero()), u;
        f[p.grid.node(37, 10, 9)] = Vec3(0, 0, 1000);
        Progress progress;
        for (const double thin : {1.0, 1e-7}) {
            std::vector<double> factor(p.use.size());
            for (std::size_t c = 0; c < factor.size(); ++c) {
                const auto at = p.grid.cellAt(c);
                factor[c] = (at[1] / 3 % 2 == 0 && at[2] / 3 % 2 == 0) || at[0] / 6 % 3 == 0 ? 1 : thin;
            }
            solver.setFactors(factor, progress);
            u.clear();
            const int count = solver.solve(f, u, 1e-8, 100, progress).iterations;
            QVERIFY2(count <= (thin == 1 ? 15 : 45), qPrintable(QString::number(count)));
        }
    }
    void notHeld() {
        Problem p = problem(grid(12, 6, 6));
        GridSolver solver(p.grid, std::vector<char>(p.use.size(), 0), 71000, 0.33, {}, {});
        Progress progress;
        std::vector<Vec3> f(p.grid.nodeCount(), Vec3::Zero()), u;
        f[p.grid.node(12, 3, 3)] = Vec3(0, 0, 1000);
        QVERIFY_EXCEPTION_THROWN(
            {
                solver.setFactors(std::vector<double>(p.use.size(), 1.0), progress);
                solver.solve(f, u, 1e-8, 60, progress);
            },
            InputError);
    }
    /// Keeps sums inside, lets material end at walls, and is its own adjoint.
    void filter() {
        const Grid g = grid(9, 8, 10, Vec3(1, 1.5, 0.8));
        const ConeFilter cone(g, {}, 2.6);
        std::vector<double> a = randomDesign(g.cellCount()), b = a, fa, fb;
        std::reverse(b.begin(), b.end());
        for (std::size_t i = 0; i < b.size(); i += 3) b[i] = 0.1;
        cone.apply(a, fa);
        cone.applyBack(b, fb);
        double ab = 0, ba = 0;
        for (std::size_t i = 0; i < a.size(); ++i) ab += a[i] * fb[i], ba += b[i] * fa[i];
        QVERIFY(near(ab, ba, 1e-12));
        cone.apply(std::vector<double>(a.size(), 1.0), fa);
        QVERIFY(near(fa[g.cell(4, 4, 5)], 1, 1e-12));
        QVERIFY(fa[g.cell(0, 4, 5)] < 0.85 && fa[g.cell(0, 0, 0)] < 0.61);
        // a sheet of one cell can still be filled
        ConeFilter(grid(9, 9, 1), {}, 3).apply(std::vector<double>(81, 1.0), fb);
        QVERIFY(near(fb[40], 0.6, 1e-12));
        QCOMPARE(projected(0, 12), 0.0);
        QCOMPARE(projected(1, 12), 1.0);
        QCOMPARE(projected(0.5, 12), 0.5);
        ConeFilter(g, {}, 0.1).apply(a, fa);
        QCOMPARE(fa, a);
    }
    /// What leans out by more than 45 degrees does not stay; what is below material does, along the draw direction.
    void rules() {
        const Grid g = grid(7, 3, 6);
        std::vector<CellUse> use(g.cellCount(), CellUse::free);
        auto densities = [&](LayerRule rule, std::initializer_list<std::array<int, 3>> full) {
            std::vector<double> x(g.cellCount(), 0.0);
            for (const auto& c : full) x[g.cell(c[0], c[1], c[2])] = 1;
            return DensityChain(g, use, 0, {rule}).densities(x);
        };
        const LayerRule up{LayerRule::Kind::overhang, 2, true};
        auto d = densities(up, {{1, 1, 0}, {2, 1, 1}, {3, 1, 2}, {5, 1, 2}, {6, 1, 3}});
        QVERIFY(d[g.cell(3, 1, 2)] > 0.9);  // 45 degrees from the base
        QVERIFY(d[g.cell(5, 1, 2)] < 0.05 && d[g.cell(6, 1, 3)] < 0.05);
        d = densities({LayerRule::Kind::overhang, 2, false}, {{5, 1, 5}, {5, 1, 4}, {1, 1, 0}});
        QVERIFY(d[g.cell(5, 1, 4)] > 0.9 && d[g.cell(1, 1, 0)] < 0.05);
        d = densities({LayerRule::Kind::draw, 0, true}, {{0, 1, 1}, {1, 1, 1}, {2, 2, 1}, {0, 2, 2}, {2, 2, 2}});
        QVERIFY(d[g.cell(1, 1, 1)] > 0.9 && d[g.cell(2, 2, 1)] < 0.05 && d[g.cell(2, 2, 2)] < 0.05);
        // on top of what is empty for ever a drawn shape may begin; what is kept stays as it is
        use[g.cell(1, 2, 1)] = CellUse::empty;
        use[g.cell(4, 0, 0)] = CellUse::solid;
        d = densities({LayerRule::Kind::draw, 0, true}, {{2, 2, 1}});
        QVERIFY(d[g.cell(2, 2, 1)] > 0.9);
        QCOMPARE(d[g.cell(4, 0, 0)], 1.0);
        QCOMPARE(d[g.cell(1, 2, 1)], 0.0);
    }
    /// Every response through filter, projection and rules against central differences.
    void gradients_data() {
        QTest::addColumn<int>("mode");
        QTest::newRow("weighted sum") << 0;
        QTest::newRow("worst case") << 1;
        QTest::newRow("stress and compliance") << 2;
        QTest::newRow("overhang and draw") << 3;
    }
    void gradients() {
        QFETCH(int, mode);
        const Problem p = mixed();
        Choice c;
        c.filterRadius = 4;
        c.tolerance = 1e-12;
        c.share = 0.5;
        c.weights = {1, 0.5, 2};
        if (mode == 1) c.worstCase = true;
        if (mode == 2) {
            c.aim = Aim::lightest;
            c.allowable = 50;
            c.complianceOver = 2;
        }
        if (mode == 3) c.rules = {{LayerRule::Kind::overhang, 2, true}, {LayerRule::Kind::draw, 1, false}};
        const std::vector<double> x = randomDesign(p.use.size());
        Progress progress;
        const Point at = evaluate(p, c, x, 3, progress);
        QCOMPARE(at.limit.size(), mode == 2 ? 6U : 1U);
        auto largest = [](const std::vector<double>& g) {
            double most = 0;
            for (double v : g) most = std::max(most, std::abs(v));
            return most;
        };
        std::mt19937 random(11);
        for (int t = 0; t < 8; ++t) {
            const std::size_t n = random() % x.size();
            if (p.use[n] != CellUse::free) {
                QCOMPARE(at.gradient[n], 0.0);
                continue;
            }
            const double h = 1e-5;
            auto y = x;
            y[n] += h;
            const Point more = evaluate(p, c, y, 3, progress);
            y[n] -= 2 * h;
            const Point less = evaluate(p, c, y, 3, progress);
            const double g = (more.objective - less.objective) / (2 * h);
            QVERIFY2(std::abs(g - at.gradient[n]) < 1e-6 * largest(at.gradient), qPrintable(QString::number(g)));
            for (std::size_t l = 0; l < at.limit.size(); ++l) {
                const double gl = (more.limit[l] - less.limit[l]) / (2 * h);
                QVERIFY2(std::abs(gl - at.jacobian[l][n]) < 1e-6 * largest(at.jacobian[l]),
                         qPrintable(QString::number(gl)));
            }
        }
    }
    /// Svanberg's example: the point of two balls nearest to the origin (2.0175, 1.7800, 1.2373).
    void asymptotes() {
        MovingAsymptotes mma(1);
        Eigen::ArrayXd x(3);
        x << 0.8, 0.6, 0.4;
        for (int i = 0; i < 15; ++i) {
            const Eigen::ArrayXd v = 5 * x;
            Eigen::VectorXd f(2);
            f << (v - Eigen::Array3d(5, 2, 1)).square().sum() - 9, (v - Eigen::Array3d(3, 4, 3)).square().sum() - 9;
            Eigen::MatrixXd j(2, 3);
            j.row(0) = 10 * (v - Eigen::Array3d(5, 2, 1)).matrix().transpose();
            j.row(1) = 10 * (v - Eigen::Array3d(3, 4, 3)).matrix().transpose();
            x = mma.step(x, 10 * v, f, j);
        }
        QVERIFY((5 * x - Eigen::Array3d(2.0175, 1.7800, 1.2373)).abs().maxCoeff() < 1e-3);
    }
    /// Michell: a force along a tall wall is carried best by two bars at 45 degrees to it.
    void twoBars() {
        Problem p = problem(grid(30, 72, 1));
        holdWhere(p, 0, 0, {0, 1});
        holdWhere(p, 2, 0, {2});
        holdWhere(p, 2, 1, {2});
        for (int k = 0; k < 2; ++k)
            p.cases.resize(1), p.cases[0].forces.push_back({p.grid.node(30, 36, k), Vec3(0, -50, 0)});
        p.mirrors = {{1, 72}};
        Choice c;
        c.share = 0.1;
        c.filterRadius = 2;
        c.steps = 120;
        Progress progress;
        const Outcome out = makeDensities(p, nullptr, c, {}, progress);
        QVERIFY(near(out.share, 0.1, 1e-3));
        // slope of the upper bar by least squares over its cells away from the ends
        double n = 0, sx = 0, sy = 0, sxx = 0, sxy = 0, grey = 0;
        for (std::size_t cell = 0; cell < p.use.size(); ++cell) {
            const auto at = p.grid.cellAt(cell);
            const double d = out.density[cell];
            grey += 4 * d * (1 - d);
            if (at[1] < 36 || at[0] < 4 || at[0] > 25) continue;
            n += d, sx += d * at[0], sy += d * at[1], sxx += d * at[0] * at[0], sxy += d * at[0] * at[1];
        }
        const double angle = std::atan((n * sxy - sx * sy) / (n * sxx - sx * sx)) * 180 / M_PI;
        QVERIFY2(std::abs(angle + 45) < 3, qPrintable(QString::number(angle)));
        QVERIFY2(grey < 0.4 * 0.1 * static_cast<double>(p.use.size()), qPrintable(QString::number(grey)));
        // each bar P/sqrt(2) over an area of half the mass by its length: the force of 100 N, 30 mm from the wall
        const double area = 0.5 * 0.1 * 30 * 72 / (30 * std::sqrt(2.0)), modulus = 71000 / (1 - 0.33 * 0.33);
        const double ideal = 2 * 50.0 * 100 * 30 * std::sqrt(2.0) / (modulus * area);
        QVERIFY2(out.compliance[0] > 0.9 * ideal && out.compliance[0] < 1.5 * ideal,
                 qPrintable(QString("%1 of %2").arg(out.compliance[0]).arg(ideal)));
        // the image of each cell, to the last digit
        for (std::size_t cell = 0; cell < p.use.size(); ++cell) {
            auto at = p.grid.cellAt(cell);
            at[1] = 71 - at[1];
            QVERIFY(std::abs(out.density[cell] - out.density[p.grid.cell(at[0], at[1], at[2])]) < 1e-9);
        }
    }
    /// A tie between plates: no less compliant than the bar that its mass allows, and hardly more.
    void tie() {
        Problem p = problem(grid(40, 12, 12));
        holdWhere(p, 0, 0, {0, 1, 2});
        GridCase pull;
        for (std::size_t c = 0; c < p.use.size(); ++c) {
            const auto at = p.grid.cellAt(c);
            if (at[0] > 2 && at[0] < 37) continue;
            p.use[c] = CellUse::solid;
            if (at[0] == 39)
                for (unsigned k = 1; k < 8; k += 2) pull.forces.push_back({p.grid.corner(c, k), Vec3(10, 0, 0)});
        }
        p.cases = {pull};
        Choice choice;
        choice.share = 0.4;
        choice.filterRadius = 1.5;
        Progress progress;
        const Outcome out = makeDensities(p, nullptr, choice, {}, progress);
        const double force = 10 * 4 * 144, free = (0.4 * 40 - 6) / 34;  // share of the section between the plates
        const double ideal = force * force / (71000 * 144.0) * (34 / free + 6);
        QVERIFY2(out.compliance[0] > 0.98 * ideal && out.compliance[0] < 1.12 * ideal,
                 qPrintable(QString("%1 of %2").arg(out.compliance[0]).arg(ideal)));
    }
    /// The lightest cantilever within a stress keeps it, and a looser limit is lighter.
    void lightest() {
        Problem p = problem(grid(32, 16, 2));
        holdWhere(p, 0, 0, {0, 1, 2});
        p.cases.resize(1);
        p.unjudged.assign(p.use.size(), 0);
        for (std::size_t c = 0; c < p.use.size(); ++c) {
            const auto at = p.grid.cellAt(c);
            if (at[0] >= 30 && at[1] >= 6 && at[1] < 10) p.use[c] = CellUse::solid;
            p.unjudged[c] = at[0] < 2 || at[0] >= 29;
        }
        for (int k = 0; k <= 2; ++k) p.cases[0].forces.push_back({p.grid.node(32, 8, k), Vec3(0, -60, 0)});
        Choice c;
        c.aim = Aim::lightest;
        c.filterRadius = 2;
        c.steps = 150;
        Progress progress;
        std::vector<double> share;
        for (const double allowable : {60.0, 120.0}) {
            c.allowable = allowable;
            const Outcome out = makeDensities(p, nullptr, c, {}, progress);
            QVERIFY2(out.within, qPrintable(QString::number(out.worstLimit)));
            QVERIFY(out.worstLimit <= 1);
            share.push_back(out.share);
        }
        QVERIFY2(share[0] < 0.8 && share[1] < 0.8 * share[0],
                 qPrintable(QString("%1, %2").arg(share[0]).arg(share[1])));
    }
    /// Beginning on coarse cells gives as stiff a design; the same bits with one thread and with two.
    void coarseStartAndThreads() {
        auto made = [](int scale) {
            Problem p = problem(grid(24 * scale, 12 * scale, 8 * scale, Vec3::Constant(2.0 / scale)));
            holdWhere(p, 0, 0, {0, 1, 2});
            p.cases.resize(1);
            for (int k = 0; k <= 8 * scale; ++k)
                p.cases[0].forces.push_back({p.grid.node(24 * scale, 6 * scale, k), Vec3(0, 0, -100.0 / scale)});
            return p;
        };
        const Problem fine = made(1);
        Problem coarse = made(1);
        coarse.grid = grid(12, 6, 4, Vec3::Constant(4));
        coarse.use.assign(coarse.grid.cellCount(), CellUse::free);
        coarse.holds.clear();
        holdWhere(coarse, 0, 0, {0, 1, 2});
        coarse.cases[0].forces.clear();
        for (int k = 0; k <= 4; ++k) coarse.cases[0].forces.push_back({coarse.grid.node(12, 3, k), Vec3(0, 0, -180)});
        Choice c;
        c.share = 0.3;
        c.filterRadius = 4;
        c.steps = 60;
        Progress progress;
        const Outcome direct = makeDensities(fine, nullptr, c, {}, progress);
        int heard = 0;
        const Outcome two = makeDensities(
            fine, &coarse, c, [&](const Step&, const auto&) { return ++heard > 0; }, progress);
        QVERIFY2(two.compliance[0] < 1.02 * direct.compliance[0],
                 qPrintable(QString::number(two.compliance[0] / direct.compliance[0])));
        QVERIFY(heard > 10 && two.steps.size() <= 60);
        int steps = 0;
        const Outcome part = makeDensities(
            fine, nullptr, c, [&](const Step&, const auto&) { return ++steps < 7; }, progress);
        QVERIFY(part.stopped && part.steps.size() == 7);
        // it is kept as it was seen: no sharper, with the mass that was asked for
        QVERIFY(near(part.share, 0.3, 1e-3));
        QCOMPARE(part.steps.back().sharpness, 0.0);
        const tbb::global_control one(tbb::global_control::max_allowed_parallelism, 1);
        const Outcome again = makeDensities(fine, &coarse, c, {}, progress);
        QCOMPARE(again.density, two.density);
    }
    void refusals() {
        Problem p = problem(grid(6, 4, 4));
        holdWhere(p, 0, 0, {0, 1, 2});
        Choice c;
        Progress progress;
        auto message = [&] {
            try {
                makeDensities(p, nullptr, c, {}, progress);
            } catch (const InputError& e) {
                return QString(e.what());
            }
            return QString("no error");
        };
        QVERIFY(message().contains("no load case"));
        p.cases.resize(1);
        p.cases[0].forces = {{p.grid.node(6, 2, 2), Vec3(0, 0, 1)}};
        for (std::size_t i = 0; i < 48; ++i) p.use[i] = CellUse::solid;
        c.share = 0.4;
        QVERIFY2(message().contains("50.0 % that interfaces keep anyway"), qPrintable(message()));
        c.aim = Aim::lightest;
        QVERIFY(message().contains("needs a limit"));
        c.aim = Aim::stiffest;
        c.share = 0.7;
        progress.cancel();
        QVERIFY_EXCEPTION_THROWN(makeDensities(p, nullptr, c, {}, progress), Cancelled);
    }
};

QTEST_APPLESS_MAIN(TestOptimise)
#include "test_optimise.moc"
