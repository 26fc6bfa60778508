#include "shape/exact_surface.hpp"

#include <cmath>
#include <stdexcept>

#include "base/quantity.hpp"

namespace escultura::shape {
namespace {

class Elementary final : public ExactSurface {
  public:
    explicit Elementary(const SurfaceForm& form) : f_(form) {
        if (f_.kind == SurfaceForm::Kind::free) throw std::invalid_argument("a free form is none of the elementary");
    }
    double distance(const Vec3& p, Vec3& g) const override {
        const Vec3 d = p - f_.point;
        if (f_.kind == SurfaceForm::Kind::plane) {
            g = f_.axis;
            return d.dot(f_.axis);
        }
        if (f_.kind == SurfaceForm::Kind::sphere) {
            const double r = d.norm();
            g = f_.sense * (r > 1e-12 ? Vec3(d / r) : f_.axis);
            return f_.sense * (r - f_.radius);
        }
        const double along = d.dot(f_.axis);
        const Vec3 radial = d - along * f_.axis;
        const double r = radial.norm();
        const Vec3 out = r > 1e-12 ? Vec3(radial / r) : perpendicular(f_.axis)[0];
        if (f_.kind == SurfaceForm::Kind::cylinder) {
            g = f_.sense * out;
            return f_.sense * (r - f_.radius);
        }
        if (f_.kind == SurfaceForm::Kind::cone) {
            const double c = std::cos(f_.angle), s = std::sin(f_.angle);
            g = f_.sense * (c * out - s * f_.axis);
            return f_.sense * (r * c - along * s);
        }
        const double x = r - f_.radius, length = std::hypot(x, along);
        g = f_.sense * (length > 1e-12 ? Vec3((x * out + along * f_.axis) / length) : out);
        return f_.sense * (length - f_.tube);
    }
    SurfaceForm form() const override { return f_; }

  private:
    SurfaceForm f_;
};

}  // namespace

std::string describe(const SurfaceForm& f) {
    auto mm = [](double v) { return formatNumber(v, 4) + " mm"; };
    switch (f.kind) {
        case SurfaceForm::Kind::plane:
            return "plane";
        case SurfaceForm::Kind::cylinder:
            return "cylinder, Ø " + mm(2 * f.radius);
        case SurfaceForm::Kind::cone:
            return "cone, " + formatNumber(2 * f.angle * 180 / M_PI, 3) + "°";
        case SurfaceForm::Kind::sphere:
            return "sphere, Ø " + mm(2 * f.radius);
        case SurfaceForm::Kind::torus:
            return "round, radius " + mm(f.tube);
        case SurfaceForm::Kind::free:
            break;
    }
    return "free form";
}

std::shared_ptr<const ExactSurface> exactSurface(const SurfaceForm& form) {
    return std::make_shared<const Elementary>(form);
}

}  // namespace escultura::shape
