#include "cage/cage.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>

#include "base/disjoint_sets.hpp"
#include "base/quantity.hpp"

namespace escultura::cage {
namespace {

std::uint64_t keyOf(std::int32_t a, std::int32_t b) {
    return static_cast<std::uint64_t>(static_cast<std::uint32_t>(std::min(a, b))) << 32 |
           static_cast<std::uint32_t>(std::max(a, b));
}

}  // namespace

Connectivity::Connectivity(const Cage& cage)
    : edgeOfFace(cage.face.size()), facesOfVertex(cage.position.size()), edgesOfVertex(cage.position.size()) {
    byVertices_.reserve(2 * cage.face.size());
    for (std::size_t f = 0; f < cage.face.size(); ++f)
        for (int k = 0; k < 4; ++k) {
            const auto a = cage.face[f][k], b = cage.face[f][(k + 1) % 4];
            facesOfVertex[a].push_back(static_cast<std::int32_t>(f));
            const auto [at, isNew] = byVertices_.try_emplace(keyOf(a, b), static_cast<std::int32_t>(edge.size()));
            if (isNew) {
                edge.push_back({std::min(a, b), std::max(a, b), {-1, -1}, {-1, -1}, 0, true});
                edgesOfVertex[a].push_back(at->second);
                edgesOfVertex[b].push_back(at->second);
            }
            Edge& e = edge[at->second];
            edgeOfFace[f][k] = at->second;
            if (e.faces < 2) {
                e.face[e.faces] = static_cast<std::int32_t>(f);
                e.side[e.faces] = static_cast<std::int8_t>(k);
            }
            if (e.faces == 1) e.opposed = cage.face[e.face[0]][e.side[0]] != a;
            ++e.faces;
        }
}

std::int32_t Connectivity::edgeBetween(std::int32_t a, std::int32_t b) const {
    const auto at = byVertices_.find(keyOf(a, b));
    return at == byVertices_.end() ? -1 : at->second;
}

std::int32_t Connectivity::across(std::int32_t e, std::int32_t face) const {
    const Edge& x = edge[e];
    return x.face[0] == face ? x.face[1] : x.face[0];
}

CageReport inspect(const Cage& cage) {
    CageReport r;
    const Connectivity c(cage);
    r.closed = !cage.face.empty();
    r.manifold = true;
    auto middle = [&](const Connectivity::Edge& e) { return Vec3(0.5 * (cage.position[e.a] + cage.position[e.b])); };
    for (std::size_t f = 0; f < cage.face.size(); ++f) {
        Quad q = cage.face[f];
        const Vec3 at = 0.25 * (cage.position[q[0]] + cage.position[q[1]] + cage.position[q[2]] + cage.position[q[3]]);
        std::sort(q.begin(), q.end());
        if (std::adjacent_find(q.begin(), q.end()) != q.end()) {
            r.manifold = false;
            r.problems.push_back({"A face uses a vertex twice.", at});
        }
    }
    for (const auto& e : c.edge) {
        if (e.faces == 1) {
            if (r.closed) r.problems.push_back({"The cage is open: an edge has one face only.", middle(e)});
            r.closed = false;
        } else if (e.faces > 2) {
            r.manifold = false;
            r.problems.push_back({"An edge has more than two faces.", middle(e)});
        } else if (!e.opposed) {
            r.manifold = false;
            r.problems.push_back({"Two faces disagree about which side is outside.", middle(e)});
        }
    }
    DisjointSets pieces(cage.face.size());
    for (const auto& e : c.edge)
        if (e.faces >= 2) pieces.join(e.face[0], e.face[1]);
    for (std::size_t f = 0; f < cage.face.size(); ++f)
        r.pieces += pieces.find(static_cast<std::int32_t>(f)) == static_cast<std::int32_t>(f);
    int used = 0;
    for (std::size_t v = 0; v < cage.position.size(); ++v) {
        const auto& faces = c.facesOfVertex[v];
        ++r.valences[std::min<std::size_t>(7, c.edgesOfVertex[v].size())];
        if (faces.empty()) continue;
        ++used;
        // the faces around a vertex are one fan: its edges and faces are joined in one run
        std::map<std::int32_t, std::vector<std::int32_t>> byEdge;
        for (auto f : faces)
            for (int k = 0; k < 4; ++k)
                if (cage.face[f][k] == static_cast<std::int32_t>(v)) {
                    byEdge[c.edgeOfFace[f][k]].push_back(f);
                    byEdge[c.edgeOfFace[f][(k + 3) % 4]].push_back(f);
                }
        std::vector<std::int32_t> reached{faces[0]}, stack{faces[0]};
        while (!stack.empty()) {
            const auto f = stack.back();
            stack.pop_back();
            for (const auto& [e, fs] : byEdge)
                if (std::find(fs.begin(), fs.end(), f) != fs.end())
                    for (auto g : fs)
                        if (std::find(reached.begin(), reached.end(), g) == reached.end()) {
                            reached.push_back(g);
                            stack.push_back(g);
                        }
        }
        if (reached.size() != faces.size()) {
            r.manifold = false;
            r.problems.push_back({"Faces touch in a vertex only.", cage.position[v]});
        }
    }
    r.euler = used - static_cast<int>(c.edge.size()) + static_cast<int>(cage.face.size());
    r.genus = r.pieces - r.euler / 2;
    return r;
}

Vec3 middleOf(const Cage& cage, std::int32_t face) {
    const Quad& q = cage.face[face];
    return 0.25 * (cage.position[q[0]] + cage.position[q[1]] + cage.position[q[2]] + cage.position[q[3]]);
}

std::string placeText(const Vec3& p) {
    return "(" + formatNumber(p.x()) + ", " + formatNumber(p.y()) + ", " + formatNumber(p.z()) + ") mm";
}

double meanEdge(const Cage& cage) {
    double sum = 0;
    std::size_t count = 0;
    for (const Quad& q : cage.face)
        for (int k = 0; k < 4; ++k, ++count) sum += (cage.position[q[k]] - cage.position[q[(k + 1) % 4]]).norm();
    return count > 0 ? sum / static_cast<double>(count) : 0;
}

std::vector<std::int32_t> mirrorVertices(const Cage& cage, const std::array<Vec3, 2>& plane, double tolerance) {
    // cells of a grid that is a little wider than the tolerance
    const double cell = std::max(4 * tolerance, 1e-9);
    auto cellOf = [&](const Vec3& p) {
        return std::array<std::int64_t, 3>{std::llround(p.x() / cell), std::llround(p.y() / cell),
                                           std::llround(p.z() / cell)};
    };
    std::map<std::array<std::int64_t, 3>, std::vector<std::int32_t>> at;
    for (std::size_t v = 0; v < cage.position.size(); ++v)
        at[cellOf(cage.position[v])].push_back(static_cast<std::int32_t>(v));
    std::vector<std::int32_t> mirror(cage.position.size(), -1);
    for (std::size_t v = 0; v < cage.position.size(); ++v) {
        const Vec3& p = cage.position[v];
        const Vec3 m = p - 2 * (p - plane[0]).dot(plane[1]) * plane[1];
        const auto c = cellOf(m);
        double best = tolerance;
        for (int i = -1; i <= 1; ++i)
            for (int j = -1; j <= 1; ++j)
                for (int k = -1; k <= 1; ++k) {
                    const auto found = at.find({c[0] + i, c[1] + j, c[2] + k});
                    if (found == at.end()) continue;
                    for (auto w : found->second)
                        if ((cage.position[w] - m).norm() <= best) {
                            best = (cage.position[w] - m).norm();
                            mirror[v] = w;
                        }
                }
    }
    return mirror;
}

std::vector<std::int32_t> dropUnused(Cage& cage) {
    std::vector<std::int32_t> number(cage.position.size(), -1);
    for (const Quad& q : cage.face)
        for (auto v : q) number[v] = 0;
    std::int32_t next = 0;
    for (std::size_t v = 0; v < number.size(); ++v)
        if (number[v] == 0) {
            cage.position[next] = cage.position[v];
            number[v] = next++;
        }
    cage.position.resize(next);
    for (Quad& q : cage.face)
        for (auto& v : q) v = number[v];
    std::vector<Crease> kept;
    for (Crease c : cage.crease) {
        c.a = number[c.a];
        c.b = number[c.b];
        if (c.a < 0 || c.b < 0) continue;
        if (c.a > c.b) std::swap(c.a, c.b);
        kept.push_back(c);
    }
    // an edge that is gone has no crease
    const Connectivity c(cage);
    std::erase_if(kept, [&](const Crease& x) { return c.edgeBetween(x.a, x.b) < 0; });
    cage.crease = std::move(kept);
    return number;
}

}  // namespace escultura::cage
