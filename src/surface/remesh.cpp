#include "surface/remesh.hpp"

#include <algorithm>
#include <cmath>

#include "base/parallel.hpp"

namespace escultura::surface {
namespace {

using lattice::SurfaceSet;

class Remesher {
  public:
    Remesher(const shape::Shape& shape, const RemeshOptions& options, TriMesh& mesh, std::vector<SurfaceSet>& sets)
        : shape_(shape), options_(options), mesh_(mesh), set_(sets), around_(mesh.position.size()) {
        for (std::size_t t = 0; t < mesh.triangle.size(); ++t)
            for (auto v : mesh.triangle[t]) around_[v].push_back(static_cast<std::int32_t>(t));
        // a vertex where owners meet without an exact edge (a small chamfer) stays where it is
        pinned_.assign(mesh.position.size(), 0);
        for (std::size_t v = 0; v < around_.size(); ++v) pinned_[v] = !ownersFit(static_cast<std::int32_t>(v));
    }

    void run(Progress& progress) {
        sizing();
        for (int pass = 0; pass < options_.passes; ++pass) {
            progress.step("Laying out triangles", static_cast<double>(pass) / options_.passes);
            splitLong();
            progress.check();
            collapseShort();
            flip();
            relax();
            progress.check();
        }
        compact();
    }

  private:
    struct Wing {
        std::int32_t first = -1, second = -1;    // triangles left and right of a -> b
        std::int32_t opposite = -1, other = -1;  // their third vertices
    };

    bool ownersFit(std::int32_t v) const {
        for (auto t : around_[v])
            if (!set_[v].has(mesh_.owner[t])) return false;
        return true;
    }
    bool alive(std::int32_t t) const { return mesh_.triangle[t][0] >= 0; }
    double length(std::int32_t a, std::int32_t b) const { return (mesh_.position[a] - mesh_.position[b]).norm(); }
    double target(std::int32_t a, std::int32_t b) const { return std::min(target_[a], target_[b]); }

    Wing wing(std::int32_t a, std::int32_t b) const {
        Wing w;
        for (auto t : around_[a])
            for (int k = 0; k < 3; ++k) {
                const Triangle& v = mesh_.triangle[t];
                if (v[k] == a && v[(k + 1) % 3] == b) {
                    w.first = t;
                    w.opposite = v[(k + 2) % 3];
                }
                if (v[k] == b && v[(k + 1) % 3] == a) {
                    w.second = t;
                    w.other = v[(k + 2) % 3];
                }
            }
        return w;
    }
    Vec3 across(const Vec3& a, const Vec3& b, const Vec3& c) const { return (b - a).cross(c - a); }
    Vec3 normalOf(std::int32_t t) const {
        const Triangle& v = mesh_.triangle[t];
        return across(mesh_.position[v[0]], mesh_.position[v[1]], mesh_.position[v[2]]);
    }
    bool project(const SurfaceSet& set, Vec3& p, double radius) const {
        const int ids[3] = {set.id[0], set.id[1], set.id[2]};
        return set.count() > 0 && projectOnto(shape_, ids, set.count(), p, radius);
    }

    /// Edge length at every vertex from the curvature of its surfaces, graded.
    void sizing() {
        const std::size_t n = mesh_.position.size();
        target_.assign(n, options_.edgeLength);
        if (options_.chordError <= 0) return;
        std::vector<std::array<Vec3, 3>> normal(n);
        parallelFor(n, [&](std::size_t v) {
            for (int k = 0; k < set_[v].count(); ++k)
                normal[v][k] = shape_.surfaceGradient(set_[v].id[k], mesh_.position[v]).normalized();
        });
        const double least = options_.shortest * options_.edgeLength, e = options_.chordError;
        parallelFor(n, [&](std::size_t v) {
            double curvature = 0;
            for (auto t : around_[v])
                for (auto w : mesh_.triangle[t]) {
                    if (w == static_cast<std::int32_t>(v)) continue;
                    for (int i = 0; i < set_[v].count(); ++i)
                        for (int j = 0; j < set_[w].count(); ++j)
                            if (set_[v].id[i] == set_[w].id[j])
                                curvature =
                                    std::max(curvature,
                                             (normal[v][i] - normal[w][j]).norm() /
                                                 std::max((mesh_.position[v] - mesh_.position[w]).norm(), 0.3 * least));
                }
            if (curvature > 1e-6)
                target_[v] =
                    std::clamp(std::sqrt(std::max(6 * e / curvature - 3 * e * e, 0.0)), least, options_.edgeLength);
        });
        for (int sweep = 0; sweep < 4; ++sweep)
            for (const Triangle& t : mesh_.triangle)
                for (int k = 0; k < 3; ++k) {
                    const auto a = t[k], b = t[(k + 1) % 3];
                    const double d = 0.5 * length(a, b);
                    target_[a] = std::min(target_[a], target_[b] + d);
                    target_[b] = std::min(target_[b], target_[a] + d);
                }
    }

