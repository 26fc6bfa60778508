/// Vertices moved for better elements, and machined edges made sharp. Long because both work on the same
/// neighbourhoods.

#include "lattice/improve.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "base/parallel.hpp"

namespace escultura::lattice {
namespace {

/// Where the boundary touches itself in a point there are two vertices in one place: if they moved, one side would
/// slide into the other.
std::vector<std::int32_t> touchingVertices(const TetComplex& c) {
    std::vector<std::int32_t> order, found;
    for (std::size_t v = 0; v < c.position.size(); ++v)
        if (c.surfaces[v].count() > 0) order.push_back(static_cast<std::int32_t>(v));
    std::sort(order.begin(), order.end(), [&](std::int32_t a, std::int32_t b) {
        const Vec3 &p = c.position[a], &q = c.position[b];
        return std::lexicographical_compare(p.data(), p.data() + 3, q.data(), q.data() + 3);
    });
    for (std::size_t i = 1; i < order.size(); ++i)
        if (c.position[order[i]] == c.position[order[i - 1]]) {
            found.push_back(order[i]);
            found.push_back(order[i - 1]);
        }
    return found;
}

/// Quality around vertices of a complex whose connectivity is fixed.
class Neighbourhood {
  public:
    /// @param touching  see touchingVertices(): they stay
    Neighbourhood(const shape::Shape& shape, TetComplex& complex, const std::vector<std::int32_t>& touching)
        : shape_(shape),
          c_(complex),
          around_(incidence(complex.position.size(), complex.tets)),
          pinned_(complex.position.size(), 0) {
        for (auto v : touching) pinned_[v] = 1;
    }

    /// Worst sine around v when it stands at p; stops early below `enough`.
    double worstAt(std::int32_t v, const Vec3& p, double enough = -1e300) const {
        double worst = 1e300;
        for (auto at = around_.offset[v]; at < around_.offset[v + 1]; ++at) {
            const Tet& t = c_.tets[around_.tet[at]];
            Vec3 x[4];
            for (int k = 0; k < 4; ++k) x[k] = t[k] == v ? p : c_.position[t[k]];
            worst = std::min(worst, minimumSine(x[0], x[1], x[2], x[3]));
            if (worst <= enough) return worst;
        }
        return worst;
    }
    double worst(std::int32_t v) const { return worstAt(v, c_.position[v]); }

    /// Puts a point on the surfaces of a set. @return whether it then lies on the shape's boundary
    bool project(const SurfaceSet& set, Vec3& p, double radius) const {
        if (set.count() == 0) return true;
        int ids[3] = {set.id[0], set.id[1], set.id[2]};
        return projectOnto(shape_, ids, set.count(), p, radius) &&
               std::abs(shape_.evaluate(p).value) < 1e-5 * radius + shape_.roughness();
    }

    /// Mean of the neighbours (for boundary vertices of those that lie on all of its surfaces) and mean distance to
    /// them.
    Vec3 neighbourMean(std::int32_t v, double& size) const {
        Vec3 sum = Vec3::Zero();
        int n = 0;
        double length = 0;
        const int own = c_.surfaces[v].count();
        for (auto at = around_.offset[v]; at < around_.offset[v + 1]; ++at)
            for (auto w : c_.tets[around_.tet[at]]) {
                if (w == v) continue;
                if (own && c_.surfaces[w].common(c_.surfaces[v]).count() < own) continue;
                sum += c_.position[w];
                length += (c_.position[w] - c_.position[v]).norm();
                ++n;
            }
        if (!n) {
            size = 0;
            return c_.position[v];
        }
        size = length / n;
        return sum / n;
    }

