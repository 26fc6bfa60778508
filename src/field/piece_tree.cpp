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

/// Adds cells from the densest on and joins the pieces that they touch.
struct PieceTree::Builder {
    static constexpr std::uint32_t absent = ~0u;
    struct Live {  // what a root knows; made when a piece is born
        float birth;
        std::uint32_t cells = 0;
        std::vector<Growth> growth;
        std::int32_t branch = -1;  // once it is known that it lived
    };
    Builder(PieceTree& tree, const DensityField& field)
        : tree_(tree),
          nx_(field.cells[0]),
          ny_(field.cells[1]),
          nz_(field.cells[2]),
          parent_(field.count(), absent),
          size_(field.count(), 0),
          liveOf_(field.count(), -1) {}

    bool isThere(std::uint32_t c) const { return parent_[c] != absent; }
    bool isRoot(std::uint32_t c) const { return parent_[c] == c; }
    std::uint32_t find(std::uint32_t a) {
        while (parent_[a] != a) a = parent_[a] = parent_[parent_[a]];
        return a;
    }
    Live& pieceOf(std::uint32_t c) { return live_[liveOf_[find(c)]]; }
    std::int32_t branchOf(Live& l) {
        if (l.branch < 0) {
            l.branch = static_cast<std::int32_t>(tree_.branches_.size());
            tree_.branches_.push_back({l.birth, never, -1, 0, 0});
            kept_.emplace_back();
        }
        return l.branch;
    }
    static void grow(Live& l, float density, std::uint32_t by) {
        l.cells += by;
        if (!l.growth.empty() && l.growth.back().density == density)
            l.growth.back().cells = l.cells;
        else
            l.growth.push_back({density, l.cells});
    }
    /// Joins the piece at `root` (absent: a cell without one) with that of a neighbour, if there is one.
    void meet(std::uint32_t c, std::uint32_t d, float density, std::uint32_t& root) {
        if (parent_[d] == absent) return;
        const std::uint32_t other = find(d);
        if (root == absent) {  // the cell joins a piece: no branch of its own
            parent_[c] = other;
            ++size_[other];
            root = other;
            return;
        }
        if (other == root) return;
        Live &a = live_[liveOf_[root]], &b = live_[liveOf_[other]];
        // a piece that was only born at this density gives way; else the smaller one does
        const bool rootLoses = a.birth == density ? true : b.birth == density ? false : size_[root] < size_[other];
        const std::uint32_t winner = rootLoses ? other : root, loser = rootLoses ? root : other;
        Live &w = live_[liveOf_[winner]], &l = live_[liveOf_[loser]];
        if (l.birth > density) {
            const std::int32_t into = branchOf(w), from = branchOf(l);
            tree_.branches_[from].death = density;
            tree_.branches_[from].parent = into;
            kept_[from] = std::move(l.growth);
        }
        if (l.cells) grow(w, density, l.cells);
        unused_.push_back(liveOf_[loser]);
        l = Live{};
        liveOf_[loser] = -1;
        parent_[loser] = winner;
        size_[winner] += size_[loser];
        root = winner;
    }
    void appear(std::uint32_t c, float density) {
        parent_[c] = c;
        size_[c] = 1;
        std::uint32_t root = absent;
        const std::size_t i = c % nx_, j = c / nx_ % ny_, k = c / (nx_ * ny_);
        if (i > 0) meet(c, c - 1, density, root);
        if (i + 1 < nx_) meet(c, c + 1, density, root);
        if (j > 0) meet(c, static_cast<std::uint32_t>(c - nx_), density, root);
        if (j + 1 < ny_) meet(c, static_cast<std::uint32_t>(c + nx_), density, root);
        if (k > 0) meet(c, static_cast<std::uint32_t>(c - nx_ * ny_), density, root);
        if (k + 1 < nz_) meet(c, static_cast<std::uint32_t>(c + nx_ * ny_), density, root);
        if (root != absent) return;
        if (unused_.empty()) {
            unused_.push_back(static_cast<std::int32_t>(live_.size()));
            live_.emplace_back();
        }
        liveOf_[c] = unused_.back();
        unused_.pop_back();
        live_[liveOf_[c]].birth = density;
    }
    /// Hands the growth of what is left to its branches.
    void finish() {
        for (std::uint32_t c = 0; c < parent_.size(); ++c) {
            if (!isRoot(c)) continue;
            Live& l = live_[liveOf_[c]];
            const std::int32_t branch = branchOf(l);
            kept_[branch] = std::move(l.growth);
        }
        for (std::size_t b = 0; b < tree_.branches_.size(); ++b) {
            tree_.branches_[b].first = static_cast<std::uint32_t>(tree_.history_.size());
            tree_.branches_[b].n = static_cast<std::uint32_t>(kept_[b].size());
            tree_.history_.insert(tree_.history_.end(), kept_[b].begin(), kept_[b].end());
        }
    }

    PieceTree& tree_;
    const std::size_t nx_, ny_, nz_;
    std::vector<std::uint32_t> parent_;  // union-find over the cells that are there
    std::vector<std::uint32_t> size_;    // at roots: cells joined, interface cells included
    std::vector<std::int32_t> liveOf_;
    std::vector<Live> live_;
    std::vector<std::int32_t> unused_;  // slots of pieces that lived at one density only
    std::vector<std::vector<Growth>> kept_;
};

PieceTree::PieceTree(const DensityField& field, std::span<const KeptCells> interfaces)
    : order_(descendingOrder(field.density)) {
    Builder builder(*this, field);
    for (const KeptCells& interface : interfaces)
        for (std::size_t c : interface.cells)
            if (!builder.isThere(static_cast<std::uint32_t>(c))) builder.appear(static_cast<std::uint32_t>(c), always);
    for (const KeptCells& interface : interfaces)
        branchOfInterface_.push_back(
            interface.cells.empty()
                ? -1
                : builder.branchOf(builder.pieceOf(static_cast<std::uint32_t>(interface.cells.front()))));
    sorted_.resize(field.count());
    for (std::size_t at = 0; at < sorted_.size(); ++at) {
        const std::uint32_t c = order_[at];
        const float density = sorted_[at] = field.density[c];
        if (!builder.isThere(c)) builder.appear(c, density);
        Builder::grow(builder.pieceOf(c), density, 1);
    }
    builder.finish();
    if (interfaces.size() > 1) findConnecting();
}

/// All interfaces meet where the way from each to the branch common to all has its lowest death.
void PieceTree::findConnecting() {
    auto pathOf = [&](std::int32_t b) {
        std::vector<std::int32_t> path;
        for (; b >= 0; b = branches_[b].parent) path.push_back(b);
        return path;
    };
    const bool missing =
        std::find(branchOfInterface_.begin(), branchOfInterface_.end(), -1) != branchOfInterface_.end();
    if (missing) connecting_ = -1;
    for (std::size_t i = 1; i < branchOfInterface_.size() && !missing; ++i) {
        const auto a = pathOf(branchOfInterface_[0]), b = pathOf(branchOfInterface_[i]);
        std::size_t common = 0;  // of the ends
        while (common < a.size() && common < b.size() && a[a.size() - 1 - common] == b[b.size() - 1 - common]) ++common;
        for (const auto& path : {a, b})
            for (std::size_t k = 0; k + common < path.size(); ++k)
                connecting_ = std::min<double>(connecting_, branches_[path[k]].death);
        if (common == 0) connecting_ = -1;
    }
    connecting_ = std::min(connecting_, 1.0);
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
