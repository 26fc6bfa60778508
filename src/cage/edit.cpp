/// Operations on a cage by hand, each a function from a cage to a cage. Long because all of them walk the same loops,
/// rings and rims, which nobody else needs.

#include "cage/edit.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "base/disjoint_sets.hpp"
#include "base/error.hpp"
#include "base/parallel.hpp"
#include "cage/wrap.hpp"
#include "surface/intersections.hpp"

namespace escultura::cage {
namespace {

[[noreturn]] void refuse(const std::string& problem, const std::string& place, const std::string& expected,
                         const std::string& found) {
    throw InputError(ErrorDetail{problem, {}, place, expected, found});
}

Vec3 normalOf(const Cage& c, std::int32_t face) {
    const Quad& q = c.face[face];
    return (c.position[q[2]] - c.position[q[0]]).cross(c.position[q[3]] - c.position[q[1]]);
}

/// Rim of a patch of faces as vertices in the order of the patch's own faces; one loop.
Indices rimOf(const Cage& cage, const Connectivity& c, const Indices& faces) {
    const std::set<std::int32_t> in(faces.begin(), faces.end());
    std::map<std::int32_t, std::int32_t> next;
    for (auto f : in)
        for (int k = 0; k < 4; ++k) {
            const auto other = c.across(c.edgeOfFace[f][k], f);
            if (other >= 0 && in.contains(other)) continue;
            if (!next.try_emplace(cage.face[f][k], cage.face[f][(k + 1) % 4]).second)
                refuse("The faces do not make one patch.", placeText(cage.position[cage.face[f][k]]),
                       "a patch with one rim", "faces that touch in a vertex");
        }
    if (next.empty()) refuse("The faces have no rim.", {}, "a patch with one rim", "a closed body");
    Indices rim{next.begin()->first};
    while (next.at(rim.back()) != rim.front()) {
        rim.push_back(next.at(rim.back()));
        if (rim.size() > next.size()) break;
    }
    if (rim.size() != next.size())
        refuse("The faces do not make one patch.", placeText(cage.position[rim.front()]), "a patch with one rim",
               "several rims");
    return rim;
}

/// Takes faces out and drops vertices that nothing uses.
void takeOut(Cage& cage, const std::set<std::int32_t>& faces) {
    std::vector<Quad> kept;
    for (std::size_t f = 0; f < cage.face.size(); ++f)
        if (!faces.contains(static_cast<std::int32_t>(f))) kept.push_back(cage.face[f]);
    cage.face = std::move(kept);
    dropUnused(cage);
}

/// Replaces the cage by the changed one when that is manifold.
void accept(Cage& cage, Cage changed, const std::string& what) {
    const CageReport r = inspect(changed);
    if (!r.manifold)
        refuse(what + " would tear the cage.", placeText(r.problems.front().at), "edges with one or two faces",
               r.problems.front().text);
    cage = std::move(changed);
}

Indices sorted(const std::set<std::int32_t>& s) {
    return {s.begin(), s.end()};
}

/// Faces of the ring through an edge, in order, with the side by which each is entered.
std::vector<std::pair<std::int32_t, int>> ringFaces(const Connectivity& c, std::int32_t edge, bool& closed) {
    std::vector<std::pair<std::int32_t, int>> faces;
    closed = false;
    auto walk = [&](std::int32_t e, std::int32_t f, bool front) {
        while (f >= 0) {
            int side = 0;
            while (c.edgeOfFace[f][side] != e) ++side;
            const auto out = c.edgeOfFace[f][(side + 2) % 4];
            if (front)
                faces.push_back({f, side});
            else
                faces.insert(faces.begin(), {f, (side + 2) % 4});
            if (faces.size() > c.edgeOfFace.size()) return;
            e = out;
            if (e == edge) {
                closed = true;
                return;
            }
            f = c.across(e, f);
        }
    };
    walk(edge, c.edge[edge].face[0], true);
    if (!closed && c.edge[edge].face[1] >= 0) walk(edge, c.edge[edge].face[1], false);
    return faces;
}

}  // namespace

Indices loopOf(const Cage& cage, std::int32_t edge) {
    const Connectivity c(cage);
    std::set<std::int32_t> loop{edge};
    for (int way = 0; way < 2; ++way) {
        std::int32_t e = edge, v = way == 0 ? c.edge[edge].b : c.edge[edge].a;
        while (c.edgesOfVertex[v].size() == 4 && c.facesOfVertex[v].size() == 4) {
            // the edge that shares no face with this one
            std::int32_t next = -1;
            for (auto x : c.edgesOfVertex[v]) {
                if (x == e) continue;
                bool shares = false;
                for (auto f : c.edge[x].face)
                    for (auto g : c.edge[e].face) shares = shares || (f >= 0 && f == g);
                if (!shares) next = x;
            }
            if (next < 0 || !loop.insert(next).second) break;
            e = next;
            v = c.edge[e].a == v ? c.edge[e].b : c.edge[e].a;
        }
    }
    return sorted(loop);
}

Indices ringOf(const Cage& cage, std::int32_t edge) {
    const Connectivity c(cage);
    bool closed = false;
    std::set<std::int32_t> ring{edge};
    for (const auto& [f, side] : ringFaces(c, edge, closed)) {
        ring.insert(c.edgeOfFace[f][side]);
        ring.insert(c.edgeOfFace[f][(side + 2) % 4]);
    }
    return sorted(ring);
}

Indices grown(const Cage& cage, const Indices& vertices) {
    const std::set<std::int32_t> in(vertices.begin(), vertices.end());
    std::set<std::int32_t> out = in;
    for (const Quad& q : cage.face)
        if (std::any_of(q.begin(), q.end(), [&](auto v) { return in.contains(v); })) out.insert(q.begin(), q.end());
    return sorted(out);
}

Indices verticesOfFaces(const Cage& cage, const Indices& faces) {
    std::set<std::int32_t> out;
    for (auto f : faces) out.insert(cage.face[f].begin(), cage.face[f].end());
    return sorted(out);
}

Indices verticesOfEdges(const Cage& cage, const Indices& edges) {
    const Connectivity c(cage);
    std::set<std::int32_t> out;
    for (auto e : edges) out.insert({c.edge[e].a, c.edge[e].b});
    return sorted(out);
}

Indices facesWithin(const Cage& cage, const Indices& vertices) {
    const std::set<std::int32_t> in(vertices.begin(), vertices.end());
    Indices out;
    for (std::size_t f = 0; f < cage.face.size(); ++f)
        if (std::all_of(cage.face[f].begin(), cage.face[f].end(), [&](auto v) { return in.contains(v); }))
            out.push_back(static_cast<std::int32_t>(f));
    return out;
}

Indices edgesWithin(const Cage& cage, const Indices& vertices) {
    const std::set<std::int32_t> in(vertices.begin(), vertices.end());
    const Connectivity c(cage);
    Indices out;
    for (std::size_t e = 0; e < c.edge.size(); ++e)
        if (in.contains(c.edge[e].a) && in.contains(c.edge[e].b)) out.push_back(static_cast<std::int32_t>(e));
    return out;
}

std::vector<double> softWeights(const Cage& cage, const Indices& selected, double radius) {
    std::vector<double> w(cage.position.size(), 0);
    for (auto v : selected) w[v] = 1;
    if (!(radius > 0)) return w;
    parallelFor(w.size(), [&](std::size_t v) {
        if (w[v] == 1) return;
        double near = 1e300;
        for (auto s : selected) near = std::min(near, (cage.position[s] - cage.position[v]).norm());
        if (near >= radius) return;
        const double x = 1 - near / radius;
        w[v] = std::min(x * x * (3 - 2 * x), 1 - 1e-12);
    });
    return w;
}

void transform(Cage& cage, const std::vector<double>& weights, const Eigen::Affine3d& by,
               const std::vector<std::array<Vec3, 2>>& mirrors) {
    std::vector<Vec3> change(cage.position.size(), Vec3::Zero());
    std::vector<double> share = weights;
    for (std::size_t v = 0; v < change.size(); ++v)
        if (weights[v] > 0) change[v] = weights[v] * (by * cage.position[v] - cage.position[v]);
    const double tolerance = 0.02 * meanEdge(cage);
    for (const auto& plane : mirrors) {
        const auto image = mirrorVertices(cage, plane, tolerance);
        const std::vector<Vec3> before = change;
        const std::vector<double> was = share;
        for (std::size_t v = 0; v < change.size(); ++v) {
            const auto m = image[v];
            if (m < 0) continue;
            const Vec3 n = plane[1];
            if (m == static_cast<std::int32_t>(v)) {
                change[v] = before[v] - before[v].dot(n) * n;
            } else if (was[m] > was[v]) {  // the side that is pulled harder leads
                change[v] = before[m] - 2 * before[m].dot(n) * n;
                share[v] = was[m];
            }
        }
    }
    for (std::size_t v = 0; v < change.size(); ++v) cage.position[v] += change[v];
}

namespace {

/// A place on the limit surface for each vertex that has faces.
std::vector<LimitPlace> vertexPlaces(const Cage& cage, const Connectivity& c, const Indices& vertices) {
    std::vector<LimitPlace> places;
    static const double u[4] = {0, 1, 1, 0}, w[4] = {0, 0, 1, 1};
    for (auto v : vertices) {
        const auto f = c.facesOfVertex[v].front();
        for (int k = 0; k < 4; ++k)
            if (cage.face[f][k] == v) {
                places.push_back({f, u[k], w[k]});
                break;
            }
    }
    return places;
}

}  // namespace

void snapTo(Cage& cage, const Indices& vertices, const Target& target) {
    if (vertices.empty()) return;
    const Connectivity c(cage);
    const LimitStencils s = limitStencils(cage, vertexPlaces(cage, c, vertices), false);
    // a few steps: each moves the vertex by what its limit point lacks
    for (int pass = 0; pass < 8; ++pass) {
        const auto at = asPoints(s.point * asRows(cage.position));
        for (std::size_t i = 0; i < vertices.size(); ++i)
            cage.position[vertices[i]] += target.nearest(at[i]).point - at[i];
    }
}

void relax(Cage& cage, const Indices& vertices, int passes) {
    const Connectivity c(cage);
    auto step = [&](double factor) {
        std::vector<Vec3> next = cage.position;
        for (auto v : vertices) {
            if (c.edgesOfVertex[v].empty()) continue;
            Vec3 sum = Vec3::Zero();
            for (auto e : c.edgesOfVertex[v]) sum += cage.position[c.edge[e].a == v ? c.edge[e].b : c.edge[e].a];
            next[v] += factor * (sum / static_cast<double>(c.edgesOfVertex[v].size()) - cage.position[v]);
        }
        cage.position.swap(next);
    };
    for (int pass = 0; pass < passes; ++pass) {
        step(0.33);
        step(-0.34);
    }
}

void extrude(Cage& cage, const Indices& faces, double distance) {
    if (faces.empty()) refuse("Nothing to extrude.", {}, "at least one face", "none");
    const Connectivity c(cage);
    Cage out = cage;
    out.crease.clear();
    const std::set<std::int32_t> in(faces.begin(), faces.end());
    Vec3 normal = Vec3::Zero();
    for (auto f : in) normal += normalOf(cage, f);
    if (normal.norm() < 1e-9)
        refuse("The faces have no common direction.", placeText(middleOf(cage, faces.front())),
               "faces that look one way", "faces all around");
    normal.normalize();
    std::map<std::int32_t, std::int32_t> copy;
    auto copyOf = [&](std::int32_t v) {
        const auto [at, isNew] = copy.try_emplace(v, static_cast<std::int32_t>(out.position.size()));
        if (isNew) out.position.push_back(cage.position[v] + distance * normal);
        return at->second;
    };
    for (auto f : in) {
        for (int k = 0; k < 4; ++k) {
            const auto other = c.across(c.edgeOfFace[f][k], f);
            if (other >= 0 && in.contains(other)) continue;
            const auto a = cage.face[f][k], b = cage.face[f][(k + 1) % 4];
            out.face.push_back({a, b, copyOf(b), copyOf(a)});
        }
        for (auto& v : out.face[f]) v = copyOf(v);
    }
    out.crease = cage.crease;
    dropUnused(out);
    accept(cage, std::move(out), "Extruding");
}

void bridge(Cage& cage, const Indices& first, const Indices& second, int segments) {
    if (segments < 1) refuse("A bridge needs segments.", {}, "at least 1", std::to_string(segments));
    const Connectivity c(cage);
    const Indices a = rimOf(cage, c, first);
    Indices b = rimOf(cage, c, second);
    if (a.size() != b.size())
        refuse("The two rims do not fit together.", placeText(cage.position[a.front()]), "as many edges at both",
               std::to_string(a.size()) + " and " + std::to_string(b.size()));
    for (auto v : a)
        if (std::count(b.begin(), b.end(), v))
            refuse("The two patches touch.", placeText(cage.position[v]), "faces apart from each other",
                   "a vertex in common");
    std::reverse(b.begin(), b.end());  // seen along the tube, both run the same way
    const int n = static_cast<int>(a.size());
    int turn = 0;
    double least = 1e300;
    for (int t = 0; t < n; ++t) {
        double sum = 0;
        for (int i = 0; i < n; ++i) sum += (cage.position[a[i]] - cage.position[b[(i + t) % n]]).squaredNorm();
        if (sum < least) {
            least = sum;
            turn = t;
        }
    }
    Cage out = cage;
    std::vector<Indices> row(static_cast<std::size_t>(segments) + 1);
    row.front() = a;
    for (int i = 0; i < n; ++i) row.back().push_back(b[(i + turn) % n]);
    // rows between leave both rims at right angles: cubic Hermite curves
    Vec3 out1 = Vec3::Zero(), out2 = Vec3::Zero();
    for (auto f : first) out1 += normalOf(cage, f);
    for (auto f : second) out2 += normalOf(cage, f);
    out1.normalize();
    out2.normalize();
    for (int s = 1; s < segments; ++s) {
        const double t = static_cast<double>(s) / segments;
        for (int i = 0; i < n; ++i) {
            const Vec3 &p = cage.position[row.front()[i]], &q = cage.position[row.back()[i]];
            const double reach = 0.75 * (q - p).norm();
            const double h1 = 2 * t * t * t - 3 * t * t + 1, h2 = t * t * t - 2 * t * t + t,
                         h3 = -2 * t * t * t + 3 * t * t, h4 = t * t * t - t * t;
            row[s].push_back(static_cast<std::int32_t>(out.position.size()));
            out.position.push_back(h1 * p + h2 * reach * out1 + h3 * q - h4 * reach * out2);
        }
    }
    for (int s = 0; s < segments; ++s)
        for (int i = 0; i < n; ++i) {
            const int j = (i + 1) % n;
            out.face.push_back({row[s][i], row[s][j], row[s + 1][j], row[s + 1][i]});
        }
    std::set<std::int32_t> gone(first.begin(), first.end());
    gone.insert(second.begin(), second.end());
    takeOut(out, gone);
    accept(cage, std::move(out), "The bridge");
}

Indices insertLoop(Cage& cage, std::int32_t edge, double share) {
    const Connectivity c(cage);
    bool closed = false;
    const auto faces = ringFaces(c, edge, closed);
    std::set<std::int32_t> once;
    for (const auto& [f, side] : faces)
        if (!once.insert(f).second)
            refuse("The loop crosses itself.", placeText(middleOf(cage, f)), "a ring that passes each face once",
                   "a face passed twice");
    Cage out = cage;
    std::map<std::int32_t, std::int32_t> middle;
    // the start of each crossed edge is on the same side all along the ring
    auto at = [&](std::int32_t e, std::int32_t from, std::int32_t to) {
        const auto [found, isNew] = middle.try_emplace(e, static_cast<std::int32_t>(out.position.size()));
        if (isNew) out.position.push_back(cage.position[from] + share * (cage.position[to] - cage.position[from]));
        return found->second;
    };
    std::vector<std::pair<std::int32_t, std::int32_t>> made;
    for (const auto& [f, side] : faces) {
        const Quad& q = cage.face[f];
        const auto p = q[side], r = q[(side + 1) % 4], s = q[(side + 2) % 4], t = q[(side + 3) % 4];
        // entered by p-r, left by s-t: t faces p, s faces r
        const auto m = at(c.edgeOfFace[f][side], p, r), n = at(c.edgeOfFace[f][(side + 2) % 4], t, s);
        out.face[f] = {p, m, n, t};
        out.face.push_back({m, r, s, n});
        made.push_back({m, n});
    }
    // creases on cut edges go to both halves
    out.crease.clear();
    for (const Crease& x : cage.crease) {
        const auto e = c.edgeBetween(x.a, x.b);
        const auto cut = middle.find(e);
        if (cut == middle.end()) {
            out.crease.push_back(x);
        } else {
            out.crease.push_back({x.a, cut->second, x.sharpness});
            out.crease.push_back({x.b, cut->second, x.sharpness});
        }
    }
    std::sort(out.crease.begin(), out.crease.end(),
              [](const Crease& x, const Crease& y) { return std::pair(x.a, x.b) < std::pair(y.a, y.b); });
    accept(cage, std::move(out), "The loop");
    const Connectivity now(cage);
    Indices loop;
    for (const auto& [m, n] : made) loop.push_back(now.edgeBetween(m, n));
    return loop;
}

void split(Cage& cage, const Indices& faces) {
    if (faces.empty()) refuse("Nothing to split.", {}, "at least one face", "none");
    std::vector<char> marked(cage.position.size(), 0);
    for (auto f : faces)
        for (auto v : cage.face[f]) marked[v] = 1;
    Cage out = cage;
    refineAround(out, marked);
    accept(cage, std::move(out), "Splitting");
}

void collapse(Cage& cage, std::int32_t face, int corner) {
    const Quad q = cage.face[face];
    const auto a = q[corner], gone = q[(corner + 2) % 4];
    Cage out = cage;
    out.position[a] = 0.5 * (cage.position[a] + cage.position[gone]);
    for (auto& f : out.face)
        for (auto& v : f)
            if (v == gone) v = a;
    out.crease.clear();
    for (Crease x : cage.crease) {
        if (x.a == gone) x.a = a;
        if (x.b == gone) x.b = a;
        if (x.a > x.b) std::swap(x.a, x.b);
        if (x.a != x.b) out.crease.push_back(x);
    }
    takeOut(out, {face});
    const Connectivity c(out);
    for (std::size_t v = 0; v < out.position.size(); ++v)
        if (c.edgesOfVertex[v].size() < 3 && c.facesOfVertex[v].size() == c.edgesOfVertex[v].size())
            refuse("Collapsing would leave a vertex with two edges.", placeText(out.position[v]),
                   "three edges or more at the other corners", "two");
    accept(cage, std::move(out), "Collapsing");
}

void dissolveRing(Cage& cage, std::int32_t edge) {
    const Connectivity c(cage);
    bool closed = false;
    const auto faces = ringFaces(c, edge, closed);
    // every crossed edge shrinks to its middle
    DisjointSets merged(cage.position.size());
    auto root = [&](std::int32_t vertex) { return merged.find(vertex); };
    std::set<std::int32_t> gone;
    for (const auto& [f, side] : faces) {
        gone.insert(f);
        for (int k : {side, (side + 2) % 4}) merged.join(cage.face[f][(k + 1) % 4], cage.face[f][k]);
    }
    Cage out = cage;
    std::map<std::int32_t, std::pair<Vec3, int>> mean;
    for (std::size_t v = 0; v < cage.position.size(); ++v) {
        auto& m = mean.try_emplace(root(static_cast<std::int32_t>(v)), Vec3::Zero(), 0).first->second;
        m.first += cage.position[v];
        ++m.second;
    }
    for (auto& f : out.face)
        for (auto& v : f) v = root(v);
    for (const auto& [v, m] : mean) out.position[v] = m.first / m.second;
    std::set<std::pair<std::int32_t, std::int32_t>> seen;
    out.crease.clear();
    for (Crease x : cage.crease) {
        x.a = root(x.a);
        x.b = root(x.b);
        if (x.a > x.b) std::swap(x.a, x.b);
        if (x.a != x.b && seen.insert({x.a, x.b}).second) out.crease.push_back(x);
    }
    takeOut(out, gone);
    if (out.face.empty()) refuse("Nothing would be left.", {}, "a ring that is a part of the cage", "all of it");
    const Connectivity left(out);
    for (std::size_t v = 0; v < out.position.size(); ++v)
        if (left.edgesOfVertex[v].size() < 3 && left.facesOfVertex[v].size() == left.edgesOfVertex[v].size())
            refuse("Dissolving would leave a vertex with two edges.", placeText(out.position[v]),
                   "three edges or more at the ring's ends", "two");
    accept(cage, std::move(out), "Dissolving the ring");
}

void setCrease(Cage& cage, const Indices& edges, double sharpness) {
    const Connectivity c(cage);
    std::map<std::pair<std::int32_t, std::int32_t>, double> all;
    for (const Crease& x : cage.crease) all[{x.a, x.b}] = x.sharpness;
    for (auto e : edges) all[{c.edge[e].a, c.edge[e].b}] = std::clamp(sharpness, 0.0, sharpest);
    cage.crease.clear();
    for (const auto& [key, s] : all)
        if (s > 0) cage.crease.push_back({key.first, key.second, s});
}

void removeFaces(Cage& cage, const Indices& faces) {
    Cage out = cage;
    takeOut(out, {faces.begin(), faces.end()});
    if (out.face.empty()) refuse("Nothing would be left.", {}, "some faces that stay", "all selected");
    accept(cage, std::move(out), "Removing the faces");
}

int fillHoles(Cage& cage) {
    Cage out = cage;
    const Connectivity c(cage);
    std::map<std::int32_t, std::int32_t> next;  // around the hole: against the faces' direction
    for (const auto& e : c.edge) {
        if (e.faces != 1) continue;
        const Quad& q = cage.face[e.face[0]];
        next[q[(e.side[0] + 1) % 4]] = q[e.side[0]];
    }
    int holes = 0;
    while (!next.empty()) {
        Indices rim{next.begin()->first};
        while (next.at(rim.back()) != rim.front()) {
            rim.push_back(next.at(rim.back()));
            if (rim.size() > next.size())
                refuse("A hole's rim crosses itself.", placeText(cage.position[rim.front()]), "a simple loop",
                       "a crossing");
        }
        for (auto v : rim) next.erase(v);
        const auto n = rim.size();
        if (n % 2 != 0)
            refuse("A hole with an odd count of edges cannot be filled with quads.",
                   placeText(cage.position[rim.front()]), "an even count", std::to_string(n));
        ++holes;
        if (n == 4) {
            out.face.push_back({rim[0], rim[1], rim[2], rim[3]});
            continue;
        }
        // grown inwards by a smaller rim while it is wide, then a fan about the middle
        Vec3 centre = Vec3::Zero();
        for (auto v : rim) centre += out.position[v] / static_cast<double>(n);
        const auto middle = static_cast<std::int32_t>(out.position.size());
        out.position.push_back(centre);
        for (std::size_t i = 0; i < n; i += 2) out.face.push_back({middle, rim[i], rim[i + 1], rim[(i + 2) % n]});
    }
    if (holes == 0) refuse("There is no hole to fill.", {}, "an open cage", "a closed one");
    accept(cage, std::move(out), "Filling");
    return holes;
}

std::vector<CageProblem> flawsOf(const Cage& cage) {
    const CageReport r = inspect(cage);
    std::vector<CageProblem> flaws = r.problems;
    if (!r.manifold || cage.face.empty()) return flaws;
    for (auto f : foldedFaces(cage)) flaws.push_back({"The limit surface folds over.", middleOf(cage, f)});
    const LimitMesh limit(cage, 2);
    const surface::TriMesh mesh = limit.at(cage.position);
    for (const auto& pair : surface::selfIntersections(mesh, 50)) {
        const Triangle& t = mesh.triangle[pair[0]];
        flaws.push_back({"The limit surface passes through itself.",
                         (mesh.position[t[0]] + mesh.position[t[1]] + mesh.position[t[2]]) / 3});
    }
    return flaws;
}

}  // namespace escultura::cage
