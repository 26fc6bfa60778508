#include "project/run.hpp"

#include <algorithm>
#include <chrono>

#include "base/error.hpp"
#include "exchange/body_files.hpp"
#include "project/field_source.hpp"
#include "stages/plausible.hpp"

namespace escultura::project {
namespace {

double secondsSince(std::chrono::steady_clock::time_point start) {
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

}  // namespace

void adoptField(Project& project, std::size_t index, field::DensityField field) {
    project.results->store(canonical(project.part.fields.at(index).source), withDigest(std::move(field)));
}

namespace {
Project opened(Part part, Progress& progress) {
    Project p;
    p.part = std::move(part);
    Variant v;
    v.id = 1;
    v.name = "A";
    if (p.part.fields.empty()) {
        field::DensityField cells;
        cells.spacing = planGrid(p.part).grid.spacing;
        v.recipe = defaultRecipe(p.part, cells);
        v.recipe.field.how = FieldChoice::How::made;
    } else {
        evaluateField(p, v.recipe, progress);
        v.recipe = defaultRecipe(p.part, p.source(0)->field);
    }
    p.variants.push_back(v);
    return p;
}
}  // namespace

std::string runMadeField(const Project& project, const Recipe& recipe, const FieldListener& listener,
                         Progress& progress) {
    const std::string key = project.madeKey(recipe);
    if (project.results->find<MadeField>(key)) return key;
    return storeMadeField(project, recipe, makeField(project.partOf(recipe), listener, progress));
}

std::string storeMadeField(const Project& project, const Recipe& recipe, MadeField made) {
    const std::string key = project.madeKey(recipe);
    made.digest = digestOf(made.field);
    project.results->store(key, std::move(made));
    return key;
}

void makeMissingFields(Project& project, Progress& progress) {
    for (Variant& v : project.variants) {
        if (v.recipe.field.how != FieldChoice::How::made || project.made(v.recipe)) continue;
        v.recipe.field.made = runMadeField(project, v.recipe, {}, progress);
        run(project, v.recipe, Stage::field, progress);
    }
}

Project openPart(const std::string& path, Progress& progress) {
    return opened(readPart(path), progress);
}

Project openPartText(const std::string& text, const std::string& path, Progress& progress) {
    return opened(parsePart(text, path), progress);
}

static std::vector<Timing> runStages(const Project& project, const Recipe& recipe, Stage upTo, Progress& progress);

std::vector<Timing> run(const Project& project, const Recipe& recipe, Stage upTo, Progress& progress) {
    try {
        return runStages(project, recipe, upTo, progress);
    } catch (const InputError& e) {
        ErrorDetail d = e.detail();  // what has no file of its own is the part's
        if (!d.file.empty()) throw;
        d.file = project.part.path;
        throw InputError(d);
    }
}

std::vector<Timing> runStages(const Project& project, const Recipe& recipe, Stage upTo, Progress& progress) {
    const Part& part = project.partOf(recipe);
    std::vector<Timing> timings;
    auto timed = [&](Stage stage, auto&& work) {
        const auto start = std::chrono::steady_clock::now();
        work();
        timings.push_back({name(stage), secondsSince(start)});
    };
    if (!project.field(recipe)) timed(Stage::field, [&] { evaluateField(project, recipe, progress); });
    const auto field = project.field(recipe);
    const StageKeys keys = project.keys(recipe);
    if (upTo == Stage::field) return timings;
    if (!field)
        throw InputError(ErrorDetail{"The density field is not made yet.", part.path, "field",
                                     "a field that was optimised here, or one from a file", "none"});
    if (!part.numberProblem.empty()) throw InputError(part.numberProblem);
    requirePlausible(part, recipe, *field);
    auto surface = project.surface(recipe);
    if (!surface)
        timed(Stage::surface,
              [&] { surface = project.results->store(keys.surface, evaluateSurface(part, *field, recipe, progress)); });
    if (upTo == Stage::surface) return timings;
    const bool judgesProcess = std::any_of(part.requirements.begin(), part.requirements.end(), [](const auto& r) {
        return r.kind == Requirement::Kind::draft || r.kind == Requirement::Kind::overhang;
    });
    if (judgesProcess && !project.process(recipe))
        timed(Stage::surface, [&] { runProcess(project, recipe, progress); });
    auto check = project.check(recipe);
    auto rebuild = project.rebuild(recipe);
    const bool checksRebuilt = recipe.check.rebuilt && !recipe.check.original;
    if (!rebuild && (upTo == Stage::rebuild || (checksRebuilt && !check)))
        timed(Stage::rebuild, [&] {
            runCage(project, recipe, progress);
            rebuild = project.results->store(
                keys.rebuild, evaluateRebuild(part, *field, *surface, *project.cage(recipe), recipe, progress));
        });
    if (upTo == Stage::rebuild) return timings;
    const RebuildResult* solid = checksRebuilt ? rebuild.get() : nullptr;
    if (!check)
        timed(Stage::check, [&] {
            if (recipe.check.original) runOriginal(project, recipe, progress);
            const auto original = project.original(recipe);
            auto mesh = project.mesh(recipe);
            if (!mesh)
                mesh = project.results->store(
                    keys.mesh, evaluateMesh(part, *field, *surface, recipe, progress, original.get(), solid));
            check = project.results->store(
                keys.check, evaluateCheck(part, *field, *surface, *mesh, recipe, progress, original.get(), solid));
        });
    for (const AnalysisChoice& choice : project.missingAnalyses(recipe))
        timed(Stage::check, [&] {
            project.results->store(project.analysisKey(recipe, choice.kind),
                                   runAnalysis({part, *check, recipe.check, choice}, progress));
        });
    if (upTo == Stage::check) return timings;
    if (!project.findings(recipe))
        timed(Stage::findings, [&] {
            const auto process = project.process(recipe);
            project.results->store(keys.findings,
                                   evaluateFindings(part, *surface, *check, recipe, progress, process.get()));
        });
    return timings;
}

void runCage(const Project& project, const Recipe& recipe, Progress& progress, bool withTarget) {
    const auto surface = project.surface(recipe);
    const auto known = project.cage(recipe);
    if (!surface || (known && (known->target || !withTarget))) return;
    project.results->store(project.keys(recipe).cage,
                           evaluateCage(project.partOf(recipe), *project.field(recipe), *surface, recipe, progress));
}

void runOriginal(const Project& project, const Recipe& recipe, Progress& progress) {
    const auto field = project.field(recipe);
    const std::string key = project.keys(recipe).original;
    if (key.empty() || project.original(recipe)) return;
    const Part& part = project.partOf(recipe);
    if (part.original) {
        project.results->store(
            key, exchange::readBody(part.original->path, part.original->lengthUnit, part.original->bodies));
        return;
    }
    // before there is a field the grid that it would be made on tells the sizes
    const Vec3 cell = field ? field->field.spacing : planGrid(part).grid.spacing;
    const Regions regions = field ? field->regions : loadRegions(part, Box3{Vec3::Zero(), Vec3::Ones()});
    project.results->store(key, designSpaceSurface(part, regions, 1.5 * cell.minCoeff(), progress));
}

void runProcess(const Project& project, const Recipe& recipe, Progress& progress) {
    const auto surface = project.surface(recipe);
    if (!surface || project.process(recipe)) return;
    project.results->store(project.keys(recipe).process, evaluateProcess(*surface, recipe, progress));
}

}  // namespace escultura::project
