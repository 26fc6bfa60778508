/// @file cage/split.hpp
/// Splitting a cage around some of its vertices without losing its symmetry.

#pragma once
#include "cage/fit.hpp"

namespace escultura::cage {

/// Splits the faces around marked vertices and their mirror images (refineAround()), then evens the faces out along the
/// target.
/// @param marked    [vertices]
/// @param symmetry  planes (point, unit normal) that the cage is symmetric about
void splitAround(Cage& cage, std::vector<char> marked, const Target& target,
                 const std::vector<std::array<Vec3, 2>>& symmetry);

}  // namespace escultura::cage
