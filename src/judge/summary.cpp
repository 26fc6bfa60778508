#include "judge/summary.hpp"

#include <sys/resource.h>

#include <cmath>
#include <nlohmann/json.hpp>

#include "judge/factor.hpp"
#include "judge/findings.hpp"
#include "judge/proposals.hpp"
#include "judge/requirements.hpp"
#include "project/run.hpp"
#include "store/state_text.hpp"

namespace escultura::judge {
using namespace store;
namespace {

using nlohmann::json;

json vec(const Vec3& v) {
    return json::array({v[0], v[1], v[2]});
}

/// Null where it is infinite or not known.
json number(double v) {
    return std::isfinite(v) ? json(v) : json(nullptr);
}

double highestVonMises(const CheckResult& c) {
    double highest = 0;
    for (const CaseResult& x : c.cases) highest = std::max(highest, x.maxVonMises);
    return highest;
}

json fieldJson(const Part& part, const FieldResult& field, const Recipe& recipe) {
    const ThresholdFigures t = thresholdFigures(part, field, recipe);
    return {{"cells", field.field.count()},
            {"threshold", t.threshold},
            {"share_kept", t.share},
            {"volume_kept_mm3", t.volume},
            {"mass_kept_kg", t.mass},
            {"grey_share", t.grey},
            {"pieces", t.pieces},
            {"source", field.field.source},
            {"connected_interfaces", t.connected},
            {"cut_off_interfaces", t.cutOff},
            {"largest_connecting_threshold", field.largestConnectingThreshold}};
}

json surfaceJson(const SurfaceResult& s, double density) {
    const Mat3 inertia = s.measures.inertia * density;
    json j = {{"triangles", s.mesh.triangle.size()},
              {"volume_mm3", s.measures.volume},
              {"asked_volume_mm3", s.askedVolume},
              {"area_mm2", s.measures.area},
              {"mass_kg", s.measures.volume * density},
              {"centre_of_gravity_mm", vec(s.measures.centroid)},
              {"pieces", s.measures.pieces},
              {"cavities", s.measures.cavities},
              {"finer_spacing_mm", s.finerSpacing},
              {"genus", s.measures.genus},
              {"watertight", s.measures.watertight},
              {"raw_pieces", s.rawPieces},
              {"raw_genus", s.rawGenus},
              {"inertia_kg_mm2", json::array({vec(inertia.row(0)), vec(inertia.row(1)), vec(inertia.row(2))})},
              {"thinnest_wall_mm", s.thickness.least},
              {"thinnest_wall_at_mm", vec(s.thickness.leastAt)},
              {"wall_5_percent_mm", s.thickness.low5},
              {"wall_median_mm", s.thickness.median},
              {"draft_volume_mm3", s.draftVolume},
              {"deviation_mean_mm", s.deviationMean},
              {"deviation_95_mm", s.deviation95},
              {"deviation_rms_mm", s.deviationRms},
              {"deviation_max_mm", s.deviationMax},
              {"solved_threshold", s.solvedThreshold}};
    j["findings"] = json::array();
    for (const GeometryFinding& f : s.findings)
        j["findings"].push_back({{"kind", name(f.kind)},
                                 {"text", f.text},
                                 {"position_mm", vec(f.position)},
                                 {"before", f.before},
                                 {"after", f.after}});
    j["smallest_member_mm"] = s.smallestMember;
    j["thin_members"] = json::array();
    for (const ThinMember& m : s.members)
        j["thin_members"].push_back({{"position_mm", vec(m.at)},
                                     {"thickness_mm", m.thickness},
                                     {"thinnest_mm", m.least},
                                     {"length_mm", m.length},
                                     {"decision", name(m.fate)},
                                     {"surface_thickness_mm", m.after}});
    for (const BoreFigure& b : s.bores)
        j["bores"].push_back({{"interface", b.interface},
                              {"nominal_mm", b.nominal},
                              {"measured_mm", b.measured},
                              {"largest_error_mm", b.error}});
    return j;
}

json cageJson(const CageResult& c) {
    const auto& d = c.deviation;
    return {{"faces", c.cage.face.size()},
            {"vertices", c.cage.position.size()},
            {"mean_edge_mm", d.edge},
            {"pieces", c.report.pieces},
            {"genus", c.report.genus},
            {"target_pieces", c.targetPieces},
            {"target_genus", c.targetGenus},
            {"closed", c.report.closed},
            {"manifold", c.report.manifold},
            {"folded_faces", c.folded.size()},
            {"by_hand", c.byHand},
            {"tolerance_mm", c.tolerance},
            {"within_tolerance", c.within},
            {"irregular_vertices", c.irregular},
            {"deviation_rms_mm", d.rms},
            {"deviation_max_mm", d.largest},
            {"deviation_back_rms_mm", d.backRms},
            {"deviation_back_max_mm", d.backLargest},
            {"interface_zone_rms_mm", d.zoneRms},
            {"interface_zone_max_mm", d.zoneLargest},
            {"seconds", c.seconds},
            {"notes", c.notes}};
}

json rebuildJson(const RebuildResult& b) {
    json features = json::array();
    for (const auto& f : b.solid.features)
        features.push_back(
            {{"name", f.name}, {"built", f.built}, {"problem", f.problem}, {"volume_identity", f.identity}});
    return {{"volume_mm3", b.solid.solid.volume},
            {"area_mm2", b.solid.solid.area},
            {"mass_kg", b.mass},
            {"centre_of_gravity_mm", vec(b.solid.solid.centroid)},
            {"faces", b.solid.solid.faces},
            {"solids", b.solid.solid.solids},
            {"genus", b.genus},
            {"surface_genus", b.surfaceGenus},
            {"valid", b.solid.solid.valid},
            {"closed", b.solid.solid.closed},
            {"limit_volume_mm3", b.limit.volume},
            {"patch_volume_mm3", b.solid.free.volume},
            {"regular_jump_deg", b.regularJump},
            {"irregular_jump_deg", b.irregularJump},
            {"features", features},
            {"problems", b.problems},
            {"seconds", b.seconds}};
}

json meshJson(const CheckResult& c) {
    return {{"tetrahedra", c.mesh.tet.size()},
            {"nodes", c.mesh.position.size()},
            {"min_dihedral_deg", c.quality.minDihedral},
            {"max_dihedral_deg", c.quality.maxDihedral},
            {"min_scaled_jacobian", c.quality.minScaledJacobian},
            {"max_aspect_ratio", c.quality.maxAspectRatio},
            {"volume_mm3", c.quality.volume},
            {"poor_elements", c.quality.warned},
            {"bad_elements", c.quality.failed},
            {"unresolved_machined_edges", c.mesh.creases.unresolved},
            {"relaxed_curved_edges", c.mesh.relaxedEdges},
            {"straight_boundary_edges", c.mesh.straightEdges},
            {"body_volume_mm3", c.bodyVolume > 0 ? json(c.bodyVolume) : json(nullptr)},
            {"dropped_pieces", c.droppedPieces},
            {"dropped_volume_mm3", c.droppedVolume}};
}

json casesJson(const CheckResult& c) {
    json cases = json::array();
    for (const CaseResult& x : c.cases) {
        json reactions = json::array();
        for (const auto& r : x.reactions)
            reactions.push_back({{"interface", r.interface}, {"force_N", vec(r.force)}, {"moment_Nmm", vec(r.moment)}});
        cases.push_back({{"name", x.name},
                         {"combination", x.combination},
                         {"applied_as_meant", x.appliedAsMeant},
                         {"share_into_supports", x.intoSupports},
                         {"applied_moment_Nmm", vec(x.appliedMoment)},
                         {"reaction_moment_Nmm", vec(x.reactionMoment)},
                         {"iterations", x.iterations},
                         {"max_compared_stress_MPa", x.maxStress},
                         {"max_counted_stress_MPa", x.maxCounts},
                         {"max_recovered_stress_MPa", x.maxRecoveredStress},
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
    return cases;
}

json passesJson(const CheckResult& c) {
    json passes = json::array();
    for (const ConvergencePass& pass : c.passes)
        passes.push_back({{"elements", pass.elements},
                          {"unknowns", pass.unknowns},
                          {"min_safety_factor", pass.minSafetyFactor},
                          {"max_displacement_mm", pass.maxDisplacement},
                          {"energy_error_estimate", pass.energyError},
                          {"change", pass.change}});
    return passes;
}

json checkJson(const Project& project, const Variant& variant, const CheckResult& c) {
    const Factor factor = factorOf(project, variant, c);
    return {{"unknowns", c.unknowns},
            {"level", name(c.level)},
            {"passes", passesJson(c)},
            {"converged", c.level == Level::converged ? json(c.converged) : json(nullptr)},
            {"solver_memory_MB", c.solverMemory / 1e6},
            {"solver", c.solver},
            {"cases", casesJson(c)},
            {"envelope",
             {{"max_compared_stress_MPa", c.envelope.maxStress},
              {"max_von_mises_MPa", highestVonMises(c)},
              {"judged_max_MPa", c.envelope.maxStress},
              {"recovered_max_MPa", c.maxRecoveredStress},
              {"raw_max_MPa", c.maxRawStress},
              {"min_safety_factor", number(c.minSafetyFactor)},
              {"min_safety_factor_low", number(factor.bounded ? factor.band.low : 0)},
              {"min_safety_factor_high", number(factor.band.high)},
              {"resolved", factor.resolved && factor.bounded},
              {"safety_factor_that_counts", number(factor.value)},
              {"rests_on",
               factor.proves() ? (factor.basis == Factor::Basis::tested ? "tested" : "converged") : doubtWords(factor)},
              {"governing_finding", factor.governing},
              {"governing_case", c.governingCase}}}};
}

/// How a hotspot was tested; nothing when it was not.
void addTest(const Finding& x, json& item) {
    const assess::Evidence& e = x.evidence;
    if (e.verdict != assess::HotspotClass::untested)
        item["test"] = {
            {"group", x.testGroup},      {"sizes_mm", e.size},
            {"peaks_MPa", e.peak},       {"elements", e.elements},
            {"exponent", e.exponent},    {"last_change", e.change},
            {"edge_angle_deg", e.angle}, {"hollow_radius_mm", std::isfinite(e.radius) ? json(e.radius) : json(nullptr)},
            {"zone_mm", e.zone},         {"cut_error", e.cutError},
            {"counts_MPa", e.counts()},  {"reason", e.reason}};
    for (const FurtherTest& f : x.further)
        item["test"]["further"].push_back({{"group", f.group},
                                           {"class", assess::name(f.evidence.verdict)},
                                           {"peaks_MPa", f.evidence.peak},
                                           {"counts_MPa", f.evidence.counts()},
                                           {"reason", f.evidence.reason}});
}

json findingJson(const Project& project, const Variant& variant, const Finding& x) {
    json item = {{"id", x.id},
                 {"kind", name(x.kind)},
                 {"class", classOf(x)},
                 {"text", x.text},
                 {"position_mm", vec(x.position)},
                 {"nearest_interface", x.nearestInterface},
                 {"distance_mm", x.distance}};
    if (x.kind == Finding::Kind::hotspot)
        item.update({{"place", x.place},
                     {"peak_MPa", x.peak},
                     {"upper_MPa", x.upper()},
                     {"tested", x.evidence.verdict != assess::HotspotClass::untested},
                     {"case", x.caseName},
                     {"safety_factor", x.safetyFactor},
                     {"persistence_MPa", x.persistence},
                     {"area_mm2", x.area}});
    addTest(x, item);
    const DispositionState state = dispositionState(project, variant, x);
    if (const Disposition* d = state.disposition)
        item["disposition"] = {
            {"decision", d->decision}, {"reason", d->reason}, {"by", d->by}, {"date", d->date}, {"holds", state.holds}};
    return item;
}

json proposalJson(const Variant& variant, const MeasuredEffect& effect) {
    return {{"text", variant.origin.proposal},
            {"finding", variant.origin.finding},
            {"safety_factor_before", effect.before},
            {"predicted", {effect.low, effect.high}},
            {"measured", effect.after ? json(*effect.after) : json(nullptr)},
            {"predicted_mass_kg", effect.predictedMass},
            {"measured_mass_kg", effect.mass ? json(*effect.mass) : json(nullptr)}};
}

json analysesJson(const Project& project, const Recipe& recipe) {
    json all = json::object();
    for (const AnalysisChoice& choice : askedAnalyses(project.partOf(recipe), recipe)) {
        const auto found = project.analysis(recipe, choice.kind);
        if (!found) continue;
        json figures = json::array();
        for (const AnalysisFigure& f : found->figures)
            figures.push_back({{"key", f.key},
                               {"name", f.label},
                               {"load_case", f.loadCase},
                               {"unit", f.unit},
                               {"value", number(f.value)},
                               {"counts", number(f.counts)},
                               {"note", f.note}});
        all[choice.kind] = {{"numbers", choice.numbers}, {"figures", figures}, {"notes", found->notes}};
    }
    return all;
}

json requirementsJson(const Project& project, const Variant& variant) {
    json list = json::array();
    for (const RequirementState& s : requirementStates(project, variant, nullptr, nullptr))
        list.push_back({{"name", s.name},
                        {"kind", s.key},
                        {"limit", s.hasLimit ? json(s.limit) : json(nullptr)},
                        {"value", std::isfinite(s.value) ? json(s.value) : json(nullptr)},
                        {"unit", s.unit},
                        {"state", word(s.state)},
                        {"note", s.note},
                        {"source", s.source}});
    return list;
}

}  // namespace

std::string summaryJson(const Project& project, const Variant& variant, const std::vector<Timing>& timings) {
    const Recipe& recipe = variant.recipe;
    const Part& part = project.partOf(recipe);
    json j;
    j["format"] = "escultura-summary";
    j["version"] = 1;
    j["part"] = project.part.name;
    j["variant"] = variant.name;
    j["recipe"] = {{"threshold", recipe.threshold},
                   {"smoothing_mm", recipe.smoothing},
                   {"surface_spacing_mm", recipe.surfaceSpacing},
                   {"element_size_mm", recipe.elementSize},
                   {"hotspot_share", recipe.hotspotShare},
                   {"whole", recipeJson(recipe)}};
    if (const auto field = project.field(recipe)) j["field"] = fieldJson(part, *field, recipe);
    if (const auto s = project.surface(recipe)) j["surface"] = surfaceJson(*s, part.material.density);
    if (const auto c = project.cage(recipe)) j["cage"] = cageJson(*c);
    if (const auto b = project.rebuild(recipe)) j["rebuild"] = rebuildJson(*b);
    if (const auto c = project.check(recipe)) {
        j["mesh"] = meshJson(*c);
        j["check"] = checkJson(project, variant, *c);
    }
    if (json analyses = analysesJson(project, recipe); !analyses.empty()) j["analyses"] = std::move(analyses);
    j["findings"] = json::array();
    for (const Finding& x : findingsOf(project, recipe)) j["findings"].push_back(findingJson(project, variant, x));
    if (const auto effect = measuredEffect(project, variant)) j["proposal"] = proposalJson(variant, *effect);
    j["requirements"] = requirementsJson(project, variant);
    json blocking = json::array();
    for (const Blocker& b : releaseBlockers(project, variant)) blocking.push_back(b.text);
    j["release"] = {{"open", blocking.empty()}, {"blocking", blocking}};
    j["timings_s"] = json::object();
    for (const Timing& t : timings) j["timings_s"][t.stage] = t.seconds;
    rusage usage{};
    getrusage(RUSAGE_SELF, &usage);
    j["peak_memory_MB"] = static_cast<double>(usage.ru_maxrss) / 1024;
    return j.dump(2) + "\n";
}

}  // namespace escultura::judge
