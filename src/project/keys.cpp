#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/digest.hpp"
#include "duty/part_numbers.hpp"
#include "duty/rebuild_text.hpp"
#include "project/field_source.hpp"

namespace escultura::project {
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

namespace {

std::int64_t integer(auto value) {
    return static_cast<std::int64_t>(value);
}

void addVector(Digest& digest, const Vec3& v) {
    for (int a = 0; a < 3; ++a) digest.add(v[a]);
}

std::string surfaceKey(const Part& part, const Recipe& recipe, const StageKeys& k) {
    Digest surface;
    surface.add("surface, rolling balls")
        .add(k.field)
        .add(part.material.density)
        .add(recipe.threshold)
        .add(recipe.smoothing);
    surface.add(recipe.surfaceSpacing).add(integer(recipe.largestPieceOnly));
    if (!recipe.largestPieceOnly) surface.add(recipe.smallestIsland);
    if (recipe.keepMembers) surface.add("members kept by the raw field's cubic convolution");
    if (recipe.edgeError > 0) surface.add("edge error").add(recipe.edgeError);
    if (recipe.thin != ThinMembers{}) {
        surface.add("thin members").add(recipe.thin.smallest).add(integer(recipe.thin.others));
        for (const MemberDecision& d : recipe.thin.decisions) {
            addVector(surface, d.at);
            surface.add(integer(d.fate));
        }
    }
    if (recipe.edges != DesignEdges{}) {
        surface.add("edges").add(recipe.edges.radius);
        for (const double radius : recipe.edges.side) surface.add(radius);
    }
    surface.add(integer(recipe.triangles));
    if (recipe.triangles == Triangles::budget) surface.add(integer(recipe.triangleBudget));
    surface.add(integer(recipe.draft.add));
    if (recipe.draft.add) {
        addVector(surface, recipe.draft.pull);
        surface.add(recipe.draft.parting).add(recipe.draft.angle);
    }
    for (const Thickening& t : recipe.thickenings) surface.add(thickeningJson(t).dump());
    return surface.hex();
}

std::string originalKey(const Part& part, const StageKeys& k) {
    Digest original;
    original.add("original").add(part.geometryText);
    if (part.original)
        original.add(part.original->path).add(part.original->lengthUnit).add(fileState(part.original->path));
    else
        original.add(k.field);
    return original.hex();
}

std::string processKey(const Recipe& recipe, const StageKeys& k) {
    Digest process;
    process.add("process").add(k.surface).add(recipe.draft.parting).add(recipe.draft.angle);
    process.add(recipe.printing.overhang);
    for (int a = 0; a < 3; ++a) process.add(recipe.draft.pull[a]).add(recipe.printing.up[a]);
    return process.hex();
}

std::string cageKey(const Rebuild& made, const StageKeys& k) {
    Digest cage;
    cage.add("cage, fewest faces").add(k.surface).add(made.faceSize).add(integer(made.faceCount));
    cage.add(integer(made.adapt));
    if (made.tolerance > 0) cage.add("tolerance").add(made.tolerance);
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
    return cage.hex();
}

std::string rebuildKey(const Rebuild& made, const StageKeys& k) {
    Digest rebuild;
    rebuild.add("rebuild").add(k.cage).add(integer(made.ownFeatures));
    for (const solid::Feature& f : made.features) {
        rebuild.add(featureJson(f).dump());
        if (!f.path.empty()) rebuild.add(fileState(f.path));
    }
    return rebuild.hex();
}

std::string meshKey(const Recipe& recipe, const StageKeys& k) {
    const CheckChoice& how = recipe.check;
    Digest mesh;
    mesh.add("mesh").add(how.rebuilt && !how.original ? k.rebuild : k.surface).add(recipe.elementSize);
    mesh.add(integer(how.level == Level::look));
    mesh.add(integer(how.elementsThrough)).add(integer(how.original));
    if (how.elementsThrough > 1) mesh.add("lattice without tetrahedra turned over");
    if (how.aroundCircle > 0) mesh.add("around").add(integer(how.aroundCircle));
    if (how.chordError > 0) mesh.add("chord").add(how.chordError);
    if (how.original) mesh.add(k.original);
    for (const LocalSize& s : how.localSizes) {
        mesh.add(name(s.kind)).add(s.interface).add(s.radius).add(s.size);
        for (int a = 0; a < 3; ++a) mesh.add(s.low[a]).add(s.high[a]).add(s.centre[a]);
    }
    return mesh.hex();
}

std::string checkKey(const Part& part, const CheckChoice& how, const StageKeys& k) {
    Digest check;
    check.add("check").add(k.mesh).add(part.dutyText).add(integer(how.level));
    check.add(integer(how.method)).add(how.tolerance);
    if (how.level == Level::converged) check.add(how.convergence).add(integer(how.passes));
    return check.hex();
}

std::string findingsKey(const Part& part, const Recipe& recipe, const StageKeys& k) {
    Digest findings;
    findings.add("findings 2").add(k.check).add(recipe.hotspotShare).add(allowableStress(part));
    for (const Requirement& r : part.requirements) {  // what warnings are measured against
        if (r.kind == Requirement::Kind::draft) findings.add(k.process);
        if (r.kind == Requirement::Kind::minimumWall || r.kind == Requirement::Kind::deviation)
            findings.add(requirementKind(r).key).add(r.limit);
    }
    return findings.hex();
}

}  // namespace

std::string Project::analysisKey(const Recipe& recipe, const std::string& kind) const {
    const std::string check = keys(recipe).check;
    const AnalysisKind* described = findAnalysis(kind);
    if (check.empty() || !described) return {};
    const AnalysisChoice choice = choiceOf(recipe, kind);
    Digest digest;
    digest.add("analysis").add(kind).add(integer(described->version)).add(check);
    for (const AnalysisNumber& n : described->numbers) digest.add(n.key).add(choice.number(n.key));
    return digest.hex();
}

std::string Project::madeKey(const Recipe& recipe) const {
    const Part& part = partOf(recipe);
    Digest made;
    made.add("made field").add(methodVersion).add(part.geometryText).add(part.dutyText).add(part.optimisationText);
    addBodies(made, part);
    return made.hex();
}

StageKeys Project::keys(const Recipe& recipe) const {
    const Part& part = partOf(recipe);
    StageKeys k;
    k.field = fieldKey(*this, part, recipe);
    if (part.original || !k.field.empty() || recipe.field.how == FieldChoice::How::made)
        k.original = originalKey(part, k);
    if (k.field.empty()) return k;
    k.surface = surfaceKey(part, recipe, k);
    k.process = processKey(recipe, k);
    k.cage = cageKey(recipe.rebuild, k);
    k.rebuild = rebuildKey(recipe.rebuild, k);
    k.mesh = meshKey(recipe, k);
    k.check = checkKey(part, recipe.check, k);
    k.findings = findingsKey(part, recipe, k);
    return k;
}

}  // namespace escultura::project