    /// Tries to raise the worst sine around v. @return the new worst
    double raise(std::int32_t v, double before) {
        const SurfaceSet& set = c_.surfaces[v];
        if (set.count() == 3 || pinned_[v]) return before;
        double size = 0;
        const Vec3 mean = neighbourMean(v, size);
        if (size <= 0) {
            if (set.count() >= 2) return before;
            size = 0.3 * (c_.position[v] - c_.position[c_.tets[around_.tet[around_.offset[v]]][0]]).norm() + 1e-6;
        }
        double best = before;
        Vec3 where = c_.position[v];
        auto attempt = [&](Vec3 p) {
            // steps are tangential, so the projection changes little: a step that does not help before it is not worth
            // it
            if (worstAt(v, p, best) <= best || !project(set, p, size)) return false;
            const double q = set.count() ? worstAt(v, p, best) : worstAt(v, p);
            if (q <= best) return false;
            best = q;
            where = p;
            return true;
        };
        attempt(mean);
        attempt(0.5 * (mean + where));
        std::array<Vec3, 14> directions;
        const int count = searchDirections(set, where, directions);
        double step = 0.25 * size;
        for (int round = 0; round < 6; ++round) {
            bool moved = false;
            const Vec3 from = where;
            for (int k = 0; k < count; ++k) moved = attempt(from + step * directions[k]) || moved;
            if (!moved) step *= 0.4;
        }
        c_.position[v] = where;
        return best;
    }

    const Incidence& around() const { return around_; }

  private:
    /// Directions in space, in the tangent plane of one surface, or along the edge of two.
    int searchDirections(const SurfaceSet& set, const Vec3& p, std::array<Vec3, 14>& d) const {
        int n = 0;
        if (set.count() == 0) {
            for (int a = 0; a < 3; ++a)
                for (int s = -1; s <= 1; s += 2) d[n++] = s * Vec3::Unit(a);
            for (int m = 0; m < 8; ++m) d[n++] = Vec3(m & 1 ? 1 : -1, m & 2 ? 1 : -1, m & 4 ? 1 : -1) / std::sqrt(3.0);
            return n;
        }
        const Vec3 g = shape_.surfaceGradient(set.id[0], p).normalized();
        if (set.count() == 1) {
            const auto [u, w] = perpendicular(g);
            for (int k = 0; k < 8; ++k) d[n++] = std::cos(k * M_PI / 4) * u + std::sin(k * M_PI / 4) * w;
            return n;
        }
        const Vec3 along = g.cross(shape_.surfaceGradient(set.id[1], p)).normalized();
        d[n++] = along;
        d[n++] = -along;
        return n;
    }

    const shape::Shape& shape_;
    TetComplex& c_;
    Incidence around_;
    std::vector<char> pinned_;
};

using Edge = std::array<std::int32_t, 2>;

std::vector<Edge> boundaryEdges(const TetComplex& c) {
    std::vector<Edge> edges;
    for (const Triangle& t : boundaryFaces(c).triangle)
        for (int k = 0; k < 3; ++k) {
            const auto a = t[k], b = t[(k + 1) % 3];
            if (a < b) edges.push_back({a, b});
        }
    std::sort(edges.begin(), edges.end());
    edges.erase(std::unique(edges.begin(), edges.end()), edges.end());
    return edges;
}

/// One possible repair: vertex v moves to p and from then on lies on `set`.
struct Move {
    double length;
    std::int32_t v;
    Vec3 p;
    SurfaceSet set;
};

/// See improve().
void improveAround(const shape::Shape& shape, TetComplex& complex, const ImproveOptions& options,
                   const std::vector<std::int32_t>& touching, Progress& progress, std::span<const char> only = {}) {
    Neighbourhood near(shape, complex, touching);
    const std::size_t n = complex.position.size();
    // what could not be raised cannot be as long as nothing around it has moved
    std::vector<std::size_t> movedAt(n, 0), triedAt(n, 0);
    std::size_t clock = 0;
    auto isStuck = [&](std::int32_t v) {
        if (triedAt[v] == 0) return false;
        for (auto at = near.around().offset[v]; at < near.around().offset[v + 1]; ++at)
            for (auto w : complex.tets[near.around().tet[at]])
                if (movedAt[w] > triedAt[v]) return false;
        return true;
    };
    std::vector<double> quality(complex.tets.size());
    for (int pass = 0; pass < options.passes; ++pass) {
        parallelFor(complex.tets.size(), [&](std::size_t e) {
            const Tet& t = complex.tets[e];
            quality[e] = minimumSine(complex.position[t[0]], complex.position[t[1]], complex.position[t[2]],
                                     complex.position[t[3]]);
        });
        std::vector<std::pair<double, std::int32_t>> order;
        for (std::size_t v = 0; v < n; ++v) {
            if (!only.empty() && !only[v]) continue;
            double worst = 1e300;
            for (auto at = near.around().offset[v]; at < near.around().offset[v + 1]; ++at)
                worst = std::min(worst, quality[near.around().tet[at]]);
            if (worst < options.targetSine) order.emplace_back(worst, static_cast<std::int32_t>(v));
        }
        std::sort(order.begin(), order.end());
        std::size_t done = 0, raised = 0;
        for (const auto& [unused, v] : order) {
            if (++done % 512 == 0) progress.check();
            const double before = near.worst(v);
            if (before >= options.targetSine || isStuck(v)) continue;
            triedAt[v] = ++clock;
            if (near.raise(v, before) > before) {
                ++raised;
                movedAt[v] = ++clock;
            }
        }
        if (raised == 0) return;
    }
}

class CreaseRepair {
  public:
    CreaseRepair(const shape::Shape& shape, TetComplex& c, double spacing, Progress& progress)
        : shape_(shape), c_(c), a_(spacing), progress_(progress), touching_(touchingVertices(c)) {}

