/// @file surface/thickness.hpp
/// Local thickness by inscribed balls (shrinking balls after Ma, Bae and Choi 2012; the largest ball that holds a point
/// after Hildebrand and Rueegsegger 1997).

#pragma once
#include <optional>
#include <span>

#include "base/progress.hpp"
#include "surface/tri_mesh.hpp"

namespace escultura::surface {

/// The largest ball inside a surface that touches it at a given point.
struct InscribedBall {
    Vec3 centre = Vec3::Zero();
    double radius = 0;      ///< mm
    double separation = 0;  ///< angle between the two touching points seen from the centre, degrees: 180 between
                            ///< parallel walls, the opening's supplement at an edge
};

/// @param p        point on the surface
/// @param outward  unit normal there; turned around, the ball in the gap outside is found
/// @param most     largest radius looked for, mm
std::optional<InscribedBall> inscribedBall(const TriangleTree& tree, const Vec3& p, const Vec3& outward, double most);

/// Separation from which a ball touches two walls; below, it touches an edge. degrees
inline constexpr double wallSeparation = 110;

/// Thickness of walls: balls that touch at edges only measure no wall.
struct Thickness {
    std::vector<float> value;     ///< [vertices] diameter of the largest wall ball that holds the vertex, mm
    double least = 0;             ///< thinnest wall, mm: a thousandth of the area is thinner (feather edges)
    Vec3 leastAt = Vec3::Zero();  ///< a vertex of that wall
    double low5 = 0, median = 0;  ///< 5 % and half of the area are thinner, mm
};

/// @throws Cancelled
Thickness wallThickness(const TriMesh& mesh, const TriangleTree& tree, Progress& progress);

/// One unit normal a vertex, area-weighted. [vertices]
std::vector<Vec3> vertexNormals(const TriMesh& mesh);

/// Value below which a share of the area lies, from values at vertices.
double areaQuantile(const TriMesh& mesh, std::span<const float> value, double share);

}  // namespace escultura::surface
