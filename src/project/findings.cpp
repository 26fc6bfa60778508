#include "project/findings.hpp"

#include <algorithm>
#include <cmath>
#include <set>

#include "base/digest.hpp"
#include "base/error.hpp"

namespace escultura::project {
namespace {

std::string testsKey(const Project& project, const Recipe& recipe) {
    return Digest().add("tests").add(project.keys(recipe).check).hex();
}

}  // namespace

std::vector<Finding> findingsOf(const Project& project, const Recipe& recipe) {
    const auto found = project.findings(recipe);
    if (!found) return {};
    std::vector<Finding> list = found->findings;
    if (const auto tests = project.results->find<HotspotTests>(testsKey(project, recipe)))
        for (Finding& f : list)
            if (const auto at = tests->byNode.find(f.node); f.node >= 0 && at != tests->byNode.end())
                f.evidence = at->second;
    return list;
}

const Finding* findFinding(const std::vector<Finding>& findings, const std::string& id) {
    for (const Finding& f : findings)
        if (f.id == id) return &f;
    return nullptr;
}

void testHotspots(const Project& project, const Recipe& recipe, const std::vector<std::string>& ids,
                  Progress& progress) {
    const auto check = project.check(recipe);
    const std::vector<Finding> findings = findingsOf(project, recipe);
    if (!check || !project.findings(recipe))
        throw InputError(ErrorDetail{
            "Hotspots cannot be tested.", {}, "findings", "fresh ones: run the check first", "out of date"});
    for (const std::string& id : ids) {
        const Finding* f = findFinding(findings, id);
        if (!f || f->kind != Finding::Kind::hotspot)
            throw InputError(
                ErrorDetail{"Hotspots cannot be tested.", {}, "finding", "the id of a hotspot", "'" + id + "'"});
    }
    std::vector<assess::Suspect> suspects;
    std::vector<std::int32_t> nodes;
    for (const Finding& f : findings) {
        if (f.kind != Finding::Kind::hotspot || f.evidence.verdict != assess::HotspotClass::untested) continue;
        if (!ids.empty() && std::find(ids.begin(), ids.end(), f.id) == ids.end()) continue;
        suspects.push_back({f.position, f.toSupport, f.toLoad});
        nodes.push_back(f.node);
    }
    if (suspects.empty()) return;
    const auto field = project.field(recipe);
    const auto surface = project.surface(recipe);
    const auto original = project.original(recipe);
    const auto rebuilt = recipe.check.rebuilt && !recipe.check.original ? project.rebuild(recipe) : nullptr;
    if (recipe.check.rebuilt && !recipe.check.original && !rebuilt)
        throw InputError(ErrorDetail{"Hotspots cannot be tested.",
                                     {},
                                     "solid",
                                     "the rebuilt solid of this session: run Rebuild",
                                     "a check that was stored without it"});
    const Part& part = project.partOf(recipe);
    auto mesh = project.mesh(recipe);
    if (!mesh)  // a stored check has only its results
        mesh = project.results->store(project.keys(recipe).mesh, evaluateMesh(part, *field, *surface, recipe, progress,
                                                                              original.get(), rebuilt.get()));
    const auto evidence =
        testSpots(part, *field, *surface, *mesh, *check, recipe, suspects, progress, original.get(), rebuilt.get());
    HotspotTests all;
    if (const auto before = project.results->find<HotspotTests>(testsKey(project, recipe))) all = *before;
    for (std::size_t i = 0; i < nodes.size(); ++i) all.byNode[nodes[i]] = evidence[i];
    project.results->store(testsKey(project, recipe), std::move(all));
}

DispositionState dispositionState(const Project& project, const Variant& variant, const Finding& finding) {
    const std::string key = project.keys(variant.recipe).findings;
    DispositionState state;
    for (const Disposition& d : variant.dispositions) {
        if (d.findingsKey == key && d.finding == finding.id && d.kind == classOf(finding)) return {&d, true};
        // another result: the same decision holds while nothing has changed around the place
        const bool sameKind = d.kind == classOf(finding);
        const bool near = (d.position - finding.position).norm() <= 0.5 * std::max(d.reach, finding.reach);
        if (!near || (d.findingsKey == key && d.finding != finding.id)) continue;
        const bool samePeak = std::abs(d.peak - finding.peak) <= 0.02 * std::max(d.peak, finding.peak);
        const bool holds = sameKind && samePeak && d.findingsKey != key &&
                           (d.position - finding.position).norm() <= 0.15 * finding.reach &&
                           isSamePrint(d.print, finding.print, finding.reach);
        if (!state.holds) state = {&d, holds};
    }
    return state;
}

Disposition signedDisposition(const Project& project, const Recipe& recipe, const Finding& f,
                              const std::string& decision, const std::string& reason, const std::string& by,
                              const std::string& date) {
    return {project.keys(recipe).findings,
            f.id,
            decision,
            reason,
            by,
            date,
            classOf(f),
            f.position,
            f.peak,
            f.reach,
            f.print};
}

void sign(Variant& variant, const Disposition& d) {
    std::erase_if(variant.dispositions, [&](const Disposition& x) {
        return x.findingsKey == d.findingsKey ? x.finding == d.finding
                                              : (x.position - d.position).norm() <= 0.5 * d.reach;
    });
    variant.dispositions.push_back(d);
}

std::shared_ptr<const ExcludedNodes> excludedNodes(const Project& project, const Variant& variant) {
    const auto check = project.check(variant.recipe);
    if (!check) return nullptr;
    std::vector<Finding> accepted;
    Digest digest;
    digest.add("excluded").add(project.keys(variant.recipe).check);
    for (Finding& f : findingsOf(project, variant.recipe)) {
        const auto verdict = f.evidence.verdict;
        if (verdict != assess::HotspotClass::singular && verdict != assess::HotspotClass::artefact) continue;
        const DispositionState state = dispositionState(project, variant, f);
        if (!state.holds || state.disposition->decision != "accept") continue;
        digest.add(static_cast<std::int64_t>(f.node));
        accepted.push_back(std::move(f));
    }
    if (accepted.empty()) return nullptr;
    const std::string key = digest.hex();
    if (auto known = project.results->find<ExcludedNodes>(key)) return known;

    const Part& part = project.partOf(variant.recipe);
    const mesh::TetMesh& mesh = check->mesh;
    ExcludedNodes out;
    out.excluded.assign(mesh.position.size(), 0);
    std::set<std::int32_t> boundary;
    for (const auto& t : mesh.boundary) boundary.insert(t.begin(), t.end());
    for (const Finding& f : accepted) {
        out.findings.push_back(f.id);
        if (f.evidence.verdict == assess::HotspotClass::singular) {
            const auto zone = assess::singularZone(mesh, f.position, 0.75 * f.evidence.zone);
            for (std::size_t n = 0; n < zone.size(); ++n) out.excluded[n] = out.excluded[n] || zone[n];
            continue;
        }
        // what lies as near to the same idealised boundary as the artefact does, and at least half an element
        std::vector<Vec3> face;
        auto acts = [&](const FaceReference& on, const NamedFace& named) {
            return on.face == named.face && std::count(on.interfaces.begin(), on.interfaces.end(), named.interface);
        };
        for (const NamedFace& named : check->faces) {
            bool used = false;
            for (const Support& s : part.supports) used = used || acts(s.on, named);
            for (const LoadCase& c : part.loadCases)
                for (const Load& l : part.loadsOf(c)) used = used || acts(l.on, named);
            if (!used || named.interface != f.nearestInterface) continue;
            for (auto index : facesOf(mesh, named))
                for (auto n : mesh.boundary[index]) face.push_back(mesh.position[n]);
        }
        const double reach = std::max(std::min(f.toSupport, f.toLoad) + 1e-6, 0.25 * f.evidence.zone);
        for (auto n : boundary)
            for (std::size_t q = 0; q < face.size() && !out.excluded[n]; ++q)
                out.excluded[n] = (face[q] - mesh.position[n]).squaredNorm() <= reach * reach;
    }
    return project.results->store(key, std::move(out));
}

}  // namespace escultura::project