    CreaseReport run() {
        CreaseReport report;
        snapCorners();
        report.crossings = static_cast<int>(crossings().size());
        for (const double limit : {0.45, 0.6, 0.75}) {
            progress_.step("Sharpening machined edges", limit);
            snap(limit);
            polish();
            split();
            polish();
        }
        turnOver();  // what is left
        polish();
        report.unresolved = static_cast<int>(crossings().size());
        return report;
    }

  private:
    struct Crossing {
        Edge edge;
        int i, j;  // surface of the first and of the second end
        Vec3 p;    // point of the machined edge between them
    };

    bool onEdge(int i, int j, Vec3& p, double radius) const {
        int ids[2] = {i, j};
        if (!projectOnto(shape_, ids, 2, p, radius)) return false;
        if (std::abs(shape_.evaluate(p).value) > 1e-6 * a_ + shape_.roughness()) return false;
        const Vec3 g = shape_.surfaceGradient(i, p).normalized(), h = shape_.surfaceGradient(j, p).normalized();
        return g.dot(h) < 0.906;  // more than 25 degrees
    }

    std::vector<Crossing> crossings() const {
        const std::vector<Edge> edges = boundaryEdges(c_);
        std::vector<std::vector<Crossing>> found(edges.size());
        parallelFor(edges.size(), [&](std::size_t e) {
            const auto [a, b] = edges[e];
            const SurfaceSet &s = c_.surfaces[a], &t = c_.surfaces[b];
            if (s.common(t).count() > 0) return;
            for (int k = 0; k < s.count(); ++k)
                for (int l = 0; l < t.count(); ++l) {
                    Vec3 p = 0.5 * (c_.position[a] + c_.position[b]);
                    if (onEdge(s.id[k], t.id[l], p, a_)) {
                        found[e].push_back({edges[e], s.id[k], t.id[l], p});
                        return;
                    }
                }
        });
        std::vector<Crossing> all;
        for (const auto& f : found) all.insert(all.end(), f.begin(), f.end());
        return all;
    }

