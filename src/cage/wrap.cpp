#include "cage/wrap.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>
#include <set>

#include "base/error.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"
#include "cage/tidy.hpp"

namespace escultura::cage {
namespace {

// corners of a cell: bit 0 x, bit 1 y, bit 2 z. Edges: axis 0-3 along x, 4-7 along y, 8-11 along z
constexpr int edgeCorner[12][2] = {{0, 1}, {2, 3}, {4, 5}, {6, 7}, {0, 2}, {1, 3},
                                   {4, 6}, {5, 7}, {0, 4}, {1, 5}, {2, 6}, {3, 7}};
// corners of the six faces (-x, +x, -y, +y, -z, +z) in cyclic order
constexpr int faceCorner[6][4] = {{0, 2, 6, 4}, {1, 3, 7, 5}, {0, 1, 5, 4}, {2, 3, 7, 6}, {0, 1, 3, 2}, {4, 5, 7, 6}};

int edgeOf(int p, int q) {
    for (int e = 0; e < 12; ++e)
        if ((edgeCorner[e][0] == p && edgeCorner[e][1] == q) || (edgeCorner[e][0] == q && edgeCorner[e][1] == p))
            return e;
    return -1;
}

/// Samples of the body on the grid, and the dual surface of it.
class DualNets {
  public:
    DualNets(const std::function<double(const Vec3&)>& value, const Box3& bounds, const WrapOptions& o,
             Progress& progress)
        : h_(o.faceSize * o.sides) {
        for (int a = 0; a < 3; ++a) {
            plane_[a] = -1;
            for (const auto& s : o.symmetry)
                if (std::abs(std::abs(s[1][a]) - 1) < 1e-9) {
                    plane_[a] = 0;
                    at_[a] = s[0][a];
                }
            if (plane_[a] == 0) {
                // the plane runs through the middle of a layer of cells
                const double reach = std::max(bounds.high[a] - at_[a], at_[a] - bounds.low[a]);
                plane_[a] = static_cast<int>(std::ceil(reach / h_[a] + 0.5)) + 1;
                n_[a] = 2 * plane_[a] + 2;
                origin_[a] = at_[a] - (plane_[a] + 0.5) * h_[a];
            } else {
                n_[a] = static_cast<int>(std::ceil(bounds.size()[a] / h_[a])) + 4;
                origin_[a] = bounds.low[a] - (1.5 - o.shift[a]) * h_[a];
            }
        }
        const std::size_t count = static_cast<std::size_t>(n_[0]) * n_[1] * n_[2];
        if (count > 40000000)
            throw InputError(ErrorDetail{"The faces of the cage are too small for this part.",
                                         {},
                                         "face size",
                                         "at least " + formatNumber(std::cbrt(bounds.size().prod() / 3e7)) + " mm",
                                         formatNumber(o.faceSize) + " mm"});
        value_.resize(count);
        for (int k = 0; k < n_[2]; ++k) {
            progress.step("Sampling the body", static_cast<double>(k) / n_[2]);
            parallelFor(
                static_cast<std::size_t>(n_[0]) * n_[1],
                [&](std::size_t ij) {
                    const int i = static_cast<int>(ij % n_[0]), j = static_cast<int>(ij / n_[0]);
                    double v = value(node(i, j, k));
                    if (v == 0) v = 1e-12;
                    value_[index(i, j, k)] = v;
                },
                16);
        }
        // the same on both sides of a plane, whatever rounding says
        for (int a = 0; a < 3; ++a) {
            if (plane_[a] < 0) continue;
            forNodes([&](std::array<int, 3> i) {
                if (i[a] > plane_[a]) return;
                std::array<int, 3> m = i;
                m[a] = n_[a] - 1 - i[a];
                value_[index(i[0], i[1], i[2])] = value_[index(m[0], m[1], m[2])];
            });
        }
    }

