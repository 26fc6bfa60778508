/// @file stages/check_stage.hpp
/// Stage Check: mesh, solution, stresses, and the adaptive passes of the level 'converged'.

#pragma once
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "assess/hotspot_test.hpp"
#include "duty/recipe.hpp"
#include "elastic/solve.hpp"
#include "stages/check_model.hpp"
#include "stages/own_frame.hpp"
#include "surface/tri_mesh.hpp"

namespace escultura::stages {

struct SurfaceResult;
struct FieldResult;
struct RebuildResult;

/// A mesh for checks: reused while only loads, supports or material change.
struct MeshResult {
    mesh::TetMesh mesh;
    mesh::Quality quality;
    std::vector<NamedFace> faces;
    OwnFrame frame;               ///< that the mesh was made in
    lattice::TetComplex corners;  ///< what adaptive refinement goes on from, in that frame
    double bodyVolume = 0;        ///< of the body that was meshed, mm3; 0: not known
};

/// Expected size of a mesh before it is made.
struct MeshForecast {
    double elements = 0, nodes = 0, unknowns = 0;
    double memory = 0;  ///< bytes, of the solver that the automatic choice would take
    std::string solver;
    double thinWalls = 0;  ///< share of the surface's area whose wall is too thin for the elements to hold
};
/// @param surface  measured surface; its volume, area and wall thickness are used
MeshForecast forecastMesh(const Part& part, const SurfaceResult& surface, const Recipe& recipe);

/// Reactions of one interface in one case.
struct InterfaceReaction {
    std::string interface;
    Vec3 force = Vec3::Zero();   ///< N
    Vec3 moment = Vec3::Zero();  ///< about the middle of its face, N mm
};

struct CaseResult {
    std::string name;
    bool combination = false;
    std::vector<Vec3> displacement;       ///< [nodes] mm
    std::vector<elastic::Voigt6> stress;  ///< [nodes] judged, MPa: see elastic::judgedStress()
    std::vector<double> vonMises;         ///< [nodes] of the judged stress, MPa
    std::vector<double> counts;           ///< [nodes] what the strength is held against, MPa
    std::vector<double> recovered;  ///< [nodes] of the recovered stress; only until CheckResult::recovered is made
    Vec3 applied = Vec3::Zero(), reaction = Vec3::Zero();  ///< resultants, N
    Vec3 meant = Vec3::Zero();                             ///< sum of the forces of the part file, N
    /// The same for moments about the global origin, N mm.
    Vec3 appliedMoment = Vec3::Zero(), reactionMoment = Vec3::Zero(), meantMoment = Vec3::Zero();
    std::vector<InterfaceReaction> reactions;
    double equilibriumError = 0, residual = 0, strainEnergy = 0, energyError = 0;
    double maxDisplacement = 0, maxVonMises = 0, maxRawVonMises = 0, minSafetyFactor = 0;
    double maxStress = 0;                             ///< the judged stress that the failure rule compares, MPa
    double maxCounts = 0;                             ///< larger where recovered and judged stress disagree, MPa
    double maxRecoveredStress = 0, maxRawStress = 0;  ///< the same of recovered and integration-point stresses, MPa
    std::int32_t maxNode = -1, maxDisplacementNode = -1;
    int iterations = 0;  ///< of the iterative solver; 0: direct
    /// Whether the applied resultant is the meant one: force within 1e-6 of its size, moment likewise with the part's
    /// size as lever.
    bool appliedAsMeant = true;
    /// Share of the forces on faces that acts where supports hold against it: it never loads the part.
    double intoSupports = 0;
    /// Why the case proves nothing; empty: it loads the part as meant, with results that are numbers.
    std::string problem() const;
};

struct Band {
    double low = 0, high = 0;
};

/// One pass of the level 'converged'.
struct ConvergencePass {
    std::size_t elements = 0, unknowns = 0;
    std::vector<double> minSafetyFactor, maxDisplacement;  ///< [cases]
    double energyError = 0;                                ///< largest of the cases
    double change = 0;  ///< largest relative change of those figures since the pass before; 0 at the first
};

struct CheckResult {
    mesh::TetMesh mesh;
    mesh::Quality quality;
    std::vector<NamedFace> faces;
    double bodyVolume = 0;     ///< of the body that was meshed, mm3; 0: not known
    int droppedPieces = 0;     ///< of the body that the mesh leaves out
    double droppedVolume = 0;  ///< mm3
    std::size_t unknowns = 0;
    std::string solver;
    double solverMemory = 0;  ///< bytes
    double setupSeconds = 0, solveSeconds = 0;
    std::vector<CaseResult> cases;  ///< those that are checked, then the combinations
    assess::Envelope envelope;
    std::vector<double> counts;     ///< [nodes] worst of the cases, MPa
    std::vector<double> recovered;  ///< [nodes] worst of the cases, MPa: smooth, hence where peaks are told apart
    double maxCounts = 0, maxRecoveredStress = 0, maxRawStress = 0;  ///< worst of the cases, MPa
    double minSafetyFactor = 0;                                      ///< by the judged stress
    Band factorBand{};  ///< what the factor may be as far as this mesh tells
    std::string governingCase;
    /// Whether no place could govern at which the two estimates of stress disagree.
    bool isResolved() const { return maxCounts <= envelope.maxStress * (1 + 1e-9); }
    Level level = Level::standard;
    std::vector<float> elementError;  ///< [elements] share of the energy error that an even mesh would have; 1: average
    std::vector<ConvergencePass> passes;
    bool converged = false;                    ///< of the level 'converged'
    std::vector<std::vector<float>> residual;  ///< [iterations + 1][cases]
};

/// @param progress records the curves "residual" and "safety factor"
/// @param original  the design before the optimisation; needed when the recipe checks it, else null
/// @param rebuilt   the solid; needed when the recipe checks it, else null
MeshResult evaluateMesh(const Part& part, const FieldResult& field, const SurfaceResult& surface, const Recipe& recipe,
                        Progress& progress, const surface::TriMesh* original = nullptr,
                        const RebuildResult* rebuilt = nullptr);
CheckResult evaluateCheck(const Part& part, const FieldResult& field, const SurfaceResult& surface,
                          const MeshResult& mesh, const Recipe& recipe, Progress& progress,
                          const surface::TriMesh* original = nullptr, const RebuildResult* rebuilt = nullptr);

/// The body that is checked, with the faces of the interfaces on it.
struct CheckedBody {
    OwnFrame frame;
    std::shared_ptr<const shape::Shape> shape;  ///< in that frame
    std::vector<NamedFace> faces;
};
CheckedBody checkedBody(const Part& part, const FieldResult& field, const SurfaceResult& surface, const Recipe& recipe,
                        const surface::TriMesh* original, const RebuildResult* rebuilt, Progress& progress);

/// What the part's failure rule compares with the strength, MPa.
double ruledStress(const Part& part, const elastic::Voigt6& stress);

/// Spacing that the mesh should have at a place, mm: local sizes and narrow bores. Empty: as everywhere.
std::function<double(const Vec3&)> localSpacing(const Part& part, const Recipe& recipe);
/// The same where members want several elements. Keeps a reference to the surface.
/// @param frame  of the places; the surface is in the global one
std::function<double(const Vec3&)> wallSpacing(const SurfaceResult& surface, const Recipe& recipe,
                                               const OwnFrame& frame);

/// Strain energy density at a node, N/mm2; equivalent (von Mises) strain; strains as engineering shears.
elastic::Voigt6 strainOf(const elastic::Stiffness6& compliance, const elastic::Voigt6& stress);

}  // namespace escultura::stages
