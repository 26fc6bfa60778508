#include "stages/findings_stage.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <set>

#include "base/parallel.hpp"
#include "base/quantity.hpp"
#include "base/text.hpp"
#include "stages/check_stage.hpp"
#include "stages/spot_test.hpp"
#include "stages/surface_stage.hpp"

namespace escultura::stages {
namespace {

/// Peaks below this share of the allowable stress are no hotspots, unless what counts there could fail: judged stresses
/// are right within a tenth where the two estimates agree.
constexpr double leastPeak = 0.8;

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
            if (d < f.distance) {
                f.distance = d;
                f.nearestInterface = z.interface;
            }
            if (z.support) f.toSupport = std::min(f.toSupport, d);
            if (z.load) f.toLoad = std::min(f.toLoad, d);
        }
}

/// Where the check's mesh lies away from the surface by more than its curved elements do: in a wall thinner than an
/// element it may leave out half of the wall, and refining it there leaves the notch as it is.
struct Missed {
    Vec3 at = Vec3::Zero();    ///< middle of a face of the mesh's boundary, mm
    double off = 0, wall = 0;  ///< how far from the surface, and how thick the wall is there, mm; wall 0: not measured
};
constexpr double missedShare = 0.15;          // of the element size
constexpr double elementsThroughAWall = 1.6;  // at which walls come through the mesher whole

std::vector<Missed> missedPlaces(const SurfaceResult& surface, const CheckResult& check, double elementSize) {
    if (surface.mesh.triangle.empty()) return {};
    const surface::TriangleTree tree(surface.mesh);
    std::vector<Missed> all(check.mesh.boundary.size());
    parallelFor(all.size(), [&](std::size_t f) {
        const mesh::Triangle6& t = check.mesh.boundary[f];
        Missed& m = all[f];
        m.at = (check.mesh.position[t[3]] + check.mesh.position[t[4]] + check.mesh.position[t[5]]) / 3;
        const auto closest = tree.closest(m.at);
        if (closest.distance <= missedShare * elementSize) return;
        m.off = closest.distance;
        if (surface.thickness.value.empty()) return;
        for (auto v : surface.mesh.triangle[static_cast<std::size_t>(closest.triangle)])
            if (const double wall = surface.thickness.value[static_cast<std::size_t>(v)];
                wall > 0 && (m.wall == 0 || wall < m.wall))
                m.wall = wall;
    });
    std::erase_if(all, [](const Missed& m) { return m.off == 0; });
    return all;
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
        case GeometryFinding::Kind::thinMember:
        case GeometryFinding::Kind::lostDecision:
            return Finding::Kind::thinMember;
        default:
            return Finding::Kind::pieces;
    }
}

