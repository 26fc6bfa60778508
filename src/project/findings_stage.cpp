#include <algorithm>
#include <cmath>
#include <limits>
#include <set>

#include "base/quantity.hpp"
#include "base/text.hpp"
#include "project/stages.hpp"

namespace escultura::project {
namespace {

/// Peaks below this share of the allowable stress are no hotspots: the finest mesh of a test would have to show them
/// two thirds higher to matter.
constexpr double leastPeak = 0.6;

/// Nodes of a named face, and what acts there.
struct Zone {
    std::string interface;
    bool support = false, load = false;
    std::set<std::int32_t> nodes;
};

std::vector<Zone> zonesOf(const Part& part, const CheckResult& check) {
    std::vector<Zone> zones;
    auto acts = [](const FaceReference& on, const NamedFace& f) {
        return on.face == f.face && std::count(on.interfaces.begin(), on.interfaces.end(), f.interface);
    };
    for (const NamedFace& f : check.faces) {
        Zone z;
        z.interface = f.interface;
        for (const Support& s : part.supports) z.support = z.support || acts(s.on, f);
        for (const LoadCase& c : part.loadCases)
            for (const Load& l : part.loadsOf(c)) z.load = z.load || acts(l.on, f);
        for (auto face : facesOf(check.mesh, f))
            z.nodes.insert(check.mesh.boundary[face].begin(), check.mesh.boundary[face].end());
        zones.push_back(std::move(z));
    }
    return zones;
}

/// Sets what lies near the finding.
void placeAmong(const std::vector<Zone>& zones, const mesh::TetMesh& mesh, Finding& f) {
    f.distance = f.toSupport = f.toLoad = std::numeric_limits<double>::infinity();
    for (const Zone& z : zones)
        for (auto n : z.nodes) {
            const double d = (mesh.position[n] - f.position).norm();
            if (d < f.distance) f.distance = d, f.nearestInterface = z.interface;
            if (z.support) f.toSupport = std::min(f.toSupport, d);
            if (z.load) f.toLoad = std::min(f.toLoad, d);
        }
}

Finding::Kind kindOf(GeometryFinding::Kind kind) {
    switch (kind) {
        case GeometryFinding::Kind::memberLost:
            return Finding::Kind::memberLost;
        case GeometryFinding::Kind::memberThinned:
            return Finding::Kind::memberThinned;
        case GeometryFinding::Kind::gapClosed:
            return Finding::Kind::gapClosed;
        case GeometryFinding::Kind::interfaceLost:
            return Finding::Kind::interfaceLost;
        default:
            return Finding::Kind::pieces;
    }
}

/// Warnings of the other stages.
std::vector<Finding> warnings(const Part& part, const SurfaceResult& surface, const CheckResult& check,
                              const Recipe& recipe, const ProcessResult* process) {
    std::vector<Finding> list;
    auto add = [&](Finding::Kind kind, const std::string& text, const Vec3& at) {
        Finding f;
        f.kind = kind;
        f.text = text;
        f.position = at;
        list.push_back(std::move(f));
    };
    auto mm = [](double v) { return plainNumber(v, 3) + " mm"; };
    if (!recipe.check.original)
        for (const GeometryFinding& g : surface.findings) {
            // bores and cuts make handles of their own: a count alone decides nothing
            if (g.kind == GeometryFinding::Kind::handles) continue;
            add(kindOf(g.kind), g.text, g.position);
        }
    for (const Requirement& r : part.requirements) {
        if (recipe.check.original) break;
        if (r.kind == Requirement::Kind::minimumWall && surface.thickness.least < r.limit)
            add(Finding::Kind::thinWall,
                "The thinnest wall is " + mm(surface.thickness.least) + ", wanted are " + mm(r.limit) + ".",
                surface.thickness.leastAt);
        if (r.kind == Requirement::Kind::deviation && surface.deviationMax > r.limit)
            add(Finding::Kind::deviation,
                "The surface is " + mm(surface.deviationMax) + " away from the raw field, allowed are " + mm(r.limit) +
                    ".",
                surface.deviationMaxAt);
        if (r.kind == Requirement::Kind::draft && process && process->draft.undercutArea > 0)
            add(Finding::Kind::undercut,
                formatNumber(process->draft.undercutArea, 3) + " mm² of the surface lie in the way of the mould.",
                process->draft.worstAt);
    }
    if (check.quality.failed > 0)
        add(Finding::Kind::badElements, std::to_string(check.quality.failed) + " elements of the mesh are bad.",
            check.quality.worst.empty() ? Vec3(Vec3::Zero()) : check.quality.worst.front().middle);
    if (!recipe.check.original && !surface.thickness.value.empty()) {
        const double lost = forecastMesh(part, surface, recipe).thinWalls;
        if (lost > 0.01)
            add(Finding::Kind::lostWalls,
                formatNumber(100 * lost, 2) +
                    " % of the surface bounds walls thinner than an element: the check's mesh may lose them.",
                surface.thickness.leastAt);
    }
    return list;
}

}  // namespace

const char* name(Finding::Kind kind) {
    static const char* names[] = {"hotspot",      "thin wall",      "member lost", "member thinned",
                                  "gap closed",   "interface lost", "pieces",      "lost walls",
                                  "bad elements", "undercut",       "deviation"};
    return names[static_cast<int>(kind)];
}

std::string classOf(const Finding& f) {
    if (f.kind != Finding::Kind::hotspot) return name(f.kind);
    if (f.evidence.verdict != assess::HotspotClass::untested) return assess::name(f.evidence.verdict);
    return "not tested, " + f.place;
}

double allowableStress(const Part& part) {
    double required = 1;
    for (const Requirement& q : part.requirements)
        if (q.kind == Requirement::Kind::safetyFactor) required = std::max(required, q.limit);
    return elastic::strength(part.material) / required;
}

LocalPrint localPrint(const mesh::TetMesh& mesh, const Vec3& place, double reach) {
    double area = 0;
    Vec3 middle = Vec3::Zero(), normal = Vec3::Zero();
    for (const auto& t : mesh.boundary) {
        const Vec3 &a = mesh.position[t[0]], &b = mesh.position[t[1]], &c = mesh.position[t[2]];
        const Vec3 m = (a + b + c) / 3;
        const double d = (m - place).norm() / reach;
        if (d >= 1) continue;
        const double weight = (1 - d * d) * (1 - d * d);  // falls smoothly: meshes of one shape agree
        const Vec3 across = 0.5 * (b - a).cross(c - a);
        area += weight * across.norm();
        middle += weight * across.norm() * (m - place);
        normal += weight * across;
    }
    LocalPrint p{};
    p[0] = area;
    if (!(area > 0)) return p;
    for (int k = 0; k < 3; ++k) {
        p[1 + k] = middle[k] / area;
        p[4 + k] = normal[k] / area;
    }
    return p;
}

bool isSamePrint(const LocalPrint& a, const LocalPrint& b, double reach) {
    if (!(a[0] > 0) || !(b[0] > 0)) return a[0] == b[0];
    if (std::abs(a[0] - b[0]) > 0.04 * std::max(a[0], b[0])) return false;
    double moved = 0, turned = 0;
    for (int k = 1; k < 4; ++k) {
        moved += (a[k] - b[k]) * (a[k] - b[k]);
        turned += (a[k + 3] - b[k + 3]) * (a[k + 3] - b[k + 3]);
    }
    return std::sqrt(moved) < 0.03 * reach && std::sqrt(turned) < 0.06;
}

FindingsResult evaluateFindings(const Part& part, const SurfaceResult& surface, const CheckResult& check,
                                const Recipe& recipe, Progress& progress, const ProcessResult* process) {
    progress.step("Finding hotspots");
    const double allowable = allowableStress(part);
    FindingsResult r;
    r.sensitivity = recipe.hotspotShare * allowable;
    const auto spots = assess::findHotspots(check.mesh, check.envelope.stress, r.sensitivity, leastPeak * allowable);
    for (const auto& spot :
         assess::findHotspots(check.mesh, check.envelope.stress, 0.005 * allowable, leastPeak * allowable))
        r.heights.push_back(spot.persistence);
    std::sort(r.heights.rbegin(), r.heights.rend());
    const std::vector<Zone> zones = zonesOf(part, check);
    const double zone = 2 * recipe.elementSize;  // where the idealised boundary shapes the stress
    for (std::size_t i = 0; i < spots.size(); ++i) {
        Finding f;
        f.id = "H" + std::to_string(i + 1);
        f.node = spots[i].node;
        f.position = check.mesh.position[f.node];
        f.peak = spots[i].peak;
        f.persistence = spots[i].persistence;
        f.area = spots[i].area;
        f.safetyFactor = assess::safetyFactor(elastic::strength(part.material), f.peak);
        f.caseName = check.cases[check.envelope.governingCase[f.node]].name;
        placeAmong(zones, check.mesh, f);
        f.place = f.toSupport <= zone && f.toSupport <= f.toLoad ? "near support"
                  : f.toLoad <= zone                             ? "near load"
                                                                 : "free body";
        r.findings.push_back(std::move(f));
    }
    int number = 0;
    for (Finding& f : warnings(part, surface, check, recipe, process)) {
        f.id = "G" + std::to_string(++number);
        placeAmong(zones, check.mesh, f);
        r.findings.push_back(std::move(f));
    }
    for (Finding& f : r.findings) {
        f.reach = 3 * recipe.elementSize;
        f.print = localPrint(check.mesh, f.position, f.reach);
    }
    return r;
}

}  // namespace escultura::project
