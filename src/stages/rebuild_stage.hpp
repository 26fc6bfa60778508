/// @file stages/rebuild_stage.hpp
/// Stage Rebuild: surface -> control cage -> patches -> solid with exact features.

#pragma once
#include <memory>
#include <string>
#include <vector>

#include "cage/automatic.hpp"
#include "cage/patches.hpp"
#include "duty/recipe.hpp"
#include "shape/shape.hpp"
#include "solid/build.hpp"
#include "stages/part_shape.hpp"

namespace escultura::stages {

struct SurfaceResult;
struct FieldResult;
struct GeometryFinding;

/// The control cage and how well it fits.
struct CageResult {
    cage::Cage cage;
    cage::CageReport report;
    cage::CageDeviation deviation;     ///< from the covered surface; without a target (by hand only) still from it
    std::vector<std::int32_t> folded;  ///< faces that turn inside out
    int targetPieces = 0, targetGenus = 0;
    bool agrees = false;   ///< pieces and handles are the target's
    bool byHand = false;   ///< edited by hand: handles may differ on purpose
    double faceSize = 0;   ///< asked or chosen, mm
    double tolerance = 0;  ///< largest distance that was allowed, mm; 0: the size or count of faces was given
    bool within = true;    ///< the tolerance is kept, RMS and largest, both ways
    int irregular = 0;     ///< vertices with other than four edges
    int tries = 0;
    std::vector<std::string> notes;  ///< what a user should know, in sentences
    std::vector<GeometryFinding> findings;
    std::shared_ptr<const cage::Target> target;  ///< what the cage was fitted to; null: read from a file
    double seconds = 0;
};

/// The solid and what it was compared with.
struct RebuildResult {
    solid::SolidResult solid;
    std::vector<solid::Feature> features;                   ///< that were asked for, in order
    cage::LimitMeasures limit;                              ///< of the cage's limit surface, without features
    double regularJump = 0, irregularJump = 0, jump95 = 0;  ///< between normals of patches, degrees
    Vec3 jumpAt = Vec3::Zero();
    double mass = 0;                    ///< kg
    int genus = 0, pieces = 0;          ///< of the solid's triangles
    int surfaceGenus = 0;               ///< of the surface that it replaces
    std::vector<NamedFace> faces;       ///< of interfaces, by the solid's surfaces
    std::vector<std::string> problems;  ///< why it must not be released; empty: sound
    double seconds = 0;
};

/// The list that is built: the recipe's, with geometry of interfaces from the part and new interfaces added.
std::vector<solid::Feature> effectiveFeatures(const Part& part, const Regions& regions, const Rebuild& rebuild);

/// Whether the cage goes over from the body into the feature.
bool isBlendedInCage(const solid::Feature& feature);

/// Edge length that suits a surface when no tolerance can be kept: 0.65 of its thin walls, 200 to 6,000 faces.
double suggestedFaceSize(const SurfaceResult& surface);
/// Largest distance from the surface that the cage may have, mm: the recipe's, or half a cell of the field. The root
/// mean square may be a fifth of it.
double cageTolerance(const FieldResult& field, const Recipe& recipe);

/// Wraps, fits and applies the steps. @throws InputError, Cancelled
CageResult evaluateCage(const Part& part, const FieldResult& field, const SurfaceResult& surface, const Recipe& recipe,
                        Progress& progress);
/// Patches, features, checks. @throws InputError, Cancelled
RebuildResult evaluateRebuild(const Part& part, const FieldResult& field, const SurfaceResult& surface,
                              const CageResult& cage, const Recipe& recipe, Progress& progress);

/// The solid as a Shape: planes and cylinders exact, the rest by its triangles.
std::shared_ptr<const shape::Shape> solidShape(const RebuildResult& rebuild);

/// Writes STEP, reads it back and compares volume, area, centre of gravity and count of solids.
/// @return what differs, in sentences; empty: the file holds the solid
std::vector<std::string> writeCheckedStep(const std::string& path, const Part& part, const RebuildResult& rebuild);
/// The same for IGES.
std::vector<std::string> writeCheckedIges(const std::string& path, const Part& part, const RebuildResult& rebuild);
/// The same for STL and the other triangle formats.
std::vector<std::string> writeCheckedBody(const std::string& path, const Part& part, const RebuildResult& rebuild);

}  // namespace escultura::stages
