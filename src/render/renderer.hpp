/// @file render/renderer.hpp
/// Draws a Scene off screen into an image: the same code for the window, the tests and the report. Needs no display.

#pragma once
#include <QImage>
#include <memory>
#include <optional>

#include "render/scene.hpp"

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

struct Hit {
    Vec3 position;
    std::int32_t triangle;
    std::array<double, 3> weight;  ///< barycentric
};

/// Owns the drawing context; use it from one thread.
class Renderer {
  public:
    /// @throws Error when no software drawing context can be made
    Renderer();
    ~Renderer();
    void setScene(std::shared_ptr<const Scene> scene);
    /// @param smooth  anti-aliased (slower)
    QImage render(const Camera& camera, int width, int height, bool smooth, Colour background = {0xF6, 0xF2, 0xEA});
    /// First hit of the first mesh under a pixel.
    std::optional<Hit> pick(const Camera& camera, int width, int height, double x, double y) const;
    /// How far the picked mesh goes on below a hit, along the normal of its triangle, mm; none: it has no other side.
    std::optional<double> wallBelow(const Hit& hit) const;
    /// Whether the picked mesh lies before a place, by more than a hundredth of the scene.
    bool hides(const Camera& camera, int width, int height, const Vec3& place) const;

  private:
    struct Impl;
    std::unique_ptr<Impl> impl_;
};

}  // namespace escultura::render
