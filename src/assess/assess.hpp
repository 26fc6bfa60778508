/// @file assess/assess.hpp
/// What the stresses mean: safety factors, the worst case at every node, and hotspots.

#pragma once
#include <cstdint>
#include <functional>
#include <span>
#include <string>
#include <vector>

#include "mesh/tet_mesh.hpp"

namespace escultura::assess {

/// Worst value over the load cases, and the case that governs, at every node.
struct Envelope {
    std::vector<double> stress;               ///< [nodes] the stress that the failure rule compares, MPa
    std::vector<std::int16_t> governingCase;  ///< [nodes]
    double maxStress = 0;                     ///< MPa
    std::int32_t maxNode = -1;
    int maxCase = -1;
};
/// @param stress  per case, [nodes] each, MPa; of equal values the earlier case governs
Envelope envelope(const std::vector<std::vector<double>>& stress);

/// Strength over the stress that the failure rule compares with it; infinite where there is none, NaN where it is not a
/// number: nothing is known then.
double safetyFactor(double strength, double stress);

/// A peak of a nodal quantity on the boundary.
struct Hotspot {
    std::int32_t node = -1;
    double peak = 0;         ///< value there
    double persistence = 0;  ///< height above the saddle to a higher peak; the highest one: above the lowest value
    double area = 0;         ///< connected boundary area above 80 % of the peak, mm2
};

/// Peaks by topological persistence (union-find over boundary nodes in descending order; Edelsbrunner, Letscher and
/// Zomorodian 2002), highest first. The highest peak is always among them.
/// @param minPersistence  smallest height above the saddle
/// @param score           [nodes] a peak is listed when the highest score around it, down to its saddle, is high enough
/// @param minScore        smallest such score
/// @param basin           [nodes] index of the hotspot on whose slopes a node lies, -1: of none that is listed; nodes
///                        inside take the basin of the boundary nearest along the elements' edges. May be null
std::vector<Hotspot> findHotspots(const mesh::TetMesh& mesh, std::span<const double> value, double minPersistence,
                                  std::span<const double> score, double minScore,
                                  std::vector<std::int32_t>* basin = nullptr);
/// The same for peaks of at least a value.
std::vector<Hotspot> findHotspots(const mesh::TetMesh& mesh, std::span<const double> value, double minPersistence,
                                  double minPeak);

}  // namespace escultura::assess