    void snapCorners() {
        const std::vector<Edge> edges = boundaryEdges(c_);
        std::map<std::int32_t, std::set<int>> nearby;  // ids around each vertex that lies at a change of surface
        for (const auto& [a, b] : edges) {
            if (c_.surfaces[a] == c_.surfaces[b]) continue;
            for (auto [v, w] : {std::pair{a, b}, std::pair{b, a}}) {
                auto& ids = nearby[v];
                for (int k = 0; k < c_.surfaces[v].count(); ++k) ids.insert(c_.surfaces[v].id[k]);
                for (int k = 0; k < c_.surfaces[w].count(); ++k) ids.insert(c_.surfaces[w].id[k]);
            }
        }
        std::map<std::int32_t, std::set<int>> wider = nearby;
        for (const auto& [a, b] : edges) {
            if (nearby.count(a) && nearby.count(b)) {
                wider[a].insert(nearby[b].begin(), nearby[b].end());
                wider[b].insert(nearby[a].begin(), nearby[a].end());
            }
        }
        std::vector<Move> moves;
        for (const auto& [v, ids] : wider) {
            const std::vector<int> id(ids.begin(), ids.end());
            for (std::size_t i = 0; i < id.size(); ++i)
                for (std::size_t j = i + 1; j < id.size(); ++j)
                    for (std::size_t k = j + 1; k < id.size(); ++k) {
                        int three[3] = {id[i], id[j], id[k]};
                        Vec3 p = c_.position[v];
                        if (!projectOnto(shape_, three, 3, p, a_) ||
                            std::abs(shape_.evaluate(p).value) > 1e-6 * a_ + shape_.roughness())
                            continue;
                        Mat3 n;
                        for (int r = 0; r < 3; ++r)
                            n.row(r) = shape_.surfaceGradient(three[r], p).normalized().transpose();
                        if (std::abs(n.determinant()) < 0.15) continue;
                        SurfaceSet set;
                        for (int s : three) set.add(s);
                        const double length = (p - c_.position[v]).norm();
                        if (length <= 0.75 * a_) moves.push_back({length, v, p, set});
                    }
        }
        std::sort(moves.begin(), moves.end(),
                  [](const Move& x, const Move& y) { return x.length != y.length ? x.length < y.length : x.v < y.v; });
        Neighbourhood near(shape_, c_, touching_);
        std::vector<Vec3> done;
        for (const Move& m : moves) {
            if (std::any_of(done.begin(), done.end(), [&](const Vec3& q) { return (q - m.p).norm() < 0.05 * a_; }))
                continue;
            if (c_.surfaces[m.v].count() == 3 || !apply(near, m)) continue;
            done.push_back(m.p);
        }
    }

    bool apply(Neighbourhood& near, const Move& m) {
        const double before = near.worst(m.v);
        const double after = near.worstAt(m.v, m.p);
        if (after < 0.08 && after <= before) return false;
        c_.position[m.v] = m.p;
        c_.surfaces[m.v] = m.set;
        return true;
    }

    void snap(double limit) {
        Neighbourhood near(shape_, c_, touching_);
        std::vector<Move> moves;
        for (const Crossing& x : crossings())
            for (int end = 0; end < 2; ++end) {
                const auto v = x.edge[end];
                SurfaceSet set = c_.surfaces[v];
                if (!set.add(end ? x.i : x.j)) continue;
                Vec3 p = c_.position[v];
                int ids[3] = {set.id[0], set.id[1], set.id[2]};
                if (!projectOnto(shape_, ids, set.count(), p, a_) ||
                    std::abs(shape_.evaluate(p).value) > 1e-6 * a_ + shape_.roughness())
                    continue;
                const double length = (p - c_.position[v]).norm();
                if (length <= limit * a_) moves.push_back({length, v, p, set});
            }
        std::sort(moves.begin(), moves.end(),
                  [](const Move& a, const Move& b) { return a.length != b.length ? a.length < b.length : a.v < b.v; });
        std::vector<char> done(c_.position.size(), 0);
        for (const Move& m : moves) {
            if (done[m.v]) continue;
            // another end may have been moved onto the edge already: then this one is needed only if a crossing is left
            if (stillCrosses(near, m)) done[m.v] = apply(near, m);
        }
    }

