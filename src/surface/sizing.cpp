#include "surface/sizing.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <memory>

#include "base/parallel.hpp"

namespace escultura::surface {

std::vector<float> largestCurvature(const TriMesh& mesh) {
    const std::vector<Vec3> normal = cornerNormals(mesh);
    // by the edges around a vertex: how much the normal turns along them; the third strongest (each comes from two
    // triangles), since single ones follow the shape of the triangles
    std::vector<std::array<float, 3>> most(mesh.position.size(), {0, 0, 0});
    for (std::size_t t = 0; t < mesh.triangle.size(); ++t)
        for (int k = 0; k < 3; ++k) {
            const auto a = mesh.triangle[t][k], b = mesh.triangle[t][(k + 1) % 3];
            const double length = (mesh.position[b] - mesh.position[a]).norm();
            if (!(length > 0)) continue;
            const auto turn = static_cast<float>((normal[3 * t + (k + 1) % 3] - normal[3 * t + k]).norm() / length);
            for (const auto v : {a, b}) {
                auto& m = most[static_cast<std::size_t>(v)];
                for (float rest = turn; float& strongest : m)
                    if (rest > strongest) std::swap(rest, strongest);
            }
        }
    std::vector<float> curvature(most.size());
    for (std::size_t v = 0; v < most.size(); ++v) curvature[v] = most[v][2];
    return curvature;
}

std::vector<float> wantedSpacing(const TriMesh& mesh, std::span<const float> thickness, const Sizing& sizing) {
    std::vector<float> wanted(mesh.triangle.size(), static_cast<float>(sizing.usual));
    std::vector<float> curvature;
    if (sizing.aroundCircle > 0 || sizing.chordError > 0) curvature = largestCurvature(mesh);
    parallelFor(wanted.size(), [&](std::size_t t) {
        double wall = 1e300, bend = 0;
        for (auto v : mesh.triangle[t]) {
            const auto at = static_cast<std::size_t>(v);
            if (!thickness.empty()) wall = std::min<double>(wall, thickness[at]);
            if (!curvature.empty()) bend = std::max<double>(bend, curvature[at]);
        }
        double size = sizing.usual;
        if (sizing.through > 1 && wall < 1e300)  // an element reaches about 0.9 of the spacing
            size = std::min(size, std::max(wall / (0.9 * sizing.through), sizing.finestWall * sizing.usual));
        if (bend > 0) {
            double curve = sizing.usual;
            if (sizing.aroundCircle > 0) curve = std::min(curve, 2 * M_PI / (0.9 * sizing.aroundCircle * bend));
            if (sizing.chordError > 0) curve = std::min(curve, std::sqrt(8 * sizing.chordError / bend));
            size = std::min(size, std::max(curve, sizing.finestCurve * sizing.usual));
        }
        wanted[t] = static_cast<float>(size);
    });
    return wanted;
}

std::function<double(const Vec3&)> latticeSpacing(const TriMesh& mesh, std::span<const float> thickness,
                                                  const Sizing& sizing) {
    auto tree = std::make_shared<TriangleTree>(mesh);
    auto wanted = std::make_shared<std::vector<float>>(wantedSpacing(mesh, thickness, sizing));
    return [tree, wanted, usual = sizing.usual](const Vec3& p) -> double {
        const auto near = tree->closest(p, 3 * usual, 400);
        if (near.triangle < 0) return std::numeric_limits<double>::infinity();
        return (*wanted)[static_cast<std::size_t>(near.triangle)];
    };
}

}  // namespace escultura::surface
