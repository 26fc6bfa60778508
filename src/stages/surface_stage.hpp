/// @file stages/surface_stage.hpp
/// Stage Surface: the smooth surface with its measures, and what casting and printing would meet on it.

#pragma once
#include <memory>
#include <string>
#include <vector>

#include "stages/field_stage.hpp"
#include "surface/process.hpp"
#include "surface/thickness.hpp"
#include "surface/tri_mesh.hpp"

namespace escultura::stages {

struct BoreFigure {
    std::string interface;
    double nominal = 0;   ///< mm
    double measured = 0;  ///< mean diameter over the vertices of the bore
    double error = 0;     ///< largest |diameter - nominal| over the vertices, mm
};

/// A warning about the geometry, with a place.
struct GeometryFinding {
    enum class Kind {
        memberLost,
        memberThinned,
        gapClosed,
        interfaceLost,
        pieces,
        handles,
        thinMember,    ///< thinner than the smallest, and undecided or not as decided
        lostDecision,  ///< made for a member that is not there
        evenLattice,   ///< taken because the finer one left the surface open
    } kind = Kind::memberLost;
    std::string text;              ///< one sentence with its figures
    Vec3 position = Vec3::Zero();  ///< mm
    double before = 0, after = 0;  ///< thickness or width in mm, or a count
};
const char* name(GeometryFinding::Kind kind);

/// A member of the field that is thinner than the smallest.
struct ThinMember {
    Vec3 at = Vec3::Zero();           ///< a place inside it, mm
    double thickness = 0, least = 0;  ///< where it is thinner than the smallest: mean and least, mm
    double length = 0;                ///< between its farthest places, mm
    MemberFate fate = MemberFate::undecided;
    double after = 0;  ///< its mean thickness in the surface, mm; 0: left out
};

/// Stage Surface.
struct SurfaceResult {
    surface::TriMesh mesh;
    surface::Measures measures;
    std::vector<float> deviation;  ///< [vertices] distance to the raw iso-surface, positive outside it, mm
    /// Figures of the size of the deviation over the free surface more than two cells from interfaces and voids, mm.
    double deviationMean = 0;  ///< with sign
    double deviationRms = 0, deviation95 = 0, deviationMax = 0;
    Vec3 deviationMaxAt = Vec3::Zero();
    surface::Thickness thickness;
    double mass = 0;             ///< kg
    double askedVolume = 0;      ///< mm3, raw volume at the threshold
    double draftVolume = 0;      ///< added by draft and thickenings, mm3
    double solvedThreshold = 0;  ///< threshold of the smoothed density that encloses it
    /// Kept pieces of the field; handles that the part has by the field's cells where the field speaks, and by its
    /// interfaces and cuts where they do.
    int rawPieces = 0, rawGenus = 0;
    double finerSpacing = 0;  ///< that it was extracted with to get its handles right, mm; 0: as the recipe asks
    std::vector<ThinMember> members;  ///< thinnest first
    double smallestMember = 0;        ///< below which they are listed, mm
    std::vector<BoreFigure> bores;
    std::vector<NamedFace> faces;
    std::vector<GeometryFinding> findings;
};

/// What casting and printing would meet on a surface.
struct ProcessResult {
    std::vector<float> curvature;  ///< [vertices of the surface] mean curvature, see surface::meanCurvature(), 1/mm
    surface::DraftFigures draft;
    surface::OverhangFigures overhang;
    std::vector<surface::BuildDirection> directions;  ///< coarse sweep, least support first
};

SurfaceResult evaluateSurface(const Part& part, const FieldResult& field, const Recipe& recipe, Progress& progress);
ProcessResult evaluateProcess(const SurfaceResult& surface, const Recipe& recipe, Progress& progress);
/// The body whose surface evaluateSurface() builds. @param threshold  of the smoothed density
PartShape surfaceShape(const Part& part, const FieldResult& field, const Recipe& recipe, double threshold,
                       Progress& progress);
/// The same body without cuts, for a control cage. @param margin  material beyond machined faces, mm
PartShape coverShape(const Part& part, const FieldResult& field, const Recipe& recipe, double threshold, double margin,
                     Progress& progress);
/// The design space with its interfaces: the part before the optimisation, when no original is given.
surface::TriMesh designSpaceSurface(const Part& part, const Regions& regions, double spacing, Progress& progress);
/// The raw field's iso-surface at a threshold, trilinear between the centres of the cells; all pieces.
surface::TriMesh rawSurface(const FieldResult& field, double threshold, Progress& progress);

}  // namespace escultura::stages