    bool stillCrosses(const Neighbourhood& near, const Move& m) const {
        const auto& around = near.around();
        for (auto at = around.offset[m.v]; at < around.offset[m.v + 1]; ++at)
            for (auto w : c_.tets[around.tet[at]]) {
                if (w == m.v || c_.surfaces[w].count() == 0) continue;
                if (c_.surfaces[w].common(c_.surfaces[m.v]).count() == 0 && c_.surfaces[w].common(m.set).count() > 0)
                    return true;
            }
        return false;
    }

    /// Splits crossing edges at the machined edge where the parts are of fair quality. One edge a tetrahedron a round.
    void split() {
        for (int round = 0; round < 3; ++round) {
            const Incidence around = incidence(c_.position.size(), c_.tets);
            std::vector<char> used(c_.tets.size(), 0);
            bool any = false;
            for (const Crossing& x : crossings()) {
                std::vector<std::int32_t> ring;
                bool free = true;
                for (auto at = around.offset[x.edge[0]]; at < around.offset[x.edge[0] + 1]; ++at) {
                    const auto e = around.tet[at];
                    if (std::find(c_.tets[e].begin(), c_.tets[e].end(), x.edge[1]) == c_.tets[e].end()) continue;
                    ring.push_back(e);
                    free = free && !used[e];
                }
                if (!free) continue;
                double worst = 1e300;
                for (auto e : ring)
                    for (int end = 0; end < 2; ++end) {
                        Vec3 p[4];
                        for (int k = 0; k < 4; ++k)
                            p[k] = c_.tets[e][k] == x.edge[end] ? x.p : c_.position[c_.tets[e][k]];
                        worst = std::min(worst, minimumSine(p[0], p[1], p[2], p[3]));
                    }
                if (worst < 0.1) continue;
                const auto middle = static_cast<std::int32_t>(c_.position.size());
                SurfaceSet set;
                set.add(x.i);
                set.add(x.j);
                c_.position.push_back(x.p);
                c_.surfaces.push_back(set);
                for (auto e : ring) {
                    used[e] = 1;
                    Tet second = c_.tets[e];
                    for (auto& v : c_.tets[e])
                        if (v == x.edge[0]) v = middle;
                    for (auto& v : second)
                        if (v == x.edge[1]) v = middle;
                    c_.tets.push_back(second);
                    used.push_back(1);
                }
                any = true;
            }
            if (!any) return;
        }
    }

    /// The tetrahedra around an edge of the boundary, in turning order about the way from its first end to its second.
    struct Fan {
        std::vector<std::int32_t> tets, ring;  ///< ring: their other vertices, one more than tetrahedra
    };
    /// Empty when they do not make one fan.
    Fan fanAround(const Edge& edge, const Incidence& around) const {
        const auto [a, b] = edge;
        Fan fan;
        std::map<std::int32_t, std::array<std::int32_t, 2>> from;  // vertex to the next one and the tetrahedron between
        std::set<std::int32_t> reached;
        for (auto at = around.offset[a]; at < around.offset[a + 1]; ++at) {
            const auto e = around.tet[at];
            const Tet& t = c_.tets[e];
            std::array<std::int32_t, 2> others{-1, -1};
            int n = 0, has = 0;
            for (const auto v : t) {
                if (v == a || v == b)
                    ++has;
                else if (n < 2)
                    others[n++] = v;
            }
            if (has < 2) continue;
            if (tetVolume(c_.position[a], c_.position[b], c_.position[others[0]], c_.position[others[1]]) < 0)
                std::swap(others[0], others[1]);
            if (!from.try_emplace(others[0], std::array{others[1], e}).second) return {};
            reached.insert(others[1]);
        }
        std::int32_t v = -1;
        for (const auto& [first, unused] : from)
            if (!reached.count(first)) v = first;
        if (v < 0) return {};
        fan.ring.push_back(v);
        for (auto at = from.find(v); at != from.end(); at = from.find(v)) {
            fan.tets.push_back(at->second[1]);
            fan.ring.push_back(v = at->second[0]);
        }
        return fan.tets.size() == from.size() ? fan : Fan{};
    }

