/// @file lattice/graded.hpp
/// Isosurface stuffing on a lattice that is finer where smaller elements are wanted: inside this folder only.

#pragma once
#include "lattice/stuffing.hpp"

namespace escultura::lattice {

/// The body-centred cubic lattice near the shape, its tetrahedra bisected at their longest edges until none is longer
/// than wanted where it is (which keeps to a few shapes), then cut by the shape and filled as the even lattice is.
/// @param options  with a size
/// @throws Cancelled
TetComplex gradedFilling(const shape::Shape& shape, const StuffingOptions& options, Progress& progress);

}  // namespace escultura::lattice
