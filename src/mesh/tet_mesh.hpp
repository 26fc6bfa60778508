/// @file mesh/tet_mesh.hpp
/// Quadratic tetrahedra (TET10) with owners on the boundary, and their quality.

#pragma once
#include <cstdint>
#include <functional>
#include <string>
#include <vector>

#include "base/progress.hpp"
#include "lattice/improve.hpp"
#include "shape/shape.hpp"

namespace escultura::mesh {

/// Ten-node tetrahedron: corners 0-3, mid-side nodes of the edges 01, 12, 02, 03, 13, 23.
using Tet10 = std::array<std::int32_t, 10>;
/// Six-node boundary triangle, counter-clockwise from outside: corners, then the middles of 01, 12, 20.
using Triangle6 = std::array<std::int32_t, 6>;

/// A conforming quadratic mesh. Plain value.
struct TetMesh {
    std::vector<Vec3> position;       ///< [nodes] mm; corner nodes first
    std::size_t cornerCount = 0;      ///< nodes [0, cornerCount) are corners
    std::vector<Tet10> tet;           ///< [elements]
    std::vector<Triangle6> boundary;  ///< [boundary faces]
    std::vector<std::int16_t> owner;  ///< [boundary faces] surface of the shape, see Shape
    lattice::CreaseReport creases;    ///< machined edges that could not be met
    int relaxedEdges = 0;             ///< curved edges flattened to keep elements valid
    int straightEdges = 0;            ///< boundary edges whose middle could not be put on the shape
};

/// Pairs of corners of the mid-side nodes 4-9.
inline constexpr int edgeCorners[6][2] = {{0, 1}, {1, 2}, {0, 2}, {0, 3}, {1, 3}, {2, 3}};

/// Options of meshShape.
struct MeshOptions {
    double elementSize = 4;  ///< lattice spacing, mm; edges are 0.87 to 1 of it
    /// Spacing wanted at a place, mm; larger values than elementSize change nothing. Empty: the same everywhere. The
    /// finished mesh is bisected there.
    std::function<double(const Vec3&)> localSize{};
    /// The same for walls that the mesh would lose: the lattice is finer there before the shape cuts it.
    std::function<double(const Vec3&)> wallSize{};
    std::size_t limit = 3000000;  ///< refinement stops before there are more elements
    bool allPieces = false;       ///< of at least smallestPiece; else the largest only
    double smallestPiece = 0;     ///< mm3
    Vec3 offset = Vec3::Zero();   ///< shift of the lattice in units of its spacing
};

/// Meshes a shape: lattice stuffing, sharp machined edges, optimisation, mid-side nodes on the shape. Every element's
/// Jacobian is positive everywhere (by its Bernstein coefficients; Johnen, Remacle and Geuzaine 2013).
/// @throws InputError when nothing is inside, Cancelled
TetMesh meshShape(const shape::Shape& shape, const MeshOptions& options, Progress& progress);

/// The corners of meshShape() before they are made quadratic: what adaptive refinement goes on from.
lattice::TetComplex cornerMesh(const shape::Shape& shape, const MeshOptions& options, lattice::CreaseReport& creases,
                               Progress& progress);
/// Mid-side nodes on the shape, owners on the boundary.
TetMesh curvedMesh(const shape::Shape& shape, const lattice::TetComplex& corners, Progress& progress);

/// Adds straight mid-side nodes to linear tetrahedra. Boundary faces get owner 0 unless given by ownerOf(face middle).
TetMesh quadraticMesh(std::vector<Vec3> corners, const std::vector<lattice::Tet>& tets);

/// Warning and failure limits of element quality.
struct QualityLimits {
    double warnDihedral = 12, failDihedral = 5;      ///< smallest dihedral angle, degrees
    double warnAspect = 8, failAspect = 20;          ///< aspect ratio
    double warnJacobian = 0.15, failJacobian = 0.0;  ///< scaled Jacobian
};

/// One element and what is wrong with it.
struct PoorElement {
    std::int32_t element = -1;
    double dihedral = 0, aspect = 0, jacobian = 0;
    Vec3 middle = Vec3::Zero();  ///< mm
};

/// Quality of a mesh.
struct Quality {
    double minDihedral = 0, maxDihedral = 0;  ///< degrees, straight edges
    double minScaledJacobian = 0;  ///< smallest over largest Jacobian of an element at corners, middles and centre
    double maxAspectRatio = 0;     ///< longest edge over shortest height, scaled to 1 for the regular one
    double volume = 0;             ///< mm3, curved
    std::vector<int> dihedralHistogram;  ///< smallest angle of each element, 18 bins of 5 degrees
    std::vector<int> aspectHistogram;    ///< 20 bins of 0.5 from 1; the last holds all beyond
    std::vector<int> jacobianHistogram;  ///< scaled Jacobian, 20 bins of 0.05 from 0
    int warned = 0, failed = 0;          ///< elements beyond QualityLimits
    std::vector<PoorElement> worst;      ///< at most 50, the worst first
};
Quality measureQuality(const TetMesh& mesh);

/// Jacobian matrix dx/dxi at barycentric coordinates (l0 = 1 - xi0 - xi1 - xi2).
Mat3 jacobian(const TetMesh& mesh, std::size_t element, const Vec3& xi);

/// Shape functions and their derivatives with respect to xi at a point of the reference tetrahedron.
void shapeFunctions(const Vec3& xi, double* n10);
void shapeDerivatives(const Vec3& xi, Vec3* d10);

}  // namespace escultura::mesh
