#include "cage/clearances.hpp"

#include <algorithm>
#include <unordered_set>

#include "base/parallel.hpp"
#include "surface/thickness.hpp"

namespace escultura::cage {

Clearances::Clearances(const Target& target, double most, double spacing) : most_(most) {
    const auto& mesh = target.mesh();
    const auto normal = surface::vertexNormals(mesh);
    // a vertex of every cube of the spacing
    std::vector<std::size_t> at;
    const surface::Bins bins(spacing > 0 ? spacing : 1);
    std::unordered_set<std::int64_t> taken;
    for (std::size_t v = 0; v < mesh.position.size(); ++v)
        if (!(spacing > 0) || taken.insert(bins.keyAt(mesh.position[v])).second) at.push_back(v);
    balls_.resize(at.size());
    parallelFor(balls_.size(), [&](std::size_t i) {
        const std::size_t v = at[i];
        Balls& b = balls_[i];
        b = {mesh.position[v], normal[v], most, most};
        const auto inner = surface::inscribedBall(target.tree(), b.point, b.normal, most);
        if (inner && inner->separation >= surface::wallSeparation) b.inner = inner->radius;
        const auto outer = surface::inscribedBall(target.tree(), b.point, -b.normal, most);
        if (outer && outer->separation >= surface::wallSeparation) b.outer = outer->radius;
    });
}

WrapReady::WrapReady(const std::function<double(const Vec3&)>& value, const Clearances& clearances, double wall,
                     double gap, double opened)
    : value_(value), reach_(std::max(0.5 * wall, opened)), bins_(2 * reach_) {
    for (const Clearances::Balls& b : clearances.balls()) {
        if (double grow = 0.5 * wall - b.inner; grow > 0) {
            if (b.outer < 0.5 * gap + grow) grow = std::min(grow, b.outer - 0.5 * gap);
            const Vec3 centre = b.point - b.inner * b.normal;
            if (grow > 0) walls_[bins_.keyAt(centre)].push_back({centre, b.inner + grow});
        }
        if (b.outer < opened) {
            const Vec3 centre = b.point + b.outer * b.normal;
            gaps_[bins_.keyAt(centre)].push_back({centre, std::min(opened, b.outer + b.inner)});
        }
    }
}

double WrapReady::operator()(const Vec3& p) const {
    double v = value_(p);
    const Vec3 reach = Vec3::Constant(reach_);
    auto forNear = [&](const Nearby& nearby, const auto& f) {
        if (nearby.empty()) return;
        bins_.within(p - reach, p + reach, [&](std::int64_t key) {
            const auto at = nearby.find(key);
            if (at == nearby.end()) return;
            for (const surface::Ball& b : at->second) f((p - b.centre).norm() - b.radius);
        });
    };
    forNear(walls_, [&](double d) { v = std::min(v, d); });
    forNear(gaps_, [&](double d) { v = std::max(v, -d); });
    return v;
}

}  // namespace escultura::cage
