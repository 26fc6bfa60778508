/// @file surface/intersections.hpp
/// Whether a surface cuts itself, decided with exact arithmetic.

#pragma once
#include <array>

#include "surface/tri_mesh.hpp"

namespace escultura::surface {

/// Sign of the determinant that tells on which side of the plane a, b, c the point d lies: +1 when d is below it (a, b,
/// c counter-clockwise seen from above), -1 above, 0 on it. Exact for all finite doubles without underflow (Shewchuk
/// 1997: floating-point filter, then expansions).
int orientation(const Vec3& a, const Vec3& b, const Vec3& c, const Vec3& d);

/// Pairs of triangles that meet in more than their shared vertices and edges; at most `most` of them.
std::vector<std::array<std::int32_t, 2>> selfIntersections(const TriMesh& mesh, std::size_t most = 100);

}  // namespace escultura::surface
