/// Solving on a grid of bricks: one multigrid cycle around conjugate gradients.

#include "optimise/grid.hpp"

#include <cmath>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "optimise/grid_levels.hpp"

namespace escultura::optimise {
namespace {

constexpr int degree = 2;        // of the smoother
constexpr double smoothed = 8;   // its range: the largest eigenvalue over this
constexpr double safety = 1.15;  // on the estimate of the largest eigenvalue

/// What a finer level's residual is on a coarser one: the node 2i takes itself and half of its neighbours along every
/// axis. @param at  the residual at a finer node
template <class Level, class Read>
void restricted(const std::array<int, 3>& finer, const Level& level, std::vector<float>& r, const Read& at) {
    parallelFor(
        level.nodes(),
        [&](std::size_t n) {
            const std::size_t nx = level.cells[0] + std::size_t(1), ny = level.cells[1] + std::size_t(1);
            const int p[3] = {2 * static_cast<int>(n % nx), 2 * static_cast<int>(n / nx % ny),
                              2 * static_cast<int>(n / (nx * ny))};
            Vec4 sum = Vec4::Zero();
            for (int o = 0; o < 27; ++o) {
                const int d[3] = {o % 3 - 1, o / 3 % 3 - 1, o / 9 - 1};
                const int x = p[0] + d[0], y = p[1] + d[1], z = p[2] + d[2];
                if (x < 0 || y < 0 || z < 0 || x > finer[0] || y > finer[1] || z > finer[2]) continue;
                const float weight = (d[0] ? 0.5F : 1.F) * (d[1] ? 0.5F : 1.F) * (d[2] ? 0.5F : 1.F);
                sum += weight * at(x, y, z);
            }
            Eigen::Map<Vec4>(r.data() + 4 * n) = sum;
        },
        64);
}

/// A coarser level's values at a finer node.
template <class Level>
Vec4 interpolated(const Level& level, const std::vector<float>& z, const std::array<int, 3>& p) {
    Vec4 sum = Vec4::Zero();
    for (unsigned c = 0; c < 8; ++c) {
        int at[3];
        float weight = 1;
        for (unsigned x = 0; x < 3; ++x) {
            const int odd = p[x] & 1;
            if (!odd && (c >> x & 1U)) weight = 0;
            if (odd) weight *= 0.5F;
            at[x] = p[x] / 2 + static_cast<int>(c >> x & 1U);
        }
        if (weight > 0) sum += weight * Eigen::Map<const Vec4>(z.data() + 4 * level.node(at[0], at[1], at[2]));
    }
    return sum;
}

/// Chebyshev steps on D^-1 A from z (or from zero): z gets better for A z = r.
template <class Operator, class Level>
void smooth(const Operator& a, Level& w, bool fromZero) {
    const double high = safety * a.largest, low = a.largest / smoothed;
    const double theta = 0.5 * (high + low), delta = 0.5 * (high - low), sigma = theta / delta;
    double rho = 1 / sigma;
    const auto first = static_cast<float>(1 / theta);
    if (fromZero) {
        a.forDiagonal(w.r, [&](std::size_t i, float v) { w.z[i] = w.d[i] = first * v; });
    } else {
        a.apply(w.z, w.t);
        parallelFor(
            w.t.size(), [&](std::size_t i) { w.t[i] = w.r[i] - w.t[i]; }, 8192);
        a.forDiagonal(w.t, [&](std::size_t i, float v) {
            w.d[i] = first * v;
            w.z[i] += w.d[i];
        });
    }
    for (int step = 1; step < degree; ++step) {
        a.apply(w.z, w.t);
        parallelFor(
            w.t.size(), [&](std::size_t i) { w.t[i] = w.r[i] - w.t[i]; }, 8192);
        const double next = 1 / (2 * sigma - rho);
        const auto keep = static_cast<float>(next * rho), add = static_cast<float>(2 * next / delta);
        a.forDiagonal(w.t, [&](std::size_t i, float v) {
            w.d[i] = keep * w.d[i] + add * v;
            w.z[i] += w.d[i];
        });
        rho = next;
    }
}

}  // namespace

void GridSolver::coarseCycle(std::size_t level, Work& work) const {
    const Coarse& a = *coarse_[level];
    auto& w = work.level[level + 1];
    if (level + 1 == coarse_.size()) {
        Eigen::VectorXd b(static_cast<Eigen::Index>(3 * a.nodes()));
        for (std::size_t n = 0; n < a.nodes(); ++n)
            for (std::size_t c = 0; c < 3; ++c) b[static_cast<Eigen::Index>(3 * n + c)] = w.r[4 * n + c];
        const Eigen::VectorXd x = direct_->factor.solve(b);
        for (std::size_t n = 0; n < a.nodes(); ++n)
            for (std::size_t c = 0; c < 3; ++c)
                w.z[4 * n + c] = static_cast<float>(x[static_cast<Eigen::Index>(3 * n + c)]);
        return;
    }
    smooth(a, w, true);
    a.apply(w.z, w.t);
    parallelFor(
        w.t.size(), [&](std::size_t i) { w.t[i] = w.r[i] - w.t[i]; }, 8192);
    const Coarse& b = *coarse_[level + 1];
    auto& below = work.level[level + 2];
    restricted(a.cells, b, below.r,
               [&](int x, int y, int z) { return Vec4(Eigen::Map<const Vec4>(w.t.data() + 4 * a.node(x, y, z))); });
    coarseCycle(level + 1, work);
    parallelFor(
        a.nodes(),
        [&](std::size_t n) {
            const std::size_t nx = a.cells[0] + std::size_t(1), ny = a.cells[1] + std::size_t(1);
            const std::array<int, 3> p{static_cast<int>(n % nx), static_cast<int>(n / nx % ny),
                                       static_cast<int>(n / (nx * ny))};
            Eigen::Map<Vec4>(w.z.data() + 4 * n) += interpolated(b, below.z, p);
        },
        64);
    smooth(a, w, false);
}

void GridSolver::cycle(Work& work) const {
    const Fine& f = *fine_;
    auto& w = work.level[0];
    smooth(f, w, true);
    f.apply(w.z, w.t);
    parallelFor(
        w.t.size(), [&](std::size_t i) { w.t[i] = w.r[i] - w.t[i]; }, 8192);
    const Coarse& b = *coarse_.front();
    auto& below = work.level[1];
    restricted(f.grid.cells, b, below.r, [&](int x, int y, int z) {
        return Vec4(w.t[f.at.at(x, y, z, 0)], w.t[f.at.at(x, y, z, 1)], w.t[f.at.at(x, y, z, 2)], 0);
    });
    coarseCycle(0, work);
    parallelFor(
        f.grid.nodeCount(),
        [&](std::size_t n) {
            if (!f.active[n]) return;
            const auto p = f.grid.nodeAt(n);
            const Vec4 sum = interpolated(b, below.z, p);
            for (int a = 0; a < 3; ++a) w.t[f.at.at(p[0], p[1], p[2], a)] = sum[a];
        },
        64);
    f.project(w.t);
    parallelFor(
        f.grid.nodeCount(),
        [&](std::size_t n) {
            if (!f.active[n]) return;
            const auto p = f.grid.nodeAt(n);
            for (int a = 0; a < 3; ++a) w.z[f.at.at(p[0], p[1], p[2], a)] += w.t[f.at.at(p[0], p[1], p[2], a)];
        },
        256);
    smooth(f, w, false);
}

void GridSolver::multiply(const std::vector<Vec3>& u, std::vector<Vec3>& f) const {
    std::vector<double> rows, out(fine_->at.size());
    fine_->toRows(u, rows);
    fine_->apply(rows, out, false);
    fine_->fromRows(out, f);
}

void GridSolver::project(std::vector<Vec3>& v) const {
    for (const auto& [node, q] : fine_->held) v[node] = (q * v[node]).eval();
}

void GridSolver::energies(const std::vector<Vec3>& u, std::vector<double>& energy) const {
    const Fine& f = *fine_;
    std::vector<double> rows;
    f.toRows(u, rows);
    energy.assign(f.grid.cellCount(), 0.0);
    parallelFor(
        static_cast<std::size_t>(f.grid.cells[2]),
        [&](std::size_t k) {
            f.forRows<double>(static_cast<int>(k), [&](int i, int n, int j) {
                energyOfRow(f.at, f.exact, rows.data(), i, n, j, static_cast<int>(k),
                            energy.data() + f.grid.cell(i, j, static_cast<int>(k)));
                for (std::size_t c = f.grid.cell(i, j, static_cast<int>(k)), end = c + static_cast<std::size_t>(n);
                     c < end; ++c)
                    if (f.empty[c]) energy[c] = 0;
            });
        },
        1);
}

SolveReport GridSolver::solve(const std::vector<Vec3>& force, std::vector<Vec3>& u, double tolerance, int limit,
                              Progress& progress) const {
    const Fine& f = *fine_;
    const std::size_t size = f.at.size();
    std::vector<double> b, x, r(size), p(size), q(size), before;
    f.toRows(force, b);
    f.project(b);
    parallelFor(f.grid.nodeCount(), [&](std::size_t n) {
        const auto at = f.grid.nodeAt(n);
        if (!f.active[n])
            for (int a = 0; a < 3; ++a) b[f.at.at(at[0], at[1], at[2], a)] = 0;
    });
    u.resize(f.grid.nodeCount(), Vec3::Zero());
    f.toRows(u, x);
    f.project(x);
    auto dot = [&](const auto& v, const auto& w) {
        return orderedSum(size, 0.0, [&](std::size_t i) { return double(v[i]) * double(w[i]); });
    };
    SolveReport report;
    const double whole = std::sqrt(dot(b, b));
    if (!(whole > 0)) {
        u.assign(u.size(), Vec3::Zero());
        return report;
    }
    Work work;
    work.level.resize(coarse_.size() + 1);
    work.level[0].resize(size);
    for (std::size_t l = 0; l < coarse_.size(); ++l) work.level[l + 1].resize(4 * coarse_[l]->nodes());
    f.apply(x, q);
    parallelFor(
        size, [&](std::size_t i) { r[i] = b[i] - q[i]; }, 8192);
    double rho = 0;
    report.residual = std::sqrt(dot(r, r)) / whole;
    for (; report.residual > tolerance && report.iterations < limit; ++report.iterations) {
        progress.check();
        auto& w = work.level[0];
        const double scale = 1 / (report.residual * whole);
        parallelFor(
            size, [&](std::size_t i) { w.r[i] = static_cast<float>(scale * r[i]); }, 8192);
        cycle(work);
        const double next = dot(r, w.z);
        double beta = 0;
        if (report.iterations > 0) beta = (next - dot(before, w.z)) / rho;  // flexible
        rho = next;
        parallelFor(
            size, [&](std::size_t i) { p[i] = w.z[i] + beta * p[i]; }, 8192);
        f.project(p);  // the cycle does so in single precision
        f.apply(p, q);
        const double curvature = dot(p, q);
        if (!(curvature > 0)) break;
        const double step = dot(p, r) / curvature;
        before = r;
        parallelFor(
            size,
            [&](std::size_t i) {
                x[i] += step * p[i];
                r[i] -= step * q[i];
            },
            8192);
        report.residual = std::sqrt(dot(r, r)) / whole;
        if (!std::isfinite(report.residual)) break;
    }
    f.fromRows(x, u);
    if (!(report.residual <= tolerance * 1.0000001))
        throw InputError(ErrorDetail{"The equations on the grid were not solved.",
                                     {},
                                     "after " + std::to_string(report.iterations) + " iterations",
                                     "a residual of " + formatNumber(tolerance) + " or less",
                                     formatNumber(report.residual)});
    return report;
}

std::size_t GridSolver::bytes() const {
    std::size_t sum = fine_->inverse.size() * 4 + fine_->eigen.size() * 4 + fine_->exact.factor.size() * 12;
    for (const auto& c : coarse_) sum += 4 * (c->stencil.size() + c->inverse.size() + c->eigen.size());
    return sum;
}

}  // namespace escultura::optimise
