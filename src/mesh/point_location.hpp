/// @file mesh/point_location.hpp
/// Which element holds a point, and the shape functions there: values of a mesh's nodes anywhere in it.

#pragma once
#include "mesh/tet_mesh.hpp"

namespace escultura::mesh {

/// Finds elements by a grid of cells over their boxes. Keeps a reference to the mesh.
class PointLocation {
  public:
    explicit PointLocation(const TetMesh& mesh);

    struct Place {
        std::int32_t element = -1;  ///< the one that holds the point, or the nearest
        double weight[10] = {};     ///< shape functions of its nodes; a little outside they are continued
    };
    Place at(const Vec3& point) const;

    /// A nodal field at a place; zero where there is no element. @param value  [nodes]
    Vec3 interpolate(const std::vector<Vec3>& value, const Place& place) const;

  private:
    std::array<int, 3> cellOf(const Vec3& p) const;
    std::size_t index(int i, int j, int k) const;
    /// Smallest barycentric coordinate of the straight element; from -infinity outside to 1/4 at the middle.
    double inside(std::int32_t element, const Vec3& point, Vec3& xi) const;

    const TetMesh& mesh_;
    Box3 box_;
    double cell_ = 1;
    std::array<int, 3> count_{1, 1, 1};
    std::vector<std::int32_t> offset_, element_;  ///< [cells + 1], elements whose box touches the cell
};

}  // namespace escultura::mesh
