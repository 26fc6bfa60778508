/// @file surface/mesh_body.hpp
/// A closed triangle surface as a body: exact signed distance near it, sampled far from it.

#pragma once
#include "shape/machined_solid.hpp"
#include "surface/tri_mesh.hpp"

namespace escultura::surface {

/// Signed distance to a closed, oriented surface whose vertices are shared (see weld()). The sign comes from
/// angle-weighted pseudo-normals (Baerentzen and Aanaes 2005). Thread-safe.
class MeshBody final : public shape::FreeBody {
  public:
    /// @param offset  outward, mm: the body grows by it
    /// @throws InputError when the surface is not closed or encloses nothing
    MeshBody(TriMesh mesh, double offset);
    double value(const Vec3& p) const override;
    Vec3 gradient(const Vec3& p) const override;
    const TriMesh& mesh() const { return mesh_; }
    double offset() const { return offset_; }
    const Box3& bounds() const { return bounds_; }

  private:
    double exact(const Vec3& p, Vec3* gradient) const;

    TriMesh mesh_;
    TriangleTree tree_;
    double offset_;
    Box3 bounds_;
    std::vector<Vec3> faceNormal_, vertexNormal_;
    std::vector<std::array<Vec3, 3>> edgeNormal_;  // [triangles] of the edges 01, 12, 20
    std::array<int, 3> n_{};                       // samples along each axis
    Vec3 origin_ = Vec3::Zero();
    double step_ = 1;
    std::vector<float> sample_;
};

/// Joins vertices closer than the tolerance (mm; default: 1e-6 of the box's diagonal) and drops triangles that
/// collapse.
TriMesh weld(const TriMesh& mesh, double tolerance = 0);

}  // namespace escultura::surface
