#include "elastic/solve.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <chrono>
#include <cmath>

#include "base/error.hpp"
#include "base/parallel.hpp"

namespace escultura::elastic {
namespace {

using Vectors = std::vector<std::vector<Vec3>>;

double dot(const std::vector<Vec3>& a, const std::vector<Vec3>& b) {
    return orderedSum(a.size(), 0.0, [&](std::size_t i) { return a[i].dot(b[i]); });
}

class Timer {
  public:
    double seconds() const { return std::chrono::duration<double>(std::chrono::steady_clock::now() - start_).count(); }

  private:
    std::chrono::steady_clock::time_point start_ = std::chrono::steady_clock::now();
};

/// The unknowns of all load cases as far as they are known, and the forces that they leave unbalanced.
class LoadCases {
  public:
    LoadCases(const mesh::TetMesh& mesh, const Stiffness6& elasticity, const System& system,
              const std::vector<LoadVector>& loads)
        : mesh_(mesh), elasticity_(elasticity), system_(system), loads_(loads), internal_(loads.size()) {
        residual_.resize(loads.size());
        for (std::size_t k = 0; k < loads.size(); ++k) {
            unknowns_.push_back(system.givenPart(loads[k]));
            balance(k);
            size_.push_back(std::max(std::sqrt(dot(residual_[k], residual_[k])), 1e-300));
        }
    }
    /// First any displacement that has the given mean motions; the rest is within those that have none.
    void takeGivenMeans(const MeanProjection& means) {
        for (std::size_t k = 0; k < unknowns_.size(); ++k) {
            const Eigen::VectorXd given = means.meanOf(unknowns_[k]);
            if (!given.isZero(0)) addTo(k, means.particular(-given));
        }
    }
    void add(const Vectors& step) {
        for (std::size_t k = 0; k < unknowns_.size(); ++k) addTo(k, step[k]);
    }
    /// f - K u on the unknowns.
    const Vectors& residual() const { return residual_; }

    /// @param means  null: no mean motion is held. @param size  of the part, mm
    CaseSolution solution(std::size_t k, const MeanProjection* means, double size) const {
        CaseSolution s;
        std::vector<Vec3> left = residual_[k];
        if (means) {  // forces that hold mean motions are reactions, not residual
            std::vector<double> flat(3 * left.size());
            for (std::size_t i = 0; i < flat.size(); ++i) flat[i] = left[i / 3][i % 3];
            means->projectResidual(1, flat);
            for (std::size_t i = 0; i < flat.size(); ++i) left[i / 3][i % 3] = flat[i];
        }
        s.residual = std::sqrt(dot(left, left)) / size_[k];
        s.displacement = system_.displacement(unknowns_[k]);
        const NodalForces& forces = loads_[k].forces;
        s.reaction.assign(mesh_.position.size(), Vec3::Zero());
        for (std::size_t n = 0; n < s.reaction.size(); ++n)
            if (system_.supportedNodes()[n]) s.reaction[n] = internal_[k][n] - forces[n];
        s.strainEnergy = 0.5 * dot(s.displacement, internal_[k]);
        s.applied = resultant(mesh_, forces, Vec3::Zero());
        s.reactions = resultant(mesh_, s.reaction, Vec3::Zero());
        // relative to the sum of the forces' sizes, so that a self-balanced load has an error too
        double total = 0;
        for (const Vec3& f : forces) total += f.norm();
        if (!(total > 0))
            for (const Vec3& f : s.reaction) total += f.norm();
        if (s.applied.force.norm() > 1e-6 * total) total = s.applied.force.norm();
        if (total > 0)
            s.equilibriumError = std::max((s.applied.force + s.reactions.force).norm() / total,
                                          (s.applied.moment + s.reactions.moment).norm() / (total * size));
        return s;
    }

  private:
    void addTo(std::size_t k, const std::vector<Vec3>& step) {
        for (std::size_t r = 0; r < step.size(); ++r) unknowns_[k][r] += step[r];
        balance(k);
    }
    /// By integrating the stresses, not by the matrix: an error of the assembly would show.
    void balance(std::size_t k) {
        const auto u = system_.displacement(unknowns_[k]);
        internal_[k] = internalForces(mesh_, elasticity_, u);
        std::vector<Vec3> nodal = loads_[k].forces;
        for (std::size_t n = 0; n < nodal.size(); ++n) nodal[n] -= internal_[k][n];
        std::vector<Vec3> bed(nodal.size(), Vec3::Zero());
        system_.addBedForces(u, bed);
        for (std::size_t n = 0; n < nodal.size(); ++n) nodal[n] -= bed[n];
        residual_[k] = system_.restricted(nodal);
    }
    const mesh::TetMesh& mesh_;
    const Stiffness6 elasticity_;
    const System& system_;
    const std::vector<LoadVector>& loads_;
    Vectors unknowns_, internal_, residual_;
    std::vector<double> size_;
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
    Timer setup;
    const System system(mesh, material, supports, options.method == Method::direct ? 0 : options.gridFactor, progress);
    const auto solver = chooseSolver(system, options, progress);
    Solutions solutions(system, *solver, options);
    Solution solution;
    solution.unknowns = system.unknowns();
    solution.solver = solver->words();
    solution.memory = solver->bytes(loads.size());
    solution.setupSeconds = setup.seconds();
    Timer solving;
    LoadCases cases(mesh, elasticity(material), system, loads);
    if (const MeanProjection* means = solutions.means()) cases.takeGivenMeans(*means);
    cases.add(solutions.solve(cases.residual(), progress));
    const std::vector<int> iterations = solutions.report().iterations;
    solution.residual = solutions.report().residual;
    if (solutions.isExact()) cases.add(solutions.solve(cases.residual(), progress));  // one step of refinement
    solution.solveSeconds = solving.seconds();
    progress.step("Balancing forces");
    Box3 box;
    for (const Vec3& p : mesh.position) box.include(p);
    for (std::size_t k = 0; k < loads.size(); ++k) {
        solution.cases.push_back(cases.solution(k, solutions.means(), box.diagonal()));
        solution.cases.back().iterations = iterations[k];
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
