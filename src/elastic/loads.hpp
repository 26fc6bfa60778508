/// @file elastic/loads.hpp
/// Consistent nodal forces of loads on boundary faces.

#pragma once
#include <functional>
#include <span>
#include <vector>

#include "mesh/tet_mesh.hpp"

namespace escultura::elastic {

/// One force a node, N.
using NodalForces = std::vector<Vec3>;

/// Adds the consistent forces of a traction on faces (seven-point rule, degree 5).
/// @param faces     indices into mesh.boundary
/// @param traction  MPa at a point with the outward normal given
void addTraction(const mesh::TetMesh& mesh, std::span<const std::int32_t> faces,
                 const std::function<Vec3(const Vec3& point, const Vec3& normal)>& traction, NodalForces& forces);

/// Spreads a force and a moment over faces without stiffening them: traction = c + d x (x - centre), with c and d
/// chosen so that resultant (N) and moment about the centre (N mm) are met exactly.
void addSpreadForce(const mesh::TetMesh& mesh, std::span<const std::int32_t> faces, const Vec3& force,
                    const Vec3& moment, const Vec3& centre, NodalForces& forces);

/// A bearing load on a bore: the part across the axis as a pressure p cos(theta) on the half of the bore that the pin
/// presses on, the part along the axis as an even shear. Resultant and line of action through `centre` are met exactly.
/// @param axis    unit vector of the bore
/// @param centre  point of the axis that the line of action runs through, mm
/// @throws InputError when no face looks against the force
void addBearing(const mesh::TetMesh& mesh, std::span<const std::int32_t> faces, const Vec3& axis, const Vec3& centre,
                const Vec3& force, NodalForces& forces);

/// Body force per volume (N/mm3), such as density times acceleration (kg/mm3 * mm/s2 / 1000).
void addBodyForce(const mesh::TetMesh& mesh, const std::function<Vec3(const Vec3&)>& force, NodalForces& forces);

/// Sum of forces, N, and of their moments about a point, N mm.
struct Resultant {
    Vec3 force = Vec3::Zero(), moment = Vec3::Zero();
};
Resultant resultant(const mesh::TetMesh& mesh, const NodalForces& forces, const Vec3& about);

/// Area of faces, mm2, their area-weighted middle, and per face.
double faceArea(const mesh::TetMesh& mesh, std::int32_t face);

}  // namespace escultura::elastic
