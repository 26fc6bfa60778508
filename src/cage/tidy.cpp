#include "cage/tidy.hpp"

#include <algorithm>
#include <cmath>
#include <set>

#include "base/parallel.hpp"

namespace escultura::cage {
namespace {

class Tidier {
  public:
    Tidier(Cage& cage, std::vector<std::uint8_t>& onPlane, const Vec3& planeAt, const surface::TriangleTree& tree)
        : cage_(cage),
          onPlane_(onPlane),
          planeAt_(planeAt),
          tree_(tree),
          around_(cage.position.size()),
          border_(cage.position.size(), 0) {
        for (std::size_t f = 0; f < cage.face.size(); ++f)
            for (auto v : cage.face[f]) around_[v].push_back(static_cast<std::int32_t>(f));
        const Connectivity c(cage);
        for (const auto& e : c.edge)
            if (e.faces != 2) border_[e.a] = border_[e.b] = 1;
    }

    void run(Progress& progress) {
        relax(3);
        for (int round = 0; round < 12; ++round) {
            progress.step("Tidying the cage", round / 12.0);
            int changes = 0;
            for (std::size_t f = 0; f < cage_.face.size(); ++f) {
                if (!alive(f)) continue;
                for (int k = 0; k < 2 && alive(f); ++k) changes += tryCollapse(static_cast<std::int32_t>(f), k);
            }
            for (std::size_t f = 0; f < cage_.face.size(); ++f)
                for (int k = 0; k < 4 && alive(f); ++k) changes += tryRotate(static_cast<std::int32_t>(f), k);
            relax(3);
            if (changes == 0) break;
        }
        relax(10);
        std::erase_if(cage_.face, [](const Quad& q) { return q[0] < 0; });
        const std::vector<std::uint8_t> old = onPlane_;
        const auto number = dropUnused(cage_);
        for (std::size_t v = 0; v < number.size(); ++v)
            if (number[v] >= 0) onPlane_[number[v]] = old[v];
        onPlane_.resize(cage_.position.size());
    }

  private:
    bool alive(std::size_t f) const { return cage_.face[f][0] >= 0; }
    /// Faces around a vertex once the cage is mirrored.
    int valence(std::int32_t v) const {
        int n = static_cast<int>(around_[v].size());
        for (std::uint8_t m = onPlane_[v]; m; m &= static_cast<std::uint8_t>(m - 1)) n *= 2;
        return n;
    }
    int weight(std::int32_t v) const {
        int n = 1;
        for (std::uint8_t m = onPlane_[v]; m; m &= static_cast<std::uint8_t>(m - 1)) n *= 2;
        return n;
    }
    static int badness(int valence) { return (valence - 4) * (valence - 4); }
    std::set<std::int32_t> neighbours(std::int32_t v) const {
        std::set<std::int32_t> n;
        for (auto f : around_[v])
            for (int k = 0; k < 4; ++k)
                if (cage_.face[f][k] == v) {
                    n.insert(cage_.face[f][(k + 1) % 4]);
                    n.insert(cage_.face[f][(k + 3) % 4]);
                }
        return n;
    }
    Vec3 normalOf(const Quad& q) const {
        return (cage_.position[q[2]] - cage_.position[q[0]]).cross(cage_.position[q[3]] - cage_.position[q[1]]);
    }
    /// Whether each corner of a quad turns the way its normal should.
    bool convex(const Quad& q, const Vec3& normal) const {
        for (int k = 0; k < 4; ++k) {
            const Vec3 a = cage_.position[q[(k + 1) % 4]] - cage_.position[q[k]],
                       b = cage_.position[q[(k + 3) % 4]] - cage_.position[q[k]];
            if (a.cross(b).dot(normal) <= 0.05 * a.norm() * b.norm() * normal.norm()) return false;
        }
        return true;
    }

    /// Merges corners k and k+2 of a face when valences get better.
    int tryCollapse(std::int32_t f, int k) {
        const Quad q = cage_.face[f];
        std::int32_t a = q[k], c = q[k + 2];
        const std::int32_t b = q[k + 1], d = q[(k + 3) % 4];
        if (border_[c]) std::swap(a, c);  // the one on a plane stays
        if (border_[c]) return 0;
        const int va = valence(a), vb = valence(b), vc = valence(c), vd = valence(d);
        const int merged = va + weight(a) * (static_cast<int>(around_[c].size()) - 2);
        const int afterB = vb - weight(b), afterD = vd - weight(d);
        if (afterB < 3 || afterD < 3 || merged < 3) return 0;
        const int before = badness(va) + badness(vb) + badness(vc) + badness(vd);
        const int after = badness(merged) + badness(afterB) + badness(afterD);
        if (after >= before) return 0;
        // link condition: nothing in common but the two other corners
        const auto na = neighbours(a), nc = neighbours(c);
        for (auto v : nc)
            if (v != b && v != d && (na.contains(v) || v == a)) return 0;
        for (auto g : around_[c])
            if (g != f)
                for (auto v : cage_.face[g])
                    if (v == a) return 0;
        for (auto g : around_[a])  // two faces with the same diagonal would fold together
            if (g != f)
                for (auto h : around_[c])
                    if (h != f && opposite(g, a) == opposite(h, c)) return 0;
        const Vec3 oldA = cage_.position[a];
        const Vec3 middle = border_[a] ? oldA : projected(0.5 * (cage_.position[a] + cage_.position[c]), onPlane_[a]);
        std::vector<std::pair<std::int32_t, Vec3>> kept;
        for (auto v : {a, c})
            for (auto g : around_[v])
                if (g != f) kept.push_back({g, normalOf(cage_.face[g])});
        const Vec3 oldC = cage_.position[c];
        cage_.position[a] = cage_.position[c] = middle;
        for (const auto& [g, n] : kept)
            if (!convex(cage_.face[g], n)) {
                cage_.position[a] = oldA;
                cage_.position[c] = oldC;
                return 0;
            }
        for (auto g : around_[c])
            if (g != f) {
                for (auto& v : cage_.face[g])
                    if (v == c) v = a;
                around_[a].push_back(g);
            }
        around_[c].clear();
        for (auto v : {a, b, d}) std::erase(around_[v], f);
        cage_.face[f] = {-1, -1, -1, -1};
        return 1;
    }
    std::int32_t opposite(std::int32_t g, std::int32_t v) const {
        for (int k = 0; k < 4; ++k)
            if (cage_.face[g][k] == v) return cage_.face[g][(k + 2) % 4];
        return -1;
    }

