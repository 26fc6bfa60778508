#include "lattice/graded.hpp"

#include <algorithm>
#include <cmath>
#include <optional>

#include "base/parallel.hpp"
#include "lattice/edge_table.hpp"
#include "lattice/refine.hpp"
#include "lattice/stencil.hpp"

namespace escultura::lattice {
namespace {

constexpr int edgeEnds[6][2] = {{0, 1}, {1, 2}, {0, 2}, {0, 3}, {1, 3}, {2, 3}};
/// A vertex moves onto a cut that is nearer than this share of the edge: of an edge as long as the longest around it,
/// and of one that is shorter by the ratio of the even lattice's edges. There these are the thresholds of Labelle and
/// Shewchuk 2007, between them a line.
constexpr double warpLong = 0.24999, warpShort = 0.41189, shortEdge = 0.8660254;
/// Sine of the smallest dihedral angle below which a move is taken back.
constexpr double leastSine = 0.05;
/// Moves shorter than this share of the longest edge stay.
constexpr double leastMove = 0.02;
/// Values up to which a tetrahedron may still hold material, in its longest edges: distances are estimates.
constexpr double reach = 1.5;
/// The same inside, where only the skin is wanted: the middle of a flat density seems deeper than it is.
constexpr double deep = 3;

class GradedLattice {
  public:
    using Id = std::int32_t;

    GradedLattice(const shape::Shape& shape, const StuffingOptions& options) : shape_(shape), options_(options) {}

    TetComplex run(Progress& progress) {
        layOut(progress);
        grade(progress);
        cut(progress);
        warp();
        progress.step("Filling with tetrahedra", 0.6);
        outVertex_.assign(value_.size(), -1);
        outCut_.assign(cuts_.size(), -1);
        for (const Tet& t : lattice_.tets) fillTet(*this, t);
        return std::move(filling_.out);
    }

    // ---- for fillTet()
    Side sideOf(Id v) const { return side_[v]; }
    Filling& filling() { return filling_; }
    Id vertexOf(Id v) {
        Id& index = outVertex_[v];
        if (index < 0)
            index = moved_[v] >= 0 ? filling_.add(cuts_[moved_[v]].position, cuts_[moved_[v]].surface)
                                   : filling_.add(lattice_.position[v]);
        return index;
    }
    Id cutVertex(Id v, Id w) {
        const Id c = *cutOf_->find(v, w);
        if (outCut_[c] < 0) outCut_[c] = filling_.add(cuts_[c].position, cuts_[c].surface);
        return outCut_[c];
    }
    /// At the cut of the longer edge; one order for all inside vertices about m, so that no ring can be.
    bool diagonalFromFirst(Id p, Id q, Id m) const {
        const double a = length(p, m), b = length(q, m);
        if (std::abs(a - b) > 1e-6 * std::max(a, b)) return a < b;
        return p < q;
    }
    bool keepsThinWall(const Tet& v) const {
        Vec3 p[4], x[4];
        for (int k = 0; k < 4; ++k) p[k] = cuts_[moved_[v[k]]].position, x[k] = lattice_.position[v[k]];
        const bool positive = tetVolume(x[0], x[1], x[2], x[3]) > 0;
        const double sine = positive ? minimumSine(p[0], p[1], p[2], p[3]) : minimumSine(p[0], p[1], p[3], p[2]);
        return sine > 0.10 && shape_.evaluate(0.25 * (p[0] + p[1] + p[2] + p[3])).value < 0;
    }

  private:
    double length(Id a, Id b) const { return (lattice_.position[a] - lattice_.position[b]).norm(); }
    double longestEdge(const Tet& t) const {
        double longest = 0;
        for (const auto& e : edgeEnds) longest = std::max(longest, length(t[e[0]], t[e[1]]));
        return longest;
    }
    /// Whether the boundary may pass near values, so far as it matters: tetrahedra deep inside only matter when the
    /// shape is filled whole.
    bool matters(double least, double most, double longest) const {
        return least < reach * longest && (!options_.skinOnly || most > -deep * longest);
    }
    bool matters(const Tet& t) const {
        const auto [least, most] = std::minmax({value_[t[0]], value_[t[1]], value_[t[2]], value_[t[3]]});
        return matters(least, most, longestEdge(t));
    }
    void sample(std::size_t from) {
        value_.resize(lattice_.position.size());
        parallelFor(
            value_.size() - from,
            [&](std::size_t v) { value_[from + v] = shape_.evaluate(lattice_.position[from + v]).value; }, 1024);
    }

