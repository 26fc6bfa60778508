/// @file cage/tidy.hpp
/// Cleaning up a raw wrap: valences towards four, no vertices with two edges.

#pragma once
#include "base/progress.hpp"
#include "cage/cage.hpp"
#include "surface/tri_mesh.hpp"

namespace escultura::cage {

/// Greedy diagonal collapse and edge rotation that lower the sum of (valence - 4)^2, with relaxation along the target
/// (after Tarini, Pietroni, Cignoni, Panozzo and Puppo 2010). Topology is kept.
/// @param onPlane  [vertices] bits of the symmetry axes in whose plane a vertex lies: its border runs there; renumbered
/// @param planeAt  where these planes are, mm along the axes
void tidyHalf(Cage& cage, std::vector<std::uint8_t>& onPlane, const Vec3& planeAt, const surface::TriangleTree& tree,
              Progress& progress);

}  // namespace escultura::cage