    bool areJoined(std::int32_t a, std::int32_t b, const Incidence& around) const {
        for (auto at = around.offset[a]; at < around.offset[a + 1]; ++at) {
            const Tet& t = c_.tets[around.tet[at]];
            if (std::find(t.begin(), t.end(), b) != t.end()) return true;
        }
        return false;
    }

    double worstOf(const std::vector<Tet>& tets) const {
        double worst = 1;
        for (const Tet& t : tets)
            worst = std::min(worst,
                             minimumSine(c_.position[t[0]], c_.position[t[1]], c_.position[t[2]], c_.position[t[3]]));
        return worst;
    }

    /// Crossing edges between two vertices of the machined edge are turned over: the tetrahedra around them are laid
    /// anew, or one more fills the notch that they leave.
    void turnOver() {
        constexpr double leastSine = 0.2;
        const Incidence around = incidence(c_.position.size(), c_.tets);
        std::vector<char> used(c_.position.size(), 0);
        std::vector<char> gone(c_.tets.size(), 0);
        std::vector<Tet> more;
        for (const Crossing& x : crossings()) {
            const auto [a, b] = x.edge;
            const Fan fan = fanAround(x.edge, around);
            if (fan.tets.empty()) continue;
            const auto first = fan.ring.front(), last = fan.ring.back();
            bool free = !used[a] && !used[b];
            for (const auto v : fan.ring) free = free && !used[v];
            const auto isOnEdge = [&](std::int32_t v) { return c_.surfaces[v].has(x.i) && c_.surfaces[v].has(x.j); };
            if (!free || !isOnEdge(first) || !isOnEdge(last) || areJoined(first, last, around)) continue;
            // triangles that the ring is laid out in; each makes two tetrahedra
            const auto& r = fan.ring;
            std::vector<std::vector<Triangle>> layouts;
            if (r.size() == 3) layouts = {{{r[0], r[1], r[2]}}};
            if (r.size() == 4 && !areJoined(r[0], r[2], around))
                layouts.push_back({{r[0], r[1], r[2]}, {r[0], r[2], r[3]}});
            if (r.size() == 4 && !areJoined(r[1], r[3], around))
                layouts.push_back({{r[0], r[1], r[3]}, {r[1], r[2], r[3]}});
            std::vector<Tet> best{{a, b, last, first}};
            bool replaces = false;
            double worst = worstOf(best);
            for (const auto& layout : layouts) {
                std::vector<Tet> tets;
                for (const Triangle& t : layout) {
                    tets.push_back({a, t[0], t[1], t[2]});
                    tets.push_back({b, t[0], t[2], t[1]});
                }
                const double w = worstOf(tets);
                if (w <= worst) continue;
                worst = w;
                best = tets;
                replaces = true;
            }
            if (worst < leastSine) continue;
            used[a] = used[b] = 1;
            for (const auto v : fan.ring) used[v] = 1;
            if (replaces)
                for (const auto e : fan.tets) gone[e] = 1;
            more.insert(more.end(), best.begin(), best.end());
        }
        std::size_t left = 0;
        for (std::size_t e = 0; e < c_.tets.size(); ++e)
            if (!gone[e]) c_.tets[left++] = c_.tets[e];
        c_.tets.resize(left);
        c_.tets.insert(c_.tets.end(), more.begin(), more.end());
    }

    void polish() { improveAround(shape_, c_, {0.34, 2}, touching_, progress_); }

    const shape::Shape& shape_;
    TetComplex& c_;
    double a_;
    Progress& progress_;
    std::vector<std::int32_t> touching_;
};

}  // namespace

void improve(const shape::Shape& shape, TetComplex& complex, const ImproveOptions& options, Progress& progress,
             std::span<const char> only) {
    improveAround(shape, complex, options, touchingVertices(complex), progress, only);
}

CreaseReport repairCreases(const shape::Shape& shape, TetComplex& complex, double spacing, Progress& progress) {
    return CreaseRepair(shape, complex, spacing, progress).run();
}

}  // namespace escultura::lattice
