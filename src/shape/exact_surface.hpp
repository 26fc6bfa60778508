/// @file shape/exact_surface.hpp
/// The surfaces that faces of a designed body lie on, continued beyond them.

#pragma once
#include <memory>
#include <string>

#include "base/geometry.hpp"

namespace escultura::shape {

/// What a surface is, in numbers.
struct SurfaceForm {
    enum class Kind { plane, cylinder, cone, sphere, torus, free } kind = Kind::free;
    Vec3 point = Vec3::Zero();  ///< on the plane or the axis; cone: its tip; sphere, torus: the centre. mm
    Vec3 axis = Vec3::UnitZ();  ///< plane: out of the material; cone: from the tip into it. Unit vector
    double radius = 0;          ///< cylinder, sphere; torus: of the circle that its tube runs along. mm
    double tube = 0;            ///< torus: radius of its tube, mm
    double angle = 0;           ///< cone: between axis and side, radians
    double sense = 1;           ///< 1: the material lies inside (a shaft); -1: outside (a hole)
};

/// "cylinder, Ø 12 mm", as on the screen.
std::string describe(const SurfaceForm& form);

/// Thread-safe.
class ExactSurface {
  public:
    virtual ~ExactSurface() = default;
    /// Signed distance, positive out of the material, mm. Exact near the face.
    /// @param gradient  receives its gradient, a unit vector
    virtual double distance(const Vec3& p, Vec3& gradient) const = 0;
    double distance(const Vec3& p) const {
        Vec3 unused;
        return distance(p, unused);
    }
    Vec3 gradient(const Vec3& p) const {
        Vec3 g;
        distance(p, g);
        return g;
    }
    virtual SurfaceForm form() const { return {}; }
};

/// Plane, cylinder, cone, sphere or torus. @throws std::invalid_argument for a free form
std::shared_ptr<const ExactSurface> exactSurface(const SurfaceForm& form);

}  // namespace escultura::shape