    /// The even lattice where it may hold material.
    void layOut(Progress& progress) {
        progress.step("Sampling the shape");
        const double a = options_.spacing;
        const Box3 box = shape_.bounds().grown(1.6 * a);
        const Vec3 origin = box.low + a * (options_.offset - Vec3::Constant(0.5));
        std::array<int, 3> n;
        for (int d = 0; d < 3; ++d) n[d] = static_cast<int>(std::ceil((box.high[d] - origin[d]) / a)) + 1;
        auto corner = [&](int i, int j, int k) {
            return i + static_cast<std::size_t>(n[0] + 1) * (j + static_cast<std::size_t>(n[1] + 1) * k);
        };
        const std::size_t corners = corner(0, 0, n[2] + 1);
        auto centre = [&](int i, int j, int k) {
            return corners + i + static_cast<std::size_t>(n[0]) * (j + static_cast<std::size_t>(n[1]) * k);
        };
        std::vector<Vec3> place(centre(0, 0, n[2]));
        for (int k = 0; k <= n[2]; ++k)
            for (int j = 0; j <= n[1]; ++j)
                for (int i = 0; i <= n[0]; ++i) {
                    place[corner(i, j, k)] = origin + a * Vec3(i, j, k);
                    if (i < n[0] && j < n[1] && k < n[2])
                        place[centre(i, j, k)] = origin + a * Vec3(i + 0.5, j + 0.5, k + 0.5);
                }
        std::vector<double> value(place.size());
        parallelFor(
            place.size(), [&](std::size_t v) { value[v] = shape_.evaluate(place[v]).value; }, 1024);
        progress.check();
        std::vector<Id> used(place.size(), -1);
        constexpr int ring[4][2] = {{0, 0}, {1, 0}, {1, 1}, {0, 1}};
        for (int k = 0; k < n[2]; ++k)
            for (int j = 0; j < n[1]; ++j)
                for (int i = 0; i < n[0]; ++i)
                    for (int d = 0; d < 3; ++d) {
                        std::array<int, 3> next{i, j, k};
                        if (++next[d] >= n[d]) continue;
                        for (int m = 0; m < 4; ++m) {
                            std::array<std::size_t, 4> t{centre(i, j, k), centre(next[0], next[1], next[2])};
                            for (int e = 0; e < 2; ++e) {
                                auto p = next;
                                p[(d + 1) % 3] += ring[(m + e) % 4][0];
                                p[(d + 2) % 3] += ring[(m + e) % 4][1];
                                t[2 + e] = corner(p[0], p[1], p[2]);
                            }
                            const auto [least, most] =
                                std::minmax({value[t[0]], value[t[1]], value[t[2]], value[t[3]]});
                            if (!matters(least, most, a)) continue;
                            Tet tet;
                            for (int c = 0; c < 4; ++c) {
                                if (used[t[c]] < 0) {
                                    used[t[c]] = static_cast<Id>(lattice_.position.size());
                                    lattice_.position.push_back(place[t[c]]);
                                    value_.push_back(value[t[c]]);
                                }
                                tet[c] = used[t[c]];
                            }
                            lattice_.tets.push_back(tet);
                        }
                    }
        lattice_.surfaces.resize(lattice_.position.size());
    }

    void grade(Progress& progress) {
        std::vector<char> look(lattice_.tets.size(), 1);  // not found small enough yet
        for (int round = 0; round < 24; ++round) {
            progress.step("Refining the lattice", round / 24.0);
            std::vector<char> marked(lattice_.tets.size(), 0);
            parallelFor(
                marked.size(),
                [&](std::size_t t) {
                    const Tet& q = lattice_.tets[t];
                    if (!look[t] || !matters(q)) return;
                    // at its middle and halfway to its corners: a region narrower than the tetrahedron counts too
                    const auto& p = lattice_.position;
                    const Vec3 middle = (p[q[0]] + p[q[1]] + p[q[2]] + p[q[3]]) / 4;
                    const double longest = longestEdge(q);
                    marked[t] = longest > 1.25 * options_.size(middle);
                    for (int k = 0; k < 4 && !marked[t]; ++k)
                        marked[t] = longest > 1.25 * options_.size(0.5 * (middle + p[q[k]]));
                },
                256);
            const auto count = static_cast<std::size_t>(std::count(marked.begin(), marked.end(), 1));
            if (count == 0 || lattice_.tets.size() + 2 * count > options_.limit) return;
            const std::size_t before = lattice_.position.size();
            bisect(lattice_, marked, look);
            sample(before);
            // what turned out to lie outside needs no halving any more
            std::size_t left = 0;
            for (std::size_t t = 0; t < lattice_.tets.size(); ++t)
                if (!look[t] || matters(lattice_.tets[t])) {
                    look[left] = look[t];
                    lattice_.tets[left++] = lattice_.tets[t];
                }
            lattice_.tets.resize(left);
            look.resize(left);
        }
    }

