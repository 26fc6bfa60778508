/// @file project/stages.hpp
/// The stages as pure functions: recipe and earlier results in, a result out.

#pragma once
#include <algorithm>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "assess/hotspot_test.hpp"
#include "elastic/solve.hpp"
#include "field/combine.hpp"
#include "field/piece_tree.hpp"
#include "project/check_stage.hpp"
#include "project/part_shape.hpp"
#include "project/rebuild_stage.hpp"
#include "project/records.hpp"
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
    double draftVolume = 0;           ///< added by draft and thickenings, mm3
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

/// A hotspot, or a warning of another stage with its place.
/// A further place on the slopes of a tested hotspot, looked at because the check's mesh says more there.
struct FurtherTest {
    std::int32_t node = -1;
    int group = 0;
    assess::Evidence evidence;
};

struct Finding {
    enum class Kind {
        hotspot,
        thinWall,    ///< thinner than a requirement allows
        memberLost,  ///< of the raw field, in the surface
        memberThinned,
        gapClosed,
        interfaceLost,
        pieces,
        lostWalls,  ///< walls thinner than the elements of the check
        badElements,
        undercut,
        deviation,  ///< beyond what a requirement allows
    } kind = Kind::hotspot;
    std::string id;                ///< "H1" ... hotspots, "G1" ... the others
    std::string place;             ///< hotspot: "near support", "near load", "free body"
    std::string text;              ///< one sentence with its figures; empty for hotspots
    Vec3 position = Vec3::Zero();  ///< mm
    std::int32_t node = -1;
    double peak = 0;  ///< MPa, the judged stress that the failure rule compares, in the governing case
    /// Most that counts on its slopes before it is tested, in each case; larger than the peak where the two estimates
    /// of stress disagree. [cases] MPa
    std::vector<double> counts{};
    /// Highest judged stress on its slopes outside the ball that a test looks into, in each case. [cases] MPa
    std::vector<double> beside{};
    double upper() const { return counts.empty() ? peak : *std::max_element(counts.begin(), counts.end()); }
    double safetyFactor = 0, persistence = 0, area = 0;
    std::string caseName;
    std::string nearestInterface;
    double distance = 0;               ///< to the nearest face of an interface, mm
    double toSupport = 0, toLoad = 0;  ///< to the nearest face that is held or loaded, mm; infinite: none
    LocalPrint print{};                ///< of the boundary around it
    double reach = 0;                  ///< of the print, mm
    assess::Evidence evidence;         ///< hotspots: of their test
    int testGroup = 0;                 ///< those of one group were refined together, in this order; 0: not tested
    std::vector<FurtherTest> further;  ///< further places on its slopes, where the coarse mesh says more than the test
    bool canGoOn() const;              ///< whether a further place may be tested
};
const char* name(Finding::Kind kind);
/// Class of a hotspot ("real" ... or "not tested, near support"), kind of another finding.
std::string classOf(const Finding& finding);

struct FindingsResult {
    std::vector<Finding> findings;    ///< hotspots, highest first, then the others
    double sensitivity = 0;           ///< MPa
    std::vector<double> heights;      ///< of all peaks high enough to count, over their saddles, highest first, MPa:
                                      ///< how many there are at another sensitivity
    std::vector<std::int32_t> basin;  ///< [nodes] hotspot on whose slopes a node lies, -1: of none
    std::vector<double> rest;         ///< [cases] most that counts on the slopes of none, MPa
};

/// Evidence of the hotspots of one check, by node.
struct HotspotTests {
    std::map<std::int32_t, assess::Evidence> byNode;
    std::map<std::int32_t, int> group;  ///< by node: which were refined together, from 1 in the order of the tests
    std::map<std::int32_t, std::vector<FurtherTest>> further;  ///< by the hotspot's node
    /// By the hotspot's node: highest judged stress on its slopes outside the balls that the tests of real peaks looked
    /// into. [cases] MPa
    std::map<std::int32_t, std::vector<double>> beside;
};

/// What the safety factor leaves out of a check.
struct ExcludedNodes {
    std::vector<char> excluded;                              ///< [nodes of the check] 0 or 1
    std::vector<std::string> findings;                       ///< ids
    std::map<std::string, std::vector<double>> remaining{};  ///< by id: most that counts on its slopes outside its
                                                             ///< zone, [cases] MPa
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
/// @param process  draft figures, when a requirement asks for them; may be null
FindingsResult evaluateFindings(const Part& part, const SurfaceResult& surface, const CheckResult& check,
                                const Recipe& recipe, Progress& progress, const ProcessResult* process = nullptr);
/// Allowable stress of the strictest safety factor that is required, MPa.
double allowableStress(const Part& part);
/// The boundary of a mesh around a place.
LocalPrint localPrint(const mesh::TetMesh& mesh, const Vec3& place, double reach);
/// Whether two prints tell the same geometry, as far as different meshes of one shape agree.
bool isSamePrint(const LocalPrint& a, const LocalPrint& b, double reach);

}  // namespace escultura::project
