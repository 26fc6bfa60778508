/// @file surface/surface_nets.hpp
/// A quick iso-surface of a regular grid for showing it while a slider moves: naive surface nets (Gibson 1998).

#pragma once
#include <span>

#include "surface/tri_mesh.hpp"

namespace escultura::surface {

/// Samples at the nodes of a regular grid, x fastest.
struct SampledGrid {
    std::array<int, 3> n{0, 0, 0};
    Vec3 origin = Vec3::Zero(), spacing = Vec3::Ones();  ///< mm
    std::span<const float> value;                        ///< [n0 * n1 * n2]
};

/// One vertex a cube that the level passes through, at the mean of its edges' crossings; one quad an edge that crosses.
/// Inside is value >= level. Where the surface leaves the grid it is open; at ambiguous cubes it may touch itself. One
/// pass, one thread.
TriMesh surfaceNets(const SampledGrid& grid, float level);

}  // namespace escultura::surface
