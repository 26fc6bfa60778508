/// @file stages/own_frame.hpp
/// The frame in which a part's geometry is made: its axes are the global ones in an order and in senses that the part
/// itself tells, its origin is the middle of the field. A part that is moved, mirrored or turned by quarters is the
/// same part there, to the bit but for rounding of what is given, so that its surface and its meshes are the same too.

#pragma once
#include <array>

#include "duty/part.hpp"
#include "duty/recipe.hpp"
#include "mesh/tet_mesh.hpp"
#include "surface/tri_mesh.hpp"

namespace escultura::stages {
using namespace duty;

/// Plain value; as it is made it is the global frame.
struct OwnFrame {
    std::array<int, 3> axis{0, 1, 2};   ///< own axis k lies along the global axis [k]
    std::array<int, 3> sense{1, 1, 1};  ///< ... or against it
    Vec3 centre = Vec3::Zero();         ///< own origin, mm
    double grid = 0;  ///< places that are given are rounded to multiples of it, mm: what is left of rounding elsewhere
                      ///< decides nothing; 0: they are not

    Vec3 directionInto(const Vec3& global) const;
    Vec3 directionOutOf(const Vec3& own) const;
    Vec3 into(const Vec3& global) const;  ///< not rounded
    Vec3 outOf(const Vec3& own) const;
    /// A place that was given, rounded.
    Vec3 given(const Vec3& global) const;
    /// Whether right-handed becomes left-handed.
    bool mirrors() const;
};

/// The frame of a part: of the 48 orientations that keep the cells' axes the one with the most cells along the first
/// axes, then with the largest densities first, then with the largest coordinates of the interfaces. Where several are
/// alike, the first of them, beginning with the global axes: the part is symmetric then.
OwnFrame ownFrame(const Part& part, const field::DensityField& field);

/// @return the part with its geometry (interfaces, keep-outs, symmetry, design space) in the frame; its duty is not
/// turned
Part into(const OwnFrame& frame, const Part& part);
/// Lengths stay; places and directions that shape the surface and the mesh are turned.
Recipe into(const OwnFrame& frame, const Recipe& recipe);
field::DensityField into(const OwnFrame& frame, const field::DensityField& field);
/// Values of the cells, in the order of the turned field.
std::vector<char> into(const OwnFrame& frame, const field::DensityField& field, const std::vector<char>& cells);
/// Where a cell comes to lie.
std::size_t into(const OwnFrame& frame, const field::DensityField& field, std::size_t cell);
Box3 into(const OwnFrame& frame, const Box3& box);
surface::TriMesh into(const OwnFrame& frame, const surface::TriMesh& mesh);

surface::TriMesh outOf(const OwnFrame& frame, surface::TriMesh mesh);
mesh::TetMesh outOf(const OwnFrame& frame, mesh::TetMesh mesh);

}  // namespace escultura::stages
