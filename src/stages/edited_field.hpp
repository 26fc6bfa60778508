/// @file stages/edited_field.hpp
/// The field as the surface follows it: without the pieces that the recipe drops, and with the thin members as decided.
/// Internal to stage Surface.

#pragma once
#include <memory>
#include <vector>

#include "shape/local_threshold.hpp"
#include "stages/thin_members.hpp"

namespace escultura::stages {

struct EditedField {
    field::DensityField cells;
    /// Cells within two cells of an interface's material or of a void by definition: there the shape follows the part
    /// file, not the field. [cells] 0 or 1
    std::vector<char> shaped{};
    shape::LocalVolume volume{};  ///< that a surface with members kept encloses; else empty

    // ---- of editedField() only
    std::shared_ptr<const IsoSurface> iso{};  ///< of the cells
    std::vector<RawMember> members{};
    std::vector<float>
        thin{};            ///< [cells] thickness of members near by that a lattice of the cells' size would tear, mm
    bool hasThin = false;  ///< any
    /// Spacing of a lattice that holds the thin members, infinite elsewhere, mm.
    double spacingAt(const Vec3& p) const;
};
EditedField editedField(const Part& part, const FieldResult& field, const Recipe& recipe, Progress& progress);
/// The same without what only a lattice and the list of members need.
EditedField followedField(const Part& part, const FieldResult& field, const Recipe& recipe, Progress& progress);

}  // namespace escultura::stages
