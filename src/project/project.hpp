/// @file project/project.hpp
/// A project: a part, its variants, and what is known about them. Results are cached under the hash of what they came
/// from, so that whatever a change touches is out of date at once, and undo brings the old results back.

#pragma once
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "project/records.hpp"
#include "project/results.hpp"

namespace escultura::project {

enum class Stage { duty, field, surface, rebuild, check, findings, release };
inline constexpr int stageCount = 7;
const char* name(Stage stage);

/// One recipe with what the engineer says about it.
struct Variant {
    std::int64_t id = 0;
    std::string name;
    Recipe recipe;
    std::map<int, std::string> reasons;  ///< by stage
    std::vector<Disposition> dispositions;
    Origin origin{};        ///< the proposal that it was made from
    bool archived = false;  ///< kept, but not on the shelf
    std::int64_t from = 0;  ///< id of the variant that it was copied from; 0: none
    bool operator==(const Variant&) const = default;
};

/// Keys of the results that a recipe asks for.
struct StageKeys {
    std::string field, original, surface, process, cage, rebuild, mesh, check, findings;
};

/// A camera that is kept under a name.
struct NamedView {
    std::string name;
    Vec3 focus = Vec3::Zero(), direction = -Vec3::UnitX(), up = Vec3::UnitZ();
    double height = 100;  ///< visible height, mm
    bool operator==(const NamedView&) const = default;
};

struct Project {
    Part part;
    std::vector<Variant> variants;
    std::vector<NamedView> views;
    std::size_t open = 0;      ///< index of the open variant
    std::size_t baseline = 0;  ///< index of the one that others are compared with
    std::vector<Study> studies;
    std::vector<Release> releases;
    std::vector<HistoryEntry> history;  ///< oldest first
    std::shared_ptr<Results> results = std::make_shared<Results>();

    /// The part with the numbers that a recipe has otherwise. The reference holds as long as the project and its part.
    /// Where they make no part it is the part without them, with Part::numberProblem: nothing is run on it, and nothing
    /// released.
    const Part& partOf(const Recipe& recipe) const;
    /// Empty keys when a field is not loaded that the recipe is made from.
    StageKeys keys(const Recipe& recipe) const;
    /// One of the part's fields as read; null: not loaded.
    std::shared_ptr<const LoadedSource> source(std::size_t field) const;
    /// Key of the field that the part's duty makes now; a recipe whose FieldChoice::made is another has one made for
    /// other loads, supports or rules.
    std::string madeKey(const Recipe& recipe) const;
    /// The made field that a recipe is made from; null: it is from files, or not made yet.
    std::shared_ptr<const MadeField> made(const Recipe& recipe) const;
    std::shared_ptr<const FieldResult> field(const Recipe& recipe) const;
    /// Of the open variant.
    std::shared_ptr<const FieldResult> field() const { return field(current().recipe); }
    /// The part before the optimisation; null until runOriginal().
    std::shared_ptr<const surface::TriMesh> original(const Recipe& recipe) const;
    std::shared_ptr<const SurfaceResult> surface(const Recipe& recipe) const;
    std::shared_ptr<const ProcessResult> process(const Recipe& recipe) const;
    std::shared_ptr<const CageResult> cage(const Recipe& recipe) const;
    std::shared_ptr<const RebuildResult> rebuild(const Recipe& recipe) const;
    /// The mesh that a check starts from; kept while only loads, supports or material change.
    std::shared_ptr<const MeshResult> mesh(const Recipe& recipe) const;
    std::shared_ptr<const CheckResult> check(const Recipe& recipe) const;
    std::shared_ptr<const FindingsResult> findings(const Recipe& recipe) const;
    /// Key of what a further analysis finds; empty without a field. @param kind  AnalysisKind::key
    std::string analysisKey(const Recipe& recipe, const std::string& kind) const;
    /// Null: not worked out for the recipe as it is.
    std::shared_ptr<const AnalysisResult> analysis(const Recipe& recipe, const std::string& kind) const;
    /// What the recipe and the requirements ask for and is not worked out.
    std::vector<AnalysisChoice> missingAnalyses(const Recipe& recipe) const;
    const Variant& current() const { return variants.at(open); }
    /// Null: none of that id.
    const Variant* findVariant(std::int64_t id) const;
};

/// Adds a copy of a variant under the next free letter and opens it. Its dispositions come along and hold where nothing
/// changes.
Variant& addVariant(Project& project, std::size_t from);

/// Moves a variant along the shelf; which one is open and which the baseline stays.
void moveVariant(Project& project, std::size_t variant, int places);

/// Adds the design before the optimisation as a variant of its own, makes it the baseline and opens it.
Variant& addOriginal(Project& project);

}  // namespace escultura::project
