#include "project/project.hpp"

#include <sys/resource.h>

#include <chrono>
#include <cmath>
#include <limits>
#include <nlohmann/json.hpp>

#include "base/digest.hpp"
#include "base/error.hpp"
#include "base/quantity.hpp"

namespace escultura::project {
namespace {

constexpr std::int64_t methodVersion = 1;  // part of every key: raise it when a stage computes something else

double secondsSince(std::chrono::steady_clock::time_point start) {
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

}  // namespace

const char* name(Stage stage) {
    static const char* names[stageCount] = {"Duty", "Field", "Surface", "Rebuild", "Check", "Findings", "Release"};
    return names[static_cast<int>(stage)];
}

StageKeys Project::keys(const Recipe& recipe) const {
    StageKeys k;
    Digest field, surface, check, findings;
    k.field = field.add("field").add(methodVersion).add(fieldDigest).add(part.geometryText).hex();
    k.surface = surface.add("surface")
                    .add(k.field)
                    .add(part.material.density)
                    .add(recipe.threshold)
                    .add(recipe.smoothing)
                    .add(recipe.surfaceSpacing)
                    .hex();
    k.check = check.add("check").add(k.surface).add(part.dutyText).add(recipe.elementSize).hex();
    double required = 1;
    for (const Requirement& r : part.requirements)
        if (r.kind == Requirement::Kind::safetyFactor) required = std::max(required, r.limit);
    k.findings = findings.add("findings").add(k.check).add(recipe.hotspotShare).add(required).hex();
    return k;
}

std::shared_ptr<const FieldResult> Project::field() const {
    return results->find<FieldResult>(keys({}).field);
}
std::shared_ptr<const SurfaceResult> Project::surface(const Recipe& recipe) const {
    return results->find<SurfaceResult>(keys(recipe).surface);
}
std::shared_ptr<const CheckResult> Project::check(const Recipe& recipe) const {
    return results->find<CheckResult>(keys(recipe).check);
}
std::shared_ptr<const FindingsResult> Project::findings(const Recipe& recipe) const {
    return results->find<FindingsResult>(keys(recipe).findings);
}

Project openPart(const std::string& path, Progress& progress) {
    Project p;
    p.part = readPart(path);
    FieldResult field = evaluateField(p.part, progress);
    Digest digest;
    for (int a = 0; a < 3; ++a)
        digest.add(static_cast<std::int64_t>(field.field.cells[a]))
            .add(field.field.origin[a])
            .add(field.field.spacing[a]);
    p.fieldDigest = digest.add(std::span<const float>(field.field.density)).hex();
    Variant v;
    v.id = 1;
    v.name = "A";
    v.recipe = defaultRecipe(p.part, field.field);
    p.variants.push_back(v);
    p.results->store(p.keys({}).field, std::move(field));
    return p;
}

std::vector<Timing> run(const Project& project, const Recipe& recipe, Stage upTo, Progress& progress) {
    const StageKeys keys = project.keys(recipe);
    const auto field = project.field();
    if (!field) throw Error("The density field is not loaded.");
    std::vector<Timing> timings;
    auto timed = [&](Stage stage, auto&& work) {
        const auto start = std::chrono::steady_clock::now();
        work();
        timings.push_back({name(stage), secondsSince(start)});
    };
    auto surface = project.surface(recipe);
    if (!surface)
        timed(Stage::surface, [&] {
            surface = project.results->store(keys.surface, evaluateSurface(project.part, *field, recipe, progress));
        });
    if (upTo == Stage::surface) return timings;
    auto check = project.check(recipe);
    if (!check)
        timed(Stage::check, [&] {
            check = project.results->store(keys.check, evaluateCheck(project.part, *field, *surface, recipe, progress));
        });
    if (upTo == Stage::check) return timings;
    if (!project.findings(recipe))
        timed(Stage::findings,
              [&] { project.results->store(keys.findings, evaluateFindings(project.part, *check, recipe, progress)); });
    return timings;
}

const char* word(RequirementState::State state) {
    switch (state) {
        case RequirementState::State::met:
            return "met";
        case RequirementState::State::notMet:
            return "not met";
        case RequirementState::State::unknown:
            return "not yet known";
        case RequirementState::State::outOfDate:
            return "out of date";
    }
    return "";
}

std::vector<RequirementState> requirementStates(const Project& project, const Recipe& recipe,
                                                const SurfaceResult* lastSurface, const CheckResult* lastCheck) {
    const auto surface = project.surface(recipe);
    const auto check = project.check(recipe);
    std::vector<RequirementState> states;
    for (const Requirement& r : project.part.requirements) {
        RequirementState s;
        s.name = name(r.kind);
        s.unit = unit(r.kind);
        s.source = r.source;
        s.limit = r.limit;
        s.atLeast = r.kind == Requirement::Kind::safetyFactor;
        s.value = std::numeric_limits<double>::quiet_NaN();
        const bool fresh = r.kind == Requirement::Kind::mass ? surface != nullptr : check != nullptr;
        const SurfaceResult* onSurface = surface ? surface.get() : lastSurface;
        const CheckResult* onCheck = check ? check.get() : lastCheck;
        if (r.kind == Requirement::Kind::mass && onSurface)
            s.value = onSurface->measures.volume * project.part.material.density;
        if (r.kind == Requirement::Kind::safetyFactor && onCheck) s.value = onCheck->minSafetyFactor;
        if (r.kind == Requirement::Kind::displacement && onCheck) {
            s.value = 0;
            for (const CaseResult& c : onCheck->cases) s.value = std::max(s.value, c.maxDisplacement);
        }
        if (std::isnan(s.value))
            s.state = RequirementState::State::unknown;
        else if (!fresh)
            s.state = RequirementState::State::outOfDate;
        else
            s.state = (s.atLeast ? s.value >= r.limit : s.value <= r.limit) ? RequirementState::State::met
                                                                            : RequirementState::State::notMet;
        // a check that is out of balance proves nothing
        if (s.state == RequirementState::State::met && r.kind != Requirement::Kind::mass)
            for (const CaseResult& c : onCheck->cases)
                if (!(c.equilibriumError <= 1e-6)) s.state = RequirementState::State::notMet;
        states.push_back(s);
    }
    return states;
}

const Disposition* dispositionOf(const Project& project, const Variant& variant, const std::string& finding) {
    const std::string key = project.keys(variant.recipe).findings;
    for (const Disposition& d : variant.dispositions)
        if (d.findingsKey == key && d.finding == finding) return &d;
    return nullptr;
}

std::vector<std::string> releaseBlockers(const Project& project, const Variant& variant) {
    std::vector<std::string> blockers;
    if (!project.surface(variant.recipe)) blockers.push_back("Surface is out of date or not built yet.");
    const auto check = project.check(variant.recipe);
    if (!check) blockers.push_back("Check is out of date or has not run yet.");
    if (project.part.requirements.empty()) blockers.push_back("The part states no requirement.");
    for (const RequirementState& s : requirementStates(project, variant.recipe, nullptr, nullptr)) {
        if (s.state != RequirementState::State::notMet) continue;
        blockers.push_back("Requirement not met: " + s.name + (s.atLeast ? " at least " : " at most ") +
                           formatNumber(s.limit) + (s.unit.empty() ? "" : " " + s.unit) + ", found " +
                           formatNumber(s.value) + (s.unit.empty() ? "" : " " + s.unit) + ".");
    }
    if (check)
        for (const CaseResult& c : check->cases) {
            if (!(c.equilibriumError <= 1e-6)) blockers.push_back("Load case '" + c.name + "' is not in equilibrium.");
            if ((c.applied - c.meant).norm() > 1e-6 * std::max(1.0, c.meant.norm()))
                blockers.push_back("Load case '" + c.name + "' does not apply the load that is meant.");
        }
    if (const auto findings = project.findings(variant.recipe)) {
        for (const Finding& f : findings->findings) {
            const Disposition* d = dispositionOf(project, variant, f.id);
            if (!d)
                blockers.push_back("Finding " + f.id + " has no disposition.");
            else if (d->decision == "fix")
                blockers.push_back("Finding " + f.id + " is to be fixed.");
        }
    } else {
        blockers.push_back("Findings are out of date or not looked for yet.");
    }
    return blockers;
}

std::string summaryJson(const Project& project, const Variant& variant, const std::vector<Timing>& timings) {
    using nlohmann::json;
    auto vec = [](const Vec3& v) { return json::array({v[0], v[1], v[2]}); };
    json j;
    j["format"] = "escultura-summary";
    j["version"] = 1;
    j["part"] = project.part.name;
    j["variant"] = variant.name;
    j["recipe"] = {{"threshold", variant.recipe.threshold},
                   {"smoothing_mm", variant.recipe.smoothing},
                   {"surface_spacing_mm", variant.recipe.surfaceSpacing},
                   {"element_size_mm", variant.recipe.elementSize},
                   {"hotspot_share", variant.recipe.hotspotShare}};
    const auto field = project.field();
    if (field) {
        const ThresholdFigures t = thresholdFigures(project.part, *field, variant.recipe.threshold);
        j["field"] = {{"cells", field->field.count()},
                      {"threshold", t.threshold},
                      {"share_kept", t.share},
                      {"volume_kept_mm3", t.volume},
                      {"mass_kept_kg", t.mass},
                      {"pieces", t.pieces},
                      {"connected_interfaces", t.connected},
                      {"cut_off_interfaces", t.cutOff},
                      {"largest_connecting_threshold", field->largestConnectingThreshold}};
    }
    if (const auto s = project.surface(variant.recipe)) {
        j["surface"] = {{"triangles", s->mesh.triangle.size()},
                        {"volume_mm3", s->measures.volume},
                        {"asked_volume_mm3", s->askedVolume},
                        {"area_mm2", s->measures.area},
                        {"mass_kg", s->measures.volume * project.part.material.density},
                        {"centre_of_gravity_mm", vec(s->measures.centroid)},
                        {"pieces", s->measures.pieces},
                        {"genus", s->measures.genus},
                        {"watertight", s->measures.watertight},
                        {"deviation_rms_mm", s->deviationRms},
                        {"deviation_max_mm", s->deviationMax},
                        {"solved_threshold", s->solvedThreshold}};
        for (const BoreFigure& b : s->bores)
            j["surface"]["bores"].push_back({{"interface", b.interface},
                                             {"nominal_mm", b.nominal},
                                             {"measured_mm", b.measured},
                                             {"largest_error_mm", b.error}});
    }
    if (const auto c = project.check(variant.recipe)) {
        j["mesh"] = {{"tetrahedra", c->mesh.tet.size()},
                     {"nodes", c->mesh.position.size()},
                     {"min_dihedral_deg", c->quality.minDihedral},
                     {"max_dihedral_deg", c->quality.maxDihedral},
                     {"min_scaled_jacobian", c->quality.minScaledJacobian},
                     {"max_aspect_ratio", c->quality.maxAspectRatio},
                     {"volume_mm3", c->quality.volume},
                     {"unresolved_machined_edges", c->mesh.creases.unresolved},
                     {"relaxed_curved_edges", c->mesh.relaxedEdges}};
        json cases = json::array();
        for (const CaseResult& x : c->cases) {
            json reactions = json::array();
            for (const auto& r : x.reactions)
                reactions.push_back({{"interface", r.interface}, {"force_N", vec(r.force)}});
            cases.push_back({{"name", x.name},
                             {"applied_N", vec(x.applied)},
                             {"meant_N", vec(x.meant)},
                             {"reaction_N", vec(x.reaction)},
                             {"reactions", reactions},
                             {"equilibrium_error", x.equilibriumError},
                             {"residual", x.residual},
                             {"strain_energy_Nmm", x.strainEnergy},
                             {"energy_error_estimate", x.energyError},
                             {"max_displacement_mm", x.maxDisplacement},
                             {"max_von_mises_MPa", x.maxVonMises},
                             {"max_raw_von_mises_MPa", x.maxRawVonMises},
                             {"min_safety_factor", x.minSafetyFactor}});
        }
        j["check"] = {{"unknowns", c->unknowns},
                      {"solver", c->solver},
                      {"cases", cases},
                      {"envelope",
                       {{"max_von_mises_MPa", c->envelope.maxVonMises},
                        {"min_safety_factor", c->minSafetyFactor},
                        {"governing_case", c->governingCase}}}};
    }
    j["findings"] = json::array();
    if (const auto f = project.findings(variant.recipe))
        for (const Finding& x : f->findings) {
            json item = {{"id", x.id},
                         {"class", x.place},
                         {"peak_MPa", x.peak},
                         {"case", x.caseName},
                         {"position_mm", vec(x.position)},
                         {"nearest_interface", x.nearestInterface},
                         {"distance_mm", x.distance},
                         {"safety_factor", x.safetyFactor},
                         {"persistence_MPa", x.persistence},
                         {"area_mm2", x.area}};
            if (const Disposition* d = dispositionOf(project, variant, x.id))
                item["disposition"] = {
                    {"decision", d->decision}, {"reason", d->reason}, {"by", d->by}, {"date", d->date}};
            j["findings"].push_back(item);
        }
    j["requirements"] = json::array();
    for (const RequirementState& s : requirementStates(project, variant.recipe, nullptr, nullptr))
        j["requirements"].push_back({{"name", s.name},
                                     {"limit", s.limit},
                                     {"value", std::isnan(s.value) ? json(nullptr) : json(s.value)},
                                     {"unit", s.unit},
                                     {"state", word(s.state)},
                                     {"source", s.source}});
    const auto blockers = releaseBlockers(project, variant);
    j["release"] = {{"open", blockers.empty()}, {"blocking", blockers}};
    j["timings_s"] = json::object();
    for (const Timing& t : timings) j["timings_s"][t.stage] = t.seconds;
    rusage usage{};
    getrusage(RUSAGE_SELF, &usage);
    j["peak_memory_MB"] = static_cast<double>(usage.ru_maxrss) / 1024;
    return j.dump(2) + "\n";
}

}  // namespace escultura::project
