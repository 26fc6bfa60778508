/// @file stages/edited_field.hpp
/// The field as the surface follows it: without the pieces that the recipe drops, and with the thin members as decided.
/// Internal to stage Surface.

#pragma once
#include <vector>

#include "shape/machined_solid.hpp"
#include "stages/thin_members.hpp"

namespace escultura::stages {

/// Cells within two cells of an interface's material or of a void by definition: there the shape follows the part file,
/// not the field. [cells] 0 or 1
std::vector<char> shapedCells(const FieldResult& field, const std::vector<shape::RoundBar>& bars);

struct EditedField {
    field::DensityField cells;
    surface::TriMesh iso;  ///< of its cells
    std::vector<RawMember> members;
    std::vector<float> thin;  ///< [cells] thickness of members near by that a lattice of the cells' size would tear, mm
    bool hasThin = false;     ///< any
    /// Spacing of a lattice that holds the thin members, infinite elsewhere, mm. The field must outlive it.
    double spacingAt(const Vec3& p) const;
};
EditedField editedField(const Part& part, const FieldResult& field, const Recipe& recipe, Progress& progress);
/// The same cells, without what only the list of members needs.
field::DensityField editedCells(const Part& part, const FieldResult& field, const Recipe& recipe, Progress& progress);

}  // namespace escultura::stages
