/// @file project/stages.hpp
/// The stages as pure functions: recipe and earlier results in, a result out.

#pragma once
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "assess/assess.hpp"
#include "elastic/solve.hpp"
#include "project/part_shape.hpp"
#include "surface/tri_mesh.hpp"

namespace escultura::project {

/// The parameters of every stage: what makes a variant.
struct Recipe {
    double threshold = 0.5;
    double smoothing = 5;        ///< full width of the smoothing kernel at half its height, mm
    double surfaceSpacing = 2;   ///< lattice spacing of the surface, mm
    double elementSize = 4;      ///< lattice spacing of the check's mesh, mm
    double hotspotShare = 0.10;  ///< smallest height of a hotspot above its saddle, share of the allowable stress
    bool operator==(const Recipe&) const = default;
};

/// Sizes that suit the field's cells: smoothing 2 cells, surface 0.8, elements 1.45.
Recipe defaultRecipe(const Part& part, const field::DensityField& field);

/// Stage Field: the density field and what does not depend on the threshold.
struct FieldResult {
    field::DensityField field;
    Box3 designSpace;
    std::vector<field::KeptCells> kept;  ///< cells of each interface
    std::vector<char> isVoid;            ///< [cells]
    std::shared_ptr<const field::KeptVolume> keptVolume;
    double designVolume = 0;                ///< cells that are not void by definition, mm3
    double largestConnectingThreshold = 0;  ///< negative: never connected
};

/// What one threshold keeps. Cheap: computed while a slider is dragged.
struct ThresholdFigures {
    double threshold = 0;
    double volume = 0;  ///< of the cells kept, mm3
    double share = 0;   ///< of the design space
    double mass = 0;    ///< kg
    int pieces = 0;
    double largestPieceVolume = 0;               ///< mm3, without cells kept by interfaces only
    std::vector<std::string> connected, cutOff;  ///< interfaces on the largest piece, and the others
};

struct BoreFigure {
    std::string interface;
    double nominal = 0;   ///< mm
    double measured = 0;  ///< mean diameter over the vertices of the bore
    double error = 0;     ///< largest |diameter - nominal| over the vertices, mm
};

/// Stage Surface.
struct SurfaceResult {
    surface::TriMesh mesh;
    surface::Measures measures;
    std::vector<float> deviation;  ///< [vertices] distance to the raw iso-surface, mm
    double deviationRms = 0,
           deviationMax = 0;     ///< over the free surface more than two cells from interfaces and voids, mm
    double mass = 0;             ///< kg
    double askedVolume = 0;      ///< mm3, raw volume at the threshold
    double solvedThreshold = 0;  ///< threshold of the smoothed density that encloses it
    std::vector<BoreFigure> bores;
    std::vector<NamedFace> faces;
};

/// Reactions of one interface in one case.
struct InterfaceReaction {
    std::string interface;
    Vec3 force = Vec3::Zero();  ///< N
};

struct CaseResult {
    std::string name;
    std::vector<Vec3> displacement;                        ///< [nodes] mm
    std::vector<elastic::Voigt6> stress;                   ///< [nodes] recovered, MPa
    std::vector<double> vonMises;                          ///< [nodes] MPa
    Vec3 applied = Vec3::Zero(), reaction = Vec3::Zero();  ///< resultants, N
    Vec3 meant = Vec3::Zero();                             ///< sum of the forces of the part file, N
    std::vector<InterfaceReaction> reactions;
    double equilibriumError = 0, residual = 0, strainEnergy = 0, energyError = 0;
    double maxDisplacement = 0, maxVonMises = 0, maxRawVonMises = 0, minSafetyFactor = 0;
    std::int32_t maxNode = -1, maxDisplacementNode = -1;
};

/// Stage Check.
struct CheckResult {
    mesh::TetMesh mesh;
    mesh::Quality quality;
    std::vector<NamedFace> faces;
    std::size_t unknowns = 0;
    std::string solver;
    double factorNonzeros = 0;
    std::vector<CaseResult> cases;
    assess::Envelope envelope;
    double minSafetyFactor = 0;
    std::string governingCase;
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

FieldResult evaluateField(const Part& part, Progress& progress);
/// Completes a field result from the field alone.
FieldResult prepareField(const Part& part, field::DensityField field);
ThresholdFigures thresholdFigures(const Part& part, const FieldResult& field, double threshold);
/// Labels of the cells that the threshold keeps, for showing them.
field::Pieces piecesAt(const FieldResult& field, double threshold);
SurfaceResult evaluateSurface(const Part& part, const FieldResult& field, const Recipe& recipe, Progress& progress);
/// @throws InputError naming the interfaces that the largest piece does not reach
void requireConnected(const Part& part, const FieldResult& field, double threshold);
CheckResult evaluateCheck(const Part& part, const FieldResult& field, const SurfaceResult& surface,
                          const Recipe& recipe, Progress& progress);
FindingsResult evaluateFindings(const Part& part, const CheckResult& check, const Recipe& recipe, Progress& progress);

/// Faces of the mesh's boundary that belong to a named face.
std::vector<std::int32_t> facesOf(const mesh::TetMesh& mesh, const NamedFace& face);

}  // namespace escultura::project
