#include "project/project.hpp"

#include <sys/resource.h>

#include <chrono>
#include <cmath>
#include <limits>
#include <nlohmann/json.hpp>

#include "base/digest.hpp"
#include "base/error.hpp"
#include "base/quantity.hpp"
#include "exchange/body_files.hpp"
#include "project/rebuild_text.hpp"

namespace escultura::project {
namespace {

constexpr std::int64_t methodVersion = 3;  // part of every key: raise it when a stage computes something else

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

StageKeys Project::keys(const Recipe& recipe) const {
    StageKeys k;
    Digest field, surface, check, findings;
    field.add("field").add(methodVersion).add(part.geometryText);
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
    k.surface = surface.hex();
    Digest original;
    original.add("original").add(part.geometryText);
    if (part.original)
        original.add(part.original->path).add(part.original->lengthUnit);
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
    k.cage = cage.hex();
    rebuild.add("rebuild").add(k.cage).add(static_cast<std::int64_t>(made.ownFeatures));
    for (const solid::Feature& f : made.features) rebuild.add(featureJson(f).dump());
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
    double required = 1;
    for (const Requirement& r : part.requirements)
        if (r.kind == Requirement::Kind::safetyFactor) required = std::max(required, r.limit);
    k.findings = findings.add("findings").add(k.check).add(recipe.hotspotShare).add(required).hex();
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
    std::vector<std::shared_ptr<const LoadedSource>> sources;
    std::vector<const field::DensityField*> fields;
    for (std::size_t f = 0; f < project.part.fields.size(); ++f) {
        auto s = project.source(f);
        if (!s)
            s = project.results->store(canonical(project.part.fields[f].source),
                                       withDigest(loadField(project.part, project.part.fields[f], progress)));
        sources.push_back(s);
        fields.push_back(&s->field);
    }
    FieldResult r = prepareField(project.part, chosenField(recipe.field, fields), progress);
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
    v.name = std::string(1, static_cast<char>('A' + count % 26)) + (count >= 26 ? std::to_string(count / 26) : "");
    v.dispositions.clear();
    project.variants.push_back(std::move(v));
    project.open = count;
    return project.variants.back();
}

std::vector<Timing> run(const Project& project, const Recipe& recipe, Stage upTo, Progress& progress) {
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
    auto surface = project.surface(recipe);
    if (!surface)
        timed(Stage::surface, [&] {
            surface = project.results->store(keys.surface, evaluateSurface(project.part, *field, recipe, progress));
        });
    if (upTo == Stage::surface) return timings;
    auto check = project.check(recipe);
    auto rebuild = project.rebuild(recipe);
    const bool checksRebuilt = recipe.check.rebuilt && !recipe.check.original;
    if (!rebuild && (upTo == Stage::rebuild || (checksRebuilt && !check)))
        timed(Stage::rebuild, [&] {
            runCage(project, recipe, progress);
            rebuild = project.results->store(
                keys.rebuild, evaluateRebuild(project.part, *field, *surface, *project.cage(recipe), recipe, progress));
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
                    keys.mesh, evaluateMesh(project.part, *field, *surface, recipe, progress, original.get(), solid));
            check = project.results->store(keys.check, evaluateCheck(project.part, *field, *surface, *mesh, recipe,
                                                                     progress, original.get(), solid));
        });
    if (upTo == Stage::check) return timings;
    if (!project.findings(recipe))
        timed(Stage::findings,
              [&] { project.results->store(keys.findings, evaluateFindings(project.part, *check, recipe, progress)); });
    return timings;
}

void runCage(const Project& project, const Recipe& recipe, Progress& progress) {
    const auto surface = project.surface(recipe);
    if (!surface || project.cage(recipe)) return;
    project.results->store(project.keys(recipe).cage,
                           evaluateCage(project.part, *project.field(recipe), *surface, recipe, progress));
}

void runOriginal(const Project& project, const Recipe& recipe, Progress& progress) {
    const auto field = project.field(recipe);
    if (!field || project.original(recipe)) return;
    project.results->store(
        project.keys(recipe).original,
        project.part.original
            ? exchange::readBody(project.part.original->path, project.part.original->lengthUnit)
            : designSpaceSurface(project.part, *field, 1.5 * field->field.spacing.minCoeff(), progress));
}

void runProcess(const Project& project, const Recipe& recipe, Progress& progress) {
    const auto surface = project.surface(recipe);
    if (!surface || project.process(recipe)) return;
    project.results->store(project.keys(recipe).process, evaluateProcess(*surface, recipe, progress));
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
    const auto rebuilt = project.rebuild(recipe);
    std::vector<RequirementState> states;
    for (const Requirement& r : project.part.requirements) {
        RequirementState s;
        s.name = name(r.kind);
        s.unit = unit(r.kind);
        s.source = r.source;
        s.limit = r.limit;
        s.atLeast = isMinimum(r.kind);
        s.value = std::numeric_limits<double>::quiet_NaN();
        const SurfaceResult* onSurface = surface ? surface.get() : lastSurface;
        const CheckResult* onCheck = check ? check.get() : lastCheck;
        const bool ofSurface = r.kind == Requirement::Kind::mass || r.kind == Requirement::Kind::minimumWall;
        bool fresh = ofSurface ? surface != nullptr : check != nullptr;
        if (r.kind == Requirement::Kind::mass && onSurface) {
            // of what is checked: the solid itself, else the mesh of the check
            const bool other = recipe.check.original || recipe.check.rebuilt;
            double volume = onSurface->measures.volume;
            if (recipe.check.rebuilt && !recipe.check.original && rebuilt) {
                volume = rebuilt->solid.solid.volume;
            } else if (other && onCheck) {
                volume = onCheck->quality.volume;
                fresh = check != nullptr;
            }
            s.value = volume * project.part.material.density;
        }
        if (r.kind == Requirement::Kind::minimumWall && onSurface) s.value = onSurface->thickness.least;
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
        if (s.state == RequirementState::State::met && !ofSurface)
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
    if (variant.recipe.check.rebuilt)
        if (const auto rebuilt = project.rebuild(variant.recipe))
            for (const std::string& p : rebuilt->problems) blockers.push_back(p);
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
            if (!c.appliedAsMeant)
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
    if (check) {
        if (check->level == Level::look)
            blockers.push_back("The check is of level 'look': run it at 'standard' or 'converged'.");
        if (check->level == Level::converged && !check->converged)
            blockers.push_back("The check did not converge: the last pass changed a figure by " +
                               formatNumber(100 * check->passes.back().change, 3) + " %.");
        if (check->quality.failed > 0)
            blockers.push_back(std::to_string(check->quality.failed) + " elements of the mesh are bad.");
    }
    return blockers;
}

namespace {
double highestVonMises(const CheckResult& c) {
    double highest = 0;
    for (const CaseResult& x : c.cases) highest = std::max(highest, x.maxVonMises);
    return highest;
}
}  // namespace

std::string summaryJson(const Project& project, const Variant& variant, const std::vector<Timing>& timings) {
    using nlohmann::json;
    auto vec = [](const Vec3& v) { return json::array({v[0], v[1], v[2]}); };
    auto inertia = [&](const Mat3& m) { return json::array({vec(m.row(0)), vec(m.row(1)), vec(m.row(2))}); };
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
    const auto field = project.field(variant.recipe);
    if (field) {
        const ThresholdFigures t = thresholdFigures(project.part, *field, variant.recipe);
        j["field"] = {{"cells", field->field.count()},
                      {"threshold", t.threshold},
                      {"share_kept", t.share},
                      {"volume_kept_mm3", t.volume},
                      {"mass_kept_kg", t.mass},
                      {"grey_share", t.grey},
                      {"pieces", t.pieces},
                      {"source", field->field.source},
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
                        {"raw_pieces", s->rawPieces},
                        {"raw_genus", s->rawGenus},
                        {"inertia_kg_mm2", inertia(s->measures.inertia * project.part.material.density)},
                        {"thinnest_wall_mm", s->thickness.least},
                        {"thinnest_wall_at_mm", vec(s->thickness.leastAt)},
                        {"wall_5_percent_mm", s->thickness.low5},
                        {"wall_median_mm", s->thickness.median},
                        {"draft_volume_mm3", s->draftVolume},
                        {"deviation_mean_mm", s->deviationMean},
                        {"deviation_95_mm", s->deviation95},
                        {"deviation_rms_mm", s->deviationRms},
                        {"deviation_max_mm", s->deviationMax},
                        {"solved_threshold", s->solvedThreshold}};
        j["surface"]["findings"] = json::array();
        for (const GeometryFinding& f : s->findings)
            j["surface"]["findings"].push_back({{"kind", name(f.kind)},
                                                {"text", f.text},
                                                {"position_mm", vec(f.position)},
                                                {"before", f.before},
                                                {"after", f.after}});
        for (const BoreFigure& b : s->bores)
            j["surface"]["bores"].push_back({{"interface", b.interface},
                                             {"nominal_mm", b.nominal},
                                             {"measured_mm", b.measured},
                                             {"largest_error_mm", b.error}});
    }
    if (const auto c = project.cage(variant.recipe)) {
        const auto& d = c->deviation;
        j["cage"] = {{"faces", c->cage.face.size()},
                     {"vertices", c->cage.position.size()},
                     {"mean_edge_mm", d.edge},
                     {"pieces", c->report.pieces},
                     {"genus", c->report.genus},
                     {"target_pieces", c->targetPieces},
                     {"target_genus", c->targetGenus},
                     {"closed", c->report.closed},
                     {"manifold", c->report.manifold},
                     {"folded_faces", c->folded.size()},
                     {"by_hand", c->byHand},
                     {"deviation_rms_mm", d.rms},
                     {"deviation_max_mm", d.largest},
                     {"deviation_back_rms_mm", d.backRms},
                     {"deviation_back_max_mm", d.backLargest},
                     {"interface_zone_rms_mm", d.zoneRms},
                     {"interface_zone_max_mm", d.zoneLargest},
                     {"seconds", c->seconds},
                     {"notes", c->notes}};
    }
    if (const auto b = project.rebuild(variant.recipe)) {
        json features = json::array();
        for (const auto& f : b->solid.features)
            features.push_back(
                {{"name", f.name}, {"built", f.built}, {"problem", f.problem}, {"volume_identity", f.identity}});
        j["rebuild"] = {{"volume_mm3", b->solid.solid.volume},
                        {"area_mm2", b->solid.solid.area},
                        {"mass_kg", b->mass},
                        {"centre_of_gravity_mm", vec(b->solid.solid.centroid)},
                        {"faces", b->solid.solid.faces},
                        {"solids", b->solid.solid.solids},
                        {"genus", b->genus},
                        {"surface_genus", b->surfaceGenus},
                        {"valid", b->solid.solid.valid},
                        {"closed", b->solid.solid.closed},
                        {"limit_volume_mm3", b->limit.volume},
                        {"patch_volume_mm3", b->solid.free.volume},
                        {"regular_jump_deg", b->regularJump},
                        {"irregular_jump_deg", b->irregularJump},
                        {"features", features},
                        {"problems", b->problems},
                        {"seconds", b->seconds}};
    }
    if (const auto c = project.check(variant.recipe)) {
        j["mesh"] = {{"tetrahedra", c->mesh.tet.size()},
                     {"nodes", c->mesh.position.size()},
                     {"min_dihedral_deg", c->quality.minDihedral},
                     {"max_dihedral_deg", c->quality.maxDihedral},
                     {"min_scaled_jacobian", c->quality.minScaledJacobian},
                     {"max_aspect_ratio", c->quality.maxAspectRatio},
                     {"volume_mm3", c->quality.volume},
                     {"poor_elements", c->quality.warned},
                     {"bad_elements", c->quality.failed},
                     {"unresolved_machined_edges", c->mesh.creases.unresolved},
                     {"relaxed_curved_edges", c->mesh.relaxedEdges}};
        json cases = json::array();
        for (const CaseResult& x : c->cases) {
            json reactions = json::array();
            for (const auto& r : x.reactions)
                reactions.push_back(
                    {{"interface", r.interface}, {"force_N", vec(r.force)}, {"moment_Nmm", vec(r.moment)}});
            cases.push_back({{"name", x.name},
                             {"combination", x.combination},
                             {"applied_as_meant", x.appliedAsMeant},
                             {"applied_moment_Nmm", vec(x.appliedMoment)},
                             {"reaction_moment_Nmm", vec(x.reactionMoment)},
                             {"iterations", x.iterations},
                             {"max_compared_stress_MPa", x.maxStress},
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
        json passes = json::array();
        for (const ConvergencePass& pass : c->passes)
            passes.push_back({{"elements", pass.elements},
                              {"unknowns", pass.unknowns},
                              {"min_safety_factor", pass.minSafetyFactor},
                              {"max_displacement_mm", pass.maxDisplacement},
                              {"energy_error_estimate", pass.energyError},
                              {"change", pass.change}});
        j["check"] = {{"unknowns", c->unknowns},
                      {"level", name(c->level)},
                      {"passes", passes},
                      {"converged", c->level == Level::converged ? json(c->converged) : json(nullptr)},
                      {"solver_memory_MB", c->solverMemory / 1e6},
                      {"solver", c->solver},
                      {"cases", cases},
                      {"envelope",
                       {{"max_compared_stress_MPa", c->envelope.maxStress},
                        {"max_von_mises_MPa", highestVonMises(*c)},
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
