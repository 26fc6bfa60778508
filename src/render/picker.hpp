/// @file render/picker.hpp
/// What of a scene lies under a place of the picture. Needs no drawing context.

#pragma once
#include <array>
#include <memory>
#include <optional>

#include "render/camera.hpp"
#include "render/scene.hpp"

namespace escultura::render {

struct Hit {
    Vec3 position;
    std::int32_t triangle;
    std::array<double, 3> weight;  ///< barycentric
};

/// Made once a scene; use it from one thread at a time.
class Picker {
  public:
    explicit Picker(std::shared_ptr<const Scene> scene);
    ~Picker();
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
