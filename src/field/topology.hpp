/// @file field/topology.hpp
/// Pieces, handles and cavities of a body of cells.

#pragma once
#include <array>
#include <vector>

namespace escultura::field {

/// Counts of a body of cells, from its Euler characteristic (pieces - handles + cavities). Where cells touch in an edge
/// or a corner only it is a matter of taste whether they are joined: the counts of both views are given.
struct Topology {
    int pieces = 0, cavities = 0;           ///< cells joined by faces; cavities joined by anything
    int leastHandles = 0, mostHandles = 0;  ///< of the two views; equal where nothing is in doubt
};
/// @param solid  [cells] non-zero: of the body; x fastest
Topology topologyOf(const std::vector<char>& solid, const std::array<int, 3>& cells);

}  // namespace escultura::field
