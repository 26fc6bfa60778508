#include "assess/assess.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

#include "elastic/loads.hpp"

namespace escultura::assess {
namespace {

/// Neighbours of boundary nodes along the edges of the faces' four sub-triangles.
std::vector<std::vector<std::int32_t>> boundaryGraph(const mesh::TetMesh& mesh) {
    std::vector<std::vector<std::int32_t>> next(mesh.position.size());
    static constexpr int edges[9][2] = {{0, 3}, {3, 1}, {1, 4}, {4, 2}, {2, 5}, {5, 0}, {3, 4}, {4, 5}, {5, 3}};
    for (const auto& f : mesh.boundary)
        for (const auto& e : edges) {
            next[f[e[0]]].push_back(f[e[1]]);
            next[f[e[1]]].push_back(f[e[0]]);
        }
    return next;
}

}  // namespace

Envelope envelope(const std::vector<std::vector<double>>& stress) {
    Envelope e;
    if (stress.empty()) return e;
    const std::size_t nodes = stress[0].size();
    e.stress.assign(nodes, -1);
    e.governingCase.assign(nodes, 0);
    e.maxStress = -1;
    for (std::size_t n = 0; n < nodes; ++n) {
        for (std::size_t c = 0; c < stress.size(); ++c)
            if (stress[c][n] > e.stress[n]) {
                e.stress[n] = stress[c][n];
                e.governingCase[n] = static_cast<std::int16_t>(c);
            }
        if (e.stress[n] > e.maxStress) {
            e.maxStress = e.stress[n];
            e.maxNode = static_cast<std::int32_t>(n);
            e.maxCase = e.governingCase[n];
        }
    }
    return e;
}

double safetyFactor(double strength, double stress) {
    if (std::isnan(stress) || std::isnan(strength)) return std::numeric_limits<double>::quiet_NaN();
    return stress > 0 ? strength / stress : std::numeric_limits<double>::infinity();
}

std::vector<Hotspot> findHotspots(const mesh::TetMesh& mesh, std::span<const double> value, double minPersistence,
                                  double minPeak) {
    return findHotspots(mesh, value, minPersistence, value, minPeak);
}

namespace {

/// Gives the nodes inside the basin of the boundary node from which they are reached first.
void spreadInside(const mesh::TetMesh& mesh, std::vector<std::int32_t>& basin, const std::vector<char>& known) {
    std::vector<char> reached = known;
    for (bool more = true; more;) {
        more = false;
        std::vector<std::pair<std::int32_t, std::int32_t>> next;
        for (const auto& t : mesh.tet) {
            std::int32_t from = -1;
            bool any = false, all = true;
            for (auto n : t) {
                if (reached[n] && (!any || basin[n] > from)) from = basin[n];
                any = any || reached[n];
                all = all && reached[n];
            }
            if (!any || all) continue;
            for (auto n : t)
                if (!reached[n]) next.emplace_back(n, from);
        }
        for (const auto& [n, from] : next)
            if (!reached[n]) {
                reached[n] = 1;
                basin[n] = from;
                more = true;
            }
    }
}

/// Area around each peak where the value is at least 80 % of it.
void measureAreas(const mesh::TetMesh& mesh, std::span<const double> value,
                  const std::vector<std::vector<std::int32_t>>& next, std::vector<Hotspot>& spots) {
    std::vector<double> nodeArea(next.size(), 0);
    for (std::size_t f = 0; f < mesh.boundary.size(); ++f) {
        const double area = elastic::faceArea(mesh, static_cast<std::int32_t>(f)) / 6;
        for (auto n : mesh.boundary[f]) nodeArea[n] += area;
    }
    std::vector<std::int32_t> seen(next.size(), -1);
    for (std::size_t s = 0; s < spots.size(); ++s) {
        std::vector<std::int32_t> stack{spots[s].node};
        seen[spots[s].node] = static_cast<std::int32_t>(s);
        while (!stack.empty()) {
            const auto n = stack.back();
            stack.pop_back();
            spots[s].area += nodeArea[n];
            for (auto m : next[n])
                if (seen[m] != static_cast<std::int32_t>(s) && value[m] >= 0.8 * spots[s].peak) {
                    seen[m] = static_cast<std::int32_t>(s);
                    stack.push_back(m);
                }
        }
    }
}

}  // namespace

std::vector<Hotspot> findHotspots(const mesh::TetMesh& mesh, std::span<const double> value, double minPersistence,
                                  std::span<const double> score, double minScore, std::vector<std::int32_t>* basin) {
    if (basin) basin->assign(mesh.position.size(), -1);
    const auto next = boundaryGraph(mesh);
    std::vector<std::int32_t> order;
    for (std::size_t n = 0; n < next.size(); ++n)
        if (!next[n].empty()) order.push_back(static_cast<std::int32_t>(n));
    if (order.empty()) return {};
    std::stable_sort(order.begin(), order.end(), [&](auto a, auto b) { return value[a] > value[b]; });
    std::vector<std::int32_t> parent(next.size(), -1), peak(next.size(), -1);
    auto find = [&](std::int32_t a) {
        while (parent[a] != a) a = parent[a] = parent[parent[a]];
        return a;
    };
    std::vector<double> best(next.size(), 0);  // [roots] highest score so far
    std::vector<Hotspot> spots;
    // which peak a node was added to, and which peak took over one that is not listed
    std::vector<std::int32_t> addedTo(next.size(), -1), takenBy(next.size(), -1);
    const double lowest = value[order.back()];
    for (auto n : order) {
        parent[n] = n;
        peak[n] = n;
        best[n] = score[n];
        for (auto m : next[n]) {
            if (parent[m] < 0) continue;
            auto a = find(n), b = find(m);
            if (a == b) continue;
            if (value[peak[a]] > value[peak[b]] || (value[peak[a]] == value[peak[b]] && peak[a] < peak[b]))
                std::swap(a, b);
            // a's peak is the lower one: it ends at this saddle
            const double persistence = value[peak[a]] - value[n];
            if (persistence >= minPersistence && best[a] >= minScore)
                spots.push_back({peak[a], value[peak[a]], persistence, 0});
            else
                takenBy[peak[a]] = peak[b];
            parent[a] = b;
            best[b] = std::max(best[a], best[b]);
        }
        addedTo[n] = peak[find(n)];
    }
    // pieces that never merged: their highest peaks
    for (auto n : order)
        if (find(n) == n && (peak[n] == order.front() || best[n] >= minScore))
            spots.push_back({peak[n], value[peak[n]], value[peak[n]] - lowest, 0});
    std::stable_sort(spots.begin(), spots.end(), [](const Hotspot& a, const Hotspot& b) {
        return a.peak != b.peak ? a.peak > b.peak : a.node < b.node;
    });

    if (basin) {
        std::vector<std::int32_t> spotOf(next.size(), -1);
        std::vector<char> onBoundary(next.size(), 0);
        for (std::size_t k = 0; k < spots.size(); ++k) spotOf[spots[k].node] = static_cast<std::int32_t>(k);
        for (auto n : order) {
            auto summit = addedTo[n];
            while (spotOf[summit] < 0 && takenBy[summit] >= 0) summit = takenBy[summit];
            (*basin)[n] = spotOf[summit];
            onBoundary[n] = 1;
        }
        spreadInside(mesh, *basin, onBoundary);
    }

    measureAreas(mesh, value, next, spots);
    return spots;
}

}  // namespace escultura::assess
