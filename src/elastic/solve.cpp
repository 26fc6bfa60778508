#include "elastic/solve.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <chrono>
#include <cmath>
#include <optional>

#include "base/error.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"
#include "elastic/multigrid.hpp"

namespace escultura::elastic {
namespace {

using Vectors = std::vector<std::vector<Vec3>>;

double dot(const std::vector<Vec3>& a, const std::vector<Vec3>& b) {
    return orderedSum(a.size(), 0.0, [&](std::size_t i) { return a[i].dot(b[i]); });
}

double secondsSince(std::chrono::steady_clock::time_point start) {
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

/// Chooses and sets up a solver, then solves any number of right-hand sides.
class Solver {
  public:
    Solver(const System& system, const SolveOptions& options, Solution& report, Progress& progress)
        : system_(system), options_(options), report_(report), progress_(progress) {
        const auto start = std::chrono::steady_clock::now();
        const bool large = report.unknowns > options.directUnknowns;
        if (options.method == Method::direct || (options.method == Method::automatic && !large)) {
            direct_ = std::make_unique<DirectSolver>(system, progress);
            const double bytes = direct_->factorBytes();
            const double limit = options.method == Method::automatic ? options.directMemory : options.memoryLimit;
            if (bytes > options.memoryLimit && options.method == Method::direct)
                throw SolveError(ErrorDetail{"The direct solver would need too much memory.",
                                             {},
                                             formatNumber(static_cast<double>(report.unknowns), 7) + " unknowns",
                                             "a factor of at most " + formatNumber(options.memoryLimit / 1e9) +
                                                 " GB: use larger elements or the multigrid solver",
                                             formatNumber(bytes / 1e9) + " GB"});
            if (bytes > limit) {
                direct_.reset();
            } else {
                direct_->factorise(progress);
                report.solver = "direct, sparse Cholesky (supernodal, one factorisation)";
                report.memory = bytes + static_cast<double>(system.matrix().bytes());
            }
        }
        if (!direct_) {
            MultigridOptions m;
            m.degree = options.smootherDegree;
            multigrid_ = std::make_unique<Multigrid>(system, m, progress);
            report.solver =
                "conjugate gradients with multigrid, " + std::to_string(multigrid_->levelUnknowns().size()) + " levels";
        }
        if (!system.meanRows().empty()) {
            preconditioner_ = [this](int vectors, const std::vector<float>& r, std::vector<float>& z) {
                precondition(vectors, r, z);
            };
            means_ = std::make_unique<MeanProjection>(system, preconditioner_);
        } else if (multigrid_) {
            preconditioner_ = [this](int vectors, const std::vector<float>& r, std::vector<float>& z) {
                multigrid_->apply(vectors, r, z);
            };
        }
        report.solver += options.method != Method::automatic ? ", as asked for"
                         : direct_                           ? ", chosen because the model is small"
                                                             : ", chosen because the model is large";
        report.setupSeconds += secondsSince(start);
    }
    /// Where mean motions are held the solution has none, and forces that hold them stay in the residual.
    Vectors solve(const Vectors& right, std::vector<int>& iterations) {
        const auto start = std::chrono::steady_clock::now();
        Vectors x;
        iterations.assign(right.size(), 0);
        const bool iterates = !direct_ || means_;
        if (!iterates) {
            progress_.step("Solving all load cases", 0.9);
            x = direct_->solve(right);
        } else {
            IterationReport r = solveIteratively(system_, preconditioner_, means_.get(), right, x,
                                                 direct_ ? std::min(options_.tolerance, 1e-9) : options_.tolerance,
                                                 options_.iterationLimit, progress_);
            iterations = r.iterations;
            report_.residual.insert(report_.residual.end(), r.residual.begin(), r.residual.end());
            if (!r.converged)
                throw SolveError(
                    ErrorDetail{"The iterative solver did not converge.",
                                {},
                                std::to_string(options_.iterationLimit) + " iterations",
                                "a relative residual of " + formatNumber(options_.tolerance) +
                                    ": use the direct solver or smaller elements",
                                formatNumber(*std::max_element(r.residual.back().begin(), r.residual.back().end()))});
            if (multigrid_)
                report_.memory =
                    static_cast<double>(system_.matrix().bytes() + multigrid_->bytes()) +
                    (right.size() == 1 ? 1 : 4) * 3.0 * static_cast<double>(system_.rows()) * (4 * 8 + 2 * 4);
        }
        report_.solveSeconds += secondsSince(start);
        return x;
    }
    /// Null when no mean motion is held.
    const MeanProjection* means() const { return means_.get(); }
    bool isDirect() const { return direct_ != nullptr; }

  private:
    void precondition(int vectors, const std::vector<float>& r, std::vector<float>& z) {
        if (multigrid_) {
            multigrid_->apply(vectors, r, z);
            return;
        }
        Vectors right(static_cast<std::size_t>(vectors), std::vector<Vec3>(system_.rows()));
        for (std::size_t i = 0; i < 3 * system_.rows(); ++i)
            for (int v = 0; v < vectors; ++v) right[v][i / 3][i % 3] = r[i * vectors + v];
        const Vectors x = direct_->solve(right);
        for (std::size_t i = 0; i < 3 * system_.rows(); ++i)
            for (int v = 0; v < vectors; ++v) z[i * vectors + v] = static_cast<float>(x[v][i / 3][i % 3]);
    }
    const System& system_;
    const SolveOptions& options_;
    Solution& report_;
    Progress& progress_;
    std::unique_ptr<DirectSolver> direct_;
    std::unique_ptr<Multigrid> multigrid_;
    Preconditioner preconditioner_;
    std::unique_ptr<MeanProjection> means_;
};

}  // namespace

Solution solve(const mesh::TetMesh& mesh, const Material& material, const Supports& supports,
               const std::vector<LoadVector>& loads, const SolveOptions& options, Progress& progress) {
    const auto free = freeMotions(mesh, supports);
    if (!free.empty()) {
        std::string found;
        for (const auto& f : free) found += (found.empty() ? "" : ", ") + f;
        throw InputError(ErrorDetail{"The supports leave the part free to move.",
                                     {},
                                     "supports",
                                     "all six rigid motions held",
                                     "free: " + found});
    }
    const auto start = std::chrono::steady_clock::now();
    const std::size_t cases = loads.size();
    const System system(mesh, material, supports, options.method == Method::direct ? 0 : options.gridFactor, progress);
    Solution solution;
    solution.unknowns = system.unknowns();
    solution.cases.resize(cases);
    solution.setupSeconds = secondsSince(start);
    Solver solver(system, options, solution, progress);

    const Stiffness6 c = elasticity(material);
    Vectors q(cases), internal(cases), right(cases);
    auto residual = [&](std::size_t k) {  // f - K u on the unknowns, by integrating the stresses
        const auto u = system.displacement(q[k]);
        internal[k] = internalForces(mesh, c, u);
        std::vector<Vec3> nodal = loads[k].forces;
        for (std::size_t n = 0; n < nodal.size(); ++n) nodal[n] -= internal[k][n];
        std::vector<Vec3> bed(nodal.size(), Vec3::Zero());
        system.addBedForces(u, bed);
        for (std::size_t n = 0; n < nodal.size(); ++n) nodal[n] -= bed[n];
        right[k] = system.restricted(nodal);
    };
    std::vector<double> size(cases);
    for (std::size_t k = 0; k < cases; ++k) {
        q[k] = system.givenPart(loads[k]);
        residual(k);
        size[k] = std::max(std::sqrt(dot(right[k], right[k])), 1e-300);
    }
    // held mean motions: first any displacement that has them, then what is left within those that have none
    const MeanProjection* means = solver.means();
    if (means)
        for (std::size_t k = 0; k < cases; ++k) {
            const Eigen::VectorXd given = means->meanOf(q[k]);
            if (given.isZero(0)) continue;
            const std::vector<Vec3> x = means->particular(-given);
            for (std::size_t r = 0; r < q[k].size(); ++r) q[k][r] += x[r];
            residual(k);
        }
    std::vector<int> iterations;
    Vectors x = solver.solve(right, iterations);
    for (std::size_t k = 0; k < cases; ++k) {
        for (std::size_t r = 0; r < q[k].size(); ++r) q[k][r] += x[k][r];
        residual(k);
        solution.cases[k].iterations = iterations[k];
    }
    x.clear();
    if (solver.isDirect() && !means) {  // one step of refinement
        std::vector<int> none;
        const Vectors step = solver.solve(right, none);
        for (std::size_t k = 0; k < cases; ++k) {
            for (std::size_t r = 0; r < q[k].size(); ++r) q[k][r] += step[k][r];
            residual(k);
        }
    }
    progress.step("Balancing forces");
    Box3 box;
    for (const Vec3& p : mesh.position) box.include(p);
    for (std::size_t k = 0; k < cases; ++k) {
        CaseSolution& s = solution.cases[k];
        // what is left where nothing holds; forces of held mean motions are reactions, not residual
        if (means) {
            std::vector<double> flat(3 * right[k].size());
            for (std::size_t i = 0; i < flat.size(); ++i) flat[i] = right[k][i / 3][i % 3];
            means->projectResidual(1, flat);
            for (std::size_t i = 0; i < flat.size(); ++i) right[k][i / 3][i % 3] = flat[i];
        }
        s.residual = std::sqrt(dot(right[k], right[k])) / size[k];
        s.displacement = system.displacement(q[k]);
        s.reaction.assign(mesh.position.size(), Vec3::Zero());
        for (std::size_t n = 0; n < s.reaction.size(); ++n)
            if (system.supportedNodes()[n]) s.reaction[n] = internal[k][n] - loads[k].forces[n];
        s.strainEnergy = 0.5 * dot(s.displacement, internal[k]);
        s.applied = resultant(mesh, loads[k].forces, Vec3::Zero());
        s.reactions = resultant(mesh, s.reaction, Vec3::Zero());
        // relative to the sum of the forces' sizes, so that a self-balanced load has an error too
        double total = 0;
        for (const Vec3& f : loads[k].forces) total += f.norm();
        if (!(total > 0))
            for (const Vec3& f : s.reaction) total += f.norm();
        if (s.applied.force.norm() > 1e-6 * total) total = s.applied.force.norm();
        if (total > 0)
            s.equilibriumError = std::max((s.applied.force + s.reactions.force).norm() / total,
                                          (s.applied.moment + s.reactions.moment).norm() / (total * box.diagonal()));
    }
    return solution;
}

Solution solve(const mesh::TetMesh& mesh, const Material& material, const std::vector<Constraint>& constraints,
               const std::vector<NodalForces>& loads, Progress& progress, double memoryLimit) {
    Supports supports;
    supports.constraints = constraints;
    std::vector<LoadVector> vectors;
    for (const NodalForces& f : loads) vectors.push_back({f, {}});
    SolveOptions options;
    options.method = Method::direct;
    options.memoryLimit = memoryLimit;
    return solve(mesh, material, supports, vectors, options, progress);
}

}  // namespace escultura::elastic
