/// @file surface/patched_body.hpp
/// A closed triangle surface as a Shape: smooth patches between its sharp edges are its surfaces, so that a mesh keeps
/// the edges.

#pragma once
#include <memory>
#include <optional>

#include "shape/shape.hpp"
#include "surface/mesh_body.hpp"

namespace escultura::surface {

class PatchedBody final : public shape::Shape {
  public:
    /// @param sharp  edges whose triangles meet at more than this angle divide patches, degrees
    /// @throws InputError when the surface is not closed
    explicit PatchedBody(const TriMesh& mesh, double sharp = 28);
    /// Patches are the triangles' owners. @param exact  [owners] plane or cylinder that a patch lies on, where it is
    /// one
    PatchedBody(const TriMesh& mesh, const std::vector<std::optional<shape::Primitive>>& exact);

    shape::Sample evaluate(const Vec3& p) const override;
    int surfaceCount() const override { return static_cast<int>(patches_.size()); }
    double surfaceValue(int surface, const Vec3& p) const override;
    Vec3 surfaceGradient(int surface, const Vec3& p) const override;
    Box3 bounds() const override { return body_->bounds(); }

    const TriMesh& mesh() const { return body_->mesh(); }
    /// Patch of each triangle. [triangles]
    const std::vector<std::int32_t>& patchOf() const { return patch_; }

  private:
    struct Patch {
        TriMesh mesh;
        std::unique_ptr<TriangleTree> tree;
        bool plane = false;  ///< all triangles lie in one plane: exact beyond the patch's rim
        Vec3 point = Vec3::Zero(), normal = Vec3::Zero();
        std::optional<shape::Primitive> exact{};
    };
    void fillPatches();

    std::unique_ptr<MeshBody> body_;
    std::unique_ptr<TriangleTree> tree_;
    std::vector<std::int32_t> patch_;
    std::vector<Patch> patches_;
};

}  // namespace escultura::surface
