/// @file shape/member_smoothing.hpp
/// Smoothing of thin members along themselves: over the plane of a web, along the axis of a strut, but not across,
/// which would wash them out. The steps of the cells go, the thickness stays. Internal to this folder.

#pragma once
#include "shape/cell_grid.hpp"

namespace escultura::shape {

/// Directions in which a density changes most and least around each cell: eigenvectors of the structure tensor
/// (Weickert 1999), whose values tell webs (one large) from struts (two) and lumps (three).
class StructureTensor {
  public:
    /// @param density  smoothed so far that the steps of the cells blend
    StructureTensor(const CellGrid& density, const Vec3& spacing);
    struct Directions {
        std::array<Vec3, 2> along;    ///< unit vectors in which it changes least, the least last
        std::array<double, 2> share;  ///< 1: hardly a change along it, 0: as much as across
    };
    Directions at(std::size_t cell) const;

  private:
    std::array<CellGrid, 6> product_;  ///< of the gradient's components, averaged around
};

/// Smooths a density along the members' own directions by a Gaussian of up to a width, where it is wanted.
/// @param where    [cells of the grid] positive there
/// @param width    full width at half height, mm
/// @param already  the width by which the density is smoothed all around, mm
void smoothAlong(CellGrid& density, const CellGrid& where, const StructureTensor& tensor, const Vec3& spacing,
                 double width, double already);

}  // namespace escultura::shape
