/// @file exchange/writers.hpp
/// Binary STL and VTK XML unstructured grids. Every writer writes to a neighbour file and renames it when complete: a
/// failed write leaves the old file as it was.

#pragma once
#include <functional>
#include <string>
#include <vector>

#include "field/density_field.hpp"
#include "mesh/tet_mesh.hpp"
#include "surface/tri_mesh.hpp"

namespace escultura::exchange {

/// Calls write(temporary path), waits until what was written is on the disk, then renames to `path`.
/// @throws InputError when the place cannot be written
void replaceFile(const std::string& path, const std::function<void(const std::string& temporary)>& write);

/// Waits until a file, or the names in a folder, are on the disk. @throws InputError when the disk refuses
void flushToDisk(const std::string& path);

void writeText(const std::string& path, const std::string& text);

/// Binary STL, mm. Vertices are rounded to single precision.
void writeStl(const std::string& path, const surface::TriMesh& mesh, const std::string& title);

/// Reads a binary STL as unconnected triangles (three vertices each). @throws InputError
surface::TriMesh readStl(const std::string& path);

/// A density field as VTK XML image data (.vti) with the cell array 'density', appended, in single precision.
void writeField(const std::string& path, const field::DensityField& field);

/// A nodal array of a result file.
struct NodalArray {
    std::string name;
    int components = 1;
    std::function<double(std::size_t node, int component)> value;
};

/// Quadratic tetrahedra with nodal arrays as .vtu (appended, compressed).
void writeVtu(const std::string& path, const mesh::TetMesh& mesh, const std::vector<NodalArray>& arrays);

/// Compares two result files: cells exactly, positions and arrays within a share of each one's largest value.
/// @return what differs first; empty: nothing. @throws InputError when one cannot be read
std::string differenceOfVtu(const std::string& a, const std::string& b, double share);

}  // namespace escultura::exchange
