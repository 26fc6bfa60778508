/// @file surface/remesh.hpp
/// Isotropic, curvature-aware remeshing of an extracted surface (Botsch and Kobbelt 2004; sizing after Dunyach,
/// Vanderhaeghe, Barthe and Botsch 2013). Machined edges and the owners of triangles stay as they are.

#pragma once
#include "base/progress.hpp"
#include "lattice/tet_complex.hpp"
#include "shape/shape.hpp"
#include "surface/tri_mesh.hpp"

namespace escultura::surface {

struct RemeshOptions {
    double edgeLength = 2;  ///< where the surface is flat, mm
    double chordError = 0;  ///< edges are shortened so that they leave the surface by no more, mm; 0: same everywhere
    double shortest = 0.4;  ///< least edge length, share of edgeLength
    int passes = 4;
};

/// Splits, collapses and flips edges and relaxes vertices along the surface; every vertex stays on the surfaces that it
/// lies on within 1e-8 mm. Topology is kept.
/// @param vertexSurfaces  [vertices] surfaces of each vertex, as extractSurface() gives them; renumbered with the mesh
/// @throws Cancelled
void remesh(const shape::Shape& shape, const RemeshOptions& options, TriMesh& mesh,
            std::vector<lattice::SurfaceSet>& vertexSurfaces, Progress& progress);

/// The same with the edge length found so that about this many triangles come out (within 5 % where the edges allow).
void remeshToBudget(const shape::Shape& shape, int triangles, TriMesh& mesh,
                    std::vector<lattice::SurfaceSet>& vertexSurfaces, Progress& progress);

/// Quality of triangles: twice the ratio of inscribed to circumscribed circle; 1 for equal sides. [triangles]
std::vector<float> triangleQuality(const TriMesh& mesh);

}  // namespace escultura::surface
