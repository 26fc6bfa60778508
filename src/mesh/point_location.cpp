#include "mesh/point_location.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <limits>

namespace escultura::mesh {

PointLocation::PointLocation(const TetMesh& mesh) : mesh_(mesh) {
    std::vector<Box3> boxes(mesh.tet.size());
    double extent = 0;
    for (std::size_t e = 0; e < mesh.tet.size(); ++e) {
        for (auto n : mesh.tet[e]) boxes[e].include(mesh.position[n]);
        box_.include(boxes[e].low);
        box_.include(boxes[e].high);
        extent += boxes[e].diagonal();
    }
    if (mesh.tet.empty()) return;
    cell_ = std::max(0.6 * extent / static_cast<double>(mesh.tet.size()), 1e-9);
    const Vec3 size = box_.high - box_.low;
    // slender parts in a large box: no more than a few million cells
    cell_ = std::max(cell_, std::cbrt(size[0] * size[1] * size[2] / 4e6));
    for (int k = 0; k < 3; ++k) count_[k] = std::clamp(static_cast<int>(size[k] / cell_) + 1, 1, 4000);

    auto forCells = [&](const Box3& b, auto visit) {
        const auto low = cellOf(b.low), high = cellOf(b.high);
        for (int k = low[2]; k <= high[2]; ++k)
            for (int j = low[1]; j <= high[1]; ++j)
                for (int i = low[0]; i <= high[0]; ++i) visit(index(i, j, k));
    };
    offset_.assign(static_cast<std::size_t>(count_[0]) * count_[1] * count_[2] + 1, 0);
    for (const Box3& b : boxes) forCells(b, [&](std::size_t c) { ++offset_[c + 1]; });
    for (std::size_t c = 1; c < offset_.size(); ++c) offset_[c] += offset_[c - 1];
    element_.resize(offset_.back());
    std::vector<std::int32_t> next(offset_.begin(), offset_.end() - 1);
    for (std::size_t e = 0; e < boxes.size(); ++e)
        forCells(boxes[e], [&](std::size_t c) { element_[next[c]++] = static_cast<std::int32_t>(e); });
}

std::array<int, 3> PointLocation::cellOf(const Vec3& p) const {
    std::array<int, 3> c{};
    for (int k = 0; k < 3; ++k) c[k] = static_cast<int>(std::clamp((p[k] - box_.low[k]) / cell_, 0.0, count_[k] - 1.0));
    return c;
}

std::size_t PointLocation::index(int i, int j, int k) const {
    return (static_cast<std::size_t>(k) * count_[1] + j) * count_[0] + i;
}

double PointLocation::inside(std::int32_t element, const Vec3& point, Vec3& xi) const {
    const auto& t = mesh_.tet[element];
    Mat3 edges;
    for (int k = 0; k < 3; ++k) edges.col(k) = mesh_.position[t[k + 1]] - mesh_.position[t[0]];
    xi = edges.inverse() * (point - mesh_.position[t[0]]);
    return std::min({xi[0], xi[1], xi[2], 1 - xi.sum()});
}

PointLocation::Place PointLocation::at(const Vec3& point) const {
    Place best;
    if (mesh_.tet.empty()) return best;
    double deepest = -std::numeric_limits<double>::infinity();
    Vec3 where = Vec3::Zero();
    const auto home = cellOf(point);
    const int rings = std::max({count_[0], count_[1], count_[2]});
    for (int ring = 0; ring <= rings; ++ring) {
        for (int k = home[2] - ring; k <= home[2] + ring; ++k)
            for (int j = home[1] - ring; j <= home[1] + ring; ++j)
                for (int i = home[0] - ring; i <= home[0] + ring; ++i) {
                    if (std::max({std::abs(i - home[0]), std::abs(j - home[1]), std::abs(k - home[2])}) != ring)
                        continue;
                    if (i < 0 || j < 0 || k < 0 || i >= count_[0] || j >= count_[1] || k >= count_[2]) continue;
                    const std::size_t c = index(i, j, k);
                    for (auto n = offset_[c]; n < offset_[c + 1]; ++n) {
                        Vec3 xi;
                        const double depth = inside(element_[n], point, xi);
                        if (depth > deepest) {
                            deepest = depth;
                            best.element = element_[n];
                            where = xi;
                        }
                    }
                }
        // a point outside has its nearest element in this ring or the next
        if (deepest >= -1e-9 || (best.element >= 0 && ring > 0)) break;
    }
    // curved elements: Newton's steps from the straight one's coordinates
    for (int step = 0; step < 4; ++step) {
        double n[10];
        shapeFunctions(where, n);
        Vec3 p = Vec3::Zero();
        for (int k = 0; k < 10; ++k) p += n[k] * mesh_.position[mesh_.tet[best.element][k]];
        const Mat3 j = jacobian(mesh_, best.element, where);
        if (!(std::abs(j.determinant()) > 0)) break;
        const Vec3 move = j.inverse() * (point - p);
        if (!(move.norm() < 0.5)) break;
        where += move;
        if (move.norm() < 1e-12) break;
    }
    shapeFunctions(where, best.weight);
    return best;
}

Vec3 PointLocation::interpolate(const std::vector<Vec3>& value, const Place& place) const {
    Vec3 sum = Vec3::Zero();
    if (place.element < 0) return sum;
    for (int k = 0; k < 10; ++k) sum += place.weight[k] * value[mesh_.tet[place.element][k]];
    return sum;
}

}  // namespace escultura::mesh
