/// @file surface/sizing.hpp
/// How fine a lattice must be near a surface: by the thickness of its walls and by its curvature.

#pragma once
#include <functional>
#include <span>

#include "surface/thickness.hpp"

namespace escultura::surface {

/// What is asked of the lattice. Each bound that is 0 asks nothing.
struct Sizing {
    double usual = 4;       ///< largest spacing of interest, mm
    double through = 0;     ///< elements through each wall
    int aroundCircle = 0;   ///< elements around a full circle of the surface's curvature
    double chordError = 0;  ///< most that straight edges leave the surface by, mm
    /// Finest spacings, share of the usual: of walls (thinner ones are feather edges) and of curvature.
    double finestWall = 1.0 / 12, finestCurve = 0.25;
    bool asksAnything() const { return through > 1 || aroundCircle > 0 || chordError > 0; }
};

/// Largest curvature at each vertex by its neighbours' normals, one owner at a time; machined edges count as none.
/// [vertices] 1/mm
std::vector<float> largestCurvature(const TriMesh& mesh);

/// Spacing wanted at the surface, by the triangle. [triangles] mm
/// @param thickness  [vertices] mm; empty: walls ask nothing
std::vector<float> wantedSpacing(const TriMesh& mesh, std::span<const float> thickness, const Sizing& sizing);

/// The same as a function of places near the surface: what the closest triangle wants, infinite where none is near. The
/// surface must outlive it.
std::function<double(const Vec3&)> latticeSpacing(const TriMesh& mesh, std::span<const float> thickness,
                                                  const Sizing& sizing);

}  // namespace escultura::surface