    template <class Test>
    std::vector<std::array<std::int32_t, 2>> edgesWhere(const Test& test, bool longestFirst) const {
        struct Edge {
            double length;
            std::int32_t a, b;
        };
        std::vector<Edge> edges;
        for (std::size_t t = 0; t < mesh_.triangle.size(); ++t) {
            if (!alive(static_cast<std::int32_t>(t))) continue;
            for (int k = 0; k < 3; ++k) {
                const auto a = mesh_.triangle[t][k], b = mesh_.triangle[t][(k + 1) % 3];
                // in steps, or rounding would order edges of one length
                if (a < b && test(a, b))
                    edges.push_back({std::round(length(a, b) / options_.edgeLength * 12345678.9), a, b});
            }
        }
        std::sort(edges.begin(), edges.end(), [&](const Edge& x, const Edge& y) {
            if (x.length != y.length) return longestFirst ? x.length > y.length : x.length < y.length;
            return x.a != y.a ? x.a < y.a : x.b < y.b;
        });
        std::vector<std::array<std::int32_t, 2>> out;
        for (const Edge& e : edges) out.push_back({e.a, e.b});
        return out;
    }

    void splitLong() {
        auto isLong = [&](auto a, auto b) { return length(a, b) > 4.0 / 3 * target(a, b); };
        for (int round = 0; round < 3; ++round) {
            const auto edges = edgesWhere(isLong, true);
            if (edges.empty()) return;
            for (const auto& [a, b] : edges) {
                const Wing w = wing(a, b);
                if (w.first < 0 || w.second < 0) continue;
                const SurfaceSet common = set_[a].common(set_[b]);
                const auto o1 = mesh_.owner[w.first], o2 = mesh_.owner[w.second];
                if (!common.has(o1) || !common.has(o2)) continue;
                SurfaceSet set;
                set.add(o1);
                if (o2 != o1) set.add(o2);
                Vec3 p = 0.5 * (mesh_.position[a] + mesh_.position[b]);
                if (!project(set, p, 0.4 * length(a, b))) continue;
                auto turns = [&](std::int32_t t, std::int32_t c, std::int32_t from, std::int32_t to) {
                    const Vec3 n = normalOf(t);
                    const Vec3 x = across(mesh_.position[from], p, mesh_.position[c]),
                               y = across(p, mesh_.position[to], mesh_.position[c]);
                    return n.dot(x) < 0.3 * n.norm() * x.norm() || n.dot(y) < 0.3 * n.norm() * y.norm();
                };
                if (turns(w.first, w.opposite, a, b) || turns(w.second, w.other, b, a)) continue;
                const auto m = static_cast<std::int32_t>(mesh_.position.size());
                mesh_.position.push_back(p);
                set_.push_back(set);
                target_.push_back(0.5 * (target_[a] + target_[b]));
                pinned_.push_back(0);
                around_.emplace_back();
                for (const auto& [t, c, from, to] :
                     {std::tuple{w.first, w.opposite, a, b}, std::tuple{w.second, w.other, b, a}}) {
                    const auto extra = static_cast<std::int32_t>(mesh_.triangle.size());
                    mesh_.triangle[t] = {from, m, c};
                    mesh_.triangle.push_back({m, to, c});
                    mesh_.owner.push_back(std::int16_t(mesh_.owner[t]));
                    drop(to, t);
                    around_[to].push_back(extra);
                    around_[c].push_back(extra);
                    around_[m].push_back(t);
                    around_[m].push_back(extra);
                }
            }
        }
    }

    void drop(std::int32_t v, std::int32_t t) {
        auto& list = around_[v];
        list.erase(std::find(list.begin(), list.end(), t));
    }
    std::vector<std::int32_t> neighbours(std::int32_t v) const {
        std::vector<std::int32_t> n;
        for (auto t : around_[v])
            for (auto w : mesh_.triangle[t])
                if (w != v && std::find(n.begin(), n.end(), w) == n.end()) n.push_back(w);
        return n;
    }

