#include "surface/thickness.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

#include "base/parallel.hpp"

namespace escultura::surface {
std::vector<Vec3> vertexNormals(const TriMesh& mesh) {
    std::vector<Vec3> n(mesh.position.size(), Vec3::Zero());
    for (const Triangle& t : mesh.triangle) {
        const Vec3 across =
            (mesh.position[t[1]] - mesh.position[t[0]]).cross(mesh.position[t[2]] - mesh.position[t[0]]);
        for (auto v : t) n[v] += across;
    }
    for (Vec3& v : n) v = v.norm() > 0 ? Vec3(v.normalized()) : Vec3(Vec3::UnitZ());
    return n;
}

double areaQuantile(const TriMesh& mesh, std::span<const float> value, double share) {
    std::vector<std::pair<float, double>> parts;
    double total = 0;
    for (const Triangle& t : mesh.triangle) {
        const double area =
            0.5 * (mesh.position[t[1]] - mesh.position[t[0]]).cross(mesh.position[t[2]] - mesh.position[t[0]]).norm();
        parts.emplace_back((value[t[0]] + value[t[1]] + value[t[2]]) / 3, area);
        total += area;
    }
    if (parts.empty()) return 0;
    std::sort(parts.begin(), parts.end());
    double sum = 0;
    for (const auto& [v, area] : parts)
        if ((sum += area) >= share * total) return v;
    return parts.back().first;
}

std::optional<InscribedBall> inscribedBall(const TriangleTree& tree, const Vec3& p, const Vec3& outward, double most) {
    InscribedBall b;
    // the wall opposite limits the ball: a ray finds it faster than the first balls would
    const auto opposite = tree.firstHit(p, -outward, 1e-6 * most);
    b.radius = opposite ? std::min(most, 0.5001 * opposite->distance) : most;
    const bool limited = opposite && b.radius < most;
    b.separation = 0;
    for (int i = 0; i < 24; ++i) {
        b.centre = p - b.radius * outward;
        // facets of a curved wall lie a little inside it: only what cuts in deeper than that limits the ball
        const auto c = tree.closest(b.centre, b.radius * (1 - 1e-2), 1200);
        if (c.triangle < 0) break;  // nothing nearer than p itself
        const Vec3 d = p - c.point;
        const double across = d.dot(outward);
        const double length = d.norm();
        if (length < 1e-9 * most || across < 1e-12) return std::nullopt;
        const double radius = d.squaredNorm() / (2 * across);
        if (!(radius < b.radius * (1 - 1e-4))) break;
        b.radius = radius;
        b.separation = 2 * std::asin(std::min(1.0, length / (2 * radius))) * 180 / M_PI;
    }
    b.centre = p - b.radius * outward;
    if (b.radius >= most) return std::nullopt;
    if (limited && b.separation == 0) {  // the ball of the ray itself: touches where the ray hits
        const Vec3 q = opposite->point;
        b.separation = 2 * std::asin(std::min(1.0, (p - q).norm() / (2 * b.radius))) * 180 / M_PI;
    }
    return b;
}

/// What no wall ball holds takes its neighbours' value, layer by layer.
static void spread(const TriMesh& mesh, std::vector<float>& thickness) {
    for (int round = 0; round < 200; ++round) {
        std::vector<std::pair<std::int32_t, float>> found;
        for (const Triangle& v : mesh.triangle)
            for (int k = 0; k < 3; ++k) {
                if (thickness[v[k]] > 0) continue;
                const float other = std::max(thickness[v[(k + 1) % 3]], thickness[v[(k + 2) % 3]]);
                if (other > 0) found.emplace_back(v[k], other);
            }
        if (found.empty()) break;
        for (const auto& [v, value] : found) thickness[v] = std::max(thickness[v], value);
    }
}

Thickness wallThickness(const TriMesh& mesh, const TriangleTree& tree, Progress& progress) {
    progress.step("Measuring the thickness");
    Thickness t;
    const std::size_t n = mesh.position.size();
    t.value.assign(n, 0.0f);
    if (n == 0) return t;
    Box3 box;
    for (const Vec3& p : mesh.position) box.include(p);
    const double most = 0.5 * box.diagonal() + 1e-6;
    // from the middles of triangles: their normals are right beside machined edges too
    const std::size_t step = std::max<std::size_t>(1, mesh.triangle.size() / 25000);
    const std::vector<Vec3> normals = cornerNormals(mesh);
    std::vector<InscribedBall> ball(mesh.triangle.size() / step);
    parallelFor(ball.size(), [&](std::size_t f) {
        const Triangle& v = mesh.triangle[f * step];
        const Vec3 &a = mesh.position[v[0]], &b = mesh.position[v[1]], &c = mesh.position[v[2]];
        // smoothed normals, one an owner: those of single facets tilt by a degree, which shrinks balls in round walls
        const Vec3 normal = normals[3 * f * step] + normals[3 * f * step + 1] + normals[3 * f * step + 2];
        if (!(normal.norm() > 1e-12)) return;
        const auto found = inscribedBall(tree, (a + b + c) / 3, normal.normalized(), most);
        if (found && found->separation >= wallSeparation) ball[f] = *found;
    });
    progress.check();
    std::vector<std::int32_t> order;
    for (std::size_t f = 0; f < ball.size(); ++f)
        if (ball[f].radius > 0) order.push_back(static_cast<std::int32_t>(f));
    std::sort(order.begin(), order.end(), [&](auto a, auto b) {
        return ball[a].radius != ball[b].radius ? ball[a].radius > ball[b].radius : a < b;
    });
    // bins of vertices, so that a ball finds the vertices that it holds
    const double size = std::max(box.diagonal() / 60, 1e-9);
    std::array<int, 3> bins;
    for (int a = 0; a < 3; ++a) bins[a] = static_cast<int>(box.size()[a] / size) + 1;
    auto binOf = [&](const Vec3& p, int a) {
        return std::clamp(static_cast<int>((p[a] - box.low[a]) / size), 0, bins[a] - 1);
    };
    std::vector<std::vector<std::int32_t>> in(static_cast<std::size_t>(bins[0]) * bins[1] * bins[2]);
    for (std::size_t v = 0; v < n; ++v) {
        const Vec3& p = mesh.position[v];
        in[binOf(p, 0) +
           static_cast<std::size_t>(bins[0]) * (binOf(p, 1) + static_cast<std::size_t>(bins[1]) * binOf(p, 2))]
            .push_back(static_cast<std::int32_t>(v));
    }
    for (auto f : order) {
        const InscribedBall& b = ball[f];
        const double reach = b.radius * 1.02;
        const Vec3 low = b.centre - Vec3::Constant(reach), high = b.centre + Vec3::Constant(reach);
        for (int k = binOf(low, 2); k <= binOf(high, 2); ++k)
            for (int j = binOf(low, 1); j <= binOf(high, 1); ++j)
                for (int i = binOf(low, 0); i <= binOf(high, 0); ++i) {
                    auto& bin = in[i + static_cast<std::size_t>(bins[0]) * (j + static_cast<std::size_t>(bins[1]) * k)];
                    std::size_t left = 0;
                    for (auto v : bin) {
                        if ((mesh.position[v] - b.centre).squaredNorm() <= reach * reach)
                            t.value[v] = static_cast<float>(2 * b.radius);  // the first ball is the largest
                        else
                            bin[left++] = v;
                    }
                    bin.resize(left);
                }
    }
    spread(mesh, t.value);
    t.least = areaQuantile(mesh, t.value, 0.001);
    float nearest = std::numeric_limits<float>::max();
    for (std::size_t v = 0; v < n; ++v) {
        const float off = std::abs(t.value[v] - static_cast<float>(t.least));
        if (off < nearest) {
            nearest = off;
            t.leastAt = mesh.position[v];
        }
    }
    t.low5 = areaQuantile(mesh, t.value, 0.05);
    t.median = areaQuantile(mesh, t.value, 0.5);
    return t;
}

}  // namespace escultura::surface
