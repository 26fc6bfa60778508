#include "elastic/background_grid.hpp"

#include <algorithm>
#include <cmath>
#include <functional>
#include <unordered_set>

namespace escultura::elastic {
namespace {

constexpr int bits = 19;

void addShare(std::vector<GridWeight>& list, std::int32_t node, double weight) {
    if (std::abs(weight) < 1e-12) return;
    for (GridWeight& g : list)
        if (g.node == node) {
            g.weight += static_cast<float>(weight);
            return;
        }
    list.push_back({node, static_cast<float>(weight)});
}

}  // namespace

std::uint64_t BackgroundGrid::keyOf(const Cell& c) {
    return (static_cast<std::uint64_t>(c.level) << (3 * bits)) | (static_cast<std::uint64_t>(c.i) << (2 * bits)) |
           (static_cast<std::uint64_t>(c.j) << bits) | static_cast<std::uint64_t>(c.k);
}

std::uint64_t BackgroundGrid::keyOf(const Corner& c) {
    return keyOf(Cell{0, c[0], c[1], c[2]});
}

BackgroundGrid::BackgroundGrid(const std::vector<Vec3>& points, const std::vector<int>& level, double finest)
    : finest_(finest) {
    Box3 box;
    for (const Vec3& p : points) box.include(p);
    for (int l : level) coarsest_ = std::max(coarsest_, l);
    const double top = finest * std::ldexp(1.0, coarsest_);
    origin_ = box.low - Vec3::Constant(0.5 * top);
    struct Item {
        Corner cell;
        std::int32_t level;
    };
    std::vector<Item> items(points.size());
    for (std::size_t p = 0; p < points.size(); ++p) {
        const Vec3 r = (points[p] - origin_) / finest;
        items[p] = {{static_cast<std::int32_t>(r[0]), static_cast<std::int32_t>(r[1]), static_cast<std::int32_t>(r[2])},
                    std::max(level[p], 0)};
    }
    // Splits a range of items that share one cell until every item's wish is met.
    std::function<void(std::size_t, std::size_t, Cell)> split = [&](std::size_t begin, std::size_t end, Cell cell) {
        const bool leaf = cell.level == 0 || std::all_of(items.begin() + begin, items.begin() + end,
                                                         [&](const Item& i) { return i.level >= cell.level; });
        if (leaf) {
            leaves_.push_back(cell);
            return;
        }
        const int shift = cell.level - 1;
        auto child = [&](const Item& i) {
            return (((i.cell[0] >> shift) & 1) << 2) | (((i.cell[1] >> shift) & 1) << 1) | ((i.cell[2] >> shift) & 1);
        };
        std::stable_sort(items.begin() + begin, items.begin() + end,
                         [&](const Item& a, const Item& b) { return child(a) < child(b); });
        for (std::size_t at = begin; at < end;) {
            const int c = child(items[at]);
            std::size_t next = at;
            while (next < end && child(items[next]) == c) ++next;
            split(at, next, {shift, 2 * cell.i + ((c >> 2) & 1), 2 * cell.j + ((c >> 1) & 1), 2 * cell.k + (c & 1)});
            at = next;
        }
    };
    auto morton = [&](const Corner& c, int shift) {
        std::uint64_t m = 0;
        for (int b = 0; b < bits; ++b)
            for (int a = 0; a < 3; ++a) m |= static_cast<std::uint64_t>((c[a] >> (shift + b)) & 1) << (3 * b + 2 - a);
        return m;
    };
    std::vector<std::pair<std::uint64_t, Item>> order(items.size());
    for (std::size_t i = 0; i < items.size(); ++i) order[i] = {morton(items[i].cell, coarsest_), items[i]};
    std::stable_sort(order.begin(), order.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
    for (std::size_t i = 0; i < items.size(); ++i) items[i] = order[i].second;
    for (std::size_t at = 0; at < items.size();) {
        std::size_t next = at;
        while (next < items.size() && order[next].first == order[at].first) ++next;
        const Corner& c = items[at].cell;
        split(at, next, {coarsest_, c[0] >> coarsest_, c[1] >> coarsest_, c[2] >> coarsest_});
        at = next;
    }
    build();
}

BackgroundGrid BackgroundGrid::coarser() const {
    BackgroundGrid g;
    g.origin_ = origin_;
    g.finest_ = finest_;
    g.coarsest_ = coarsest_ + 1;
    std::unordered_set<std::uint64_t> mixed;  // cells that hold more than whole children
    for (const Cell& c : leaves_)
        for (int up = 2; c.level + up <= coarsest_ + 1; ++up)
            mixed.insert(keyOf(Cell{c.level + up, c.i >> up, c.j >> up, c.k >> up}));
    std::unordered_set<std::uint64_t> taken;
    for (const Cell& c : leaves_) {
        const Cell parent{c.level + 1, c.i >> 1, c.j >> 1, c.k >> 1};
        if (mixed.count(keyOf(parent)))
            g.leaves_.push_back(c);
        else if (taken.insert(keyOf(parent)).second)
            g.leaves_.push_back(parent);
    }
    g.build();
    return g;
}

int BackgroundGrid::locate(const Corner& c) const {
    if (c[0] < 0 || c[1] < 0 || c[2] < 0) return -1;
    for (int l = 0; l <= coarsest_; ++l) {
        const auto found = leafOf_.find(keyOf(Cell{l, c[0] >> l, c[1] >> l, c[2] >> l}));
        if (found != leafOf_.end()) return found->second;
    }
    return -1;
}

void BackgroundGrid::build() {
    leafOf_.reserve(2 * leaves_.size());
    for (std::size_t l = 0; l < leaves_.size(); ++l) leafOf_[keyOf(leaves_[l])] = static_cast<std::int32_t>(l);
    corners_.resize(leaves_.size());
    std::unordered_map<std::uint64_t, std::int32_t> number;
    number.reserve(3 * leaves_.size());
    std::vector<Corner> corner;
    for (std::size_t l = 0; l < leaves_.size(); ++l) {
        const Cell& c = leaves_[l];
        for (int b = 0; b < 8; ++b) {
            const Corner at{(c.i + ((b >> 2) & 1)) << c.level, (c.j + ((b >> 1) & 1)) << c.level,
                            (c.k + (b & 1)) << c.level};
            const auto [found, fresh] = number.try_emplace(keyOf(at), static_cast<std::int32_t>(corner.size()));
            if (fresh) corner.push_back(at);
            corners_[l][b] = found->second;
        }
    }
    // A corner hangs when a leaf around it does not have it as a corner; it takes the value of the largest such leaf.
    std::vector<std::int32_t> master(corner.size(), -1);
    for (std::size_t v = 0; v < corner.size(); ++v)
        for (int b = 0; b < 8; ++b) {
            const int l =
                locate({corner[v][0] - ((b >> 2) & 1), corner[v][1] - ((b >> 1) & 1), corner[v][2] - (b & 1)});
            if (l < 0 || std::count(corners_[l].begin(), corners_[l].end(), static_cast<std::int32_t>(v))) continue;
            if (master[v] < 0 || leaves_[l].level > leaves_[master[v]].level) master[v] = l;
        }
    resolved_.assign(corner.size(), {});
    for (std::size_t v = 0; v < corner.size(); ++v) {
        if (master[v] >= 0) continue;
        resolved_[v].push_back({static_cast<std::int32_t>(position_.size()), 1.0f});
        position_.push_back(origin_ + finest_ * Vec3(corner[v][0], corner[v][1], corner[v][2]));
    }
    std::function<void(std::size_t)> resolve = [&](std::size_t v) {
        if (!resolved_[v].empty()) return;
        const Cell& c = leaves_[master[v]];
        const double size = std::ldexp(1.0, c.level);
        double x[3] = {corner[v][0] / size - c.i, corner[v][1] / size - c.j, corner[v][2] / size - c.k};
        std::vector<GridWeight> list;
        for (int b = 0; b < 8; ++b) {
            const double w = (b & 4 ? x[0] : 1 - x[0]) * (b & 2 ? x[1] : 1 - x[1]) * (b & 1 ? x[2] : 1 - x[2]);
            if (w < 1e-12) continue;
            const auto other = static_cast<std::size_t>(corners_[master[v]][b]);
            resolve(other);  // on a larger leaf still, or a node
            for (const GridWeight& g : resolved_[other]) addShare(list, g.node, w * g.weight);
        }
        resolved_[v] = list;
    };
    for (std::size_t v = 0; v < corner.size(); ++v) resolve(v);
}

int BackgroundGrid::leafAt(const Vec3& point) const {
    const Vec3 r = (point - origin_) / finest_;
    const Corner c{static_cast<std::int32_t>(std::floor(r[0])), static_cast<std::int32_t>(std::floor(r[1])),
                   static_cast<std::int32_t>(std::floor(r[2]))};
    int best = locate(c);
    // a point on the far side of its leaves lies in their closed boxes
    for (int reach = 1; best < 0 && reach <= 2; ++reach)
        for (int i = -reach; i <= reach && best < 0; ++i)
            for (int j = -reach; j <= reach && best < 0; ++j)
                for (int k = -reach; k <= reach && best < 0; ++k) best = locate({c[0] + i, c[1] + j, c[2] + k});
    return best;
}

void BackgroundGrid::interpolate(int leaf, const Vec3& point, std::vector<GridWeight>& out) const {
    out.clear();
    const Cell& c = leaves_[leaf];
    const Vec3 r = (point - origin_) / (finest_ * std::ldexp(1.0, c.level));
    const double x[3] = {r[0] - c.i, r[1] - c.j, r[2] - c.k};
    for (int b = 0; b < 8; ++b) {
        const double w = (b & 4 ? x[0] : 1 - x[0]) * (b & 2 ? x[1] : 1 - x[1]) * (b & 1 ? x[2] : 1 - x[2]);
        for (const GridWeight& g : resolved_[corners_[leaf][b]]) addShare(out, g.node, w * g.weight);
    }
}

}  // namespace escultura::elastic
