/// @file elastic/stress.hpp
/// Stresses at integration points, recovered nodal stresses, and the error estimate.

#pragma once
#include <span>
#include <vector>

#include "elastic/solve.hpp"

namespace escultura::elastic {

/// Stresses at the four integration points of each element. [elements * 4], MPa
std::vector<Voigt6> gaussStress(const mesh::TetMesh& mesh, const Material& material,
                                const std::vector<Vec3>& displacement);

/// Fits a linear polynomial to the integration-point stresses around every corner node (superconvergent patch recovery,
/// Zienkiewicz and Zhu 1992) and averages the two patches at mid-side nodes. Small patches borrow their neighbours.
/// @return [nodes], MPa
std::vector<Voigt6> recoverStress(const mesh::TetMesh& mesh, std::span<const Voigt6> gauss, Progress& progress);

/// How far recovered and integration-point stresses lie apart.
struct ErrorEstimate {
    double relative = 0;          ///< in the energy norm, over the whole
    std::vector<double> element;  ///< [elements] squared energy norm of the difference, N mm
};
ErrorEstimate errorEstimate(const mesh::TetMesh& mesh, const Material& material, std::span<const Voigt6> gauss,
                            std::span<const Voigt6> nodal);

}  // namespace escultura::elastic
