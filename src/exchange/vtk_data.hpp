/// @file exchange/vtk_data.hpp
/// What both VTK file formats hold, before it is understood: plain numbers, every count checked against the file's
/// size before memory is taken. Own readers, because the library's do not survive damaged files.

#pragma once
#include <algorithm>
#include <cstring>

#include "exchange/field_file.hpp"

namespace escultura::exchange {

struct VtkArray {
    std::string name;
    int components = 1;
    std::vector<double> value;
};

struct VtkGrid {
    bool isImage = false;
    std::array<int, 3> cells{0, 0, 0};                   ///< image
    Vec3 origin = Vec3::Zero(), spacing = Vec3::Ones();  ///< image: of the first node
    std::vector<double> points;                          ///< mesh: x, y, z a node
    std::vector<std::int64_t> connectivity, offsets;     ///< mesh: offsets[e] is the end of element e
    std::vector<std::int64_t> types;
    std::vector<VtkArray> cellArrays, pointArrays;
};

/// Checks the grid and turns it to a field. @throws InputError naming element, node or array
LoadedField loadVtkGrid(const VtkGrid& grid, const std::string& path, const std::string& format);

/// One number of a file's bytes. @param swap  whether its byte order is not this machine's
template <class T>
double numberAt(const char* p, bool swap) {
    char raw[sizeof(T)];
    std::memcpy(raw, p, sizeof(T));
    if (swap) std::reverse(raw, raw + sizeof(T));
    T v;
    std::memcpy(&v, raw, sizeof(T));
    return static_cast<double>(v);
}

/// A file's bytes. @throws InputError
std::string readBytes(const std::string& path);

}  // namespace escultura::exchange
