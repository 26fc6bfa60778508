/// @file surface/curvature.hpp
/// How a surface bends: what makes ripples visible that its shading hides.

#pragma once
#include "surface/tri_mesh.hpp"

namespace escultura::surface {

/// Mean curvature at the vertices, positive where the surface bulges out (a ball of radius r: 1/r), 1/mm: of the
/// paraboloid that fits the two rings of vertices around best, its slope included (McIvor and Valkenburg 1997). Each
/// owner's surface is fitted by itself; at machined edges, where two meet, it is zero.
std::vector<float> meanCurvature(const TriMesh& mesh);

}  // namespace escultura::surface
