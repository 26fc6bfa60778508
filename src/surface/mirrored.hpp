/// @file surface/mirrored.hpp
/// Surfaces of symmetric solids: one half (quarter, eighth) is extracted and mirrored, so that the triangles are
/// exactly symmetric, for half the work.

#pragma once
#include <optional>
#include <span>

#include "shape/machined_solid.hpp"
#include "surface/extract.hpp"

namespace escultura::surface {

/// A plane of symmetry across one of the axes.
struct MirrorPlane {
    int axis = 0;
    double at = 0;  ///< mm
};

/// Which vertex of the extracted half a vertex is the image of.
struct MirrorImage {
    std::int32_t source = -1;
    std::uint8_t flips = 0;  ///< bit k: by plane k
    std::uint8_t on = 0;     ///< bit k: lies on plane k
};

/// Vertices lie on their surfaces as extractSurface() puts them, but on the planes, where the solid has a kink, within
/// 0.02 of the spacing.
/// @param images  receives the image of each vertex
/// @return        nothing when the solid is not symmetric about the planes (by samples, and by every vertex of the
///                images), or when an edge of the half could not be put on a plane
std::optional<TriMesh> extractMirrored(const shape::MachinedSolid& solid, const ExtractOptions& options,
                                       std::span<const MirrorPlane> planes, Progress& progress,
                                       std::vector<lattice::SurfaceSet>& vertexSurfaces,
                                       std::vector<MirrorImage>& images);

/// Puts every vertex where the image of its source is, after the sources have moved.
void mirrorAnew(std::span<const MirrorPlane> planes, std::span<const MirrorImage> images, TriMesh& mesh);

}  // namespace escultura::surface
