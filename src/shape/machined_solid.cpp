#include "shape/machined_solid.hpp"

#include <cmath>

namespace escultura::shape {

Vec3 FreeBody::gradient(const Vec3& p) const {
    constexpr double h = 1e-4;
    Vec3 g;
    for (int a = 0; a < 3; ++a) {
        const Vec3 d = h * Vec3::Unit(a);
        g[a] = (value(p + d) - value(p - d)) / (2 * h);
    }
    return g;
}

double RoundBar::distance(const Vec3& p) const {
    const Vec3 d = p - start;
    const double along = d.dot(axis);
    const double radial = (d - along * axis).norm();
    const double x = radial - (radius - rounding);
    const double y = std::abs(along - 0.5 * length) - (0.5 * length - rounding);
    return std::min(std::max(x, y), 0.0) + std::hypot(std::max(x, 0.0), std::max(y, 0.0)) - rounding;
}

Vec3 RoundBar::gradient(const Vec3& p) const {
    const Vec3 d = p - start;
    const double along = d.dot(axis);
    const Vec3 across = d - along * axis;
    const double radial = across.norm();
    const Vec3 out = radial > 1e-12 ? Vec3(across / radial) : perpendicular(axis)[0];
    const Vec3 up = along > 0.5 * length ? axis : Vec3(-axis);
    const double x = radial - (radius - rounding);
    const double y = std::abs(along - 0.5 * length) - (0.5 * length - rounding);
    if (x > 0 && y > 0) return (x * out + y * up) / std::hypot(x, y);
    return x > y ? out : up;
}

double Primitive::distance(const Vec3& p) const {
    const Vec3 d = p - point;
    if (kind == Kind::plane) return d.dot(axis);
    const double outside = (d - d.dot(axis) * axis).norm() - radius;
    return inverted ? -outside : outside;
}

Vec3 Primitive::gradient(const Vec3& p) const {
    if (kind == Kind::plane) return axis;
    const Vec3 d = p - point;
    const Vec3 radial = d - d.dot(axis) * axis;
    const double length = radial.norm();
    const Vec3 out = length > 1e-12 ? Vec3(radial / length) : perpendicular(axis)[0];
    return inverted ? Vec3(-out) : out;
}

double smoothMinimum(double a, double b, double radius) {
    if (radius <= 0) return std::min(a, b);
    const double h = std::max(radius - std::abs(a - b), 0.0) / radius;
    return std::min(a, b) - h * h * radius * 0.25;
}

MachinedSolid::MachinedSolid(std::shared_ptr<const FreeBody> body, const Box3& bounds)
    : body_(std::move(body)), bounds_(bounds), surfaces_(1) {}

void MachinedSolid::addBar(const RoundBar& bar, double blendRadius) {
    bars_.push_back(
        {bar, blendRadius, bar.start + 0.5 * bar.length * bar.axis, std::hypot(0.5 * bar.length, bar.radius)});
}

void MachinedSolid::addTrim(const Primitive& primitive, double radius) {
    trims_.push_back({primitive, radius});
}

void MachinedSolid::addTrim(std::shared_ptr<const FreeBody> body, bool inverted, double radius) {
    Trim t{{}, radius};
    t.body = std::move(body);
    t.sign = inverted ? -1 : 1;
    trims_.push_back(std::move(t));
}

MachinedSolid::Reference MachinedSolid::intern(const Primitive& primitive, double outward) {
    constexpr double near = 1e-7;
    for (std::size_t i = 1; i < surfaces_.size(); ++i) {
        const Primitive& other = surfaces_[i].primitive;
        if (other.kind != primitive.kind) continue;
        const double cosine = other.axis.dot(primitive.axis);
        if (std::abs(cosine) < 1 - 1e-12) continue;
        if (primitive.kind == Primitive::Kind::plane) {
            if (std::abs(other.distance(primitive.point)) > near) continue;
            if (surfaces_[i].outward != outward * (cosine > 0 ? 1 : -1)) continue;
            return {static_cast<int>(i), cosine > 0 ? 1.0 : -1.0};
        }
        if (std::abs(other.radius - primitive.radius) > near || other.inverted != primitive.inverted) continue;
        const Vec3 d = primitive.point - other.point;
        if ((d - d.dot(other.axis) * other.axis).norm() > near) continue;
        if (surfaces_[i].outward != outward) continue;
        return {static_cast<int>(i), 1.0};
    }
    surfaces_.push_back({primitive, outward});
    return {static_cast<int>(surfaces_.size()) - 1, 1.0};
}

int MachinedSolid::addInside(const Primitive& primitive) {
    inside_.push_back(intern(primitive, 1));
    return inside_.back().surface;
}

std::vector<int> MachinedSolid::addCut(const std::vector<Primitive>& primitives) {
    std::vector<Reference> cut;
    std::vector<int> ids;
    for (const Primitive& primitive : primitives) {
        cut.push_back(intern(primitive, -1));
        ids.push_back(cut.back().surface);
    }
    cuts_.push_back(std::move(cut));
    return ids;
}

double MachinedSolid::bodyValue(const Vec3& p) const {
    double v = body_ ? body_->value(p) : -1e6;
    for (const Bar& b : bars_)
        if (!b.isBeyond(p, v)) v = smoothMinimum(v, b.bar.distance(p), b.blend);
    for (const Trim& t : trims_) v = -smoothMinimum(-v, -t.distance(p), t.radius);
    return v;
}

Sample MachinedSolid::evaluate(const Vec3& p) const {
    Sample s{bodyValue(p), 0};
    for (const Reference& r : inside_) {
        const double d = r.sign * surfaces_[r.surface].primitive.distance(p);
        if (d > s.value) s = {d, r.surface};
    }
    for (const auto& cut : cuts_) {
        Sample c{1e300, 0};
        for (const Reference& r : cut) {
            const double d = -r.sign * surfaces_[r.surface].primitive.distance(p);
            if (d < c.value) c = {d, r.surface};
            if (c.value <= s.value) break;
        }
        if (c.value > s.value) s = c;
    }
    return s;
}

double MachinedSolid::surfaceValue(int surface, const Vec3& p) const {
    if (surface == 0) return bodyValue(p);
    return surfaces_[surface].outward * surfaces_[surface].primitive.distance(p);
}

Vec3 MachinedSolid::surfaceGradient(int surface, const Vec3& p) const {
    if (surface != 0) return surfaces_[surface].outward * surfaces_[surface].primitive.gradient(p);
    if (!body_) return Vec3::Zero();
    double v = body_->value(p);
    Vec3 g = body_->gradient(p);
    for (const Bar& b : bars_) {
        if (b.isBeyond(p, v)) continue;
        const double d = b.bar.distance(p);
        const double h = b.blend > 0 ? std::max(b.blend - std::abs(v - d), 0.0) / b.blend : 0;
        const double share = d < v ? 1 - 0.5 * h : 0.5 * h;  // of the bar's gradient
        if (share > 0) g = (1 - share) * g + share * b.bar.gradient(p);
        v = smoothMinimum(v, d, b.blend);
    }
    for (const Trim& t : trims_) {
        const double d = t.distance(p);
        const double h = t.radius > 0 ? std::max(t.radius - std::abs(v - d), 0.0) / t.radius : 0;
        const double share = d > v ? 1 - 0.5 * h : 0.5 * h;
        if (share > 0) g = (1 - share) * g + share * t.gradient(p);
        v = -smoothMinimum(-v, -d, t.radius);
    }
    return g;
}

}  // namespace escultura::shape
