/// @file exchange/field_reader.hpp
/// Density fields from files: VTK XML image data and unstructured grids, legacy VTK, NumPy arrays, tables of points.
/// The format is found by content, not by the file's ending.

#pragma once
#include <optional>
#include <string>
#include <vector>

#include "base/progress.hpp"
#include "field/density_field.hpp"

namespace escultura::exchange {

/// What the numbers of a file mean. Anything but shares is only taken when the user says so.
enum class DensityScale { share, percent, bytes };

/// A file with a density field, and how to read it.
struct FieldSource {
    std::string path{};
    std::string array{};            ///< empty: 'density' if there is one, else the file's only scalar
    std::optional<Vec3> origin{};   ///< .npy: low corner, mm; default 0
    std::optional<Vec3> spacing{};  ///< .npy: cell size, mm; must be given
    std::optional<double> cell{};   ///< unstructured grids and points: cell size of the grid made from them, mm
    std::string lengthUnit = "mm";  ///< of the coordinates in the file (not of the values above)
    DensityScale scale = DensityScale::share;  ///< 0..1, 0..100 or 0..255
    bool clamp = false;                        ///< values beyond 0..1 are clamped
    bool operator==(const FieldSource&) const = default;
};

/// One array of a file.
struct ArrayInfo {
    std::string name;
    enum class On { cells, points } on = On::cells;
    int components = 1;
    std::size_t count = 0;
    double low = 0, high = 0;  ///< range of the finite values
    std::size_t notFinite = 0;
};

/// What a file holds, for choosing the array and the units.
struct FieldFile {
    enum class Kind { grid, mesh, points, array } kind = Kind::grid;
    std::string format;                 ///< in words
    std::array<int, 3> cells{0, 0, 0};  ///< grid and array: along x, y, z
    std::size_t count = 0;              ///< cells, elements or points
    Box3 bounds;                        ///< in the file's unit; empty for an array
    double suggestedCell = 0;           ///< mesh: cell size that suits its elements, in the file's unit
    std::vector<ArrayInfo> arrays;
};

/// Looks into a file. @throws InputError when it is not one of the formats, or damaged
FieldFile inspectField(const std::string& path);

/// Reads and validates a density field.
/// @param cover  design space: a grid made from a mesh or from points reaches over it; may be empty
/// @throws InputError naming file, place, expected and found; Cancelled
field::DensityField readField(const FieldSource& source, const std::optional<Box3>& cover, Progress& progress);
field::DensityField readField(const FieldSource& source);

}  // namespace escultura::exchange
