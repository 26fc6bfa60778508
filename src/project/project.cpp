#include "project/project.hpp"

#include <algorithm>

namespace escultura::project {

const char* name(Stage stage) {
    static const char* names[stageCount] = {"Duty", "Field", "Surface", "Rebuild", "Check", "Findings", "Release"};
    return names[static_cast<int>(stage)];
}

const char* name(Study::Kind kind) {
    static const char* names[] = {"local", "range", "search"};
    return names[static_cast<int>(kind)];
}

std::shared_ptr<const LoadedSource> Project::source(std::size_t field) const {
    return field < part.fields.size() ? results->find<LoadedSource>(canonical(part.fields[field].source)) : nullptr;
}

std::shared_ptr<const MadeField> Project::made(const Recipe& recipe) const {
    return recipe.field.how == FieldChoice::How::made ? results->find<MadeField>(recipe.field.made) : nullptr;
}

const Variant* Project::findVariant(std::int64_t id) const {
    for (const Variant& v : variants)
        if (v.id == id) return &v;
    return nullptr;
}

std::shared_ptr<const FieldResult> Project::field(const Recipe& recipe) const {
    return results->find<FieldResult>(keys(recipe).field);
}
std::shared_ptr<const surface::TriMesh> Project::original(const Recipe& recipe) const {
    return results->find<surface::TriMesh>(keys(recipe).original);
}
std::shared_ptr<const SurfaceResult> Project::surface(const Recipe& recipe) const {
    return results->find<SurfaceResult>(keys(recipe).surface);
}
std::shared_ptr<const ProcessResult> Project::process(const Recipe& recipe) const {
    return results->find<ProcessResult>(keys(recipe).process);
}
std::shared_ptr<const CageResult> Project::cage(const Recipe& recipe) const {
    return results->find<CageResult>(keys(recipe).cage);
}
std::shared_ptr<const RebuildResult> Project::rebuild(const Recipe& recipe) const {
    return results->find<RebuildResult>(keys(recipe).rebuild);
}
std::shared_ptr<const MeshResult> Project::mesh(const Recipe& recipe) const {
    return results->find<MeshResult>(keys(recipe).mesh);
}
std::shared_ptr<const CheckResult> Project::check(const Recipe& recipe) const {
    return results->find<CheckResult>(keys(recipe).check);
}
std::shared_ptr<const FindingsResult> Project::findings(const Recipe& recipe) const {
    return results->find<FindingsResult>(keys(recipe).findings);
}

std::shared_ptr<const AnalysisResult> Project::analysis(const Recipe& recipe, const std::string& kind) const {
    return results->find<AnalysisResult>(analysisKey(recipe, kind));
}
std::vector<AnalysisChoice> Project::missingAnalyses(const Recipe& recipe) const {
    std::vector<AnalysisChoice> missing = askedAnalyses(partOf(recipe), recipe);
    std::erase_if(missing, [&](const AnalysisChoice& c) { return analysis(recipe, c.kind) != nullptr; });
    return missing;
}

Variant& addVariant(Project& project, std::size_t from) {
    Variant v = project.variants.at(from);
    v.id = 0;
    for (const Variant& other : project.variants) v.id = std::max(v.id, other.id);
    ++v.id;
    const std::size_t count = project.variants.size();
    auto taken = [&](const std::string& name) {
        return std::any_of(project.variants.begin(), project.variants.end(),
                           [&](const Variant& other) { return other.name == name; });
    };
    for (int n = 0;; ++n) {
        v.name = std::string(1, static_cast<char>('A' + n % 26)) + (n >= 26 ? std::to_string(n / 26) : "");
        if (!taken(v.name)) break;
    }
    v.origin = {};
    v.archived = false;
    v.from = project.variants[from].id;
    project.variants.push_back(std::move(v));
    project.open = count;
    return project.variants.back();
}

void moveVariant(Project& project, std::size_t variant, int places) {
    const std::int64_t open = project.current().id, base = project.variants.at(project.baseline).id;
    const auto last = static_cast<std::ptrdiff_t>(project.variants.size()) - 1;
    const auto to = std::clamp<std::ptrdiff_t>(static_cast<std::ptrdiff_t>(variant) + places, 0, last);
    Variant moved = std::move(project.variants.at(variant));
    project.variants.erase(project.variants.begin() + static_cast<std::ptrdiff_t>(variant));
    project.variants.insert(project.variants.begin() + to, std::move(moved));
    for (std::size_t i = 0; i < project.variants.size(); ++i) {
        if (project.variants[i].id == open) project.open = i;
        if (project.variants[i].id == base) project.baseline = i;
    }
}

Variant& addOriginal(Project& project) {
    Variant& v = addVariant(project, project.open);
    v.name = "Original";
    v.recipe.check.original = true;
    v.recipe.check.rebuilt = false;
    project.baseline = project.open;
    return v;
}

}  // namespace escultura::project
