#include "stages/beyond_faces.hpp"

#include <algorithm>
#include <atomic>
#include <cmath>

#include "stages/kept_faces.hpp"

namespace escultura::stages {
namespace {

/// A design body that reaches a little beyond the faces that interfaces keep, so that their own exact planes cut it and
/// not its triangles, which lie off them by the digits of a file.
class BeyondKept final : public shape::FreeBody {
  public:
    BeyondKept(std::shared_ptr<const shape::FreeBody> body, const Part& part) : body_(std::move(body)) {
        const auto faces = keptFacesOf(part);
        for (std::size_t n = 0; n < part.interfaces.size(); ++n) {
            if (part.interfaces[n].kind != Interface::Kind::faces) continue;
            double beyond = 0.5 * part.interfaces[n].start.clearance, within = beyond;
            for (const shape::FacePatch& f : faces->patches()) {
                if (f.interface != static_cast<int>(n)) continue;
                beyond = std::min(beyond, 0.5 * f.clearance);
                within = std::min({within, beyond, depthBehind(f, beyond)});
            }
            layers_.emplace_back(faces, static_cast<int>(n), beyond, within, 0);
        }
    }
    double value(const Vec3& p) const override { return at(p).first; }
    Vec3 gradient(const Vec3& p) const override {
        const auto [value, layer] = at(p);
        return layer ? layer->gradient(p) : body_->gradient(p);
    }

  private:
    std::pair<double, const shape::FaceLayer*> at(const Vec3& p) const {
        // a solid asks for the same place several times
        struct Known {
            std::uint64_t id = 0;
            Vec3 p;
            std::pair<double, const shape::FaceLayer*> at;
        };
        thread_local Known known;
        if (known.id != id_ || known.p != p) known = {id_, p, find(p)};
        return known.at;
    }
    static std::uint64_t newId() {
        static std::atomic<std::uint64_t> last{0};
        return ++last;
    }
    std::pair<double, const shape::FaceLayer*> find(const Vec3& p) const {
        std::pair<double, const shape::FaceLayer*> r{body_->value(p), nullptr};
        for (const shape::FaceLayer& l : layers_)
            if (l.atLeast(p) < r.first)
                if (const double v = l.value(p); v < r.first) r = {v, &l};
        return r;
    }
    /// How deep the body goes behind a face everywhere, mm. @param depth  at most
    double depthBehind(const shape::FacePatch& f, double depth) const {
        const std::size_t every = f.places.size() / 300 + 1;
        for (std::size_t k = 0; k < f.places.size(); k += every) {
            const Vec3 n = f.surface->gradient(f.places[k]);
            while (depth > 0.02 && body_->value(f.places[k] - depth * n) > 0) depth *= 0.7;
        }
        return depth;
    }
    std::shared_ptr<const shape::FreeBody> body_;
    std::vector<shape::FaceLayer> layers_;
    std::uint64_t id_ = newId();
};

/// The same for flat faces with outlines.
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
    std::shared_ptr<const shape::FreeBody> body = regions.designBody;
    if (outlined) body = std::make_shared<BeyondFaces>(body, part);
    if (keptFacesOf(part)) body = std::make_shared<BeyondKept>(body, part);
    return body;
}

}  // namespace escultura::stages
