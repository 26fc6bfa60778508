/// @file cage/limit.hpp
/// The smooth body that a cage drives: points, derivatives and triangles of its Catmull-Clark limit surface.

#pragma once
#include <Eigen/SparseCore>

#include "cage/cage.hpp"
#include "surface/tri_mesh.hpp"

namespace escultura::cage {

using StencilMatrix = Eigen::SparseMatrix<double, Eigen::RowMajor, std::int32_t>;
using Points = Eigen::Matrix<double, Eigen::Dynamic, 3, Eigen::RowMajor>;

/// Cage positions as rows.
Points asRows(const std::vector<Vec3>& points);
std::vector<Vec3> asPoints(const Points& rows);

/// A matrix times points, in parallel.
Points product(const StencilMatrix& matrix, const Points& points);

/// A place on the limit surface: u runs along side 0 of the face (corner 0 to 1), v along side 3 turned round (corner 0
/// to 3); both 0 to 1.
struct LimitPlace {
    std::int32_t face = 0;
    double u = 0, v = 0;
};

/// Weights that turn cage positions into points and derivatives of the limit surface: linear in the positions, exact.
struct LimitStencils {
    StencilMatrix point, du, dv;  ///< [places x vertices]; derivatives with respect to u and v, mm
};
/// @param places       runs of places on one face are quickest
/// @param derivatives  else du and dv stay empty
/// @throws InputError naming the place when the cage is not manifold
/// @param levels       of refinement around vertices without four edges: nearer to them than 2^-levels of an edge the
///                     surface is approximate
LimitStencils limitStencils(const Cage& cage, const std::vector<LimitPlace>& places, bool derivatives, int levels = 6);

/// Triangles of the limit surface that follow the cage while it moves.
class LimitMesh {
  public:
    /// @param divisions  of each side of a face
    /// @param normals    false: normalsAt() is not needed, which is quicker
    /// @param levels     as for limitStencils()
    LimitMesh(const Cage& cage, int divisions, bool normals = true, int levels = 6);
    /// Triangles for these cage positions; owner 0.
    surface::TriMesh at(const std::vector<Vec3>& cagePositions) const;
    /// Unit normals at the mesh's vertices, out of the body.
    std::vector<Vec3> normalsAt(const std::vector<Vec3>& cagePositions) const;
    /// Cage face of each triangle. [triangles]
    const std::vector<std::int32_t>& faceOf() const { return faceOf_; }

  private:
    LimitStencils stencils_;
    std::vector<Triangle> triangle_;
    std::vector<std::int32_t> faceOf_;
};

/// Faces whose limit surface turns inside out: normals of neighbouring samples point apart by more than a right angle.
/// Looked for close to the corners too.
/// @param samples  along each side of a face
std::vector<std::int32_t> foldedFaces(const Cage& cage, int samples = 5, int levels = 6);

/// Place (0 to 1) and weight of the i-th of ten Gauss points over two spans, five each: exact for degree 9 a span, as
/// the volume of regular faces asks for.
std::pair<double, double> gaussPlace(int i);

/// Volume (mm3) and area (mm2) of a closed cage's limit surface by Gauss quadrature.
struct LimitMeasures {
    double volume = 0, area = 0;
    Vec3 centroid = Vec3::Zero();
};
LimitMeasures measureLimit(const Cage& cage);

}  // namespace escultura::cage
