#include "field/piece_tree.hpp"

#include <algorithm>
#include <cstring>
#include <numeric>

namespace escultura::field {
namespace {

constexpr float always = 2.0f;  // above every density: interface cells are there from the start
constexpr float never = -1.0f;

/// Key that grows as the density falls.
std::uint32_t fallingKey(float v) {
    std::uint32_t bits;
    v = v == 0 ? 0.0f : v;  // no negative zero
    std::memcpy(&bits, &v, 4);
    bits = bits & 0x80000000u ? ~bits : bits | 0x80000000u;
    return ~bits;
}

}  // namespace

std::vector<std::uint32_t> descendingOrder(const std::vector<float>& density) {
    struct Item {
        std::uint32_t key, cell;
    };
    std::vector<Item> a(density.size()), b(density.size());
    for (std::size_t c = 0; c < a.size(); ++c) a[c] = {fallingKey(density[c]), static_cast<std::uint32_t>(c)};
    for (int shift = 0; shift < 33; shift += 11) {
        std::vector<std::size_t> at(2049, 0);
        for (const Item& i : a) ++at[(i.key >> shift & 2047) + 1];
        std::partial_sum(at.begin(), at.end(), at.begin());
        for (const Item& i : a) b[at[i.key >> shift & 2047]++] = i;
        a.swap(b);
    }
    std::vector<std::uint32_t> order(a.size());
    for (std::size_t c = 0; c < a.size(); ++c) order[c] = a[c].cell;
    return order;
}

PieceTree::PieceTree(const DensityField& field, std::span<const KeptCells> interfaces)
    : order_(descendingOrder(field.density)) {
    const std::size_t n = field.count();
    const std::size_t nx = field.cells[0], ny = field.cells[1], nz = field.cells[2];
    constexpr std::uint32_t absent = ~0u;
    std::vector<std::uint32_t> parent(n, absent);  // union-find over the cells that are there
    std::vector<std::uint32_t> size(n, 0);         // at roots: cells joined, interface cells included
    struct Live {                                  // what a root knows; made when a piece is born
        float birth;
        std::uint32_t cells = 0;
        std::vector<Growth> growth;
        std::int32_t branch = -1;  // once it is known that it lived
    };
    std::vector<std::int32_t> liveOf(n, -1);
    std::vector<Live> live;
    std::vector<std::int32_t> unused;  // slots of pieces that lived at one density only
    std::vector<std::vector<Growth>> kept;
    auto find = [&](std::uint32_t a) {
        while (parent[a] != a) a = parent[a] = parent[parent[a]];
        return a;
    };
    auto branchOf = [&](Live& l) {
        if (l.branch < 0) {
            l.branch = static_cast<std::int32_t>(branches_.size());
            branches_.push_back({l.birth, never, -1, 0, 0});
            kept.emplace_back();
        }
        return l.branch;
    };
    auto grow = [&](Live& l, float density, std::uint32_t by) {
        l.cells += by;
        if (!l.growth.empty() && l.growth.back().density == density)
            l.growth.back().cells = l.cells;
        else
            l.growth.push_back({density, l.cells});
    };
    auto appear = [&](std::uint32_t c, float density) {
        parent[c] = c;
        size[c] = 1;
        std::uint32_t root = absent;
        auto meet = [&](std::uint32_t d) {
            if (parent[d] == absent) return;
            const std::uint32_t other = find(d);
            if (root == absent) {  // the cell joins a piece: no branch of its own
                parent[c] = other;
                ++size[other];
                root = other;
                return;
            }
            if (other == root) return;
            Live &a = live[liveOf[root]], &b = live[liveOf[other]];
            // a piece that was only born at this density gives way; else the smaller one does
            const bool rootLoses = a.birth == density ? true : b.birth == density ? false : size[root] < size[other];
            const std::uint32_t winner = rootLoses ? other : root, loser = rootLoses ? root : other;
            Live &w = live[liveOf[winner]], &l = live[liveOf[loser]];
            if (l.birth > density) {
                const std::int32_t into = branchOf(w), from = branchOf(l);
                branches_[from].death = density;
                branches_[from].parent = into;
                kept[from] = std::move(l.growth);
            }
            if (l.cells) grow(w, density, l.cells);
            unused.push_back(liveOf[loser]);
            l = Live{};
            liveOf[loser] = -1;
            parent[loser] = winner;
            size[winner] += size[loser];
            root = winner;
        };
        const std::size_t i = c % nx, j = c / nx % ny, k = c / (nx * ny);
        if (i > 0) meet(c - 1);
        if (i + 1 < nx) meet(c + 1);
        if (j > 0) meet(static_cast<std::uint32_t>(c - nx));
        if (j + 1 < ny) meet(static_cast<std::uint32_t>(c + nx));
        if (k > 0) meet(static_cast<std::uint32_t>(c - nx * ny));
        if (k + 1 < nz) meet(static_cast<std::uint32_t>(c + nx * ny));
        if (root != absent) return;
        if (unused.empty()) {
            unused.push_back(static_cast<std::int32_t>(live.size()));
            live.emplace_back();
        }
        liveOf[c] = unused.back();
        unused.pop_back();
        live[liveOf[c]].birth = density;
    };
    for (const KeptCells& interface : interfaces)
        for (std::size_t c : interface.cells)
            if (parent[c] == absent) appear(static_cast<std::uint32_t>(c), always);
    for (const KeptCells& interface : interfaces)
        branchOfInterface_.push_back(
            interface.cells.empty()
                ? -1
                : branchOf(live[liveOf[find(static_cast<std::uint32_t>(interface.cells.front()))]]));
    sorted_.resize(n);
    for (std::size_t at = 0; at < n; ++at) {
        const std::uint32_t c = order_[at];
        const float density = sorted_[at] = field.density[c];
        if (parent[c] == absent) appear(c, density);
        grow(live[liveOf[find(c)]], density, 1);
    }
    for (std::size_t c = 0; c < n; ++c) {
        if (parent[c] != c) continue;
        Live& l = live[liveOf[c]];
        kept[branchOf(l)] = std::move(l.growth);
    }
    for (std::size_t b = 0; b < branches_.size(); ++b) {
        branches_[b].first = static_cast<std::uint32_t>(history_.size());
        branches_[b].n = static_cast<std::uint32_t>(kept[b].size());
        history_.insert(history_.end(), kept[b].begin(), kept[b].end());
    }
    // all interfaces meet where the way from each to the branch common to all has its lowest death
    auto pathOf = [&](std::int32_t b) {
        std::vector<std::int32_t> path;
        for (; b >= 0; b = branches_[b].parent) path.push_back(b);
        return path;
    };
    if (interfaces.size() > 1) {
        const bool missing =
            std::find(branchOfInterface_.begin(), branchOfInterface_.end(), -1) != branchOfInterface_.end();
        if (missing) connecting_ = -1;
        for (std::size_t i = 1; i < branchOfInterface_.size() && !missing; ++i) {
            const auto a = pathOf(branchOfInterface_[0]), b = pathOf(branchOfInterface_[i]);
            std::size_t common = 0;  // of the ends
            while (common < a.size() && common < b.size() && a[a.size() - 1 - common] == b[b.size() - 1 - common])
                ++common;
            for (const auto& path : {a, b})
                for (std::size_t k = 0; k + common < path.size(); ++k)
                    connecting_ = std::min<double>(connecting_, branches_[path[k]].death);
            if (common == 0) connecting_ = -1;
        }
        connecting_ = std::min(connecting_, 1.0);
    }
}

PieceCounts PieceTree::at(double threshold) const {
    PieceCounts r;
    r.cells = static_cast<std::size_t>(
        std::partition_point(sorted_.begin(), sorted_.end(), [&](float v) { return v >= threshold; }) -
        sorted_.begin());
    std::vector<std::pair<std::size_t, std::int32_t>> pieces;
    for (std::size_t b = 0; b < branches_.size(); ++b) {
        const Branch& branch = branches_[b];
        if (branch.birth < threshold || branch.death >= threshold) continue;
        const Growth *first = history_.data() + branch.first, *last = first + branch.n;
        const Growth* end = std::partition_point(first, last, [&](const Growth& g) { return g.density >= threshold; });
        pieces.emplace_back(end == first ? 0 : end[-1].cells, static_cast<std::int32_t>(b));
    }
    std::stable_sort(pieces.begin(), pieces.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
    for (const auto& p : pieces) r.pieceCells.push_back(p.first);
    for (std::int32_t b : branchOfInterface_) {
        while (b >= 0 && branches_[b].death >= threshold) b = branches_[b].parent;
        const auto at = std::find_if(pieces.begin(), pieces.end(), [&](const auto& p) { return p.second == b; });
        r.pieceOfInterface.push_back(at == pieces.end() ? -1 : static_cast<int>(at - pieces.begin()));
    }
    return r;
}

}  // namespace escultura::field
