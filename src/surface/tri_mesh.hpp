/// @file surface/tri_mesh.hpp
/// Triangle surfaces with owners, and what is measured on them.

#pragma once
#include <cstdint>
#include <functional>
#include <optional>
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
    double volume = 0;                               ///< mm3, divergence theorem
    double area = 0;                                 ///< mm2
    Vec3 centroid = Vec3::Zero();                    ///< of the volume, mm
    Mat3 inertia = Mat3::Zero();                     ///< about the centroid, for unit density, mm5
    int pieces = 0;                                  ///< connected bodies: parts of the surface that enclose material
    int cavities = 0;                                ///< parts that enclose none: closed holes inside
    int genus = 0;                                   ///< handles, summed over all parts
    int parts() const { return pieces + cavities; }  ///< closed parts of the surface
    bool watertight = false;                         ///< every edge has exactly two triangles, in opposite directions
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
    /// Closest point; triangle -1 when none is nearer than the limit.
    struct Closest {
        Vec3 point = Vec3::Zero();
        double distance = 0;
        std::int32_t triangle = -1;
    };
    /// @param mostVisits  boxes looked into: in the middle of a ball every triangle is as near as any other, and the
    ///                    search would see them all. Beyond it the closest so far is taken
    Closest closest(const Vec3& p, double limit = 1e300, int mostVisits = 1 << 30) const;
    /// First triangle that a ray hits beyond `from` (mm along the unit direction). Distance is along the ray.
    std::optional<Closest> firstHit(const Vec3& origin, const Vec3& direction, double from = 0) const;
    /// Calls visit(triangle) for triangles whose boxes meet a box.
    void forOverlapping(const Box3& box, const std::function<void(std::int32_t)>& visit) const;

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
