#include "project/requirements.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <set>

#include "base/quantity.hpp"
#include "base/text.hpp"
#include "project/factor.hpp"
#include "project/findings.hpp"
#include "project/requirement_text.hpp"

namespace escultura::project {
namespace {

using Kind = Requirement::Kind;
constexpr double unknown = std::numeric_limits<double>::quiet_NaN();
constexpr double balanced = 1e-6;  // largest equilibrium error and residual of a check that proves something

bool isBalanced(const CaseResult& c) {
    return c.equilibriumError <= balanced && c.residual <= balanced;
}

/// Everything that a requirement may be measured on.
struct Known {
    const Project& project;
    const Variant& variant;
    const Part& part;
    std::shared_ptr<const SurfaceResult> surface;
    std::shared_ptr<const CheckResult> check;
    std::shared_ptr<const RebuildResult> rebuilt;
    std::shared_ptr<const ProcessResult> process;
    const SurfaceResult* onSurface;  ///< fresh or last
    const CheckResult* onCheck;
    bool checksRebuilt() const { return variant.recipe.check.rebuilt && !variant.recipe.check.original; }
};

/// A value, whether it is fresh, and what it leaves out.
struct Measured {
    double value = unknown;
    bool fresh = true;
    std::string note{};
    bool proven = true;  ///< else met only so far
    std::string doubt{};
};

bool isAsked(const Requirement& r, const CaseResult& c) {
    return r.loadCase.empty() || r.loadCase == c.name;
}

Measured safetyFactorOf(const Known& k, const Requirement& r) {
    if (!k.onCheck) return {};
    const Factor f = factorOf(k.project, k.variant, *k.onCheck, r.loadCase);
    Measured m{f.value, k.check != nullptr};
    auto add = [&](const std::string& words) { m.note += (m.note.empty() ? "" : "; ") + words; };
    m.note = doubtWords(f);
    m.doubt = shortDoubt(f);
    m.proven = f.proves();
    if (!f.governing.empty() && f.proves()) add("at " + f.governing);
    std::string ids;
    for (const auto& id : f.without) ids += (ids.empty() ? "" : ", ") + id;
    if (!ids.empty()) add("without the zone of " + ids);
    // no stress anywhere: nothing was carried, so nothing is shown to hold
    if (std::isinf(f.value)) return {unknown, m.fresh, "no stress: nothing is carried"};
    return m;
}

Measured displacementOf(const Known& k, const Requirement& r) {
    if (!k.onCheck) return {};
    Measured m{0, k.check != nullptr};
    std::set<std::int32_t> nodes;
    if (!r.interface.empty())
        for (const NamedFace& f : k.onCheck->faces)
            if (f.interface == r.interface)
                for (auto index : facesOf(k.onCheck->mesh, f))
                    nodes.insert(k.onCheck->mesh.boundary[index].begin(), k.onCheck->mesh.boundary[index].end());
    if (!r.interface.empty() && nodes.empty()) return {unknown, m.fresh, "the interface has no face on the mesh"};
    for (const CaseResult& c : k.onCheck->cases) {
        if (!isAsked(r, c)) continue;
        auto size = [&](const Vec3& u) { return r.direction ? std::abs(u.dot(*r.direction)) : u.norm(); };
        if (r.interface.empty() && !r.direction)
            m.value = std::max(m.value, c.maxDisplacement);
        else if (r.interface.empty())
            for (const Vec3& u : c.displacement) m.value = std::max(m.value, size(u));
        else
            for (auto n : nodes) m.value = std::max(m.value, size(c.displacement[n]));
    }
    return m;
}

Measured massOf(const Known& k) {
    if (!k.onSurface) return {};
    // of what is checked: the solid itself, else the mesh of the check
    Measured m{k.onSurface->measures.volume, k.surface != nullptr};
    if (k.checksRebuilt() && k.rebuilt) {
        m = {k.rebuilt->solid.solid.volume, true};
    } else if ((k.variant.recipe.check.original || k.variant.recipe.check.rebuilt) && k.onCheck) {
        m = {k.onCheck->quality.volume, k.check != nullptr};
    }
    m.value *= k.part.material.density;
    return m;
}

/// Number of points that keep the geometry from being valid.
Measured geometryOf(const Known& k) {
    if (k.variant.recipe.check.original) return {k.check ? 0.0 : unknown, k.check != nullptr};
    if (k.checksRebuilt()) {
        if (!k.rebuilt) return {unknown, false, "the solid is not rebuilt in this session"};
        const auto& s = k.rebuilt->solid.solid;
        return {static_cast<double>(!s.valid) + !s.closed + static_cast<double>(k.rebuilt->problems.size()), true};
    }
    if (!k.onSurface) return {};
    double missing = !k.onSurface->measures.watertight;
    missing += k.onSurface->measures.pieces != 1;
    for (const GeometryFinding& f : k.onSurface->findings) missing += f.kind == GeometryFinding::Kind::interfaceLost;
    return {missing, k.surface != nullptr};
}

/// Number of findings without a disposition that holds and releases them.
Measured openFindings(const Known& k) {
    if (!k.project.findings(k.variant.recipe)) return {unknown, false};
    double open = 0;
    for (const Finding& f : findingsOf(k.project, k.variant.recipe)) {
        const DispositionState s = dispositionState(k.project, k.variant, f);
        open += !s.holds || s.disposition->decision == "fix";
    }
    return {open, true};
}

Measured measured(const Known& k, const Requirement& r) {
    const bool ofSurface = k.onSurface != nullptr, fresh = k.surface != nullptr;
    switch (r.kind) {
        case Kind::safetyFactor:
            return safetyFactorOf(k, r);
        case Kind::displacement:
            return displacementOf(k, r);
        case Kind::mass:
            return massOf(k);
        case Kind::minimumWall:
            return ofSurface ? Measured{k.onSurface->thickness.least, fresh} : Measured{};
        case Kind::reaction: {
            if (!k.onCheck) return {};
            Measured m{0, k.check != nullptr};
            for (const CaseResult& c : k.onCheck->cases)
                for (const InterfaceReaction& x : c.reactions)
                    if (isAsked(r, c) && (r.interface.empty() || r.interface == x.interface))
                        m.value = std::max(m.value, x.force.norm());
            return m;
        }
        case Kind::deviation:
            return ofSurface ? Measured{k.onSurface->deviationMax, fresh} : Measured{};
        case Kind::draft:
            if (!k.process) return {unknown, true, "measured when the stages are run again"};
            return {k.process->draft.freeArea > 0 ? 100 * k.process->draft.tooSteepArea / k.process->draft.freeArea : 0,
                    fresh};
        case Kind::overhang:
            if (!k.process || !k.surface) return {unknown, true, "measured when the stages are run again"};
            return {100 * k.process->overhang.area / k.surface->measures.area, fresh};
        case Kind::convergence:
            if (!k.onCheck) return {};
            if (k.onCheck->passes.size() < 2)
                return {unknown, k.check != nullptr, "needs a check of level 'converged'"};
            return {100 * k.onCheck->passes.back().change, k.check != nullptr};
        case Kind::equilibrium: {
            if (!k.onCheck) return {};
            Measured m{0, k.check != nullptr};
            for (const CaseResult& c : k.onCheck->cases) m.value = std::max(m.value, c.equilibriumError);
            return m;
        }
        case Kind::validGeometry:
            return geometryOf(k);
        case Kind::findingsDisposed:
            return openFindings(k);
    }
    return {};
}

Stage evidenceOf(Kind kind) {
    switch (kind) {
        case Kind::mass:
        case Kind::minimumWall:
        case Kind::deviation:
        case Kind::draft:
        case Kind::overhang:
        case Kind::validGeometry:
            return Stage::surface;
        case Kind::findingsDisposed:
            return Stage::findings;
        default:
            return Stage::check;
    }
}

}  // namespace

const char* word(RequirementState::State state) {
    switch (state) {
        case RequirementState::State::met:
            return "met";
        case RequirementState::State::metSoFar:
            return "met so far";
        case RequirementState::State::notMet:
            return "not met";
        case RequirementState::State::unknown:
            return "not yet known";
        case RequirementState::State::outOfDate:
            return "out of date";
    }
    return "";
}

std::vector<RequirementState> requirementStates(const Project& project, const Variant& variant,
                                                const SurfaceResult* lastSurface, const CheckResult* lastCheck) {
    const Recipe& recipe = variant.recipe;
    Known k{project,
            variant,
            project.partOf(recipe),
            project.surface(recipe),
            project.check(recipe),
            project.rebuild(recipe),
            project.process(recipe),
            lastSurface,
            lastCheck};
    if (k.surface) k.onSurface = k.surface.get();
    if (k.check) k.onCheck = k.check.get();
    std::vector<RequirementState> states;
    for (const Requirement& r : k.part.requirements) {
        RequirementState s;
        s.kind = r.kind;
        s.name = subject(r);
        s.unit = unit(r.kind);
        s.source = r.source;
        s.limit = r.limit;
        s.atLeast = isMinimum(r.kind);
        s.hasLimit = hasLimit(r.kind);
        s.evidence = evidenceOf(r.kind);
        const Measured m = measured(k, r);
        s.value = m.value;
        s.note = m.note;
        s.doubt = m.doubt;
        using State = RequirementState::State;
        if (std::isnan(s.value))
            s.state = State::unknown;
        else if (!m.fresh)
            s.state = State::outOfDate;
        else
            s.state =
                (s.atLeast ? s.value >= r.limit : s.value <= (s.hasLimit ? r.limit : 0)) ? State::met : State::notMet;
        const bool look = k.onCheck && k.onCheck->level == Level::look && s.evidence == Stage::check;
        if (s.state == State::met && (!m.proven || look)) {
            s.state = State::metSoFar;
            if (s.note.empty()) s.note = look ? "level look" : "not tested";
        }
        // a check that is out of balance proves nothing
        if ((s.state == State::met || s.state == State::metSoFar) && s.evidence == Stage::check)
            for (const CaseResult& c : k.onCheck->cases)
                if (!isBalanced(c)) {
                    s.state = State::notMet;
                    s.note = c.equilibriumError <= balanced ? "equations not solved well enough" : "out of equilibrium";
                }
        // nor does one with a case that does nothing
        if ((s.state == State::met || s.state == State::metSoFar) && s.evidence == Stage::check)
            for (const CaseResult& c : k.onCheck->cases)
                if (const std::string problem = c.problem(); !problem.empty()) {
                    s.state = State::unknown;
                    s.note = "load case '" + c.name + "' " + problem;
                }
        states.push_back(s);
    }
    return states;
}

std::vector<std::string> meshGaps(const Project& project, const Recipe& recipe) {
    std::vector<std::string> gaps;
    const auto check = project.check(recipe);
    if (!check) return gaps;
    auto mm3 = [](double v) { return formatNumber(v, 6) + " mm³"; };
    if (check->bodyVolume > 0) {
        const double off = check->quality.volume / check->bodyVolume - 1;
        if (!(std::abs(off) <= volumeBar))
            gaps.push_back("The check's mesh has " + mm3(check->quality.volume) + ", its body " +
                           mm3(check->bodyVolume) + " (" + formatNumber(100 * off, 2) + " %): use smaller elements.");
    }
    if (check->droppedPieces > 0)
        gaps.push_back("The check's mesh leaves out " + std::to_string(check->droppedPieces) +
                       (check->droppedPieces == 1 ? " piece" : " pieces") + " of the body (" +
                       formatNumber(check->droppedVolume, 3) + " mm³).");
    return gaps;
}

std::vector<Blocker> releaseBlockers(const Project& project, const Variant& variant) {
    std::vector<Blocker> blockers;
    auto block = [&](Stage stage, const std::string& text, const std::string& finding = {}) {
        blockers.push_back({text, stage, finding});
    };
    const std::string& problem = project.partOf(variant.recipe).numberProblem;
    if (!problem.empty()) block(Stage::duty, problem.substr(0, problem.find('\n')));
    if (!project.surface(variant.recipe)) block(Stage::surface, "Surface is out of date or not built yet.");
    if (variant.recipe.check.original) block(Stage::check, "The design before the optimisation is not released here.");
    if (variant.recipe.check.rebuilt)
        if (const auto rebuilt = project.rebuild(variant.recipe))
            for (const std::string& p : rebuilt->problems) block(Stage::rebuild, p);
    const auto check = project.check(variant.recipe);
    if (!check) block(Stage::check, "Check is out of date or has not run yet.");
    if (project.part.requirements.empty()) block(Stage::duty, "The part states no requirement.");
    for (const RequirementState& s : requirementStates(project, variant, nullptr, nullptr)) {
        using State = RequirementState::State;
        const std::string u = s.unit.empty() ? "" : " " + s.unit;
        if (s.kind == Kind::findingsDisposed) continue;  // told finding by finding
        if (s.state == State::notMet && s.hasLimit)
            block(s.evidence, "Requirement not met: " + s.name + (s.atLeast ? " at least " : " at most ") +
                                  formatNumber(s.limit) + u + ", found " + formatNumber(s.value) + u +
                                  (s.note.empty() ? "" : " (" + s.note + ")") + ".");
        else if (s.state == State::notMet)
            block(s.evidence, "Requirement not met: " + s.name + ".");
        else if (s.state == State::metSoFar && s.kind != Kind::safetyFactor)
            block(s.evidence, "Requirement met only so far: " + s.name + " (" + s.note + ").");
        else if (s.state == State::metSoFar)
            continue;  // told hotspot by hotspot, or by the level
        else if (s.state != State::met && check)
            block(s.evidence, "Requirement not yet known: " + s.name + (s.note.empty() ? "" : "; " + s.note) + ".");
    }
    if (check)
        for (const CaseResult& c : check->cases) {
            if (!(c.equilibriumError <= balanced))
                block(Stage::check, "Load case '" + c.name + "' is not in equilibrium.");
            if (!(c.residual <= balanced))
                block(Stage::check, "The equations of load case '" + c.name + "' are solved to " +
                                        plainNumber(c.residual, 2) + " only, wanted are " + plainNumber(balanced, 2) +
                                        ": use the direct solver.");
            if (const std::string problem = c.problem(); !problem.empty())
                block(Stage::check, "Load case '" + c.name + "' " + problem + ".");
        }
    const std::vector<Finding> list = findingsOf(project, variant.recipe);
    if (check && check->level != Level::look)
        for (const std::string& id : hotspotsToTest(project, variant)) {
            const bool beside = findFinding(list, id)->evidence.verdict != assess::HotspotClass::untested;
            block(Stage::findings,
                  beside ? "A place beside hotspot " + id + " could govern and is not tested."
                         : "Hotspot " + id + " could govern and is not tested.",
                  id);
        }
    if (project.findings(variant.recipe)) {
        for (const Finding& f : list) {
            const DispositionState s = dispositionState(project, variant, f);
            if (!s.disposition)
                block(Stage::findings, "Finding " + f.id + " has no disposition.", f.id);
            else if (!s.holds)
                block(Stage::findings, "The disposition of finding " + f.id + " is out of date.", f.id);
            else if (s.disposition->decision == "fix")
                block(Stage::findings, "Finding " + f.id + " is to be fixed.", f.id);
        }
    } else {
        block(Stage::findings, "Findings are out of date or not looked for yet.");
    }
    if (check) {
        if (check->level == Level::look)
            block(Stage::check, "The check is of level 'look': run it at 'standard' or 'converged'.");
        if (check->level == Level::converged && !check->converged)
            block(Stage::check, "The check did not converge: the last pass changed a figure by " +
                                    formatNumber(100 * check->passes.back().change, 3) + " %.");
        for (const std::string& gap : meshGaps(project, variant.recipe)) block(Stage::check, gap);
        if (check->quality.failed > 0)
            block(Stage::check, std::to_string(check->quality.failed) + " elements of the mesh are bad.");
    }
    return blockers;
}

}  // namespace escultura::project
