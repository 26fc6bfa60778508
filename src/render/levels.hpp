/// @file render/levels.hpp
/// Borders and lines of equal value through triangles, so that they do not follow the triangles' edges.

#pragma once
#include "render/scene.hpp"

namespace escultura::render {

/// Cuts the triangles of a mesh where the value between their corners, taken as linear, crosses a level. No triangle
/// reaches across it afterwards; vertices on the line belong to both sides.
/// @param mesh  with values at its vertices
/// @return the line, pairs of points, mm
std::vector<Vec3> cutAtLevel(ColouredMesh& mesh, double level);

/// Which side of a level each triangle lies on after it was cut there. [triangles] true: at or above it
std::vector<bool> isAbove(const ColouredMesh& mesh, double level);

/// The chosen triangles, with the vertices that they use.
ColouredMesh partOf(const ColouredMesh& mesh, const std::vector<bool>& chosen);

/// Adds a mesh to another that has the same kinds of values.
void append(ColouredMesh mesh, ColouredMesh& to);

}  // namespace escultura::render
