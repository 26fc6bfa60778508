/// @file shape/cell_grid.hpp
/// A value a cell on a regular grid, and the filters that smooth it. Internal to this folder.

#pragma once
#include <array>
#include <vector>

#include "base/geometry.hpp"

namespace escultura::shape {

struct CellGrid {
    std::array<int, 3> n{0, 0, 0};  ///< count along x, y, z; x fastest
    std::vector<float> v{};
    std::size_t at(int i, int j, int k) const {
        return i + static_cast<std::size_t>(n[0]) * (j + static_cast<std::size_t>(n[1]) * k);
    }
};

/// Fills unknown cells layer by layer with the mean of their known neighbours (26 of them). @param unknown  [cells]
void fillUnknown(CellGrid& g, std::vector<char> unknown);
/// The grid with the border values continued over a margin of cells on each side.
CellGrid withMargin(const CellGrid& g, int margin);
/// The same into a grid that is there already.
void putMargin(const CellGrid& g, int margin, CellGrid& padded);
/// One half of a Gaussian's weights, the middle first; with their mirror image they sum to 1. @param sigma  cells
std::vector<double> gaussian(double sigma);
/// One pass of a symmetric kernel along an axis; beyond the ends the border value is continued.
void convolve(CellGrid& g, int axis, const std::vector<double>& kernel);
/// The same for many passes. @param scratch  memory to work in, kept between them
void convolve(CellGrid& g, int axis, const std::vector<double>& kernel, std::vector<float>& scratch);
/// Mean of the grid and its mirror image about a plane; where the image falls outside the grid the value stays.
/// @param firstCentre  middle of the first cell, mm
void symmetrise(CellGrid& g, const Vec3& firstCentre, const Vec3& spacing, const Vec3& point, const Vec3& normal);

}  // namespace escultura::shape
