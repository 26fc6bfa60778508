/// @file lattice/stuffing.hpp
/// Tetrahedra from a Shape by isosurface stuffing on a body-centred cubic lattice (Labelle and Shewchuk 2007).

#pragma once
#include <functional>

#include "base/progress.hpp"
#include "lattice/tet_complex.hpp"
#include "shape/shape.hpp"

namespace escultura::lattice {

/// Vertices that a lattice may have.
inline constexpr double mostLatticeVertices = 4e8;
/// About how many the lattice over a box has. @param spacing  mm
double latticeVertices(const Box3& box, double spacing);

/// Options of stuff().
struct StuffingOptions {
    double spacing = 4;            ///< edge length of the lattice's cubes, mm
    Vec3 offset = Vec3::Zero();    ///< shift of the lattice in units of the spacing
    bool largestPieceOnly = true;  ///< drop all but the largest face-connected piece
    bool skinOnly = false;         ///< leave out tetrahedra inside that do not touch the boundary
    double smallestPiece = 0;      ///< else: drop pieces of less volume than this, but never the largest, mm3
    /// Longest edge wanted at a place, mm, where that is less than the spacing. Empty: the same everywhere.
    std::function<double(const Vec3&)> size{};
    std::size_t limit = 3000000;  ///< graded lattices are not refined beyond so many tetrahedra
};

/// Fills the shape with tetrahedra. Raw dihedral angles lie between about 10 and 160 degrees; boundary vertices lie on
/// the shape within 1e-9 mm along the lattice's edges. The boundary is a closed 2-manifold. The same result for any
/// number of threads.
/// @throws InputError when nothing of the shape is hit or the lattice would hold more than mostLatticeVertices
/// @throws Cancelled
TetComplex stuff(const shape::Shape& shape, const StuffingOptions& options, Progress& progress);

}  // namespace escultura::lattice