    /// Moves a into b when nothing is lost. @return whether it did
    bool collapse(std::int32_t a, std::int32_t b) {
        if (pinned_[a] || !(set_[a].common(set_[b]) == set_[a])) return false;
        const Wing w = wing(a, b);
        if (w.first < 0 || w.second < 0) return false;
        const bool crease = mesh_.owner[w.first] != mesh_.owner[w.second];
        if (set_[a].count() > 1 && !crease) return false;
        const auto na = neighbours(a), nb = neighbours(b);
        int shared = 0;
        for (auto v : na) shared += std::count(nb.begin(), nb.end(), v);
        if (shared != 2 || na.size() < 4 || neighbours(w.opposite).size() < 4 || neighbours(w.other).size() < 4)
            return false;
        for (auto t : around_[a]) {
            if (t == w.first || t == w.second) continue;
            Triangle v = mesh_.triangle[t];
            const Vec3 before = normalOf(t);
            for (auto& x : v)
                if (x == a) x = b;
            const Vec3 after = across(mesh_.position[v[0]], mesh_.position[v[1]], mesh_.position[v[2]]);
            if (after.dot(before) < 0.5 * after.norm() * before.norm() || after.norm() < 0.05 * before.norm())
                return false;
            double longest = 0;
            for (int k = 0; k < 3; ++k) {
                const double l = length(v[k], v[(k + 1) % 3]);
                longest = std::max(longest, l);
                if ((v[k] == b || v[(k + 1) % 3] == b) && l > 4.0 / 3 * target(v[k], v[(k + 1) % 3])) return false;
            }
            if (after.norm() < 0.08 * longest * longest) return false;
        }
        const std::vector<std::int32_t> ring = around_[a];
        for (auto t : ring) {
            if (t == w.first || t == w.second) {
                for (auto v : mesh_.triangle[t])
                    if (v != a) drop(v, t);
                mesh_.triangle[t] = {-1, -1, -1};
                continue;
            }
            for (auto& v : mesh_.triangle[t])
                if (v == a) v = b;
            around_[b].push_back(t);
        }
        around_[a].clear();
        return true;
    }

    void collapseShort() {
        const auto edges = edgesWhere([&](auto a, auto b) { return length(a, b) < 4.0 / 5 * target(a, b); }, false);
        for (const auto& [a, b] : edges) {
            if (around_[a].empty() || around_[b].empty()) continue;
            if (length(a, b) >= 4.0 / 5 * target(a, b)) continue;
            if (!collapse(a, b)) collapse(b, a);
        }
    }

    /// Delaunay flips within one owner.
    void flip() {
        for (int round = 0; round < 2; ++round)
            for (std::size_t t = 0; t < mesh_.triangle.size(); ++t)
                for (int k = 0; k < 3; ++k) {
                    if (!alive(static_cast<std::int32_t>(t))) break;
                    const auto a = mesh_.triangle[t][k], b = mesh_.triangle[t][(k + 1) % 3];
                    if (a > b) continue;
                    const Wing w = wing(a, b);
                    if (w.first < 0 || w.second < 0 || mesh_.owner[w.first] != mesh_.owner[w.second]) continue;
                    const auto c = w.opposite, d = w.other;
                    if (c == d || around_[a].size() < 4 || around_[b].size() < 4) continue;
                    const Vec3 &pa = mesh_.position[a], &pb = mesh_.position[b], &pc = mesh_.position[c],
                               &pd = mesh_.position[d];
                    auto angle = [](const Vec3& at, const Vec3& p, const Vec3& q) {
                        const Vec3 u = p - at, v = q - at;
                        return std::atan2(u.cross(v).norm(), u.dot(v));
                    };
                    if (angle(pc, pa, pb) + angle(pd, pa, pb) < M_PI + 0.02) continue;
                    if (wing(c, d).first >= 0 || wing(d, c).first >= 0) continue;
                    const Vec3 n = normalOf(w.first).normalized() + normalOf(w.second).normalized();
                    const Vec3 x = across(pc, pd, pb), y = across(pd, pc, pa);
                    if (x.normalized().dot(n.normalized()) < 0.8 || y.normalized().dot(n.normalized()) < 0.8) continue;
                    mesh_.triangle[w.first] = {c, d, b};
                    mesh_.triangle[w.second] = {d, c, a};
                    drop(a, w.first);
                    drop(b, w.second);
                    around_[d].push_back(w.first);
                    around_[c].push_back(w.second);
                }
    }

