#include "lattice/refine.hpp"

#include <algorithm>
#include <cmath>

#include "base/parallel.hpp"
#include "lattice/edge_table.hpp"
#include "lattice/improve.hpp"

namespace escultura::lattice {
namespace {

constexpr int edgeEnds[6][2] = {{0, 1}, {1, 2}, {0, 2}, {0, 3}, {1, 3}, {2, 3}};

/// Order of edges that every tetrahedron agrees on: by length, then by its ends.
struct Longer {
    const std::vector<Vec3>& position;
    std::pair<double, std::uint64_t> operator()(std::int32_t a, std::int32_t b) const {
        const auto low = std::min(a, b), high = std::max(a, b);
        return {(position[high] - position[low]).squaredNorm(), edgeKey(a, b)};
    }
};

std::pair<std::int32_t, std::int32_t> longestEdge(const Tet& t, const Longer& longer) {
    std::pair<double, std::uint64_t> best{-1, 0};
    std::pair<std::int32_t, std::int32_t> edge;
    for (const auto& e : edgeEnds) {
        const auto l = longer(t[e[0]], t[e[1]]);
        if (l > best) {
            best = l;
            edge = {t[e[0]], t[e[1]]};
        }
    }
    return edge;
}

/// Bisects all marked edges; each tetrahedron splits its longest marked edge first, so that neighbours split a shared
/// face alike.
/// @param hasSurfaces  boundary edges carry the surfaces that both ends share; else there are none
/// @param middle  the edges; their values become the new vertices
/// @param isNew   receives which tetrahedra are halves of others; may be null
/// @return new vertices on the boundary, in the middle of their edges
std::vector<std::int32_t> split(TetComplex& c, EdgeTable& middle, RefineReport& report, bool hasSurfaces = true,
                                std::vector<char>* isNew = nullptr) {
    const Longer longer{c.position};
    EdgeTable onBoundary(c.position.size());
    if (hasSurfaces)
        for (const Triangle& t : boundaryFaces(c).triangle)
            for (int k = 0; k < 3; ++k) onBoundary.add(t[k], t[(k + 1) % 3], 1);
    const std::vector<std::uint64_t> keys = middle.keys();
    const auto old = static_cast<std::int32_t>(c.position.size());
    std::vector<std::int32_t> fresh;
    for (auto key : keys) {
        const auto a = lowEnd(key), b = highEnd(key);
        const auto at = static_cast<std::int32_t>(c.position.size());
        *middle.find(a, b) = at;
        SurfaceSet set;
        if (onBoundary.find(a, b)) set = c.surfaces[a].common(c.surfaces[b]);
        c.position.push_back(0.5 * (c.position[a] + c.position[b]));
        c.surfaces.push_back(set);
        if (set.count() > 0) fresh.push_back(at);
    }
    report.newVertices += static_cast<int>(keys.size());
    std::vector<Tet> result, stack;
    result.reserve(c.tets.size() + keys.size() * 6);
    for (const Tet& whole : c.tets) {
        if (middle.touches(whole[0]) + middle.touches(whole[1]) + middle.touches(whole[2]) + middle.touches(whole[3]) <
            2) {
            result.push_back(whole);
            if (isNew) isNew->push_back(0);
            continue;
        }
        stack.assign(1, whole);
        while (!stack.empty()) {
            const Tet t = stack.back();
            stack.pop_back();
            std::pair<double, std::uint64_t> best{-1, 0};
            int chosen = -1;
            std::int32_t at = -1;
            for (int e = 0; e < 6; ++e) {
                const auto a = t[edgeEnds[e][0]], b = t[edgeEnds[e][1]];
                if (a >= old || b >= old) continue;  // a half, not to be halved again
                const std::int32_t* found = middle.find(a, b);
                if (!found) continue;
                const auto l = longer(a, b);
                if (l > best) {
                    best = l;
                    chosen = e;
                    at = *found;
                }
            }
            if (chosen < 0) {
                result.push_back(t);
                if (isNew) isNew->push_back(t != whole);
                continue;
            }
            Tet first = t, second = t;
            first[edgeEnds[chosen][1]] = at;
            second[edgeEnds[chosen][0]] = at;
            stack.push_back(second);
            stack.push_back(first);
        }
    }
    c.tets = std::move(result);
    return fresh;
}

/// Moves boundary vertices onto the shape, or as far towards it as the elements around stay good.
/// @return those that are not on it
std::vector<std::int32_t> settle(const shape::Shape& shape, TetComplex& c, const std::vector<std::int32_t>& vertices) {
    std::vector<std::int32_t> off;
    const Incidence around = incidence(c.position.size(), c.tets);
    for (auto v : vertices) {
        auto worst = [&] {
            double sine = 1;
            for (auto k = around.offset[v]; k < around.offset[v + 1]; ++k) {
                const Tet& t = c.tets[around.tet[k]];
                sine =
                    std::min(sine, minimumSine(c.position[t[0]], c.position[t[1]], c.position[t[2]], c.position[t[3]]));
            }
            return sine;
        };
        const Vec3 start = c.position[v];
        const double before = worst();
        const SurfaceSet& set = c.surfaces[v];
        int ids[3] = {set.id[0], set.id[1], set.id[2]};
        double reach = 0;
        for (auto k = around.offset[v]; k < around.offset[v + 1]; ++k)
            for (auto n : c.tets[around.tet[k]]) reach = std::max(reach, (c.position[n] - start).norm());
        Vec3 p = start;
        if (!shape::projectOnto(shape, ids, set.count(), p, 0.5 * reach) ||
            !(std::abs(shape.evaluate(p).value) < 1e-5 * reach + shape.roughness())) {
            off.push_back(v);
            continue;
        }
        bool there = false;
        for (double share : {1.0, 0.6, 0.3}) {
            c.position[v] = start + share * (p - start);
            if (worst() >= std::min(0.5 * before, 0.15)) {
                there = share == 1.0;
                break;
            }
            c.position[v] = start;
        }
        if (!there) off.push_back(v);
    }
    return off;
}

/// Adds the longest edges of tetrahedra that have another edge marked, until there are no more.
void closeOver(const TetComplex& c, EdgeTable& marked) {
    const Longer longer{c.position};
    const Incidence around = incidence(c.position.size(), c.tets);
    std::vector<char> isClosed(c.tets.size(), 0);  // its longest edge is marked
    std::vector<std::uint64_t> open = marked.keys();
    while (!open.empty()) {
        const auto a = lowEnd(open.back()), b = highEnd(open.back());
        open.pop_back();
        for (auto at = around.offset[a]; at < around.offset[a + 1]; ++at) {
            const auto e = static_cast<std::size_t>(around.tet[at]);
            const Tet& t = c.tets[e];
            if (isClosed[e] || (t[0] != b && t[1] != b && t[2] != b && t[3] != b)) continue;
            isClosed[e] = 1;
            const auto longest = longestEdge(t, longer);
            if (marked.add(longest.first, longest.second, -1)) open.push_back(edgeKey(longest.first, longest.second));
        }
    }
}

/// The longest edges of marked tetrahedra, and what keeps the mesh conforming.
EdgeTable edgesToHalve(const TetComplex& c, const std::vector<char>& marked) {
    const Longer longer{c.position};
    EdgeTable edges(c.position.size());
    for (std::size_t t = 0; t < c.tets.size(); ++t)
        if (marked[t]) {
            const auto e = longestEdge(c.tets[t], longer);
            edges.add(e.first, e.second, -1);
        }
    closeOver(c, edges);
    return edges;
}

}  // namespace

void bisect(TetComplex& c, const std::vector<char>& marked, std::vector<char>& isNew) {
    EdgeTable edges = edgesToHalve(c, marked);
    RefineReport report;
    isNew.clear();
    split(c, edges, report, false, &isNew);
}

RefineReport refineMarked(const shape::Shape& shape, TetComplex& c, const std::vector<char>& marked,
                          Progress& progress) {
    RefineReport report;
    EdgeTable edges = edgesToHalve(c, marked);
    if (edges.size() == 0) return report;
    // in a hollow the chord lies outside: what cannot follow at once follows when the elements have made room
    const auto old = static_cast<std::int32_t>(c.position.size());
    std::vector<std::int32_t> off = settle(shape, c, split(c, edges, report));
    report.rounds = 1;
    std::vector<char> touched(c.position.size(), 0);  // elsewhere the elements are as good as they were made before
    for (const Tet& t : c.tets)
        if (std::max({t[0], t[1], t[2], t[3]}) >= old)
            for (auto v : t) touched[v] = 1;
    for (int pass = 0; pass < 3; ++pass) {
        progress.step("Improving the elements");
        improve(shape, c, {0.38, 3}, progress, touched);
        if (off.empty()) break;
        off = settle(shape, c, off);
    }
    report.offSurface = static_cast<int>(off.size());
    return report;
}

RefineReport refine(const shape::Shape& shape, TetComplex& c, const std::function<double(const Vec3&)>& size,
                    std::size_t limit, Progress& progress) {
    RefineReport total;
    for (int round = 0; round < 24; ++round) {
        progress.step("Refining the mesh", round / 24.0);
        std::vector<char> marked(c.tets.size(), 0);
        std::vector<double> wanted(c.tets.size());
        parallelFor(c.tets.size(), [&](std::size_t t) {
            const Tet& q = c.tets[t];
            const Vec3 middle = (c.position[q[0]] + c.position[q[1]] + c.position[q[2]] + c.position[q[3]]) / 4;
            double longest = 0;
            for (const auto& e : edgeEnds)
                longest = std::max(longest, (c.position[q[e[0]]] - c.position[q[e[1]]]).norm());
            marked[t] = longest > 1.25 * size(middle);
        });
        const auto count = static_cast<std::size_t>(std::count(marked.begin(), marked.end(), 1));
        if (count == 0 || c.tets.size() + 2 * count > limit) break;
        const RefineReport r = refineMarked(shape, c, marked, progress);
        total.rounds += r.rounds;
        total.newVertices += r.newVertices;
        total.offSurface += r.offSurface;
    }
    return total;
}

}  // namespace escultura::lattice
