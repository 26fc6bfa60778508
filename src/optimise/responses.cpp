#include "optimise/responses.hpp"

#include <algorithm>
#include <cmath>
#include <map>

#include "base/parallel.hpp"

namespace escultura::optimise {
namespace {

constexpr double penalty = 3;
constexpr double least = 1e-7;  // stiffness of what is no material
constexpr double norm = 8;      // of the stresses

/// Displacements that the holds of a case ask for, each node's the smallest that meets them.
std::vector<Vec3> givenDisplacements(const Problem& p, const GridCase& c) {
    std::vector<Vec3> u;
    if (c.given.empty()) return u;
    std::map<std::size_t, std::vector<std::size_t>> holds;
    for (std::size_t h = 0; h < p.holds.size(); ++h) holds[p.holds[h].node].push_back(h);
    bool any = false;
    u.assign(p.grid.nodeCount(), Vec3::Zero());
    for (const auto& [node, list] : holds) {
        Eigen::MatrixXd rows(static_cast<Eigen::Index>(list.size()), 3);
        Eigen::VectorXd values(static_cast<Eigen::Index>(list.size()));
        for (std::size_t i = 0; i < list.size(); ++i) {
            rows.row(static_cast<Eigen::Index>(i)) = p.holds[list[i]].direction.transpose();
            values[static_cast<Eigen::Index>(i)] = c.given[list[i]];
        }
        if (values.isZero()) continue;
        any = true;
        u[node] = rows.completeOrthogonalDecomposition().solve(values);
    }
    if (!any) u.clear();
    return u;
}

double dot(const std::vector<Vec3>& a, const std::vector<Vec3>& b) {
    return orderedSum(a.size(), 0.0, [&](std::size_t i) { return a[i].dot(b[i]); });
}

}  // namespace

double Problem::volume() const {
    std::size_t count = 0;
    for (const CellUse u : use) count += u != CellUse::empty;
    return static_cast<double>(count) * grid.spacing.prod();
}

double Problem::solidShare() const {
    std::size_t solid = 0, all = 0;
    for (const CellUse u : use) {
        all += u != CellUse::empty;
        solid += u == CellUse::solid;
    }
    return all ? static_cast<double>(solid) / static_cast<double>(all) : 0;
}

Responses::Responses(const Problem& problem, double tolerance) : problem_(problem), tolerance_(tolerance) {
    std::vector<char> empty(problem.use.size());
    for (std::size_t c = 0; c < empty.size(); ++c) empty[c] = problem.use[c] == CellUse::empty;
    solver_ = std::make_unique<GridSolver>(problem.grid, empty, problem.youngsModulus, problem.poissonsRatio,
                                           problem.holds, problem.springs);
    displacement_.resize(problem.cases.size());
    force_.resize(problem.cases.size());
    adjoint_.resize(problem.cases.size());
    for (const GridCase& c : problem.cases) given_.push_back(givenDisplacements(problem, c));
}

Responses::~Responses() = default;

void Responses::bodyForces(const GridCase& c, std::vector<Vec3>& forces) const {
    const Grid& g = problem_.grid;
    const double share = g.spacing.prod() / 8;
    for (std::size_t e = 0; e < g.cellCount(); ++e) {
        if (problem_.use[e] == CellUse::empty) continue;
        const Vec3 f = share * density_[e] * c.bodyForce(g.centre(e));
        for (unsigned k = 0; k < 8; ++k) forces[g.corner(e, k)] += f;
    }
}

void Responses::addBodyForceGradient(const GridCase& c, const std::vector<Vec3>& v, double factor,
                                     std::vector<double>& gradient) const {
    if (!c.bodyForce) return;
    const Grid& g = problem_.grid;
    const double share = g.spacing.prod() / 8;
    parallelFor(g.cellCount(), [&](std::size_t e) {
        if (problem_.use[e] == CellUse::empty) return;
        Vec3 sum = Vec3::Zero();
        for (unsigned k = 0; k < 8; ++k) sum += v[g.corner(e, k)];
        gradient[e] += factor * share * sum.dot(c.bodyForce(g.centre(e)));
    });
}

int Responses::solve(const std::vector<double>& density, Progress& progress) {
    density_ = density;
    factor_.resize(density.size());
    slope_.resize(density.size());
    parallelFor(density.size(), [&](std::size_t c) {
        const double r = density[c];
        factor_[c] = least + (1 - least) * std::pow(r, penalty);
        slope_[c] = (1 - least) * penalty * std::pow(r, penalty - 1);
    });
    solver_->setFactors(factor_, progress);
    std::vector<int> iterations(problem_.cases.size(), 0);
    parallelFor(
        problem_.cases.size(),
        [&](std::size_t i) {
            const GridCase& c = problem_.cases[i];
            auto& f = force_[i];
            f.assign(problem_.grid.nodeCount(), Vec3::Zero());
            for (const auto& [node, force] : c.forces) f[node] += force;
            if (c.bodyForce) bodyForces(c, f);
            auto& u = displacement_[i];
            u.resize(f.size(), Vec3::Zero());
            if (given_[i].empty()) {
                iterations[i] = solver_->solve(f, u, tolerance_, 300, progress).iterations;
                return;
            }
            std::vector<Vec3> right;
            solver_->multiply(given_[i], right);
            for (std::size_t n = 0; n < f.size(); ++n) right[n] = f[n] - right[n];
            std::vector<Vec3> free(f.size());
            for (std::size_t n = 0; n < f.size(); ++n) free[n] = u[n] - given_[i][n];
            iterations[i] = solver_->solve(right, free, tolerance_, 300, progress).iterations;
            for (std::size_t n = 0; n < f.size(); ++n) u[n] = given_[i][n] + free[n];
        },
        1);
    int sum = 0;
    for (int i : iterations) sum += i;
    return sum;
}

Response Responses::compliance(std::size_t i) const {
    const auto& u = displacement_[i];
    Response r;
    std::vector<double> energy;
    solver_->energies(u, energy);
    r.value =
        2 * dot(force_[i], u) - orderedSum(energy.size(), 0.0, [&](std::size_t c) { return energy[c] * factor_[c]; });
    for (const Spring& s : problem_.springs) r.value -= u[s.node].dot(s.stiffness * u[s.node]);
    r.gradient.resize(energy.size());
    parallelFor(energy.size(), [&](std::size_t c) {
        r.gradient[c] = problem_.use[c] == CellUse::empty ? 0.0 : -slope_[c] * energy[c];
    });
    addBodyForceGradient(problem_.cases[i], u, 2, r.gradient);
    return r;
}

Response Responses::share() const {
    Response r;
    std::size_t count = 0;
    for (const CellUse u : problem_.use) count += u != CellUse::empty;
    const double one = 1 / static_cast<double>(std::max<std::size_t>(count, 1));
    r.value = one * orderedSum(density_.size(), 0.0,
                               [&](std::size_t c) { return problem_.use[c] == CellUse::empty ? 0.0 : density_[c]; });
    r.gradient.resize(density_.size());
    for (std::size_t c = 0; c < density_.size(); ++c) r.gradient[c] = problem_.use[c] == CellUse::empty ? 0.0 : one;
    return r;
}

Mat3 Responses::deviatorAt(const std::vector<Vec3>& u, std::size_t cell) const {
    const Grid& g = problem_.grid;
    Mat3 d = Mat3::Zero();
    for (unsigned k = 0; k < 8; ++k) {
        const Vec3& v = u[g.corner(cell, k)];
        for (unsigned a = 0; a < 3; ++a) d.col(a) += (k >> a & 1U ? 0.25 : -0.25) / g.spacing[a] * v;
    }
    const double mu = 0.5 * problem_.youngsModulus / (1 + problem_.poissonsRatio);
    Mat3 s = mu * (d + d.transpose());
    s.diagonal().array() -= s.trace() / 3;
    return s;
}

std::vector<double> Responses::relaxedStress(const std::vector<Vec3>& u, double allowable) const {
    std::vector<double> relaxed(problem_.grid.cellCount(), 0.0);
    parallelFor(relaxed.size(), [&](std::size_t e) {
        if (problem_.use[e] == CellUse::empty || (!problem_.unjudged.empty() && problem_.unjudged[e])) return;
        relaxed[e] = std::sqrt(density_[e]) * std::sqrt(1.5 * deviatorAt(u, e).squaredNorm()) / allowable;
    });
    return relaxed;
}

double Responses::largestStress(std::size_t i, double allowable) const {
    const std::vector<double> relaxed = relaxedStress(displacement_[i], allowable);
    return *std::max_element(relaxed.begin(), relaxed.end());
}

Response Responses::stress(std::size_t i, double allowable, double* largest, Progress& progress) {
    const Grid& g = problem_.grid;
    const auto& u = displacement_[i];
    const double mu = 0.5 * problem_.youngsModulus / (1 + problem_.poissonsRatio);
    const std::size_t cells = g.cellCount();
    const std::vector<double> relaxed = relaxedStress(u, allowable);
    double most = 0;
    for (double v : relaxed) most = std::max(most, v);
    if (largest) *largest = most;
    Response r;
    r.gradient.assign(cells, 0.0);
    if (!(most > 0)) return r;
    const double sum = orderedSum(cells, 0.0, [&](std::size_t e) { return std::pow(relaxed[e] / most, norm); });
    r.value = most * std::pow(sum, 1 / norm);
    std::vector<Vec3> byDisplacement(g.nodeCount(), Vec3::Zero());
    for (std::size_t e = 0; e < cells; ++e) {
        if (!(relaxed[e] > 1e-6 * most)) continue;
        const double weight = std::pow(relaxed[e] / r.value, norm - 1);  // of the norm by this cell's
        r.gradient[e] += weight * 0.5 * relaxed[e] / density_[e];
        const Mat3 s = deviatorAt(u, e);
        const double mises = std::sqrt(1.5 * s.squaredNorm());
        // by the displacement gradient: the deviator is its own
        const Mat3 by = weight * std::sqrt(density_[e]) / allowable * (1.5 / mises) * 2 * mu * s;
        for (unsigned k = 0; k < 8; ++k) {
            Vec3 d;
            for (unsigned a = 0; a < 3; ++a) d[a] = (k >> a & 1U ? 0.25 : -0.25) / g.spacing[a];
            byDisplacement[g.corner(e, k)] += by * d;
        }
    }
    auto& adjoint = adjoint_[i];
    solver_->solve(byDisplacement, adjoint, tolerance_, 300, progress);
    std::vector<double> plus, minus;
    std::vector<Vec3> v(u.size());
    // the product of two displacement fields in each cell, by the energies of their sum and difference, scaled alike
    const double sizeU = std::sqrt(dot(u, u)), sizeA = std::sqrt(dot(adjoint, adjoint));
    if (sizeU > 0 && sizeA > 0) {
        const double scale = sizeU / sizeA;
        for (std::size_t n = 0; n < u.size(); ++n) v[n] = u[n] + scale * adjoint[n];
        solver_->energies(v, plus);
        for (std::size_t n = 0; n < u.size(); ++n) v[n] = u[n] - scale * adjoint[n];
        solver_->energies(v, minus);
        parallelFor(cells, [&](std::size_t c) {
            if (problem_.use[c] != CellUse::empty) r.gradient[c] -= slope_[c] * 0.25 * (plus[c] - minus[c]) / scale;
        });
    }
    addBodyForceGradient(problem_.cases[i], adjoint, 1, r.gradient);
    return r;
}

}  // namespace escultura::optimise