    /// Turns the edge between corner k and k+1 one step around the hexagon of its two faces.
    int tryRotate(std::int32_t f, int k) {
        const std::int32_t u = cage_.face[f][k], v = cage_.face[f][(k + 1) % 4];
        if (border_[u] && border_[v] && onPlane_[u] & onPlane_[v]) return 0;
        std::int32_t g = -1;
        int m = 0;
        for (auto x : around_[u])
            for (int i = 0; i < 4; ++i)
                if (cage_.face[x][i] == v && cage_.face[x][(i + 1) % 4] == u) {
                    g = x;
                    m = i;
                }
        if (g < 0 || g == f) return 0;
        if (valence(u) - weight(u) < 3 || valence(v) - weight(v) < 3) return 0;
        const std::int32_t c = cage_.face[f][(k + 2) % 4], d = cage_.face[f][(k + 3) % 4];
        const std::int32_t e = cage_.face[g][(m + 2) % 4], h = cage_.face[g][(m + 3) % 4];
        // the hexagon is u, e, h, v, c, d (e follows u in g, h precedes v)
        const std::set<std::int32_t> ring{u, v, c, d, e, h};
        if (ring.size() != 6) return 0;
        const Vec3 normal = normalOf(cage_.face[f]).normalized() + normalOf(cage_.face[g]).normalized();
        int done = 0;
        struct Turn {
            std::int32_t p, q;
            Quad first, second;
        };
        for (const Turn& t : {Turn{d, h, {u, e, h, d}, {h, v, c, d}}, Turn{c, e, {e, h, v, c}, {c, d, u, e}}}) {
            if (border_[t.p] && border_[t.q]) continue;
            const int before =
                badness(valence(u)) + badness(valence(v)) + badness(valence(t.p)) + badness(valence(t.q));
            const int after = badness(valence(u) - weight(u)) + badness(valence(v) - weight(v)) +
                              badness(valence(t.p) + weight(t.p)) + badness(valence(t.q) + weight(t.q));
            if (after >= before || neighbours(t.p).contains(t.q)) continue;
            if (!convex(t.first, normal) || !convex(t.second, normal)) continue;
            for (auto w : ring) {
                std::erase(around_[w], f);
                std::erase(around_[w], g);
            }
            cage_.face[f] = t.first;
            cage_.face[g] = t.second;
            for (auto w : t.first) around_[w].push_back(f);
            for (auto w : t.second) around_[w].push_back(g);
            done = 1;
            break;
        }
        return done;
    }

    Vec3 projected(const Vec3& p, std::uint8_t planes) const {
        const auto near = tree_.closest(p);
        Vec3 q = near.triangle >= 0 ? near.point : p;
        for (int a = 0; a < 3; ++a)
            if (planes >> a & 1) q[a] = planeAt_[a];
        return q;
    }
    void relax(int passes) {
        std::vector<Vec3> next(cage_.position.size());
        for (int pass = 0; pass < passes; ++pass) {
            parallelFor(
                cage_.position.size(),
                [&](std::size_t v) {
                    next[v] = cage_.position[v];
                    if (around_[v].empty()) return;
                    Vec3 sum = Vec3::Zero();
                    int count = 0;
                    for (auto w : neighbours(static_cast<std::int32_t>(v))) {
                        // a neighbour off the plane has an image on the other side
                        const int n =
                            weight(static_cast<std::int32_t>(v)) / sharedWeight(static_cast<std::int32_t>(v), w);
                        sum += n * cage_.position[w];
                        count += n;
                    }
                    next[v] = projected(0.5 * cage_.position[v] + 0.5 * sum / count, onPlane_[v]);
                },
                32);
            cage_.position.swap(next);
        }
    }
    int sharedWeight(std::int32_t v, std::int32_t w) const {
        int n = 1;
        for (std::uint8_t m = onPlane_[v] & onPlane_[w]; m; m &= static_cast<std::uint8_t>(m - 1)) n *= 2;
        return n;
    }

    Cage& cage_;
    std::vector<std::uint8_t>& onPlane_;
    Vec3 planeAt_;
    const surface::TriangleTree& tree_;
    std::vector<std::vector<std::int32_t>> around_;
    std::vector<char> border_;
};

}  // namespace

void tidyHalf(Cage& cage, std::vector<std::uint8_t>& onPlane, const Vec3& planeAt, const surface::TriangleTree& tree,
              Progress& progress) {
    Tidier(cage, onPlane, planeAt, tree).run(progress);
}

}  // namespace escultura::cage
