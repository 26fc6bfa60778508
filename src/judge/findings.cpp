#include "judge/findings.hpp"

#include <algorithm>
#include <cmath>
#include <set>

#include "base/digest.hpp"
#include "base/error.hpp"
#include "stages/spot_test.hpp"

namespace escultura::judge {
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
            if (const auto at = tests->byNode.find(f.node); f.node >= 0 && at != tests->byNode.end()) {
                f.evidence = at->second;
                if (const auto g = tests->group.find(f.node); g != tests->group.end()) f.testGroup = g->second;
                if (const auto m = tests->further.find(f.node); m != tests->further.end()) f.further = m->second;
                if (const auto b = tests->beside.find(f.node); b != tests->beside.end()) f.beside = b->second;
            }
    return list;
}

const Finding* findFinding(const std::vector<Finding>& findings, const std::string& id) {
    for (const Finding& f : findings)
        if (f.id == id) return &f;
    return nullptr;
}

namespace {

/// On the slopes of a hotspot, outside the balls that the tests of real peaks looked into: the node of the highest
/// judged stress (-1: none), and the highest in each case, MPa.
struct Beside {
    std::int32_t node = -1;
    std::vector<double> stress;
};
Beside besideOf(const Part& part, const CheckResult& check, const FindingsResult& found, std::int32_t hotspot,
                const std::vector<FurtherTest>& further) {
    std::vector<std::pair<Vec3, double>> balls;
    auto leaveOut = [&](std::int32_t node) {
        const Vec3& at = check.mesh.position[node];
        balls.emplace_back(at, assess::testReach(check.mesh, at));
    };
    leaveOut(hotspot);
    for (const FurtherTest& f : further)
        if (f.evidence.verdict == assess::HotspotClass::real) leaveOut(f.node);
    Beside b;
    b.stress.assign(check.cases.size(), 0.0);
    const auto basin = found.basin.at(hotspot);
    double highest = 0;
    for (const auto& t : check.mesh.boundary)
        for (auto n : t) {
            if (found.basin[n] != basin) continue;
            const Vec3& at = check.mesh.position[n];
            if (std::any_of(balls.begin(), balls.end(),
                            [&](const auto& ball) { return (at - ball.first).norm() <= ball.second; }))
                continue;
            for (std::size_t c = 0; c < b.stress.size(); ++c)
                b.stress[c] = std::max(b.stress[c], ruledStress(part, check.cases[c].stress[n]));
            if (check.envelope.stress[n] > highest) {
                highest = check.envelope.stress[n];
                b.node = n;
            }
        }
    return b;
}

}  // namespace

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
    const Part& part = project.partOf(recipe);
    const auto found = project.findings(recipe);
    std::vector<Vec3> places;
    std::vector<std::int32_t> nodes, at;  // of the hotspots, and of the places that are looked at
    for (const Finding& f : findings) {
        if (f.kind != Finding::Kind::hotspot) continue;
        const bool isNamed = std::find(ids.begin(), ids.end(), f.id) != ids.end();
        std::int32_t place = f.node;
        if (f.evidence.verdict != assess::HotspotClass::untested) {  // tested: a further place on its slopes
            if (!isNamed || !f.canGoOn()) continue;
            place = besideOf(part, *check, *found, f.node, f.further).node;
            if (place < 0) continue;
        } else if (!ids.empty() && !isNamed) {
            continue;
        }
        places.push_back(check->mesh.position[place]);
        nodes.push_back(f.node);
        at.push_back(place);
    }
    if (places.empty()) return;
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
    auto mesh = project.mesh(recipe);
    if (!mesh)  // a stored check has only its results
        mesh = project.results->store(project.keys(recipe).mesh, evaluateMesh(part, *field, *surface, recipe, progress,
                                                                              original.get(), rebuilt.get()));
    const CheckedBody body = checkedBody(part, *field, *surface, recipe, original.get(), rebuilt.get(), progress);
    auto evidence = testSpots(part, body, mesh->corners, *check, places, progress);
    for (std::size_t i = 0; i < nodes.size(); ++i)
        for (const Finding& f : findings)
            if (f.node == nodes[i] && f.place == atMissedWall) {  // whatever grows or settles there, it is not the body
                evidence[i].verdict = assess::HotspotClass::unresolved;
                evidence[i].reason =
                    "The check's mesh leaves the body's surface here, and stays so when it is refined: choose smaller "
                    "elements.";
            }
    HotspotTests all;
    if (const auto before = project.results->find<HotspotTests>(testsKey(project, recipe))) all = *before;
    int group = 1;
    for (const auto& [node, number] : all.group) group = std::max(group, number + 1);
    for (const auto& [node, list] : all.further)
        for (const FurtherTest& f : list) group = std::max(group, f.group + 1);
    for (std::size_t i = 0; i < nodes.size(); ++i) {
        if (at[i] == nodes[i]) {
            all.byNode[nodes[i]] = evidence[i];
            all.group[nodes[i]] = group;
        } else {
            all.further[nodes[i]].push_back({at[i], group, evidence[i]});
        }
        all.beside[nodes[i]] = besideOf(part, *check, *found, nodes[i], all.further[nodes[i]]).stress;
    }
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

