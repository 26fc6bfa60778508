/// @file exchange/field_file.hpp
/// What the readers of single formats hand to field_reader.cpp.

#pragma once
#include <functional>

#include "base/error.hpp"
#include "exchange/field_reader.hpp"
#include "field/cell_mesh.hpp"

namespace escultura::exchange {

struct LoadedArray {
    ArrayInfo info;
    std::vector<float> value;  ///< empty for arrays that are not scalars
};

/// A file's contents, lengths in the file's unit.
struct LoadedField {
    FieldFile file;
    Vec3 origin = Vec3::Zero(), spacing = Vec3::Ones();  ///< grid
    field::CellMesh mesh;                                ///< mesh
    std::vector<Vec3> points;                            ///< points
    std::vector<LoadedArray> arrays;
};

/// Completes range and count of an array from its values.
void summarise(LoadedArray& array);

/// Refuses a file: shorthand for the readers.
[[noreturn]] inline void refuseFile(const std::string& path, const std::string& problem, const std::string& place,
                                    const std::string& expected, const std::string& found) {
    throw InputError(ErrorDetail{problem, path, place, expected, found.empty() ? "nothing" : found});
}

LoadedField loadVtkXml(const std::string& path, bool unstructured);
LoadedField loadVtkLegacy(const std::string& path);
LoadedField loadNumpy(const std::string& path);
LoadedField loadPointTable(const std::string& path);
/// Whether text looks like a table of numbers with at least four columns.
bool looksLikePointTable(const std::string& start);

}  // namespace escultura::exchange
