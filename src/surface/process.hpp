/// @file surface/process.hpp
/// Whether a surface can be cast or printed: draft and undercuts along a pull direction, overhangs and supports along a
/// build direction.

#pragma once
#include "base/progress.hpp"
#include "surface/tri_mesh.hpp"

namespace escultura::surface {

/// Draft of every triangle. The mould parts at a plane; above it the upper half leaves along the pull direction, below
/// it the lower half against it.
struct DraftFigures {
    std::vector<float> angle;            ///< [triangles] degrees; negative: leans the wrong way
    std::vector<std::uint8_t> undercut;  ///< [triangles] 1: other material lies in the way of the mould
    double tooSteepArea = 0;             ///< free surface with a draft below the wanted, undercuts included, mm2
    double undercutArea = 0;             ///< mm2
    double freeArea = 0;                 ///< mm2
    Vec3 worstAt = Vec3::Zero();         ///< middle of the largest undercut triangle, or of the steepest
};

/// @param pull     unit vector
/// @param parting  place of the parting plane along it, mm
/// @param wanted   degrees
/// Only the free surface (owner 0) counts: interfaces are machined afterwards.
DraftFigures draftFigures(const TriMesh& mesh, const TriangleTree& tree, const Vec3& pull, double parting,
                          double wanted, Progress& progress);

/// Overhangs and supports of one build direction.
struct OverhangFigures {
    std::vector<std::uint8_t> overhanging;  ///< [triangles] 1: needs support
    double area = 0;                        ///< of overhanging triangles, mm2
    double supportVolume = 0;               ///< of straight supports down to the part or the plate, mm3
    double touchedShare = 0;                ///< share of the part's area that supports touch at either end
    Vec3 worstAt = Vec3::Zero();            ///< middle of the largest overhanging triangle
};

/// @param up       build direction, unit vector
/// @param overhang least angle between a downward surface and the plate that stands without support, degrees. What lies
///                 on the plate (within 0.1 mm of the lowest point) needs none
OverhangFigures overhangFigures(const TriMesh& mesh, const TriangleTree& tree, const Vec3& up, double overhang);

/// A build direction and what it costs.
struct BuildDirection {
    Vec3 up = Vec3::UnitZ();
    double supportVolume = 0, area = 0, height = 0;  ///< mm3, mm2, mm
};

/// Tries the 26 directions to the faces, edges and corners of a cube and 16 between them; least support volume first.
/// @throws Cancelled
std::vector<BuildDirection> sweepBuildDirections(const TriMesh& mesh, const TriangleTree& tree, double overhang,
                                                 Progress& progress);

}  // namespace escultura::surface
