/// @file mesh/tet_mesh.hpp
/// Quadratic tetrahedra (TET10) with owners on the boundary, and their quality.

#pragma once
#include <cstdint>
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
    int relaxedEdges = 0;             ///< curved edges straightened to keep elements valid
};

/// Pairs of corners of the mid-side nodes 4-9.
inline constexpr int edgeCorners[6][2] = {{0, 1}, {1, 2}, {0, 2}, {0, 3}, {1, 3}, {2, 3}};

/// Options of meshShape.
struct MeshOptions {
    double elementSize = 4;  ///< lattice spacing, mm; edges are 0.87 to 1 of it
};

/// Meshes a shape: lattice stuffing, sharp machined edges, optimisation, mid-side nodes on the shape. Every element's
/// Jacobian is positive everywhere (by its Bernstein coefficients; Johnen, Remacle and Geuzaine 2013).
/// @throws InputError when nothing is inside, Cancelled
TetMesh meshShape(const shape::Shape& shape, const MeshOptions& options, Progress& progress);

/// Adds straight mid-side nodes to linear tetrahedra. Boundary faces get owner 0 unless given by ownerOf(face middle).
TetMesh quadraticMesh(std::vector<Vec3> corners, const std::vector<lattice::Tet>& tets);

/// Quality of a mesh.
struct Quality {
    double minDihedral = 0, maxDihedral = 0;  ///< degrees, straight edges
    double minScaledJacobian = 0;  ///< smallest over largest Jacobian of an element at corners, middles and centre
    double maxAspectRatio = 0;     ///< longest edge over shortest height, scaled to 1 for the regular one
    double volume = 0;             ///< mm3, curved
    std::vector<int> dihedralHistogram;  ///< smallest angle of each element, 18 bins of 5 degrees
};
Quality measureQuality(const TetMesh& mesh);

/// Jacobian matrix dx/dxi at barycentric coordinates (l0 = 1 - xi0 - xi1 - xi2).
Mat3 jacobian(const TetMesh& mesh, std::size_t element, const Vec3& xi);

/// Shape functions and their derivatives with respect to xi at a point of the reference tetrahedron.
void shapeFunctions(const Vec3& xi, double* n10);
void shapeDerivatives(const Vec3& xi, Vec3* d10);

}  // namespace escultura::mesh
