/// @file shape/outline.hpp
/// A region of a plane bounded by closed polygons: the outline of a flat face with its holes.

#pragma once
#include <vector>

#include "base/geometry.hpp"

namespace escultura::shape {

/// What lies within an odd number of the polygons belongs to it. Thread-safe.
class Outline {
  public:
    using Loop = std::vector<Vec3>;
    /// @param axis  unit normal of the plane; @param loops  corners, mm; what they have along the axis is left out
    Outline(const Vec3& axis, const std::vector<Loop>& loops);
    /// Signed distance within the plane, negative inside, mm. Exact.
    double distance(const Vec3& p) const { return nearest(p).distance; }
    /// Its gradient, a unit vector in the plane.
    Vec3 gradient(const Vec3& p) const;
    /// mm2
    double area() const;
    /// Without its holes: the polygons that lie within no other.
    Outline filled() const;
    const Vec3& axis() const { return axis_; }
    const std::vector<Loop>& loops() const { return loops_; }

  private:
    struct Point {
        double x, y;
    };
    struct Nearest {
        double distance = 0;  ///< signed
        Point away{};         ///< from the nearest place of the outline
        Point along{};        ///< of the nearest edge
    };
    Nearest nearest(const Vec3& p) const;
    bool holds(const Point& q, std::size_t without) const;

    Vec3 axis_, u_, v_;
    std::vector<Loop> loops_;
    std::vector<std::vector<Point>> flat_;
};

}  // namespace escultura::shape
