#include "judge/requirements.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <set>

#include "base/quantity.hpp"
#include "base/text.hpp"
#include "duty/requirement_text.hpp"
#include "judge/factor.hpp"
#include "judge/findings.hpp"
#include "judge/requirement_measures.hpp"

namespace escultura::judge {
namespace {

using Kind = Requirement::Kind;
constexpr double balanced = 1e-6;  // largest equilibrium error and residual of a check that proves something

bool isBalanced(const CaseResult& c) {
    return c.equilibriumError <= balanced && c.residual <= balanced;
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
        s.key = requirementKind(r).key;
        s.name = subject(r);
        const RequirementKind& kind = requirementKind(r);
        const RequirementMeasure& measure = requirementMeasure(r.kind);
        s.unit = kind.unit;
        s.source = r.source;
        s.limit = r.limit;
        s.atLeast = kind.isMinimum;
        s.hasLimit = kind.hasLimit;
        s.evidence = measure.evidence;
        const Measured m = measure.measured(k, r);
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

}  // namespace escultura::judge
