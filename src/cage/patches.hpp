/// @file cage/patches.hpp
/// One bicubic B-spline patch a cage face: exact where all corners have four edges, very near the limit surface beside
/// the others, with boundary curves that neighbours share to the last bit.

#pragma once
#include "cage/limit.hpp"

namespace escultura::cage {

/// Degree 3 in both directions, knots 0 (4 times), 1/2 (2), 1 (4): six by six poles.
struct Patch {
    std::array<Vec3, 36> pole;  ///< [6 * row along v + column along u] mm; u and v as in LimitPlace
    Vec3 point(double u, double v) const;
    /// du x dv, not normalised.
    Vec3 cross(double u, double v) const;
};

struct PatchSet {
    std::vector<Patch> patch;  ///< [cage faces]
    /// Angles between the normals of neighbours along their common edge, degrees; edges with a crease left out.
    double regularJump = 0;    ///< largest between patches whose corners all have four edges
    double irregularJump = 0;  ///< largest of the others
    double jump95 = 0;         ///< 95 % of the sampled places beside extraordinary vertices are below
    Vec3 jumpAt = Vec3::Zero();
};

/// Bezier points of Loop, Schaefer, Ni and Castano (2009) after one Catmull-Clark step, averaged Gregory points at
/// extraordinary corners, then least squares on the inner poles so that normals agree across borders; faces at creases
/// are interpolated from the limit surface. The 2 x 2 children of a face become one C1 patch.
/// @throws InputError when the cage is not closed and manifold, naming the place
PatchSet makePatches(const Cage& cage);

/// Values of the six basis functions at a parameter, and their derivatives.
void patchBasis(double u, double* value, double* derivative);

}  // namespace escultura::cage
