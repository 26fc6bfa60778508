#include "shape/machined_solid.hpp"

#include <cmath>
#include <limits>

#include "shape/kept_faces.hpp"

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

double RoundBar::across(const Vec3& p) const {
    if (outline) return outline->distance(p) - grown + rounding;
    const Vec3 d = p - start;
    return (d - d.dot(axis) * axis).norm() - (radius - rounding);
}

double RoundBar::distance(const Vec3& p) const {
    if (layer) return layer->value(p);
    const double along = (p - start).dot(axis);
    const double x = across(p);
    const double y = std::abs(along - 0.5 * length) - (0.5 * length - rounding);
    return std::min(std::max(x, y), 0.0) + std::hypot(std::max(x, 0.0), std::max(y, 0.0)) - rounding;
}

Vec3 RoundBar::gradient(const Vec3& p) const {
    if (layer) return layer->gradient(p);
    const Vec3 d = p - start;
    const double along = d.dot(axis);
    const Vec3 radial = d - along * axis;
    const double r = radial.norm();
    const Vec3 out = outline ? outline->gradient(p) : r > 1e-12 ? Vec3(radial / r) : perpendicular(axis)[0];
    const Vec3 up = along > 0.5 * length ? axis : Vec3(-axis);
    const double x = across(p);
    const double y = std::abs(along - 0.5 * length) - (0.5 * length - rounding);
    if (x > 0 && y > 0) return (x * out + y * up) / std::hypot(x, y);
    return x > y ? out : up;
}

bool RoundBar::isOnRim(const Vec3& p, double near) const {
    if (layer) return false;
    const double along = (p - start).dot(axis);
    return across(p) > -near && std::abs(along - 0.5 * length) > 0.5 * length - rounding - near;
}

double Primitive::distance(const Vec3& p) const {
    const Vec3 d = p - point;
    if (kind == Kind::plane) return d.dot(axis);
    const double outside = (kind == Kind::prism ? outline->distance(p) : (d - d.dot(axis) * axis).norm()) - radius;
    return inverted ? -outside : outside;
}

Vec3 Primitive::gradient(const Vec3& p) const {
    if (kind == Kind::plane) return axis;
    if (kind == Kind::prism) return (inverted ? -1 : 1) * outline->gradient(p);
    const Vec3 d = p - point;
    const Vec3 radial = d - d.dot(axis) * axis;
    const double length = radial.norm();
    const Vec3 out = length > 1e-12 ? Vec3(radial / length) : perpendicular(axis)[0];
    return inverted ? Vec3(-out) : out;
}

namespace {

constexpr double none = std::numeric_limits<double>::infinity();

double boundedCosine(double cosine) {
    return std::clamp(cosine, -0.98, 0.9999);
}

/// Radius of the ball that rolls along two surfaces.
double ballBetween(double cosine, double radius) {
    return radius * std::min(2 * (1 + cosine), 1.0);
}

/// Longest chord of an arc that is off by no more than an error; infinite when one chord for the whole arc is not.
/// @param cosine  of the angle that the arc turns
double chordOf(double radius, double cosine, double error) {
    const double whole = radius * (1 - std::sqrt(0.5 * (1 + cosine)));
    return whole > error ? 2 * std::sqrt(error * (2 * radius - error)) : none;
}

}  // namespace

