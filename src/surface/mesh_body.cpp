#include "surface/mesh_body.hpp"

#include <cmath>
#include <map>
#include <unordered_map>

#include "base/error.hpp"
#include "base/parallel.hpp"

namespace escultura::surface {

TriMesh weld(const TriMesh& mesh, double tolerance) {
    Box3 box;
    for (const Vec3& p : mesh.position) box.include(p);
    if (tolerance <= 0) tolerance = 1e-6 * box.diagonal();
    struct Hash {
        std::size_t operator()(const std::array<std::int64_t, 3>& k) const {
            return static_cast<std::size_t>(k[0] * 73856093) ^ static_cast<std::size_t>(k[1] * 19349663) ^
                   static_cast<std::size_t>(k[2] * 83492791);
        }
    };
    std::unordered_map<std::array<std::int64_t, 3>, std::int32_t, Hash> cell;
    TriMesh out;
    std::vector<std::int32_t> renumber(mesh.position.size());
    for (std::size_t v = 0; v < mesh.position.size(); ++v) {
        const Vec3 x = (mesh.position[v] - box.low) / (2 * tolerance);
        const std::array<std::int64_t, 3> at{std::llround(x[0]), std::llround(x[1]), std::llround(x[2])};
        std::int32_t found = -1;
        for (int n = 0; n < 27 && found < 0; ++n) {
            const auto there = cell.find({at[0] + n % 3 - 1, at[1] + n / 3 % 3 - 1, at[2] + n / 9 - 1});
            if (there != cell.end() && (out.position[there->second] - mesh.position[v]).norm() <= tolerance)
                found = there->second;
        }
        if (found < 0) {
            found = static_cast<std::int32_t>(out.position.size());
            out.position.push_back(mesh.position[v]);
            cell.emplace(at, found);
        }
        renumber[v] = found;
    }
    for (std::size_t t = 0; t < mesh.triangle.size(); ++t) {
        const Triangle k{renumber[mesh.triangle[t][0]], renumber[mesh.triangle[t][1]], renumber[mesh.triangle[t][2]]};
        if (k[0] == k[1] || k[1] == k[2] || k[0] == k[2]) continue;
        out.triangle.push_back(k);
        out.owner.push_back(mesh.owner.empty() ? std::int16_t(0) : mesh.owner[t]);
    }
    return out;
}

MeshBody::MeshBody(TriMesh mesh, double offset) : mesh_(std::move(mesh)), tree_(mesh_), offset_(offset) {
    const Measures m = measure(mesh_);
    if (!m.watertight || !(m.volume > 0))
        throw InputError(ErrorDetail{
            "The body is not closed.",
            {},
            "surface",
            "every edge between exactly two triangles, normals outward",
            m.watertight ? "a surface that encloses nothing, or is turned inside out" : "open or branching edges"});
    faceNormal_.resize(mesh_.triangle.size());
    vertexNormal_.assign(mesh_.position.size(), Vec3::Zero());
    edgeNormal_.resize(mesh_.triangle.size());
    std::map<std::pair<std::int32_t, std::int32_t>, Vec3> sum;
    for (std::size_t t = 0; t < mesh_.triangle.size(); ++t) {
        const Triangle& v = mesh_.triangle[t];
        const Vec3 &a = mesh_.position[v[0]], &b = mesh_.position[v[1]], &c = mesh_.position[v[2]];
        faceNormal_[t] = (b - a).cross(c - a).normalized();
        for (int k = 0; k < 3; ++k) {
            const Vec3 &p = mesh_.position[v[k]], &q = mesh_.position[v[(k + 1) % 3]],
                       &r = mesh_.position[v[(k + 2) % 3]];
            const double cosine = std::clamp((q - p).normalized().dot((r - p).normalized()), -1.0, 1.0);
            vertexNormal_[v[k]] += std::acos(cosine) * faceNormal_[t];
            const auto lo = std::min(v[k], v[(k + 1) % 3]), hi = std::max(v[k], v[(k + 1) % 3]);
            sum.try_emplace({lo, hi}, Vec3::Zero()).first->second += faceNormal_[t];
        }
    }
    for (std::size_t t = 0; t < mesh_.triangle.size(); ++t)
        for (int k = 0; k < 3; ++k) {
            const auto a = mesh_.triangle[t][k], b = mesh_.triangle[t][(k + 1) % 3];
            edgeNormal_[t][k] = sum.at({std::min(a, b), std::max(a, b)});
        }
    Box3 box;
    for (const Vec3& p : mesh_.position) box.include(p);
    bounds_ = box.grown(std::max(offset, 0.0));
    const Box3 sampled = bounds_.grown(0.05 * bounds_.diagonal());
    step_ = sampled.size().maxCoeff() / 72;
    origin_ = sampled.low;
    for (int a = 0; a < 3; ++a) n_[a] = static_cast<int>(std::ceil(sampled.size()[a] / step_)) + 1;
    sample_.resize(static_cast<std::size_t>(n_[0]) * n_[1] * n_[2]);
    parallelFor(sample_.size(), [&](std::size_t i) {
        const std::size_t nx = n_[0], ny = n_[1];
        sample_[i] = static_cast<float>(exact(origin_ + step_ * Vec3(i % nx, i / nx % ny, i / (nx * ny)), nullptr));
    });
}

double MeshBody::exact(const Vec3& p, Vec3* gradient) const {
    const TriangleTree::Closest c = tree_.closest(p);
    const Triangle& v = mesh_.triangle[c.triangle];
    // the feature that the closest point lies on decides the sign
    const Vec3 &a = mesh_.position[v[0]], &b = mesh_.position[v[1]], &d = mesh_.position[v[2]];
    const Vec3 normal = (b - a).cross(d - a);
    const double area = normal.squaredNorm();
    double w[3] = {(d - b).cross(c.point - b).dot(normal) / area, (a - d).cross(c.point - d).dot(normal) / area, 0};
    w[2] = 1 - w[0] - w[1];
    constexpr double zero = 1e-9;
    Vec3 side = faceNormal_[c.triangle];
    for (int k = 0; k < 3; ++k)
        if (w[k] < zero) side = edgeNormal_[c.triangle][(k + 1) % 3];
    for (int k = 0; k < 3; ++k)
        if (w[k] > 1 - zero) side = vertexNormal_[v[k]];
    const Vec3 across = p - c.point;
    const double sign = across.dot(side) < 0 ? -1 : 1;
    if (gradient) *gradient = c.distance > 1e-9 ? Vec3(sign * across / c.distance) : Vec3(side.normalized());
    return sign * c.distance - offset_;
}

double MeshBody::value(const Vec3& p) const {
    const Vec3 x = (p - origin_) / step_;
    std::array<int, 3> i;
    Vec3 t;
    bool inside = true;
    for (int a = 0; a < 3; ++a) {
        inside &= x[a] >= 0 && x[a] <= n_[a] - 1;
        i[a] = std::clamp(static_cast<int>(x[a]), 0, n_[a] - 2);
        t[a] = x[a] - i[a];
    }
    if (!inside) return exact(p, nullptr);
    double v = 0;
    for (int m = 0; m < 8; ++m)
        v += (m & 1 ? t[0] : 1 - t[0]) * (m & 2 ? t[1] : 1 - t[1]) * (m & 4 ? t[2] : 1 - t[2]) *
             sample_[(i[0] + (m & 1)) +
                     static_cast<std::size_t>(n_[0]) *
                         ((i[1] + (m >> 1 & 1)) + static_cast<std::size_t>(n_[1]) * (i[2] + (m >> 2)))];
    return std::abs(v) > 3 * step_ ? v : exact(p, nullptr);
}

Vec3 MeshBody::gradient(const Vec3& p) const {
    Vec3 g;
    exact(p, &g);
    return g;
}

}  // namespace escultura::surface
