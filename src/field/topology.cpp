#include "field/topology.hpp"

#include <algorithm>
#include <numeric>

#include "base/disjoint_sets.hpp"
#include "base/parallel.hpp"

namespace escultura::field {
namespace {

/// Cells and a layer of empty ones around them.
struct Grid {
    std::array<int, 3> n;
    std::vector<char> solid;

    Grid(const std::vector<char>& cells, const std::array<int, 3>& count)
        : n{count[0] + 2, count[1] + 2, count[2] + 2} {
        solid.assign(static_cast<std::size_t>(n[0]) * n[1] * n[2], 0);
        std::size_t c = 0;
        for (int k = 1; k <= count[2]; ++k)
            for (int j = 1; j <= count[1]; ++j)
                for (int i = 1; i <= count[0]; ++i) solid[at(i, j, k)] = cells[c++] != 0;
    }
    std::size_t at(int i, int j, int k) const {
        return i + static_cast<std::size_t>(n[0]) * (j + static_cast<std::size_t>(n[1]) * k);
    }
};

/// Euler characteristic by the vertices, edges and faces between the cells: those that touch one of the body's cells
/// (cells joined by anything), or those with nothing else around (joined by faces).
long euler(const Grid& g, bool byFacesOnly) {
    std::vector<long> ofSlab(static_cast<std::size_t>(g.n[2] - 1));
    parallelFor(
        ofSlab.size(),
        [&](std::size_t slab) {
            const int k = static_cast<int>(slab) + 1;
            long sum = 0;
            for (int j = 1; j < g.n[1]; ++j)
                for (int i = 1; i < g.n[0]; ++i) {
                    bool x[8];  // the cells around the corner below cell (i, j, k), the last one itself
                    for (int m = 0; m < 8; ++m)
                        x[m] = g.solid[g.at(i - 1 + (m & 1), j - 1 + (m >> 1 & 1), k - 1 + (m >> 2))] != 0;
                    auto of = [&](std::initializer_list<int> cells) {
                        for (int c : cells)
                            if (x[c] != byFacesOnly) return !byFacesOnly;
                        return byFacesOnly;
                    };
                    // the corner, the three edges and the three faces at the lower side of the cell, and the cell
                    const long vertex = of({0, 1, 2, 3, 4, 5, 6, 7});
                    const long edges = of({7, 5, 3, 1}) + of({7, 6, 3, 2}) + of({7, 6, 5, 4});
                    const long faces = of({7, 6}) + of({7, 5}) + of({7, 3});
                    sum += byFacesOnly ? x[7] - faces + edges - vertex : vertex - edges + faces - x[7];
                }
            ofSlab[slab] = sum;
        },
        1);
    return std::accumulate(ofSlab.begin(), ofSlab.end(), 0L);
}

/// Parts of the cells of one kind. @param byFacesOnly  else joined by edges and corners too
int partsOf(const Grid& g, bool solid, bool byFacesOnly) {
    DisjointSets sets(g.solid.size());
    int parts = 0;
    for (int k = 0; k < g.n[2]; ++k)
        for (int j = 0; j < g.n[1]; ++j)
            for (int i = 0; i < g.n[0]; ++i) {
                const std::size_t c = g.at(i, j, k);
                if ((g.solid[c] != 0) != solid) continue;
                ++parts;
                for (int m = 0; m < 13; ++m) {  // the half of the 26 neighbours that came before
                    const int a = m % 3 - 1, b = m / 3 % 3 - 1, d = m / 9 - 1;
                    if (byFacesOnly && std::abs(a) + std::abs(b) + std::abs(d) != 1) continue;
                    if (i + a < 0 || j + b < 0 || k + d < 0 || i + a >= g.n[0] || j + b >= g.n[1] || k + d >= g.n[2])
                        continue;
                    const std::size_t other = g.at(i + a, j + b, k + d);
                    if ((g.solid[other] != 0) != solid) continue;
                    if (sets.find(static_cast<std::int32_t>(c)) == sets.find(static_cast<std::int32_t>(other)))
                        continue;
                    sets.join(static_cast<std::int32_t>(c), static_cast<std::int32_t>(other));
                    --parts;
                }
            }
    return parts;
}

}  // namespace

Topology topologyOf(const std::vector<char>& solid, const std::array<int, 3>& cells) {
    const Grid g(solid, cells);
    Topology t;
    t.pieces = partsOf(g, true, true);
    t.cavities = partsOf(g, false, false) - 1;  // what lies outside is one part
    const int apart = t.pieces + t.cavities - static_cast<int>(euler(g, true));
    const int joined = partsOf(g, true, false) + partsOf(g, false, true) - 1 - static_cast<int>(euler(g, false));
    t.leastHandles = std::min(apart, joined);
    t.mostHandles = std::max(apart, joined);
    return t;
}

}  // namespace escultura::field
