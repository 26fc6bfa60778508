/// @file elastic/conjugate_gradients.hpp
/// Preconditioned conjugate gradients for several right-hand sides at once (flexible, Polak and Ribiere).

#pragma once
#include <vector>

#include "base/progress.hpp"
#include "elastic/mean_projection.hpp"

namespace escultura::elastic {

/// What conjugate gradients did.
struct IterationReport {
    std::vector<int> iterations;               ///< [vectors] until its residual was small enough
    std::vector<std::vector<float>> residual;  ///< [iterations + 1][vectors] relative to the right-hand side
    bool converged = true;
};

/// Solves A x = b for several right-hand sides by preconditioned conjugate gradients, each with its own coefficients,
/// the products shared. Reports the residual through Progress::record("residual", ...).
/// @param b      [vectors][rows]; x starts at zero
/// @param means  null: no mean motion is held. Else the stiffness without System::subtractBed()'s bed is inverted on
///               the displacements that the projection keeps to
IterationReport solveIteratively(const System& system, const Preconditioner& preconditioner,
                                 const MeanProjection* means, const std::vector<std::vector<Vec3>>& b,
                                 std::vector<std::vector<Vec3>>& x, double tolerance, int limit, Progress& progress);

}  // namespace escultura::elastic
