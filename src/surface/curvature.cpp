#include "surface/curvature.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <span>

#include "base/parallel.hpp"

namespace escultura::surface {

std::vector<float> meanCurvature(const TriMesh& mesh) {
    const std::size_t n = mesh.position.size();
    const std::vector<Vec3> corner = cornerNormals(mesh);
    std::vector<Vec3> normal(n, Vec3::Zero());
    std::vector<std::int32_t> begin(n + 1, 0);
    std::vector<char> onEdge(n, 0);
    for (std::size_t t = 0; t < mesh.triangle.size(); ++t)
        for (int k = 0; k < 3; ++k) {
            const auto v = mesh.triangle[t][k];
            ++begin[static_cast<std::size_t>(v) + 1];
            if (normal[v].isZero()) normal[v] = corner[3 * t + k];
            if (normal[v].dot(corner[3 * t + k]) < 0.999) onEdge[v] = 1;
        }
    for (std::size_t v = 0; v < n; ++v) begin[v + 1] += begin[v];
    std::vector<std::int32_t> around(static_cast<std::size_t>(begin[n])), next(begin.begin(), begin.end() - 1);
    for (const Triangle& t : mesh.triangle)
        for (int k = 0; k < 3; ++k) around[static_cast<std::size_t>(next[t[k]]++)] = t[(k + 1) % 3];
    std::vector<float> curvature(n, 0);
    auto neighbours = [&](std::int32_t v) {
        return std::span(around).subspan(static_cast<std::size_t>(begin[v]),
                                         static_cast<std::size_t>(begin[v + 1] - begin[v]));
    };
    parallelFor(n, [&](std::size_t at) {
        const auto v = static_cast<std::int32_t>(at);
        if (onEdge[at]) return;
        std::vector<std::int32_t> near;
        for (const auto w : neighbours(v)) {
            near.push_back(w);
            if (onEdge[w]) continue;  // what lies beyond is another surface
            const auto further = neighbours(w);
            near.insert(near.end(), further.begin(), further.end());
        }
        std::sort(near.begin(), near.end());
        near.erase(std::unique(near.begin(), near.end()), near.end());
        const auto [x, y] = perpendicular(normal[at]);
        using Vec5 = Eigen::Matrix<double, 5, 1>;
        Eigen::Matrix<double, 5, 5> gram = Eigen::Matrix<double, 5, 5>::Zero();
        Vec5 right = Vec5::Zero();
        double size = 0;
        for (const auto w : near) size = std::max(size, (mesh.position[w] - mesh.position[v]).norm());
        if (!(size > 0)) return;
        for (const auto w : near) {
            if (w == v) continue;
            const Vec3 e = (mesh.position[w] - mesh.position[v]) / size;
            const double a = e.dot(x), b = e.dot(y);
            Vec5 row;
            row << a, b, 0.5 * a * a, a * b, 0.5 * b * b;
            gram += row * row.transpose();
            right += row * e.dot(normal[at]);
        }
        gram.diagonal().array() += 1e-9;
        const Vec5 q = gram.ldlt().solve(right);
        const double bend = (1 + q[1] * q[1]) * q[2] - 2 * q[0] * q[1] * q[3] + (1 + q[0] * q[0]) * q[4];
        curvature[at] = static_cast<float>(-0.5 * bend / std::pow(1 + q[0] * q[0] + q[1] * q[1], 1.5) / size);
    });
    return curvature;
}

}  // namespace escultura::surface
