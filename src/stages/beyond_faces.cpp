#include "stages/beyond_faces.hpp"

#include <algorithm>
#include <cmath>

namespace escultura::stages {
namespace {

/// A design body that reaches a little beyond the flat faces of outlines, so that their own exact planes cut it and
/// not its triangles, which lie off them by the digits of a file.
class BeyondFaces final : public shape::FreeBody {
  public:
    BeyondFaces(std::shared_ptr<const shape::FreeBody> body, const Part& part) : body_(std::move(body)) {
        for (const Interface& i : part.interfaces) {
            if (i.outline.empty() || i.start.kind != EndKind::flat) continue;
            const shape::Outline outline(i.axis, outlineOf(i));
            const double beyond = 0.5 * i.start.clearance;
            faces_.push_back({outline, outline.filled(), i.origin, i.axis, i.start.clearMargin, beyond,
                              overlap(i, outline, beyond)});
        }
    }
    double value(const Vec3& p) const override { return at(p).first; }
    Vec3 gradient(const Vec3& p) const override {
        const auto [value, face] = at(p);
        if (!face) return body_->gradient(p);
        const double along = (p - face->origin).dot(face->axis);
        if (face->along(along) >= face->across(p))
            return -along - face->beyond > along - face->within ? Vec3(-face->axis) : face->axis;
        return face->outline.distance(p) > 0 ? face->filled.gradient(p) : face->outline.gradient(p);
    }

  private:
    struct Face {
        shape::Outline outline, filled;
        Vec3 origin, axis;
        double margin, beyond, within;  ///< mm
        double along(double x) const { return std::max(-x - beyond, x - within); }
        /// Holes stay open whatever the margin.
        double across(const Vec3& p) const {
            const double outer = filled.distance(p);
            return outer < 0 ? std::max(outline.distance(p), outer - margin) : outer - margin;
        }
    };
    std::pair<double, const Face*> at(const Vec3& p) const {
        std::pair<double, const Face*> r{body_->value(p), nullptr};
        for (const Face& f : faces_) {
            const double thick = f.along((p - f.origin).dot(f.axis));
            if (thick >= r.first) continue;
            const double v = std::max(thick, f.across(p));
            if (v < r.first) r = {v, &f};
        }
        return r;
    }
    /// How deep the body goes behind a face everywhere, at most as far as it is continued before it, mm.
    double overlap(const Interface& i, const shape::Outline& outline, double most) const {
        const auto [u, v] = perpendicular(i.axis);
        constexpr int n = 24;
        double depth = most;
        for (int a = -n; a <= n; ++a)
            for (int b = -n; b <= n; ++b) {
                const Vec3 at = i.origin + 0.5 * i.ringDiameter / n * (a * u + b * v);
                if (outline.distance(at) > -1e-3 * i.ringDiameter) continue;
                while (depth > 0.02 && body_->value(at + depth * i.axis) > 0) depth *= 0.7;
            }
        return depth;
    }
    std::shared_ptr<const shape::FreeBody> body_;
    std::vector<Face> faces_;
};

}  // namespace

std::shared_ptr<const shape::FreeBody> designTrim(const Part& part, const Regions& regions) {
    const bool outlined = std::any_of(part.interfaces.begin(), part.interfaces.end(),
                                      [](const Interface& i) { return !i.outline.empty(); });
    if (!outlined) return regions.designBody;
    return std::make_shared<BeyondFaces>(regions.designBody, part);
}

}  // namespace escultura::stages