/// Warnings of the other stages.
std::vector<Finding> warnings(const Part& part, const SurfaceResult& surface, const CheckResult& check,
                              const Recipe& recipe, const ProcessResult* process, const std::vector<Missed>& missed) {
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
    if (!missed.empty()) {
        const Missed& worst =
            *std::max_element(missed.begin(), missed.end(), [](auto& a, auto& b) { return a.off < b.off; });
        double thinnest = 0;
        for (const Missed& m : missed)
            if (m.wall > 0 && (thinnest == 0 || m.wall < thinnest)) thinnest = m.wall;
        std::string text = "The check's mesh leaves the surface by up to " + mm(worst.off) + ", at " +
                           std::to_string(missed.size()) + " of " + std::to_string(check.mesh.boundary.size()) +
                           " faces";
        if (thinnest > 0 && thinnest / elementsThroughAWall < recipe.elementSize)
            text += ": walls of " + mm(thinnest) + " want elements of at most " + mm(thinnest / elementsThroughAWall);
        add(Finding::Kind::lostWalls, text + ".", worst.at);
    } else if (!recipe.check.original && !surface.thickness.value.empty()) {
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

bool Finding::canGoOn() const {
    constexpr std::size_t most = 4;
    if (kind != Kind::hotspot || evidence.verdict != assess::HotspotClass::real || further.size() >= most) return false;
    return further.empty() || further.back().evidence.verdict == assess::HotspotClass::real;
}

const char* name(Finding::Kind kind) {
    static const char* names[] = {"hotspot",      "thin wall",      "member lost", "member thinned",
                                  "gap closed",   "interface lost", "pieces",      "lost walls",
                                  "bad elements", "undercut",       "deviation",   "thin member"};
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

namespace {

/// Node of the highest judged stress in each basin, on the boundary.
std::vector<std::int32_t> summits(const CheckResult& check, std::size_t count, const std::vector<std::int32_t>& basin) {
    const std::vector<double>& judged = check.envelope.stress;
    std::vector<std::int32_t> top(count, -1);
    for (const auto& t : check.mesh.boundary)
        for (auto n : t) {
            if (basin[n] < 0) continue;
            auto& best = top[basin[n]];
            if (best < 0 || judged[n] > judged[best] || (judged[n] == judged[best] && n < best)) best = n;
        }
    return top;
}

/// For each summit the one by whose test it is seen: itself, or a higher one so near that one test looks at both.
std::vector<std::size_t> seenTogether(const CheckResult& check, const std::vector<std::int32_t>& summit) {
    const std::vector<double>& judged = check.envelope.stress;
    std::vector<std::size_t> order(summit.size()), into(summit.size());
    for (std::size_t i = 0; i < order.size(); ++i) order[i] = into[i] = i;
    std::stable_sort(order.begin(), order.end(), [&](auto a, auto b) { return judged[summit[a]] > judged[summit[b]]; });
    std::vector<std::pair<std::size_t, double>> kept;
    for (const auto i : order) {
        const Vec3& place = check.mesh.position[summit[i]];
        for (const auto& [other, reach] : kept)
            if ((check.mesh.position[summit[other]] - place).norm() <= reach) {
                into[i] = other;
                break;
            }
        if (into[i] == i) kept.emplace_back(i, assess::testReach(check.mesh, place));
    }
    return into;
}

/// Heights of all peaks above their saddles, of those that one test sees the largest, MPa.
std::vector<double> heightsOf(const CheckResult& check, const std::vector<double>& score, double allowable) {
    std::vector<double> heights;
    std::vector<std::int32_t> basin;
    const auto all =
        assess::findHotspots(check.mesh, check.recovered, 0.005 * allowable, score, leastPeak * allowable, &basin);
    const auto top = summits(check, all.size(), basin);
    std::map<std::size_t, double> height;  // of those that one test sees, the largest
    const std::vector<std::size_t> into = seenTogether(check, top);
    for (std::size_t i = 0; i < all.size(); ++i) height[into[i]] = std::max(height[into[i]], all[i].persistence);
    for (const auto& [spot, h] : height) heights.push_back(h);
    return heights;
}

/// What counts at each hotspot, case by case. [hotspots]
struct Spots {
    std::vector<std::vector<double>> counts, beside;  ///< MPa: within the ball that a test sees and all; outside it
    std::vector<double> ball, elementSizes;           ///< mm

    /// @param rest  [cases] what counts at nodes of no hotspot, MPa
    void measure(const Part& part, const CheckResult& check, const std::vector<std::int32_t>& summit,
                 const std::vector<std::int32_t>& basin, std::vector<double>& rest) {
        rest.assign(check.cases.size(), 0.0);
        counts.assign(summit.size(), rest);
        beside.assign(summit.size(), rest);
        for (std::size_t i = 0; i < summit.size(); ++i) {
            elementSizes.push_back(assess::elementSizeAt(check.mesh, check.mesh.position[summit[i]]));
            ball.push_back(assess::testReach(check.mesh, check.mesh.position[summit[i]]));
        }
        for (std::size_t c = 0; c < check.cases.size(); ++c)
            for (std::size_t n = 0; n < basin.size(); ++n) {
                double& most = basin[n] < 0 ? rest[c] : counts[basin[n]][c];
                most = std::max(most, check.cases[c].counts[n]);
                if (basin[n] < 0) continue;
                const auto i = static_cast<std::size_t>(basin[n]);
                if ((check.mesh.position[n] - check.mesh.position[summit[i]]).norm() <= ball[i]) continue;
                beside[i][c] = std::max(beside[i][c], ruledStress(part, check.cases[c].stress[n]));
            }
    }
};

}  // namespace

FindingsResult evaluateFindings(const Part& part, const SurfaceResult& surface, const CheckResult& check,
                                const Recipe& recipe, Progress& progress, const ProcessResult* process) {
    progress.step("Finding hotspots");
    const double allowable = allowableStress(part);
    FindingsResult r;
    r.sensitivity = recipe.hotspotShare * allowable;
    // Where peaks are is told by the recovered stress, which is smooth; how high they are by the judged one, which
    // jumps from node to node along an edge. A peak is high enough when its judged stress is, or when what counts could
    // fail.
    const std::vector<double>& judged = check.envelope.stress;
    std::vector<double> score(judged.size());
    for (std::size_t n = 0; n < score.size(); ++n) score[n] = std::max(judged[n], leastPeak * check.counts[n]);
    const double least = leastPeak * allowable;
    const auto spots = assess::findHotspots(check.mesh, check.recovered, r.sensitivity, score, least, &r.basin);
    const std::vector<std::int32_t> summit = summits(check, spots.size(), r.basin);
    r.heights = heightsOf(check, score, allowable);
    std::sort(r.heights.rbegin(), r.heights.rend());
    const std::vector<Zone> zones = zonesOf(part, check);
    std::vector<Missed> missed;  // the other bodies' surfaces are not at hand; their meshes' volumes are compared
    if (!recipe.check.original && !recipe.check.rebuilt) missed = missedPlaces(surface, check, recipe.elementSize);
    const auto near = boundaryFinder(part, check);
    Spots found;
    found.measure(part, check, summit, r.basin, r.rest);
    auto& [counts, beside, ball, elementSizes] = found;
    const std::vector<std::size_t> into = seenTogether(check, summit);
    std::vector<std::size_t> order;
    for (std::size_t i = 0; i < spots.size(); ++i) {
        if (into[i] == i) {
            order.push_back(i);
            continue;
        }
        for (auto& b : r.basin)
            if (b == static_cast<std::int32_t>(i)) b = static_cast<std::int32_t>(into[i]);
        for (std::size_t c = 0; c < check.cases.size(); ++c) {
            counts[into[i]][c] = std::max(counts[into[i]][c], counts[i][c]);
            beside[into[i]][c] = std::max(beside[into[i]][c], beside[i][c]);
        }
    }
    std::stable_sort(order.begin(), order.end(), [&](auto a, auto b) { return judged[summit[a]] > judged[summit[b]]; });
    for (const std::size_t i : order) {
        Finding f;
        f.id = "H" + std::to_string(r.findings.size() + 1);
        f.node = summit[i];
        f.position = check.mesh.position[f.node];
        f.peak = judged[f.node];
        f.counts = counts[i];
        f.beside = beside[i];
        f.persistence = spots[i].persistence;
        f.area = spots[i].area;
        f.safetyFactor = assess::safetyFactor(elastic::strength(part.material), f.peak);
        f.caseName = check.cases[check.envelope.governingCase[f.node]].name;
        placeAmong(zones, check.mesh, f);
        const assess::NearBoundary boundary = near(f.position);
        f.toSupport = boundary.toSupport;
        f.toLoad = boundary.toLoad;
        if (std::min(f.toSupport, f.toLoad) <= boundary.zone)
            f.place = f.toSupport <= f.toLoad ? "near support" : "near load";
        else
            f.place = assess::isAtSharpEdge(check.mesh, f.position, ball[i]) ? "sharp edge" : "free body";
        if (std::any_of(missed.begin(), missed.end(),
                        [&](const Missed& m) { return (m.at - f.position).norm() <= elementSizes[i]; }))
            f.place = atMissedWall;
        r.findings.push_back(std::move(f));
    }
    int number = 0;
    for (Finding& f : warnings(part, surface, check, recipe, process, missed)) {
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

}  // namespace escultura::stages
