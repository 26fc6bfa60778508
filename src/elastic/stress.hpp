/// @file elastic/stress.hpp
/// Stresses at integration points, recovered nodal stresses, and the error estimate.

#pragma once
#include <cmath>
#include <functional>
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

/// Each element's own stress at its ten nodes, averaged over the elements around a node; zero at nodes of no element. A
/// polynomial fitted to a patch at the boundary borrows from its neighbours and smooths peaks away (on a spherical
/// cavity by 18 to 3 %); this average does not, and is within a few per cent of the truth on the coarsest meshes. One
/// material, so no jump is lost. @return [nodes], MPa
std::vector<Voigt6> averagedStress(const mesh::TetMesh& mesh, const Material& material,
                                   const std::vector<Vec3>& displacement);

/// Nodal stresses that keep peaks, and how sure they are.
struct JudgedStress {
    std::vector<Voigt6> value;   ///< [nodes] by averagedStress(), MPa
    std::vector<double> counts;  ///< [nodes] what a strength is held against, MPa: see countedStress()
};
/// @param recovered  by recoverStress(), the second opinion
/// @param rule       the stress that a failure rule compares with a strength, MPa
JudgedStress judgedStress(const mesh::TetMesh& mesh, const Material& material, const std::vector<Vec3>& displacement,
                          std::span<const Voigt6> recovered, const std::function<double(const Voigt6&)>& rule);

/// Two estimates of one stress count as one when they differ by at most this share of the larger.
inline constexpr double resolvedShare = 0.10;
inline bool isResolved(double judged, double recovered) {
    return std::abs(judged - recovered) <= resolvedShare * std::max(judged, recovered);
}
/// What counts at a node: the judged stress where the two estimates agree. Elsewhere neither is known to be right, and
/// the truth may lie as far beyond the larger one as they are apart.
inline double countedStress(double judged, double recovered) {
    return isResolved(judged, recovered) ? judged : std::max(judged, recovered) + std::abs(judged - recovered);
}

/// Strain energy by the stresses at the integration points, N mm.
double strainEnergy(const mesh::TetMesh& mesh, const Material& material, std::span<const Voigt6> gauss);

/// How far recovered and integration-point stresses lie apart.
struct ErrorEstimate {
    double relative = 0;          ///< in the energy norm, over the whole
    std::vector<double> element;  ///< [elements] squared energy norm of the difference, N mm
};
ErrorEstimate errorEstimate(const mesh::TetMesh& mesh, const Material& material, std::span<const Voigt6> gauss,
                            std::span<const Voigt6> nodal);

}  // namespace escultura::elastic
