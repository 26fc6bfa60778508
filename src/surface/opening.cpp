#include "surface/opening.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <unordered_set>

#include "base/parallel.hpp"
#include "surface/thickness.hpp"

namespace escultura::surface {
namespace {

constexpr double largest = 3;  // balls are not looked for beyond this many radii

}  // namespace

BallOpening::BallOpening(const TriMesh& mesh, const TriangleTree& tree, std::span<const float> thickness, double radius,
                         const std::function<bool(const Vec3&)>& leftOut, Progress& progress)
    : radius_(radius), step_(0.4 * radius), bins_(2 * radius) {
    progress.step("Looking for feather edges");
    const auto normal = vertexNormals(mesh);
    std::vector<char> isThin(mesh.position.size(), 0);
    parallelFor(mesh.position.size(), [&](std::size_t v) {
        if (thickness[v] > 6 * radius) return;
        const auto ball = inscribedBall(tree, mesh.position[v], normal[v], 2 * radius);
        isThin[v] = ball && ball->separation >= wallSeparation && ball->radius < radius &&
                    !(leftOut && leftOut(mesh.position[v]));
    });
    std::vector<Vec3> thin;
    for (std::size_t v = 0; v < isThin.size(); ++v)
        if (isThin[v]) thin.push_back(mesh.position[v]);
    if (thin.empty()) return;
    const Vec3 reach = Vec3::Constant(2 * radius);
    for (const Vec3& p : thin) {
        box_.include(p - reach);
        box_.include(p + reach);
        thin_[bins_.keyAt(p)].push_back(p);
        bins_.within(p - reach, p + reach, [&](std::int64_t key) { balls_[key]; });
    }

    // balls that touch the surface around the thin places, close enough together that their union is smooth
    const double around = 6 * radius;
    std::unordered_set<std::int64_t> near;
    for (const Vec3& p : thin)
        bins_.within(p - Vec3::Constant(around), p + Vec3::Constant(around),
                     [&](std::int64_t key) { near.insert(key); });
    struct Contact {
        Vec3 point, normal;
    };
    std::vector<Contact> contacts;
    for (const Triangle& t : mesh.triangle) {
        const Vec3 &a = mesh.position[t[0]], &b = mesh.position[t[1]], &c = mesh.position[t[2]];
        if (!near.contains(bins_.keyAt((a + b + c) / 3))) continue;
        const double longest = std::max({(b - a).norm(), (c - b).norm(), (a - c).norm()});
        const int n = std::clamp(static_cast<int>(std::ceil(longest / step_)), 1, 24);
        for (int i = 0; i <= n; ++i)
            for (int j = 0; i + j <= n; ++j) {
                const double u = static_cast<double>(i) / n, v = static_cast<double>(j) / n, w = 1 - u - v;
                const Vec3 across = u * normal[t[0]] + v * normal[t[1]] + w * normal[t[2]];
                if (across.norm() > 0.1) contacts.push_back({u * a + v * b + w * c, across.normalized()});
            }
    }
    progress.check();
    std::vector<Ball> balls(contacts.size());
    parallelFor(contacts.size(), [&](std::size_t i) {
        const auto& [p, outward] = contacts[i];
        const auto ball = inscribedBall(tree, p, outward, largest * radius);
        if (!ball)
            balls[i] = {p - largest * radius * outward, largest * radius};
        else if (ball->radius >= radius)
            balls[i] = {ball->centre, ball->radius};
    });
    for (const Ball& b : balls) {
        if (!(b.radius > 0)) continue;
        const Vec3 r = Vec3::Constant(b.radius + 2 * radius);
        bins_.within(b.centre - r, b.centre + r, [&](std::int64_t key) {
            const auto at = balls_.find(key);
            if (at != balls_.end()) at->second.push_back(b);
        });
    }
    progress.check();

    gatherPlaces(thin, balls);
}

void BallOpening::gatherPlaces(const std::vector<Vec3>& thin, const std::vector<Ball>& balls) {
    std::vector<Place> all;
    for (const Vec3& p : thin)
        if (const double depth = value(p); depth > 0.1 * radius_) all.push_back({p, depth});
    std::sort(all.begin(), all.end(), [](const Place& a, const Place& b) { return a.depth > b.depth; });
    std::vector<char> taken(all.size(), 0);
    for (std::size_t i = 0; i < all.size(); ++i) {
        if (taken[i]) continue;
        Place place = all[i];
        // the group hangs together; how deep it is tells the way along it to what the ball reaches
        std::vector<std::size_t> group{i};
        taken[i] = 1;
        for (std::size_t g = 0; g < group.size(); ++g)
            for (std::size_t j = 0; j < all.size(); ++j)
                if (!taken[j] && (all[j].at - all[group[g]].at).norm() < 4 * radius_) {
                    taken[j] = 1;
                    group.push_back(j);
                }
        for (auto g : group) {
            double nearest = std::numeric_limits<double>::infinity();
            for (const Ball& b : balls)
                if (b.radius > 0) nearest = std::min(nearest, (all[g].at - b.centre).norm() - b.radius);
            if (nearest > place.depth && std::isfinite(nearest)) place = {all[g].at, nearest};
        }
        places_.push_back(place);
    }
    std::sort(places_.begin(), places_.end(), [](const Place& a, const Place& b) { return a.depth > b.depth; });
    if (places_.empty()) balls_.clear(), thin_.clear();
}

double BallOpening::value(const Vec3& p) const {
    const double none = -std::numeric_limits<double>::infinity();
    if (!((p - box_.low).array() >= 0).all() || !((box_.high - p).array() >= 0).all()) return none;
    const auto balls = balls_.find(bins_.keyAt(p));
    if (balls == balls_.end()) return none;
    double toThin = std::numeric_limits<double>::infinity();
    const Vec3 reach = Vec3::Constant(2 * radius_);
    bins_.within(p - reach, p + reach, [&](std::int64_t key) {
        const auto at = thin_.find(key);
        if (at == thin_.end()) return;
        for (const Vec3& q : at->second) toThin = std::min(toThin, (p - q).norm());
    });
    if (toThin > 2 * radius_) return none;
    double outside = 2 * radius_;
    for (const Ball& b : balls->second) outside = std::min(outside, (p - b.centre).norm() - b.radius);
    // between two balls a flat wall would be dented by their sagitta
    return outside - 0.25 * step_ * step_ / radius_;
}

}  // namespace escultura::surface