    /// The part of the surface on the positive side of the planes. @param onPlane  receives a bit an axis
    Cage half(std::vector<std::uint8_t>& onPlane) {
        decide();
        Cage cage;
        onPlane.clear();
        // vertices
        std::vector<std::int32_t> first(value_.size(), -1);  // of a cell, with its pieces numbered from there
        forCells([&](std::array<int, 3> c) {
            bool negative = false;
            for (int a = 0; a < 3; ++a) negative = negative || (plane_[a] >= 0 && c[a] < plane_[a]);
            if (negative) return;
            std::array<int, 12> piece;
            const int pieces = pieceOfEdges(c, piece);
            if (pieces == 0) return;
            first[index(c[0], c[1], c[2])] = static_cast<std::int32_t>(cage.position.size());
            for (int p = 0; p < pieces; ++p) {
                Vec3 sum = Vec3::Zero();
                int count = 0;
                for (int e = 0; e < 12; ++e)
                    if (piece[e] == p) {
                        sum += crossing(c, e);
                        ++count;
                    }
                Vec3 at = sum / count;
                std::uint8_t mask = 0;
                for (int a = 0; a < 3; ++a)
                    if (plane_[a] >= 0 && c[a] == plane_[a]) {
                        at[a] = at_[a];
                        mask |= static_cast<std::uint8_t>(1 << a);
                    }
                cage.position.push_back(at);
                onPlane.push_back(mask);
            }
        });
        // one quad an edge of the grid that crosses
        forNodes([&](std::array<int, 3> i) {
            for (int a = 0; a < 3; ++a) {
                std::array<int, 3> j = i;
                if (++j[a] >= n_[a]) continue;
                const bool in = value_[index(i[0], i[1], i[2])] < 0, out = value_[index(j[0], j[1], j[2])] < 0;
                if (in == out) continue;
                const int u = (a + 1) % 3, w = (a + 2) % 3;
                if (i[u] == 0 || i[w] == 0 || i[u] >= n_[u] - 1 || i[w] >= n_[w] - 1) continue;
                Quad q;
                bool whole = true;
                // the four cells around it, counter-clockwise seen from the edge's far end
                const int du[4] = {-1, 0, 0, -1}, dw[4] = {-1, -1, 0, 0};
                for (int k = 0; k < 4; ++k) {
                    std::array<int, 3> c = i;
                    c[u] += du[k];
                    c[w] += dw[k];
                    const std::int32_t base = first[index(c[0], c[1], c[2])];
                    if (base < 0) {
                        whole = false;
                        break;
                    }
                    std::array<int, 12> piece;
                    pieceOfEdges(c, piece);
                    // which of the cell's edges it is
                    int low = 0;
                    if (c[u] < i[u]) low |= 1 << u;
                    if (c[w] < i[w]) low |= 1 << w;
                    q[k] = base + piece[edgeOf(low, low | 1 << a)];
                }
                if (!whole) continue;
                if (!in) std::swap(q[1], q[3]);
                cage.face.push_back(q);
            }
        });
        return cage;
    }
    const std::array<int, 3>& planes() const { return plane_; }
    double planeAt(int a) const { return at_[a]; }

