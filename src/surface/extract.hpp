/// @file surface/extract.hpp
/// A closed triangle surface from a Shape: the boundary of the stuffed lattice, with machined edges sharp.

#pragma once
#include <functional>

#include "base/progress.hpp"
#include "lattice/tet_complex.hpp"
#include "shape/shape.hpp"
#include "surface/tri_mesh.hpp"

namespace escultura::surface {

/// Which pieces an extraction keeps; by default the largest.
struct PieceRule {
    bool largestOnly = true;
    double smallest = 0;  ///< else: least volume of a piece, mm3
};

struct ExtractOptions {
    double spacing = 2;      ///< of the lattice, mm: triangles have edges of about half to one of it
    bool sharpEdges = true;  ///< move vertices onto machined edges; off for raw iso-surfaces
    PieceRule pieces{};
    /// Spacing wanted at a place, mm, where it is smaller. Empty: the same everywhere.
    std::function<double(const Vec3&)> size{};
    Vec3 offset = Vec3::Zero();  ///< shift of the lattice in units of the spacing
};

/// Extracts the boundary; every vertex lies on the surfaces that own it within 1e-8 mm.
/// @throws InputError when the shape is empty
/// @param vertexSurfaces  receives the surfaces of each vertex; may be null
TriMesh extractSurface(const shape::Shape& shape, const ExtractOptions& options, Progress& progress,
                       std::vector<lattice::SurfaceSet>* vertexSurfaces = nullptr);
/// The same everywhere. The largest piece with machined edges, all pieces without.
TriMesh extractSurface(const shape::Shape& shape, double spacing, bool sharpEdges, Progress& progress,
                       std::vector<lattice::SurfaceSet>* vertexSurfaces = nullptr);

/// Moves the vertices of a surface onto a slightly changed shape with the same surfaces; a vertex that cannot follow
/// within `reach` (mm) stays.
void followShape(const shape::Shape& shape, const std::vector<lattice::SurfaceSet>& vertexSurfaces, double reach,
                 TriMesh& mesh);

/// Gives triangles whose corners do not all lie on their surface to the free one, where the surface owns exactly.
void disownInexact(const shape::Shape& shape, TriMesh& mesh);

/// The boundary of tetrahedra as a surface with owners.
/// @param tetOfTriangle  receives the tetrahedron behind each triangle; may be null
/// @param vertexOfMesh   receives the complex's vertex of each surface vertex; may be null
TriMesh boundaryOf(const shape::Shape& shape, const lattice::TetComplex& complex,
                   std::vector<std::int32_t>* tetOfTriangle, std::vector<std::int32_t>* vertexOfMesh);

/// Volume of a shape by sampling, mm3: cells of the given size, each counted by the share that a plane through it at
/// the sampled distance would fill. @throws Cancelled
double sampledVolume(const shape::Shape& shape, double cell, Progress& progress);

}  // namespace escultura::surface