    void cut(Progress& progress) {
        progress.step("Cutting the lattice", 0.2);
        side_.resize(value_.size());
        for (std::size_t v = 0; v < value_.size(); ++v)
            side_[v] = value_[v] < -nothing * options_.spacing ? Side::inside : Side::outside;
        std::vector<std::uint64_t> keys;
        longest_.assign(value_.size(), 0);
        for (const Tet& t : lattice_.tets) {
            const double longest = longestEdge(t);
            for (auto v : t) longest_[v] = std::max(longest_[v], longest);
            for (const auto& e : edgeEnds)
                if (side_[t[e[0]]] != side_[t[e[1]]]) keys.push_back(edgeKey(t[e[0]], t[e[1]]));
        }
        std::sort(keys.begin(), keys.end());
        keys.erase(std::unique(keys.begin(), keys.end()), keys.end());
        progress.check();
        cuts_.resize(keys.size());
        ends_.resize(keys.size());
        parallelFor(
            keys.size(),
            [&](std::size_t c) {
                const Id a = lowEnd(keys[c]), b = highEnd(keys[c]);
                ends_[c] = {a, b};
                cuts_[c] = cutBetween(shape_, lattice_.position[a], lattice_.position[b], side_[a], side_[b],
                                      options_.spacing);
            },
            64);
        cutOf_.emplace(value_.size(), keys.size());
        for (std::size_t c = 0; c < keys.size(); ++c)
            cutOf_->add(lowEnd(keys[c]), highEnd(keys[c]), static_cast<Id>(c));
    }

    /// Vertices that have a cut close by move onto it, one after the other.
    void warp() {
        moved_.assign(value_.size(), -1);
        std::vector<std::vector<Id>> cutsAt(value_.size());
        for (std::size_t c = 0; c < ends_.size(); ++c)
            for (auto v : ends_[c]) cutsAt[v].push_back(static_cast<Id>(c));
        for (std::size_t v = 0; v < value_.size(); ++v) {
            double best = 1e300;
            for (auto c : cutsAt[v]) {
                const bool first = ends_[c][0] == static_cast<Id>(v);
                if (moved_[ends_[c][first ? 1 : 0]] >= 0) continue;
                const double f = first ? cuts_[c].fraction : 1 - cuts_[c].fraction;
                const double whole = length(ends_[c][0], ends_[c][1]);
                const double shorter = (1 - whole / longest_[v]) / (1 - shortEdge);
                if (f >= std::min(warpShort, warpLong + shorter * (warpShort - warpLong))) continue;
                // in steps, or rounding would choose between cuts that are equally near
                const double distance = std::round(f * whole / longest_[v] * 12345678.9);
                if (distance < best) {
                    best = distance;
                    moved_[v] = c;
                }
            }
        }
        keepUpright();
        for (std::size_t v = 0; v < moved_.size(); ++v)
            if (moved_[v] >= 0) side_[v] = Side::zero;
    }

    /// Moves are taken back where they would flatten a tetrahedron or turn it over: it would lie across its neighbours.
    void keepUpright() {
        std::vector<Id> moving;  // tetrahedra with a moved vertex and one inside
        for (std::size_t t = 0; t < lattice_.tets.size(); ++t) {
            const Tet& q = lattice_.tets[t];
            bool moves = false, holds = false;
            for (auto v : q) {
                moves = moves || moved_[v] >= 0;
                holds = holds || (moved_[v] < 0 && side_[v] == Side::inside);
            }
            if (moves && holds) moving.push_back(static_cast<Id>(t));
        }
        for (int round = 0; round < 8; ++round) {
            bool changed = false;
            for (const Id t : moving) {
                const Tet& q = lattice_.tets[t];
                Vec3 p[4], x[4];
                int farthest = -1;
                double most = 0;
                for (int k = 0; k < 4; ++k) {
                    p[k] = x[k] = lattice_.position[q[k]];
                    if (moved_[q[k]] < 0) continue;
                    p[k] = cuts_[moved_[q[k]]].position;
                    if (const double d = (p[k] - x[k]).norm(); farthest < 0 || d > most) {
                        most = d;
                        farthest = k;
                    }
                }
                // taken back, a tiny move would leave a sliver as thin as it was short
                if (farthest < 0 || most < leastMove * longest_[q[farthest]]) continue;
                const bool positive = tetVolume(x[0], x[1], x[2], x[3]) > 0;
                if ((positive ? minimumSine(p[0], p[1], p[2], p[3]) : minimumSine(p[0], p[1], p[3], p[2])) > leastSine)
                    continue;
                moved_[q[farthest]] = -1;
                changed = true;
            }
            if (!changed) break;
        }
    }

    const shape::Shape& shape_;
    const StuffingOptions& options_;
    TetComplex lattice_;
    std::vector<double> value_, longest_;  ///< [vertices] of the shape; longest edge around
    std::vector<Side> side_;
    std::vector<Cut> cuts_;
    std::vector<std::array<Id, 2>> ends_;  ///< [cuts] the lower one first
    std::optional<EdgeTable> cutOf_;
    std::vector<Id> moved_, outVertex_, outCut_;
    Filling filling_;
};

}  // namespace

TetComplex gradedFilling(const shape::Shape& shape, const StuffingOptions& options, Progress& progress) {
    return GradedLattice(shape, options).run(progress);
}

}  // namespace escultura::lattice
