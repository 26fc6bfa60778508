/// @file field/cell_mesh.hpp
/// Finite-element meshes and point clouds that carry a density, and their resampling to a regular grid.

#pragma once
#include <cstdint>
#include <optional>
#include <span>
#include <vector>

#include "base/progress.hpp"
#include "field/density_field.hpp"

namespace escultura::field {

/// Shape of a solid element. Mid-side nodes follow the corners in the order of the VTK file format.
enum class CellShape : std::uint8_t { tetrahedron, hexahedron, wedge, pyramid };

/// Solid elements, linear or quadratic, of mixed shapes.
struct CellMesh {
    std::vector<Vec3> position;       ///< [nodes] mm
    std::vector<CellShape> shape;     ///< [elements]
    std::vector<std::int64_t> first;  ///< [elements + 1] first entry of each element in `node`
    std::vector<std::int32_t> node;

    std::size_t count() const { return shape.size(); }
};

/// Corners of a shape.
int cornerCount(CellShape shape);

/// Volume of one element, mm3: straight pieces between its nodes, mid-side nodes included.
double volumeOf(const CellMesh& mesh, std::size_t element);

/// Edge lengths of a box cell that suits the elements: the means of their bounding boxes along x, y, z. mm
Vec3 typicalCell(const CellMesh& mesh);

/// Volume-weighted rasterisation: every element is cut exactly along the planes of the grid, and each cell gets the
/// share of its volume that the elements fill, times their density. The total of density times volume is kept to
/// rounding. What no element covers is void.
/// @param density  [elements]
/// @param cell     edge lengths of the grid's cells, mm
/// @param cover    the grid reaches at least over this box (in whole cells from the mesh's low corner); may be empty
/// @throws InputError when the grid would hold more than 200 million cells; Cancelled
DensityField rasterise(const CellMesh& mesh, std::span<const float> density, const Vec3& cell,
                       const std::optional<Box3>& cover, Progress& progress);

/// Points with a density: centres of cells. A complete or partial regular lattice (within 1 % of its spacing) is
/// recognised and taken over exactly; other clouds are averaged into cells of the given size (default: the median
/// distance to the nearest neighbour), an empty cell takes the mean of the points within one and a half cells.
/// @throws InputError for fewer than 8 points, a flat cloud, or two points in one place
DensityField gridOfPoints(std::span<const Vec3> points, std::span<const float> density,
                          const std::optional<double>& cell, const std::optional<Box3>& cover, Progress& progress);

}  // namespace escultura::field
