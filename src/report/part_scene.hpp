/// @file report/part_scene.hpp
/// Scenes made from a project's results: what the view and the report show.

#pragma once
#include <memory>

#include "project/project.hpp"
#include "render/scene.hpp"
#include "stages/quantities.hpp"

namespace escultura::report {

enum class Show {
    duty,
    field,
    surface,
    deviation,
    check,
    thickness,
    draft,
    overhang,
    comparison,
    original,
    mesh,
    cage,
    cageDeviation,
    solid,
    analysis,
    curvature
};
using stages::Quantity;

struct SceneOptions {
    Show show = Show::surface;
    int loadCase = -1;  ///< index into the check's cases (duty: the part's); -1: envelope (duty: all)
    Quantity quantity = Quantity::vonMises;
    std::string analysis;        ///< AnalysisKind::key of the one whose shapes are shown
    int shapeIndex = 0;          ///< index into its shapes
    std::string unit;            ///< of the quantity; empty: the usual one
    std::string frame;           ///< of components; empty: global
    double deformation = 0;      ///< factor on the displacements; 0: undeformed
    double phase = 1;            ///< of an animation: share of the deformation, -1 to 1
    bool undeformed = false;     ///< also a ghost of the undeformed shape
    std::optional<double> only;  ///< only where the quantity is worse than this, in the shown unit
    enum class Vectors { none, displacement, principal } vectors = Vectors::none;
    bool meshLines = false;           ///< edges of the elements
    bool bothFlags = false;           ///< mark the least harmful extreme as well
    int poorElement = -1;             ///< mesh: index of the poor element to point at
    std::optional<double> low, high;  ///< clamped range of the colours
    int bands = 0;
    bool loads = true;            ///< arrows, rings and their words
    bool outline = true;          ///< machined edges and the design space's box
    std::string selectedFinding;  ///< id of a finding to point at
    bool isolate = false;         ///< ghosts all but the neighbourhood of the selected finding, which shows its mesh
    bool fieldAsSurface = false;  ///< field: the raw iso-surface instead of the cells
    int compareWith = -1;         ///< comparison: index of the other variant
    enum class Beside { nothing, ghost, outline } original = Beside::nothing;  ///< the original design, drawn as well
    bool fieldGhost = false;                                                   ///< the raw iso-surface, drawn as well
    render::Scene::Section section;
    std::optional<std::pair<Vec3, std::string>> mark;  ///< a place that a figure leads to, and its words
    std::string selectedFeature;                       ///< solid: a feature to point at
    std::string handle;                                ///< interface that is edited: its frame is drawn
    bool operator==(const SceneOptions&) const = default;
};

/// Results to show; those that the view needs may be out of date, but not null.
struct SceneInputs {
    const stages::SurfaceResult* surface = nullptr;
    const stages::CheckResult* check = nullptr;
    const stages::FindingsResult* findings = nullptr;
    const stages::ProcessResult* process = nullptr;
    const surface::TriMesh* original = nullptr;
    const stages::CageResult* cage = nullptr;
    const stages::RebuildResult* rebuild = nullptr;
    const std::vector<double>* baseline = nullptr;  ///< the shown quantity of another variant, sampled on the check's
                                                    ///< boundary, internal units: the difference is shown
    std::string baselineName{};
    const surface::TriMesh* beside = nullptr;  ///< another variant's surface, drawn as a ghost
    const std::vector<char>* zone =
        nullptr;  ///< [nodes of the check] marked: what accepting the chosen finding leaves out
    const stages::AnalysisResult* analysis = nullptr;  ///< of the check
    const stages::FieldResult* drawn = nullptr;        ///< drawn in place of the field: the same in fewer cells
};

/// Factor that makes the largest displacement 5 % of the part's diagonal, rounded to 1, 2 or 5 times a power of ten.
double automaticDeformation(const stages::CheckResult& check, int loadCase);

std::shared_ptr<const render::Scene> makeScene(const project::Project& project, const duty::Recipe& recipe,
                                               const SceneOptions& options, const SceneInputs& inputs);

/// Two variants' fields at their thresholds. @throws InputError when one is not loaded
field::Comparison compareFields(const project::Project& project, const duty::Recipe& first, const duty::Recipe& second);

/// A field that is being made: its cells at or above a threshold, and the part's interfaces.
std::shared_ptr<const render::Scene> growingScene(const duty::Part& part, const field::DensityField& field,
                                                  double threshold);

}  // namespace escultura::report
