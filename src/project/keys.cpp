#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/digest.hpp"
#include "duty/part_numbers.hpp"
#include "duty/rebuild_text.hpp"
#include "project/project.hpp"

namespace escultura::project {
namespace {

constexpr std::int64_t methodVersion = 6;  // part of every key: raise it when a stage computes something else

}  // namespace

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
            findings.add(requirementKind(r.kind).key).add(r.limit);
    }
    k.findings = findings.hex();
    return k;
}

}  // namespace escultura::project
