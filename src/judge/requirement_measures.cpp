#include "judge/requirement_measures.hpp"

#include <algorithm>
#include <cmath>
#include <set>

#include "base/quantity.hpp"
#include "judge/factor.hpp"
#include "judge/findings.hpp"

namespace escultura::judge {
namespace {

using Kind = Requirement::Kind;
constexpr double unknown = std::numeric_limits<double>::quiet_NaN();

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

Measured massOf(const Known& k, const Requirement&) {
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
Measured geometryOf(const Known& k, const Requirement&) {
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
Measured openFindings(const Known& k, const Requirement&) {
    if (!k.project.findings(k.variant.recipe)) return {unknown, false};
    double open = 0;
    for (const Finding& f : findingsOf(k.project, k.variant.recipe)) {
        const DispositionState s = dispositionState(k.project, k.variant, f);
        open += !s.holds || s.disposition->decision == "fix";
    }
    return {open, true};
}

Measured thinnestWall(const Known& k, const Requirement&) {
    return k.onSurface ? Measured{k.onSurface->thickness.least, k.surface != nullptr} : Measured{};
}

Measured deviationOf(const Known& k, const Requirement&) {
    return k.onSurface ? Measured{k.onSurface->deviationMax, k.surface != nullptr} : Measured{};
}

Measured reactionOf(const Known& k, const Requirement& r) {
    if (!k.onCheck) return {};
    Measured m{0, k.check != nullptr};
    for (const CaseResult& c : k.onCheck->cases)
        for (const InterfaceReaction& x : c.reactions)
            if (isAsked(r, c) && (r.interface.empty() || r.interface == x.interface))
                m.value = std::max(m.value, x.force.norm());
    return m;
}

Measured tooLittleDraft(const Known& k, const Requirement&) {
    if (!k.process) return {unknown, true, "measured when the stages are run again"};
    const auto& draft = k.process->draft;
    return {draft.freeArea > 0 ? 100 * draft.tooSteepArea / draft.freeArea : 0, k.surface != nullptr};
}

Measured overhangOf(const Known& k, const Requirement&) {
    if (!k.process || !k.surface) return {unknown, true, "measured when the stages are run again"};
    return {100 * k.process->overhang.area / k.surface->measures.area, true};
}

Measured lastChange(const Known& k, const Requirement&) {
    if (!k.onCheck) return {};
    if (k.onCheck->passes.size() < 2) return {unknown, k.check != nullptr, "needs a check of level 'converged'"};
    return {100 * k.onCheck->passes.back().change, k.check != nullptr};
}

Measured imbalance(const Known& k, const Requirement&) {
    if (!k.onCheck) return {};
    Measured m{0, k.check != nullptr};
    for (const CaseResult& c : k.onCheck->cases) m.value = std::max(m.value, c.equilibriumError);
    return m;
}

/// A figure of a further analysis: what counts of it, with its doubts taken off.
Measured figureOf(const Known& k, const Requirement& r) {
    const AnalysisKind* kind = analysisOf(r);
    if (!kind) return {unknown, true, "no analysis has this figure"};
    const auto found = k.project.analysis(k.variant.recipe, kind->key);
    if (!found) return {unknown, true, std::string(kind->words) + " not worked out for this check"};
    const AnalysisFigure* f = found->find(r.figure, r.loadCase);
    if (!f) return {unknown, true, "the analysis has no such figure"};
    std::string note = f->note;
    if (f->value != f->counts) note = "worked out " + formatNumber(f->value) + "; " + note;
    if (!f->loadCase.empty() && r.loadCase.empty()) note = "in " + f->loadCase + "; " + note;
    return {f->counts, true, note};
}

}  // namespace

const RequirementMeasure& requirementMeasure(Kind kind) {
    static const RequirementMeasure all[] = {
        {Kind::safetyFactor, Stage::check, safetyFactorOf},
        {Kind::displacement, Stage::check, displacementOf},
        {Kind::mass, Stage::surface, massOf},
        {Kind::minimumWall, Stage::surface, thinnestWall},
        {Kind::reaction, Stage::check, reactionOf},
        {Kind::deviation, Stage::surface, deviationOf},
        {Kind::draft, Stage::surface, tooLittleDraft},
        {Kind::overhang, Stage::surface, overhangOf},
        {Kind::convergence, Stage::check, lastChange},
        {Kind::equilibrium, Stage::check, imbalance},
        {Kind::validGeometry, Stage::surface, geometryOf},
        {Kind::findingsDisposed, Stage::findings, openFindings},
        {Kind::figure, Stage::check, figureOf},
    };
    return all[static_cast<int>(kind)];
}

}  // namespace escultura::judge