  private:
    std::size_t index(int i, int j, int k) const {
        return static_cast<std::size_t>(i) +
               static_cast<std::size_t>(n_[0]) * (j + static_cast<std::size_t>(n_[1]) * k);
    }
    Vec3 node(int i, int j, int k) const { return origin_ + h_.cwiseProduct(Vec3(i, j, k)); }
    template <class F>
    void forNodes(const F& f) {
        for (int k = 0; k < n_[2]; ++k)
            for (int j = 0; j < n_[1]; ++j)
                for (int i = 0; i < n_[0]; ++i) f({i, j, k});
    }
    template <class F>
    void forCells(const F& f) {
        for (int k = 0; k + 1 < n_[2]; ++k)
            for (int j = 0; j + 1 < n_[1]; ++j)
                for (int i = 0; i + 1 < n_[0]; ++i) f({i, j, k});
    }
    double corner(const std::array<int, 3>& c, int b) const {
        return value_[index(c[0] + (b & 1), c[1] + (b >> 1 & 1), c[2] + (b >> 2))];
    }
    Vec3 crossing(const std::array<int, 3>& c, int e) const {
        const int p = edgeCorner[e][0], q = edgeCorner[e][1];
        const double a = corner(c, p), b = corner(c, q);
        const double t = std::clamp(a / (a - b), 0.05, 0.95);
        auto at = [&](int x) { return node(c[0] + (x & 1), c[1] + (x >> 1 & 1), c[2] + (x >> 2)); };
        return at(p) + t * (at(q) - at(p));
    }
    /// A face of the grid, named by its axis and low node; the same for both cells beside it.
    std::size_t faceKey(const std::array<int, 3>& c, int f) const {
        std::array<int, 3> i = c;
        if (f & 1) ++i[f / 2];
        return 3 * index(i[0], i[1], i[2]) + f / 2;
    }
    /// Whether the two corners of an ambiguous face that are inside are joined.
    bool insideJoined(const std::array<int, 3>& c, int f) const {
        double v[4];
        for (int k = 0; k < 4; ++k) v[k] = corner(c, faceCorner[f][k]);
        // the bilinear saddle's value has the sign of (v0 v2 - v1 v3) / (v0 + v2 - v1 - v3)
        const double saddle = (v[0] * v[2] - v[1] * v[3]) / (v[0] + v[2] - v[1] - v[3]);
        return (saddle < 0) != flipped_.contains(faceKey(c, f));
    }
    bool ambiguous(const std::array<int, 3>& c, int f) const {
        bool s[4];
        for (int k = 0; k < 4; ++k) s[k] = corner(c, faceCorner[f][k]) < 0;
        return s[0] == s[2] && s[1] == s[3] && s[0] != s[1];
    }
    /// Piece of surface of each edge of a cell, -1: does not cross. @return count of pieces
    int pieceOfEdges(const std::array<int, 3>& c, std::array<int, 12>& piece) const {
        int mask = 0;
        for (int b = 0; b < 8; ++b) mask |= (corner(c, b) < 0) << b;
        piece.fill(-1);
        if (mask == 0 || mask == 255) return 0;
        std::array<int, 12> parent;
        std::iota(parent.begin(), parent.end(), 0);
        auto root = [&](int e) {
            while (parent[e] != e) e = parent[e];
            return e;
        };
        for (int f = 0; f < 6; ++f) {
            int edges[4], crossing = 0;
            for (int k = 0; k < 4; ++k) {
                const int p = faceCorner[f][k], q = faceCorner[f][(k + 1) % 4];
                if ((mask >> p & 1) != (mask >> q & 1)) {
                    edges[crossing++] = edgeOf(p, q);
                }
            }
            if (crossing == 2) {
                parent[root(edges[0])] = root(edges[1]);
            } else if (crossing == 4) {
                // side k joins corner k and k+1. Segments cut off single corners: the outside ones when the inside is
                // joined, else the inside ones
                const bool joined = insideJoined(c, f);
                for (int k = 0; k < 4; ++k) {
                    const bool in = mask >> faceCorner[f][k] & 1;
                    if (in == joined) continue;
                    const int before = (k + 3) % 4;  // the sides that meet at corner k
                    parent[root(edges[before])] = root(edges[k]);
                }
            }
        }
        std::array<int, 12> number;
        number.fill(-1);
        int count = 0;
        for (int e = 0; e < 12; ++e) {
            if ((mask >> edgeCorner[e][0] & 1) == (mask >> edgeCorner[e][1] & 1)) continue;
            const int r = root(e);
            if (number[r] < 0) number[r] = count++;
            piece[e] = number[r];
        }
        return count;
    }
    /// Turns the decision on ambiguous faces whose two segments belong to one piece in both cells beside them.
    void decide() {
        for (int round = 0; round < 8; ++round) {
            std::vector<std::size_t> turn;
            forCells([&](std::array<int, 3> c) {
                for (int f = 1; f < 6; f += 2) {  // the high faces: each inner face once
                    std::array<int, 3> d = c;
                    ++d[f / 2];
                    if (d[f / 2] + 1 >= n_[f / 2] || !ambiguous(c, f)) continue;
                    if (onePiece(c, f) && onePiece(d, f - 1)) turn.push_back(faceKey(c, f));
                }
            });
            if (turn.empty()) return;
            for (auto key : turn)
                if (!flipped_.insert(key).second) flipped_.erase(key);
        }
    }
    bool onePiece(const std::array<int, 3>& c, int f) const {
        std::array<int, 12> piece;
        pieceOfEdges(c, piece);
        const int first = piece[edgeOf(faceCorner[f][0], faceCorner[f][1])];
        for (int k = 1; k < 4; ++k)
            if (piece[edgeOf(faceCorner[f][k], faceCorner[f][(k + 1) % 4])] != first) return false;
        return true;
    }

