/// @file exchange/field_reader.hpp
/// Density fields from VTK XML image data (.vti) and NumPy arrays (.npy), recognised by content.

#pragma once
#include <optional>
#include <string>

#include "field/density_field.hpp"

namespace escultura::exchange {

/// What a file without a grid (.npy) needs, and which array to take.
struct FieldSource {
    std::string path;
    std::string array = "density";  ///< cell or point array of a .vti; point data are averaged to cells
    std::optional<Vec3> origin;     ///< .npy: low corner, mm; default 0
    std::optional<Vec3> spacing;    ///< .npy: cell size, mm; must be given
};

/// Reads and validates a density field.
/// @throws InputError naming file, place, expected and found
field::DensityField readField(const FieldSource& source);

}  // namespace escultura::exchange