Rounded roundedMaximum(double a, double b, double cosine, double radius) {
    const double r = ballBetween(boundedCosine(cosine), radius);
    // beyond the tip of a wedge the value must not grow faster than lattices expect of a distance
    const double c = std::max(boundedCosine(cosine), -0.8);
    // how far the place is outside the middles of the balls that lie inside
    const double x = a + r, y = b + r, alongX = x - c * y, alongY = y - c * x;
    if (alongX > 0 && alongY > 0) {
        const double sine2 = 1 - c * c, away = std::sqrt((x * alongX + y * alongY) / sine2);
        if (away > 0) return {away - r, alongX / (sine2 * away), alongY / (sine2 * away), true};
    }
    return a >= b ? Rounded{a, 1, 0, false} : Rounded{b, 0, 1, false};
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

void MachinedSolid::addKept(const RoundBar& bar, std::shared_ptr<const FreeBody> within) {
    kept_.push_back({bar, std::move(within)});
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
        if (surfaces_[i].group != Surface::none) continue;
        if (other.kind != primitive.kind) continue;
        const double cosine = other.axis.dot(primitive.axis);
        if (std::abs(cosine) < 1 - 1e-12) continue;
        if (primitive.kind == Primitive::Kind::plane) {
            if (std::abs(other.distance(primitive.point)) > near) continue;
            if (surfaces_[i].outward != outward * (cosine > 0 ? 1 : -1)) continue;
            return {static_cast<int>(i), cosine > 0 ? 1.0 : -1.0};
        }
        if (std::abs(other.radius - primitive.radius) > near || other.inverted != primitive.inverted) continue;
        if (other.outline != primitive.outline) continue;
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

std::vector<int> MachinedSolid::addFaces(std::shared_ptr<const KeptFaces> faces) {
    faces_ = std::move(faces);
    auto add = [&](int group) {
        surfaces_.push_back({{}, 1, group});
        return static_cast<int>(surfaces_.size()) - 1;
    };
    for (int g = 0; g < faces_->groupCount(); ++g) faceIds_.push_back(add(g));
    std::vector<int> ids = faceIds_;
    faceIds_.push_back(add(Surface::walls));
    return ids;
}

/// The free body at a place while bars and trims are joined to it, with the gradient of what it is so far.
class MachinedSolid::Joining {
  public:
    /// @param near   mm; with an error: how far off the place roundings count for chord()
    /// @param error  mm; 0: chord() is not wanted
    Joining(const MachinedSolid& solid, const Vec3& p, double near = 0, double error = 0)
        : solid_(solid), p_(p), near_(near), error_(error), value_(solid.body_ ? solid.body_->value(p) : -1e6) {}
    double value() const { return value_; }
    Vec3 gradient() const { return gradientOf(from_, index_); }
    /// Radius of the ball whose surface the body is here; 0: it is one of what was joined, mm.
    double ball() const { return from_ == From::joined ? ball_ : 0; }
    /// Longest chord of the roundings at the place, mm.
    double chord() const { return chord_; }
    void joinAll() {
        for (std::size_t k = 0; k < solid_.bars_.size(); ++k) {
            const Bar& b = solid_.bars_[k];
            if (!b.isBeyond(p_, value_)) join(b.bar.distance(p_), From::bar, k, b.blend, -1);
        }
        for (std::size_t k = 0; k < solid_.trims_.size(); ++k)
            join(solid_.trims_[k].distance(p_), From::trim, k, solid_.trims_[k].radius, 1);
        for (std::size_t k = 0; k < solid_.kept_.size(); ++k) {
            const Kept& kept = solid_.kept_[k];
            if ((p_ - kept.bar.start).norm() > value_ + kept.bar.length + kept.bar.radius) continue;
            if (kept.bar.distance(p_) >= value_) continue;
            if (const double d = kept.distance(p_); d < value_) {
                value_ = d;
                from_ = From::kept;
                index_ = k;
            }
        }
    }

  private:
    enum class From { body, bar, trim, kept, joined };
    Vec3 gradientOf(From from, std::size_t index) const {
        switch (from) {
            case From::body:
                return solid_.body_ ? solid_.body_->gradient(p_) : Vec3(Vec3::Zero());
            case From::bar:
                return solid_.bars_[index].bar.gradient(p_);
            case From::trim:
                return solid_.trims_[index].gradient(p_);
            case From::kept:
                return solid_.kept_[index].gradient(p_);
            case From::joined:
                break;
        }
        return joined_;
    }
    /// @param sense  1: the body is where both are negative; -1: where one of them is
    void join(double other, From from, std::size_t index, double radius, double sense) {
        const double a = sense * value_, b = sense * other, far = roundingReach * radius;
        if (from == From::trim && solid_.trims_[index].body) {
            // a body of triangles has edges of its own, where its normals jump, and a ball's place with them
            if (!(std::abs(a - b) < radius)) return take(a, b, other, from, index);
            const double h = 0.5 * (1 - std::abs(a - b) / radius), share = b > a ? 1 - h : h;
            joined_ = (1 - share) * gradient() + share * gradientOf(from, index);
            value_ = -sense * smoothMinimum(-a, -b, radius);
            from_ = From::joined;
            ball_ = radius;
            return;
        }
        if (radius > 0 && a > -far - std::max(b, 0.0) && b > -far - std::max(a, 0.0)) {
            const Vec3 ga = gradient(), gb = gradientOf(from, index);
            const double length = ga.norm() * gb.norm();
            const double cosine = length > 1e-9 ? ga.dot(gb) / length : 0;
            // where a density is flat no surface is near, and what it tells is no distance: a ball as large as a body's
            // depth would take from faces that have no edge
            const double ball = radius * std::min(2 * length, 1.0);
            if (error_ > 0) measure(a, b, boundedCosine(cosine), ball);
            const Rounded r = ball > 0 ? roundedMaximum(a, b, cosine, ball) : Rounded{};
            if (r.turns) {
                value_ = sense * r.value;
                joined_ = r.first * ga + r.second * gb;
                from_ = From::joined;
                ball_ = radius;
                return;
            }
        }
        take(a, b, other, from, index);
    }
    void take(double a, double b, double other, From from, std::size_t index) {
        if (b <= a) return;
        value_ = other;
        from_ = from;
        index_ = index;
    }

    void measure(double a, double b, double cosine, double radius) {
        const double r = ballBetween(cosine, radius), x = a + r, y = b + r;
        if (x - cosine * y > -near_ && y - cosine * x > -near_) chord_ = std::min(chord_, chordOf(r, cosine, error_));
    }

    const MachinedSolid& solid_;
    const Vec3& p_;
    double near_, error_, chord_ = none, ball_ = 0, value_;
    From from_ = From::body;
    std::size_t index_ = 0;
    Vec3 joined_;
};

bool MachinedSolid::Bar::layerBeyond(const Vec3& p, double v) const {
    return bar.layer->atLeast(p) > std::max(v, roundingReach * blend + std::max(-v, 0.0));
}

double MachinedSolid::bodyValue(const Vec3& p) const {
    Joining body(*this, p);
    body.joinAll();
    return body.value();
}

double MachinedSolid::chordAt(const Vec3& p, double near, double error) const {
    double rim = none;
    bool isNear = false;
    for (const Bar& b : bars_) {
        const double reach = roundingReach * b.blend + near;
        if ((p - b.centre).squaredNorm() > (b.reach + reach) * (b.reach + reach)) continue;
        if (b.bar.layer && b.bar.layer->atLeast(p) > reach) continue;
        const double d = std::abs(b.bar.distance(p));
        isNear = isNear || d < reach;
        if (d < near && b.bar.rounding > 0 && b.bar.isOnRim(p, near))
            rim = std::min(rim, chordOf(b.bar.rounding, 0, error));
    }
    for (const Trim& t : trims_) isNear = isNear || std::abs(t.distance(p)) < roundingReach * t.radius + near;
    if (!isNear) return none;
    Joining body(*this, p, near, error);
    body.joinAll();
    const double chord = std::min(rim, body.chord());
    return chord < none && std::abs(machined(p, body.value()).value) <= near ? chord : none;
}

Sample MachinedSolid::evaluate(const Vec3& p) const {
    return machined(p, bodyValue(p));
}

Sample MachinedSolid::machined(const Vec3& p, double body) const {
    Sample s{body, 0};
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
    if (faces_) {
        const KeptFaces::Before before = faces_->before(p);
        const std::size_t group =
            before.patch < 0 ? faceIds_.size() - 1
                             : static_cast<std::size_t>(faces_->groups()[static_cast<std::size_t>(before.patch)]);
        if (before.value > s.value) s = {before.value, faceIds_[group]};
    }
    return s;
}

double MachinedSolid::surfaceValue(int surface, const Vec3& p) const {
    if (surface == 0) return bodyValue(p);
    if (surfaces_[surface].group == Surface::walls) return faces_->walls(p);
    if (surfaces_[surface].group >= 0) return faces_->height(surfaces_[surface].group, p);
    return surfaces_[surface].outward * surfaces_[surface].primitive.distance(p);
}

Vec3 MachinedSolid::surfaceGradient(int surface, const Vec3& p) const {
    if (surface != 0) {
        const Surface& s = surfaces_[surface];
        if (s.group == Surface::none) return s.outward * s.primitive.gradient(p);
        Vec3 g;
        if (s.group >= 0) {
            faces_->height(s.group, p, &g);
            return g;
        }
        constexpr double h = 1e-5;
        for (int a = 0; a < 3; ++a)
            g[a] = (faces_->walls(p + h * Vec3::Unit(a)) - faces_->walls(p - h * Vec3::Unit(a))) / (2 * h);
        return g;
    }
    Joining body(*this, p);
    body.joinAll();
    if (!(body.ball() > 0)) return body.gradient();
    // on a rounding the angle between its two surfaces changes as well
    const double h = 1e-4 * body.ball();
    Vec3 g;
    for (int a = 0; a < 3; ++a) g[a] = (bodyValue(p + h * Vec3::Unit(a)) - bodyValue(p - h * Vec3::Unit(a))) / (2 * h);
    return g;
}

}  // namespace escultura::shape
