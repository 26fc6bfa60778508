/// @file lattice/improve.hpp
/// Local optimisation of tetrahedra and repair of machined edges.

#pragma once
#include <span>

#include "base/progress.hpp"
#include "lattice/tet_complex.hpp"
#include "shape/shape.hpp"

namespace escultura::lattice {

/// Options of improve().
struct ImproveOptions {
    double targetSine = 0.40;  ///< vertices whose worst tetrahedron is above this are left alone (0.40: 23.6 degrees)
    int passes = 6;
};

/// Moves vertices so that the worst dihedral angle around each rises (after Freitag and Ollivier-Gooch 1997: a step to
/// the neighbours' mean, then a search in shrinking steps). Boundary vertices stay on their surfaces, corners stay. No
/// vertex ever makes the worst angle around it smaller.
/// @param only  [vertices] non-zero: may move; empty: all may
void improve(const shape::Shape& shape, TetComplex& complex, const ImproveOptions& options, Progress& progress,
             std::span<const char> only = {});

/// What repairCreases could not do.
struct CreaseReport {
    int crossings = 0;   ///< boundary edges that crossed a machined edge before
    int unresolved = 0;  ///< those that still do: the edge is a small chamfer there
};

/// Moves vertices onto the edges and corners where surfaces of the shape meet at more than 25 degrees, and splits
/// boundary edges there, so that machined edges are sharp. Tetrahedra stay valid: a move that would make one worse than
/// a sine of 0.08 is not made.
/// @param spacing  lattice spacing, mm
CreaseReport repairCreases(const shape::Shape& shape, TetComplex& complex, double spacing, Progress& progress);

}  // namespace escultura::lattice
