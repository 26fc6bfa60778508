/// @file project/stages.hpp
/// The stages as pure functions: recipe and earlier results in, a result out.

#pragma once
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "assess/assess.hpp"
#include "elastic/solve.hpp"
#include "field/combine.hpp"
#include "field/piece_tree.hpp"
#include "project/check_stage.hpp"
#include "project/part_shape.hpp"
#include "project/rebuild_stage.hpp"
#include "surface/process.hpp"
#include "surface/thickness.hpp"

namespace escultura::project {

/// Sizes that suit the field's cells: smoothing 2 cells, surface 0.8, elements 1.45.
Recipe defaultRecipe(const Part& part, const field::DensityField& field);

/// Stage Field: the density field and what does not depend on the threshold.
struct FieldResult {
    field::DensityField field;
    Regions regions;
    std::vector<field::KeptCells> kept;  ///< cells of each interface
    std::vector<char> isVoid;            ///< [cells]
    std::shared_ptr<const field::KeptVolume> keptVolume;
    std::shared_ptr<const field::PieceTree> pieces;
    double designVolume = 0;                ///< cells of the design space that are not void by definition, mm3
    double largestConnectingThreshold = 0;  ///< negative: never connected
};

/// What one threshold keeps. Cheap: computed while a slider is dragged.
struct ThresholdFigures {
    double threshold = 0;
    double volume = 0;  ///< of the cells kept, mm3
    double share = 0;   ///< of the design space
    double mass = 0;    ///< kg
    double grey = 0;    ///< share of the kept cells whose density is below 0.9
    int pieces = 0;
    double largestPieceVolume = 0;  ///< mm3, without cells kept by interfaces only
    int keptPieces = 0;             ///< that the recipe keeps: the largest only, or all that are not too small
    double keptPiecesVolume = 0;    ///< mm3
    std::vector<std::string> connected, cutOff;  ///< interfaces on the largest piece, and the others
};

struct BoreFigure {
    std::string interface;
    double nominal = 0;   ///< mm
    double measured = 0;  ///< mean diameter over the vertices of the bore
    double error = 0;     ///< largest |diameter - nominal| over the vertices, mm
};

/// A warning about the geometry, with a place.
struct GeometryFinding {
    enum class Kind { memberLost, memberThinned, gapClosed, interfaceLost, pieces, handles } kind = Kind::memberLost;
    std::string text;              ///< one sentence with its figures
    Vec3 position = Vec3::Zero();  ///< mm
    double before = 0, after = 0;  ///< thickness or width in mm, or a count
};
const char* name(GeometryFinding::Kind kind);

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
    double mass = 0;                  ///< kg
    double askedVolume = 0;           ///< mm3, raw volume at the threshold
    double draftVolume = 0;           ///< added by draft, mm3
    double solvedThreshold = 0;       ///< threshold of the smoothed density that encloses it
    int rawPieces = 0, rawGenus = 0;  ///< of the raw iso-surface's kept pieces
    std::vector<BoreFigure> bores;
    std::vector<NamedFace> faces;
    std::vector<GeometryFinding> findings;
};

/// What casting and printing would meet on a surface.
struct ProcessResult {
    surface::DraftFigures draft;
    surface::OverhangFigures overhang;
    std::vector<surface::BuildDirection> directions;  ///< coarse sweep, least support first
};

/// Stage Findings: a classed hotspot.
struct Finding {
    std::string id;
    std::string place;             ///< class: "near support", "near load", "free body"
    Vec3 position = Vec3::Zero();  ///< mm
    std::int32_t node = -1;
    double peak = 0;  ///< MPa, recovered von Mises of the governing case
    double safetyFactor = 0, persistence = 0, area = 0;
    std::string caseName;
    std::string nearestInterface;
    double distance = 0;  ///< to the nearest face of an interface, mm
};

struct FindingsResult {
    std::vector<Finding> findings;
    double sensitivity = 0;  ///< MPa
};

/// Reads one of the part's fields.
field::DensityField loadField(const Part& part, const NamedField& source, Progress& progress);
/// The field that a choice makes of the part's fields. @param fields  all of them, in order
field::DensityField chosenField(const FieldChoice& choice, const std::vector<const field::DensityField*>& fields);
/// Everything about a field that does not depend on the threshold.
FieldResult prepareField(const Part& part, field::DensityField field, Progress& progress);
FieldResult prepareField(const Part& part, field::DensityField field);
ThresholdFigures thresholdFigures(const Part& part, const FieldResult& field, const Recipe& recipe);
/// The largest threshold at which the kept volume is at least this one. 0.005 to 0.995
double thresholdForVolume(const FieldResult& field, double volume);
/// Labels of the cells that the threshold keeps, for showing them.
field::Pieces piecesAt(const FieldResult& field, double threshold);
SurfaceResult evaluateSurface(const Part& part, const FieldResult& field, const Recipe& recipe, Progress& progress);
ProcessResult evaluateProcess(const SurfaceResult& surface, const Recipe& recipe, Progress& progress);
/// The body whose surface evaluateSurface() builds. @param threshold  of the smoothed density
PartShape surfaceShape(const Part& part, const FieldResult& field, const Recipe& recipe, double threshold,
                       Progress& progress);
/// The same body without cuts, for a control cage. @param margin  material beyond machined faces, mm
PartShape coverShape(const Part& part, const FieldResult& field, const Recipe& recipe, double threshold, double margin,
                     Progress& progress);
/// The design space with its interfaces: the part before the optimisation, when no original is given.
surface::TriMesh designSpaceSurface(const Part& part, const FieldResult& field, double spacing, Progress& progress);
/// The raw field's iso-surface at a threshold, trilinear between the centres of the cells; all pieces.
surface::TriMesh rawSurface(const FieldResult& field, double threshold, Progress& progress);
/// @throws InputError naming the interfaces that the largest piece does not reach
void requireConnected(const Part& part, const FieldResult& field, const Recipe& recipe);
FindingsResult evaluateFindings(const Part& part, const CheckResult& check, const Recipe& recipe, Progress& progress);

}  // namespace escultura::project
