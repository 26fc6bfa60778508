/// @file lattice/refine.hpp
/// Local refinement by longest-edge bisection (Rivara 1997).

#pragma once
#include <functional>

#include "base/progress.hpp"
#include "lattice/tet_complex.hpp"
#include "shape/shape.hpp"

namespace escultura::lattice {

/// What refine() did.
struct RefineReport {
    int rounds = 0;
    int newVertices = 0;
    int offSurface = 0;  ///< new boundary vertices that stayed on the straight edge, to keep elements valid
};

/// Bisects tetrahedra at their longest edge until none is longer than the size wanted at its middle, and improves the
/// elements after each round. New boundary vertices are put on the shape. The mesh stays conforming.
/// @param size    longest edge wanted at a place, mm
/// @param limit   stops before there would be more tetrahedra than this
RefineReport refine(const shape::Shape& shape, TetComplex& complex, const std::function<double(const Vec3&)>& size,
                    std::size_t limit, Progress& progress);

/// Halves marked tetrahedra at their longest edges, and what keeps the mesh conforming; nothing moves, new vertices
/// lie on no surface.
/// @param marked  [tetrahedra] 0 or 1. @param isNew  receives which of the tetrahedra then are halves of others
void bisect(TetComplex& complex, const std::vector<char>& marked, std::vector<char>& isNew);

/// The same for marked tetrahedra, each halved at least once. [tets]
RefineReport refineMarked(const shape::Shape& shape, TetComplex& complex, const std::vector<char>& marked,
                          Progress& progress);

}  // namespace escultura::lattice
