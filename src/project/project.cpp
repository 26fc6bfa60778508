#include "project/project.hpp"

#include <chrono>
#include <cmath>
#include <nlohmann/json.hpp>

#include "base/digest.hpp"
#include "base/error.hpp"
#include "base/quantity.hpp"
#include "exchange/body_files.hpp"
#include "project/part_numbers.hpp"
#include "project/plausible.hpp"
#include "project/rebuild_text.hpp"

namespace escultura::project {
namespace {

constexpr std::int64_t methodVersion = 6;  // part of every key: raise it when a stage computes something else

double secondsSince(std::chrono::steady_clock::time_point start) {
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

}  // namespace

const char* name(Stage stage) {
    static const char* names[stageCount] = {"Duty", "Field", "Surface", "Rebuild", "Check", "Findings", "Release"};
    return names[static_cast<int>(stage)];
}

std::shared_ptr<const LoadedSource> Project::source(std::size_t field) const {
    return field < part.fields.size() ? results->find<LoadedSource>(canonical(part.fields[field].source)) : nullptr;
}

const Part& Project::partOf(const Recipe& recipe) const {
    if (recipe.numbers.empty()) return part;
    Digest digest;
    digest.add("part").add(part.text).add(part.path);
    for (const PartNumber& n : recipe.numbers) digest.add(n.place).add(n.value);
    const std::string key = digest.hex();
    if (const auto known = results->find<Part>(key)) return *known;
    Part own;
    try {
        own = withNumbers(part, recipe.numbers);
    } catch (const std::exception& e) {
        own = part;
        own.numberProblem = e.what();
    }
    return *results->store(key, std::move(own));
}

const Variant* Project::findVariant(std::int64_t id) const {
    for (const Variant& v : variants)
        if (v.id == id) return &v;
    return nullptr;
}

StageKeys Project::keys(const Recipe& recipe) const {
    StageKeys k;
    const Part& part = partOf(recipe);
    Digest field, surface, check, findings;
    field.add("field").add(methodVersion).add(part.geometryText).add(part.numberProblem);
    // the contents of bodies, not only their names: another program may have written them anew
    if (part.designBody) field.add(fileState(part.designBody->path));
    for (const KeepOut& k : part.keepOuts)
        if (!k.body.path.empty()) field.add(fileState(k.body.path));
    const FieldChoice& choice = recipe.field;
    if (choice.how == FieldChoice::How::one) {
        const auto s = source(static_cast<std::size_t>(std::max(choice.which, 0)));
        if (!s) return k;
        field.add(s->digest);
    } else {
        field.add(static_cast<std::int64_t>(choice.how));
        for (std::size_t f = 0; f < part.fields.size(); ++f) {
            const auto s = source(f);
            if (!s) return k;
            field.add(s->digest);
            if (choice.how == FieldChoice::How::weightedSum)
                field.add(f < choice.weights.size() ? choice.weights[f] : 1.0);
        }
    }
    k.field = field.hex();
    surface.add("surface").add(k.field).add(part.material.density).add(recipe.threshold).add(recipe.smoothing);
    surface.add(recipe.surfaceSpacing).add(static_cast<std::int64_t>(recipe.largestPieceOnly));
    if (!recipe.largestPieceOnly) surface.add(recipe.smallestIsland);
    surface.add(static_cast<std::int64_t>(recipe.triangles));
    if (recipe.triangles == Triangles::budget) surface.add(static_cast<std::int64_t>(recipe.triangleBudget));
    surface.add(static_cast<std::int64_t>(recipe.draft.add));
    if (recipe.draft.add) {
        for (int a = 0; a < 3; ++a) surface.add(recipe.draft.pull[a]);
        surface.add(recipe.draft.parting).add(recipe.draft.angle);
    }
    for (const Thickening& t : recipe.thickenings) surface.add(thickeningJson(t).dump());
    k.surface = surface.hex();
    Digest original;
    original.add("original").add(part.geometryText);
    if (part.original)
        original.add(part.original->path).add(part.original->lengthUnit).add(fileState(part.original->path));
    else
        original.add(k.field);
    k.original = original.hex();
    Digest process;
    process.add("process")
        .add(k.surface)
        .add(recipe.draft.parting)
        .add(recipe.draft.angle)
        .add(recipe.printing.overhang);
    for (int a = 0; a < 3; ++a) process.add(recipe.draft.pull[a]).add(recipe.printing.up[a]);
    k.process = process.hex();
    Digest cage, rebuild;
    const Rebuild& made = recipe.rebuild;
    cage.add("cage").add(k.surface).add(made.faceSize).add(static_cast<std::int64_t>(made.faceCount));
    cage.add(static_cast<std::int64_t>(made.adapt));
    for (const CageStep& step : made.steps) {
        if (!step.on) continue;
        nlohmann::json text = stepJson(step, false);
        text.erase("name");  // another name is the same cage
        cage.add(text.dump());
    }
    for (const solid::Feature& f : made.features)
        if (isBlendedInCage(f)) {
            cage.add(featureJson(f).dump());
            if (!f.path.empty()) cage.add(fileState(f.path));
        }
    k.cage = cage.hex();
    rebuild.add("rebuild").add(k.cage).add(static_cast<std::int64_t>(made.ownFeatures));
    for (const solid::Feature& f : made.features) {
        rebuild.add(featureJson(f).dump());
        if (!f.path.empty()) rebuild.add(fileState(f.path));
    }
    k.rebuild = rebuild.hex();
    const CheckChoice& how = recipe.check;
    Digest mesh;
    mesh.add("mesh")
        .add(how.rebuilt && !how.original ? k.rebuild : k.surface)
        .add(recipe.elementSize)
        .add(static_cast<std::int64_t>(how.level == Level::look));
    mesh.add(static_cast<std::int64_t>(how.elementsThrough)).add(static_cast<std::int64_t>(how.original));
    if (how.original) mesh.add(k.original);
    for (const LocalSize& s : how.localSizes) {
        mesh.add(name(s.kind)).add(s.interface).add(s.radius).add(s.size);
        for (int a = 0; a < 3; ++a) mesh.add(s.low[a]).add(s.high[a]).add(s.centre[a]);
    }
    k.mesh = mesh.hex();
    check.add("check").add(k.mesh).add(part.dutyText).add(static_cast<std::int64_t>(how.level));
    check.add(static_cast<std::int64_t>(how.method)).add(how.tolerance);
    if (how.level == Level::converged) check.add(how.convergence).add(static_cast<std::int64_t>(how.passes));
    k.check = check.hex();
    findings.add("findings").add(k.check).add(recipe.hotspotShare).add(allowableStress(part));
    for (const Requirement& r : part.requirements) {  // what warnings are measured against
        if (r.kind == Requirement::Kind::draft) findings.add(k.process);
        if (r.kind == Requirement::Kind::minimumWall || r.kind == Requirement::Kind::deviation)
            findings.add(key(r.kind)).add(r.limit);
    }
    k.findings = findings.hex();
    return k;
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

namespace {
LoadedSource withDigest(field::DensityField field) {
    Digest digest;
    for (int a = 0; a < 3; ++a)
        digest.add(static_cast<std::int64_t>(field.cells[a])).add(field.origin[a]).add(field.spacing[a]);
    LoadedSource s;
    s.digest = digest.add(std::span<const float>(field.density)).hex();
    s.field = std::move(field);
    return s;
}

void evaluateField(const Project& project, const Recipe& recipe, Progress& progress) {
    const Part& part = project.partOf(recipe);
    std::vector<std::shared_ptr<const LoadedSource>> sources;
    std::vector<const field::DensityField*> fields;
    for (std::size_t f = 0; f < part.fields.size(); ++f) {
        auto s = project.source(f);
        if (!s)
            s = project.results->store(canonical(part.fields[f].source),
                                       withDigest(loadField(part, part.fields[f], progress)));
        sources.push_back(s);
        fields.push_back(&s->field);
    }
    FieldResult r = prepareField(part, chosenField(recipe.field, fields), progress);
    project.results->store(project.keys(recipe).field, std::move(r));
}
}  // namespace

void adoptField(Project& project, std::size_t index, field::DensityField field) {
    project.results->store(canonical(project.part.fields.at(index).source), withDigest(std::move(field)));
}

Project openPart(const std::string& path, Progress& progress) {
    Project p;
    p.part = readPart(path);
    Variant v;
    v.id = 1;
    v.name = "A";
    evaluateField(p, v.recipe, progress);
    v.recipe = defaultRecipe(p.part, p.source(0)->field);
    p.variants.push_back(v);
    return p;
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
    if (!field || project.original(recipe)) return;
    const Part& part = project.partOf(recipe);
    project.results->store(project.keys(recipe).original,
                           part.original
                               ? exchange::readBody(part.original->path, part.original->lengthUnit)
                               : designSpaceSurface(part, *field, 1.5 * field->field.spacing.minCoeff(), progress));
}

void runProcess(const Project& project, const Recipe& recipe, Progress& progress) {
    const auto surface = project.surface(recipe);
    if (!surface || project.process(recipe)) return;
    project.results->store(project.keys(recipe).process, evaluateProcess(*surface, recipe, progress));
}

}  // namespace escultura::project
