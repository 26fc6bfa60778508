/// @file surface/tri_mesh.hpp
/// Triangle surfaces with owners, and what is measured on them.

#pragma once
#include <cstdint>
#include <vector>

#include "base/geometry.hpp"

namespace escultura::surface {

/// An oriented triangle surface (normals outward). Plain value.
struct TriMesh {
    std::vector<Vec3> position;       ///< [vertices] mm
    std::vector<Triangle> triangle;   ///< [triangles] counter-clockwise from outside
    std::vector<std::int16_t> owner;  ///< [triangles] surface of the shape that the triangle lies on
};

/// Figures of a closed surface.
struct Measures {
    double volume = 0;             ///< mm3, divergence theorem
    double area = 0;               ///< mm2
    Vec3 centroid = Vec3::Zero();  ///< of the volume, mm
    int pieces = 0;                ///< connected parts of the surface
    int genus = 0;                 ///< handles, summed over the pieces
    bool watertight = false;       ///< every edge has exactly two triangles, in opposite directions
};
Measures measure(const TriMesh& mesh);

/// Area-weighted vertex normals; vertices at machined edges (owners meeting at more than 30 degrees) keep one normal
/// per owner: returns per triangle corner. [triangles * 3]
std::vector<Vec3> cornerNormals(const TriMesh& mesh);

/// Finds closest points on a triangle surface: a tree of boxes.
class TriangleTree {
  public:
    explicit TriangleTree(const TriMesh& mesh);
    /// Distance to the surface, mm, at most `limit`.
    double distance(const Vec3& p, double limit = 1e300) const;

  private:
    struct Node {
        Box3 box;
        std::int32_t first, count;  // leaf: triangles; inner node: count 0, children first and first + 1
    };
    void build(std::int32_t node, std::int32_t begin, std::int32_t end);
    const TriMesh& mesh_;
    std::vector<std::int32_t> order_;
    std::vector<Vec3> centre_;
    std::vector<Node> nodes_;
};

/// Point of a triangle that is closest to p (Ericson, Real-Time Collision Detection, 2005, 5.1.5).
Vec3 closestOnTriangle(const Vec3& p, const Vec3& a, const Vec3& b, const Vec3& c);

}  // namespace escultura::surface
