/// @file render/camera.hpp
/// Where a scene is seen from: a parallel projection.

#pragma once
#include "base/geometry.hpp"

namespace escultura::render {

struct Camera {
    Vec3 focus = Vec3::Zero(), direction = Vec3(-1, 0.8, -0.55).normalized();  ///< direction of view
    Vec3 up = Vec3::UnitZ();
    double height = 100;  ///< visible height, mm (parallel projection)

    /// Turns about the focus by angles in radians around the up axis and the horizontal one.
    void orbit(double aroundUp, double aroundSide);
    Vec3 side() const { return direction.cross(up).normalized(); }
    Vec3 screenUp() const { return side().cross(direction).normalized(); }
    /// Pixel of a point (origin top left) in an image of this size.
    Vec3 project(const Vec3& p, int width, int height) const;
};

/// A camera that shows a box whole, from the front, upper side.
Camera fit(const Box3& box, int width, int height, const Vec3& direction = Vec3(-0.75, 0.75, -0.62),
           const Vec3& up = Vec3::UnitZ());

}  // namespace escultura::render