    Vec3 h_;  ///< sides of a cell, mm
    std::array<int, 3> n_{}, plane_{};
    Vec3 origin_ = Vec3::Zero(), at_ = Vec3::Zero();
    std::vector<double> value_;
    std::set<std::size_t> flipped_;
};

/// Adds the mirror image at an axis' plane; vertices on it are shared.
void mirrorCage(Cage& cage, std::vector<std::uint8_t>& onPlane, int axis, double at) {
    const std::size_t vertices = cage.position.size(), faces = cage.face.size();
    std::vector<std::int32_t> image(vertices);
    for (std::size_t v = 0; v < vertices; ++v) {
        if (onPlane[v] >> axis & 1) {
            image[v] = static_cast<std::int32_t>(v);
            continue;
        }
        image[v] = static_cast<std::int32_t>(cage.position.size());
        Vec3 p = cage.position[v];
        p[axis] = 2 * at - p[axis];
        cage.position.push_back(p);
        const std::uint8_t mask = onPlane[v];
        onPlane.push_back(mask);
    }
    for (std::size_t f = 0; f < faces; ++f) {
        const Quad q = cage.face[f];
        cage.face.push_back({image[q[0]], image[q[3]], image[q[2]], image[q[1]]});
    }
}

void keepPieces(Cage& cage, int pieces) {
    const Connectivity c(cage);
    std::vector<std::int32_t> piece(cage.face.size(), -1);
    std::vector<std::pair<std::size_t, std::int32_t>> size;
    for (std::size_t f = 0; f < cage.face.size(); ++f) {
        if (piece[f] >= 0) continue;
        const auto id = static_cast<std::int32_t>(size.size());
        size.push_back({0, id});
        std::vector<std::int32_t> stack{static_cast<std::int32_t>(f)};
        piece[f] = id;
        while (!stack.empty()) {
            const auto g = stack.back();
            stack.pop_back();
            ++size[id].first;
            for (auto e : c.edgeOfFace[g])
                for (auto n : c.edge[e].face)
                    if (n >= 0 && piece[n] < 0) {
                        piece[n] = id;
                        stack.push_back(n);
                    }
        }
    }
    if (static_cast<int>(size.size()) <= pieces) return;
    std::sort(size.rbegin(), size.rend());
    std::vector<char> keep(size.size(), 0);
    for (int i = 0; i < pieces; ++i) keep[size[i].second] = 1;
    std::size_t out = 0;
    for (std::size_t f = 0; f < cage.face.size(); ++f)
        if (keep[piece[f]]) cage.face[out++] = cage.face[f];
    cage.face.resize(out);
    dropUnused(cage);
}

}  // namespace

Cage wrapBody(const std::function<double(const Vec3&)>& value, const Box3& bounds, const surface::TriMesh& target,
              const surface::TriangleTree& tree, const WrapOptions& options, Progress& progress) {
    if (target.triangle.empty()) throw InputError("The body to wrap is empty.");
    DualNets nets(value, bounds, options, progress);
    std::vector<std::uint8_t> onPlane;
    progress.step("Wrapping the body");
    Cage cage = nets.half(onPlane);
    if (cage.face.empty())
        throw InputError(ErrorDetail{"The cage is empty.",
                                     {},
                                     "face size",
                                     "smaller than the thinnest member of the part",
                                     formatNumber(options.faceSize) + " mm"});
    auto whole = [&](Cage half, std::vector<std::uint8_t> on) {
        for (int a = 0; a < 3; ++a)
            if (nets.planes()[a] >= 0) mirrorCage(half, on, a, nets.planeAt(a));
        keepPieces(half, std::max(1, options.pieces));
        dropUnused(half);
        return half;
    };
    if (options.wanted) {
        Cage raw = whole(cage, onPlane);
        if (!options.wanted(raw, inspect(raw))) return raw;
    }
    Vec3 planeAt = Vec3::Zero();
    for (int a = 0; a < 3; ++a) planeAt[a] = nets.planeAt(a);
    tidyHalf(cage, onPlane, planeAt, tree, progress);
    return whole(std::move(cage), std::move(onPlane));
}

/// Marks more corners until a face has no, one, two neighbouring or four of them.
static void fillUp(const Cage& cage, std::vector<char>& marked) {
    for (bool grown = true; grown;) {
        grown = false;
        for (const Quad& q : cage.face) {
            int count = 0;
            for (auto v : q) count += marked[v] != 0;
            const bool opposite = count == 2 && (marked[q[0]] != 0) == (marked[q[2]] != 0);
            if (count == 3 || opposite) {
                for (auto v : q) marked[v] = 1;
                grown = true;
            }
        }
    }
}

/// Creases along the thirds of the edges that were split.
static std::vector<Crease> splitCreases(const Cage& cage,
                                        const std::map<std::pair<std::int32_t, std::int32_t>, std::int32_t>& third) {
    std::vector<Crease> creases;
    for (const Crease& x : cage.crease) {
        const auto p = third.find({x.a, x.b}), q = third.find({x.b, x.a});
        std::vector<std::int32_t> chain{x.a};
        if (p != third.end()) chain.push_back(p->second);
        if (q != third.end()) chain.push_back(q->second);
        chain.push_back(x.b);
        for (std::size_t i = 0; i + 1 < chain.size(); ++i)
            creases.push_back({std::min(chain[i], chain[i + 1]), std::max(chain[i], chain[i + 1]), x.sharpness});
    }
    std::sort(creases.begin(), creases.end(),
              [](const Crease& x, const Crease& y) { return std::pair(x.a, x.b) < std::pair(y.a, y.b); });
    return creases;
}

void refineAround(Cage& cage, std::vector<char> marked) {
    fillUp(cage, marked);
    std::map<std::pair<std::int32_t, std::int32_t>, std::int32_t> third;  // (near, far): a third of the way
    auto at = [&](std::int32_t a, std::int32_t b) {
        const auto [found, isNew] = third.try_emplace({a, b}, static_cast<std::int32_t>(cage.position.size()));
        if (isNew) cage.position.push_back(cage.position[a] + (cage.position[b] - cage.position[a]) / 3);
        return found->second;
    };
    std::vector<Quad> faces;
    faces.reserve(2 * cage.face.size());
    auto inner = [&](const Quad& q, double u, double v) {
        const Vec3 p = (1 - u) * (1 - v) * cage.position[q[0]] + u * (1 - v) * cage.position[q[1]] +
                       u * v * cage.position[q[2]] + (1 - u) * v * cage.position[q[3]];
        cage.position.push_back(p);
        return static_cast<std::int32_t>(cage.position.size() - 1);
    };
    for (const Quad& whole : cage.face) {
        int count = 0;
        for (auto v : whole) count += marked[v] != 0;
        if (count == 0) {
            faces.push_back(whole);
            continue;
        }
        // turned so that the marked corners come first
        int turn = 0;
        while (!(marked[whole[turn]] && (count != 2 || marked[whole[(turn + 1) % 4]]))) ++turn;
        const Quad q{whole[turn], whole[(turn + 1) % 4], whole[(turn + 2) % 4], whole[(turn + 3) % 4]};
        const auto [a, b, c, d] = q;
        if (count == 1) {
            const auto p = at(a, b), s = at(a, d), r = inner(q, 1 / 3., 1 / 3.);
            faces.insert(faces.end(), {{a, p, r, s}, {p, b, c, r}, {s, r, c, d}});
        } else if (count == 2) {
            const auto p1 = at(a, b), p2 = at(b, a), s = at(a, d), t = at(b, c);
            const auto r1 = inner(q, 1 / 3., 1 / 3.), r2 = inner(q, 2 / 3., 1 / 3.);
            const auto u = inner(q, 1 / 3., 2 / 3.), w = inner(q, 2 / 3., 2 / 3.);
            faces.insert(faces.end(), {{a, p1, r1, s},
                                       {p1, p2, r2, r1},
                                       {p2, b, t, r2},
                                       {s, r1, u, d},
                                       {r1, r2, w, u},
                                       {r2, t, c, w},
                                       {u, w, c, d}});
        } else {
            const auto ab = at(a, b), ba = at(b, a), bc = at(b, c), cb = at(c, b), cd = at(c, d), dc = at(d, c),
                       da = at(d, a), ad = at(a, d);
            const auto r1 = inner(q, 1 / 3., 1 / 3.), r2 = inner(q, 2 / 3., 1 / 3.);
            const auto r3 = inner(q, 2 / 3., 2 / 3.), r4 = inner(q, 1 / 3., 2 / 3.);
            faces.insert(faces.end(), {{a, ab, r1, ad},
                                       {ab, ba, r2, r1},
                                       {ba, b, bc, r2},
                                       {ad, r1, r4, da},
                                       {r1, r2, r3, r4},
                                       {r2, bc, cb, r3},
                                       {da, r4, dc, d},
                                       {r4, r3, cd, dc},
                                       {r3, cb, c, cd}});
        }
    }
    cage.face = std::move(faces);
    std::vector<Crease> creases = splitCreases(cage, third);
    cage.crease = std::move(creases);
}

void relaxOn(Cage& cage, const surface::TriangleTree& tree, int passes) {
    const Connectivity c(cage);
    std::vector<Vec3> next(cage.position.size());
    for (int pass = 0; pass < passes; ++pass) {
        parallelFor(cage.position.size(), [&](std::size_t v) {
            next[v] = cage.position[v];
            if (c.edgesOfVertex[v].empty()) return;
            Vec3 sum = Vec3::Zero();
            for (auto e : c.edgesOfVertex[v])
                sum += cage.position[c.edge[e].a == static_cast<std::int32_t>(v) ? c.edge[e].b : c.edge[e].a];
            const Vec3 p =
                cage.position[v] + 0.5 * (sum / static_cast<double>(c.edgesOfVertex[v].size()) - cage.position[v]);
            const auto near = tree.closest(p);
            if (near.triangle >= 0) next[v] = near.point;
        });
        cage.position.swap(next);
    }
}

}  // namespace escultura::cage
