/// @file cage/wrap.hpp
/// The automatic cage: an all-quad wrap around a body, tidied so that most vertices have four edges.

#pragma once
#include <functional>

#include "base/progress.hpp"
#include "cage/cage.hpp"
#include "surface/tri_mesh.hpp"

namespace escultura::cage {

struct WrapOptions {
    double faceSize = 10;  ///< edge length of a face, mm
    /// Planes (point, unit normal along an axis) that the wrap is made symmetric about; planes along no axis are left
    /// out.
    std::vector<std::array<Vec3, 2>> symmetry;
    Vec3 shift = Vec3::Zero();  ///< of the grid, shares of the face size; along symmetric axes it has no effect
    Vec3 sides = Vec3::Ones();  ///< of a cell of the grid, face sizes
    int pieces = 1;             ///< parts of the cage that are kept, the largest first
    /// Asked before the slow tidying, which keeps the topology; a wrap that is not wanted comes back raw. Empty: all
    /// are.
    std::function<bool(const Cage& raw, const CageReport&)> wanted{};
};

/// Manifold dual surface nets on a grid of the face size: one vertex per piece of surface in a cell (Gibson 1998;
/// Nielson 2004; Schaefer, Ju and Warren 2007). Ambiguous grid faces are decided by the bilinear saddle (Nielson and
/// Hamann 1991), and the other way round where that would give an edge four faces.
/// @param value   negative inside, mm; thread-safe
/// @param bounds  holds the body
/// @param target  its surface: vertices are relaxed along it while valences are moved towards four by diagonal
///                collapse and edge rotation (after Tarini et al. 2010)
/// @throws InputError when nothing is inside, Cancelled
Cage wrapBody(const std::function<double(const Vec3&)>& value, const Box3& bounds, const surface::TriMesh& target,
              const surface::TriangleTree& tree, const WrapOptions& options, Progress& progress);

/// Splits the faces around the given vertices in three by three, with transitions that keep all faces quads
/// (Schneiders 1996). Creases follow. @param marked  [vertices]; grows where the transitions ask for it
/// New vertices are appended; old ones keep their numbers.
void refineAround(Cage& cage, std::vector<char> marked);

/// Moves vertices along the target to even out faces; each stays on the target surface.
void relaxOn(Cage& cage, const surface::TriangleTree& tree, int passes);

}  // namespace escultura::cage
