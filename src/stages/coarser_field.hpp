/// @file stages/coarser_field.hpp
/// Large fields in fewer cells: for pictures that follow a slider.

#pragma once
#include "stages/field_stage.hpp"

namespace escultura::stages {

/// Fields with more cells are not drawn whole while something moves.
inline constexpr std::size_t mostDrawnCells = 400000;

/// Means over cubes of cells, as few along an edge as it takes; each interface keeps the cubes that hold a cell of it.
/// For drawing only: what no picture of cells needs is left out.
/// @param most  cells of the result
std::shared_ptr<const FieldResult> coarserField(const field::DensityField& field,
                                                const std::vector<field::KeptCells>& kept, std::size_t most);

}  // namespace escultura::stages
