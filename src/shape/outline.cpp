#include "shape/outline.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

namespace escultura::shape {

Outline::Outline(const Vec3& axis, const std::vector<Loop>& loops) : axis_(axis), loops_(loops) {
    const auto [u, v] = perpendicular(axis);
    u_ = u;
    v_ = v;
    for (const Loop& loop : loops_) {
        std::vector<Point> flat;
        for (const Vec3& p : loop) flat.push_back({p.dot(u_), p.dot(v_)});
        flat_.push_back(std::move(flat));
    }
}

bool Outline::holds(const Point& q, std::size_t without) const {
    bool inside = false;
    for (std::size_t l = 0; l < flat_.size(); ++l) {
        if (l == without) continue;
        const auto& loop = flat_[l];
        for (std::size_t i = 0, k = loop.size() - 1; i < loop.size(); k = i++) {
            const Point &a = loop[k], &b = loop[i];
            if ((a.y > q.y) != (b.y > q.y) && q.x < a.x + (q.y - a.y) * (b.x - a.x) / (b.y - a.y)) inside = !inside;
        }
    }
    return inside;
}

Outline::Nearest Outline::nearest(const Vec3& p) const {
    const Point q{p.dot(u_), p.dot(v_)};
    Nearest r;
    double least = std::numeric_limits<double>::infinity();
    for (const auto& loop : flat_)
        for (std::size_t i = 0, k = loop.size() - 1; i < loop.size(); k = i++) {
            const Point &a = loop[k], &b = loop[i];
            const double ex = b.x - a.x, ey = b.y - a.y, length2 = ex * ex + ey * ey;
            const double t = length2 > 0 ? std::clamp(((q.x - a.x) * ex + (q.y - a.y) * ey) / length2, 0.0, 1.0) : 0.0;
            const double dx = q.x - a.x - t * ex, dy = q.y - a.y - t * ey, d2 = dx * dx + dy * dy;
            if (d2 < least) {
                least = d2;
                r.away = {dx, dy};
                const double length = std::sqrt(length2);
                r.along = length > 0 ? Point{ex / length, ey / length} : Point{1, 0};
            }
        }
    r.distance = std::sqrt(least) * (holds(q, flat_.size()) ? -1 : 1);
    return r;
}

Vec3 Outline::gradient(const Vec3& p) const {
    const Nearest n = nearest(p);
    const double size = std::hypot(n.away.x, n.away.y);
    if (size > 1e-9) {
        const double sign = n.distance < 0 ? -1 : 1;
        return sign * (n.away.x * u_ + n.away.y * v_) / size;
    }
    // on the outline: across the edge, to the side that does not belong to it
    const Vec3 across = n.along.y * u_ - n.along.x * v_;
    return distance(p + 1e-6 * across) > 0 ? across : Vec3(-across);
}

double Outline::area() const {
    double sum = 0;
    for (std::size_t l = 0; l < flat_.size(); ++l) {
        const auto& loop = flat_[l];
        double twice = 0;
        for (std::size_t i = 0, k = loop.size() - 1; i < loop.size(); k = i++)
            twice += loop[k].x * loop[i].y - loop[i].x * loop[k].y;
        sum += 0.5 * std::abs(twice) * (holds(loop.front(), l) ? -1 : 1);
    }
    return sum;
}

Outline Outline::filled() const {
    std::vector<Loop> outer;
    for (std::size_t l = 0; l < flat_.size(); ++l)
        if (!holds(flat_[l].front(), l)) outer.push_back(loops_[l]);
    return {axis_, outer};
}

}  // namespace escultura::shape
