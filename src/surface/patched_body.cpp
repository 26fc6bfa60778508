#include "surface/patched_body.hpp"

#include <Eigen/Geometry>
#include <cmath>
#include <map>
#include <numeric>

#include "base/disjoint_sets.hpp"

namespace escultura::surface {
namespace {

Vec3 areaNormal(const TriMesh& m, const Triangle& t) {
    return 0.5 * (m.position[t[1]] - m.position[t[0]]).cross(m.position[t[2]] - m.position[t[0]]);
}

}  // namespace

PatchedBody::PatchedBody(const TriMesh& source, double sharp) {
    body_ = std::make_unique<MeshBody>(weld(source), 0);
    const TriMesh& mesh = body_->mesh();
    tree_ = std::make_unique<TriangleTree>(mesh);
    const std::size_t count = mesh.triangle.size();
    std::vector<Vec3> normal(count);
    for (std::size_t t = 0; t < count; ++t) normal[t] = areaNormal(mesh, mesh.triangle[t]).normalized();
    // union of triangles across smooth edges
    DisjointSets pieces(count);
    std::map<std::pair<std::int32_t, std::int32_t>, std::int32_t> first;
    const double limit = std::cos(sharp * M_PI / 180);
    for (std::size_t t = 0; t < count; ++t)
        for (int k = 0; k < 3; ++k) {
            const auto a = mesh.triangle[t][k], b = mesh.triangle[t][(k + 1) % 3];
            const auto [at, isNew] = first.try_emplace({std::min(a, b), std::max(a, b)}, static_cast<std::int32_t>(t));
            if (!isNew && normal[at->second].dot(normal[t]) > limit)
                pieces.join(static_cast<std::int32_t>(t), at->second);
        }
    std::map<std::int32_t, std::int32_t> number;
    patch_.resize(count);
    for (std::size_t t = 0; t < count; ++t) {
        const auto r = pieces.find(static_cast<std::int32_t>(t));
        const auto [at, isNew] = number.try_emplace(r, static_cast<std::int32_t>(patches_.size()));
        if (isNew) patches_.emplace_back();
        patch_[t] = at->second;
    }
    fillPatches();
}

PatchedBody::PatchedBody(const TriMesh& source, const std::vector<std::optional<shape::Primitive>>& exact) {
    body_ = std::make_unique<MeshBody>(weld(source), 0);
    tree_ = std::make_unique<TriangleTree>(body_->mesh());
    for (auto owner : body_->mesh().owner) patch_.push_back(owner);
    patches_.resize(exact.size());
    for (std::size_t p = 0; p < exact.size(); ++p) patches_[p].exact = exact[p];
    fillPatches();
}

void PatchedBody::fillPatches() {
    const TriMesh& mesh = body_->mesh();
    for (std::size_t t = 0; t < mesh.triangle.size(); ++t)
        patches_[patch_[t]].mesh.triangle.push_back(mesh.triangle[t]);
    for (Patch& p : patches_) {
        if (p.mesh.triangle.empty()) {
            p.tree = std::make_unique<TriangleTree>(p.mesh);
            continue;
        }
        // its own vertices
        std::map<std::int32_t, std::int32_t> local;
        for (Triangle& t : p.mesh.triangle)
            for (auto& v : t) {
                const auto [at, isNew] = local.try_emplace(v, static_cast<std::int32_t>(p.mesh.position.size()));
                if (isNew) p.mesh.position.push_back(mesh.position[v]);
                v = at->second;
            }
        p.mesh.owner.assign(p.mesh.triangle.size(), 0);
        Vec3 sum = Vec3::Zero();
        for (const Triangle& t : p.mesh.triangle) sum += areaNormal(p.mesh, t);
        p.normal = sum.normalized();
        p.point = p.mesh.position[p.mesh.triangle.front()[0]];
        const double size = body_->bounds().diagonal();
        p.plane = true;
        for (const Vec3& q : p.mesh.position) p.plane = p.plane && std::abs((q - p.point).dot(p.normal)) < 1e-6 * size;
        p.tree = std::make_unique<TriangleTree>(p.mesh);
    }
}

shape::Sample PatchedBody::evaluate(const Vec3& p) const {
    const auto near = tree_->closest(p, 1e300, 4000);
    return {body_->value(p), near.triangle < 0 ? 0 : patch_[near.triangle]};
}

double PatchedBody::surfaceValue(int surface, const Vec3& p) const {
    const Patch& patch = patches_[surface];
    if (patch.exact) return patch.exact->distance(p);
    if (patch.mesh.triangle.empty()) return 1e9;
    if (patch.plane) return (p - patch.point).dot(patch.normal);
    const auto near = patch.tree->closest(p, 1e300, 4000);
    const Triangle& t = patch.mesh.triangle[near.triangle];
    // the facet's plane: zero on the facets themselves, and beyond the rim its continuation
    const Vec3 n = areaNormal(patch.mesh, t).normalized();
    return (p - near.point).dot(n);
}

Vec3 PatchedBody::surfaceGradient(int surface, const Vec3& p) const {
    const Patch& patch = patches_[surface];
    if (patch.exact) return patch.exact->gradient(p);
    if (patch.mesh.triangle.empty()) return Vec3::UnitX();
    if (patch.plane) return patch.normal;
    return areaNormal(patch.mesh, patch.mesh.triangle[patch.tree->closest(p, 1e300, 4000).triangle]).normalized();
}

}  // namespace escultura::surface