std::vector<char> zoneOf(const Project& project, const Recipe& recipe, const Finding& f) {
    const auto check = project.check(recipe);
    const auto found = project.findings(recipe);
    using assess::HotspotClass;
    const auto verdict = f.evidence.verdict;
    if (!check || !found || f.node < 0 || (verdict != HotspotClass::singular && verdict != HotspotClass::artefact))
        return {};
    const mesh::TetMesh& mesh = check->mesh;
    const auto basin = found->basin.at(f.node);
    auto isOwn = [&](std::int32_t n) { return basin >= 0 && found->basin[n] == basin; };
    if (verdict == HotspotClass::singular)
        return assess::singularZone(mesh, f.position, f.evidence.angle, f.evidence.reach, isOwn);
    // what lies as near to the idealised boundary as its zone reaches, around the tested place only
    const auto near = boundaryFinder(project.partOf(recipe), *check);
    std::vector<char> inside(mesh.position.size(), 0);
    for (std::size_t n = 0; n < inside.size(); ++n) {
        if (!isOwn(static_cast<std::int32_t>(n))) continue;
        const Vec3& p = mesh.position[n];
        if ((p - f.position).norm() > f.evidence.reach + f.evidence.zone) continue;
        const assess::NearBoundary at = near(p);
        inside[n] = std::min(at.toSupport, at.toLoad) <= at.zone;
    }
    inside[f.node] = 1;
    return inside;
}

std::shared_ptr<const ExcludedNodes> excludedNodes(const Project& project, const Variant& variant) {
    const auto check = project.check(variant.recipe);
    const auto found = project.findings(variant.recipe);
    if (!check || !found) return nullptr;
    std::vector<Finding> accepted;
    Digest digest;
    digest.add("excluded").add(project.keys(variant.recipe).findings);
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

    ExcludedNodes out;
    out.excluded.assign(check->mesh.position.size(), 0);
    for (const Finding& f : accepted) {
        out.findings.push_back(f.id);
        const std::vector<char> zone = zoneOf(project, variant.recipe, f);
        const auto basin = found->basin.at(f.node);
        std::vector<double> remaining(check->cases.size(), 0.0);
        for (std::size_t n = 0; n < zone.size(); ++n) {
            out.excluded[n] = out.excluded[n] || zone[n];
            if (zone[n] || found->basin[n] != basin) continue;
            for (std::size_t c = 0; c < remaining.size(); ++c)
                remaining[c] = std::max(remaining[c], check->cases[c].counts[n]);
        }
        out.remaining[f.id] = std::move(remaining);
    }
    return project.results->store(key, std::move(out));
}

}  // namespace escultura::judge