    /// Moves vertices along their surface towards the middle of their triangles.
    void relax() {
        for (int round = 0; round < 3; ++round)
            for (std::size_t v = 0; v < mesh_.position.size(); ++v) {
                if (around_[v].empty() || pinned_[v] || set_[v].count() != 1) continue;
                Vec3 sum = Vec3::Zero(), normal = Vec3::Zero();
                double weight = 0;
                for (auto t : around_[v]) {
                    const Triangle& k = mesh_.triangle[t];
                    const Vec3 n = normalOf(t);
                    const double area = n.norm();
                    sum += area * (mesh_.position[k[0]] + mesh_.position[k[1]] + mesh_.position[k[2]]) / 3;
                    weight += area;
                    normal += n;
                }
                if (!(weight > 0)) continue;
                const Vec3 old = mesh_.position[v];
                Vec3 move = sum / weight - old;
                normal.normalize();
                move -= move.dot(normal) * normal;
                Vec3 p = old + 0.7 * move;
                if (!project(set_[v], p, 0.5 * target_[v])) continue;
                std::vector<Vec3> before;
                for (auto t : around_[v]) before.push_back(normalOf(t));
                mesh_.position[v] = p;
                bool good = true;
                for (std::size_t i = 0; i < around_[v].size() && good; ++i) {
                    const Vec3 n = normalOf(around_[v][i]);
                    good = n.dot(before[i]) > 0.8 * n.norm() * before[i].norm() && n.norm() > 0.25 * before[i].norm();
                }
                if (!good) mesh_.position[v] = old;
            }
    }

    void compact() {
        std::vector<std::int32_t> renumber(mesh_.position.size(), -1);
        TriMesh out;
        std::vector<SurfaceSet> sets;
        for (std::size_t t = 0; t < mesh_.triangle.size(); ++t) {
            if (!alive(static_cast<std::int32_t>(t))) continue;
            Triangle k = mesh_.triangle[t];
            for (auto& v : k) {
                if (renumber[v] < 0) {
                    renumber[v] = static_cast<std::int32_t>(out.position.size());
                    out.position.push_back(mesh_.position[v]);
                    sets.push_back(set_[v]);
                }
                v = renumber[v];
            }
            out.triangle.push_back(k);
            out.owner.push_back(mesh_.owner[t]);
        }
        mesh_ = std::move(out);
        set_ = std::move(sets);
    }

    const shape::Shape& shape_;
    const RemeshOptions& options_;
    TriMesh& mesh_;
    std::vector<SurfaceSet>& set_;
    std::vector<std::vector<std::int32_t>> around_;
    std::vector<char> pinned_;
    std::vector<double> target_;
};

}  // namespace

void remesh(const shape::Shape& shape, const RemeshOptions& options, TriMesh& mesh, std::vector<SurfaceSet>& sets,
            Progress& progress) {
    Remesher(shape, options, mesh, sets).run(progress);
}

void remeshToBudget(const shape::Shape& shape, int triangles, TriMesh& mesh, std::vector<SurfaceSet>& sets,
                    Progress& progress) {
    const TriMesh first = mesh;
    const std::vector<SurfaceSet> firstSets = sets;
    RemeshOptions o;
    // equal-sided triangles of edge l have an area of sqrt(3)/4 l^2; curvature shortens some edges
    o.edgeLength = 1.2 * std::sqrt(measure(mesh).area * 4 / (std::sqrt(3.0) * std::max(triangles, 100)));
    for (int trial = 0; trial < 4; ++trial) {
        mesh = first;
        sets = firstSets;
        o.chordError = 0.05 * o.edgeLength;
        remesh(shape, o, mesh, sets, progress);
        const double ratio = static_cast<double>(mesh.triangle.size()) / triangles;
        if (std::abs(ratio - 1) < 0.05) return;
        o.edgeLength *= std::pow(ratio, 0.55);
    }
}

std::vector<float> triangleQuality(const TriMesh& mesh) {
    std::vector<float> q;
    for (const Triangle& t : mesh.triangle) {
        const double a = (mesh.position[t[1]] - mesh.position[t[0]]).norm(),
                     b = (mesh.position[t[2]] - mesh.position[t[1]]).norm(),
                     c = (mesh.position[t[0]] - mesh.position[t[2]]).norm();
        const double product = a * b * c;
        q.push_back(product > 0 ? static_cast<float>((b + c - a) * (c + a - b) * (a + b - c) / product) : 0.0f);
    }
    return q;
}

}  // namespace escultura::surface
