/// Isosurface stuffing of a shape: the lattice near its boundary, vertices warped onto surfaces and edges, tetrahedra
/// by stencil, pieces kept or dropped. Long because it is one pass over shared tables.

#include "lattice/stuffing.hpp"

#include <algorithm>
#include <bit>
#include <cmath>
#include <map>
#include <numeric>
#include <unordered_map>

#include "base/disjoint_sets.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"
#include "base/text.hpp"
#include "lattice/graded.hpp"
#include "lattice/sparse_values.hpp"
#include "lattice/stencil.hpp"

namespace escultura::lattice {
namespace {

constexpr double warpLong = 0.24999, warpShort = 0.41189;  // Labelle and Shewchuk 2007, table 1

/// Cuts of the edges that a lattice vertex owns: numbered on from the first, one for each bit.
struct OwnedCuts {
    std::int32_t first = -1;
    std::uint16_t slots = 0;
};

/// The lattice over the box of the shape. All that is kept for each vertex is its side; the rest is kept around the
/// surface only. Corner vertices first, then the centres of the cubes. Edges are named by the vertex that owns them:
/// corners own +x, +y, +z (slots 0-2); centres own +x, +y, +z (0-2) and their eight corners (3-10).
class Lattice {
  public:
    Lattice(const shape::Shape& shape, const StuffingOptions& options)
        : shape_(shape), a_(options.spacing), skinOnly_(options.skinOnly) {
        const Box3 box = shape.bounds().grown(1.6 * a_);
        origin_ = box.low + a_ * (options.offset - Vec3::Constant(0.5));
        double total = 2;
        for (int d = 0; d < 3; ++d) {
            n_[d] = static_cast<int>(std::ceil((box.high[d] - origin_[d]) / a_)) + 1;
            total *= n_[d] + 1.0;
        }
        if (!(total < mostLatticeVertices)) {
            throw InputError(
                ErrorDetail{"The spacing is too fine for the size of the part.",
                            {},
                            "spacing " + formatNumber(a_) + " mm",
                            "at most " + plainNumber(mostLatticeVertices / 1e6) + " million lattice vertices",
                            formatNumber(total / 1e6) + " million"});
        }
        corners_ = static_cast<std::size_t>(n_[0] + 1) * (n_[1] + 1) * (n_[2] + 1);
        centres_ = static_cast<std::size_t>(n_[0]) * n_[1] * n_[2];
    }

    TetComplex run(Progress& progress) {
        sample(progress);
        cut(progress);
        warp();
        return fill(progress);
    }

  private:
    using Id = std::int64_t;
    Id corner(int i, int j, int k) const {
        return i + static_cast<Id>(n_[0] + 1) * (j + static_cast<Id>(n_[1] + 1) * k);
    }
    Id centre(int i, int j, int k) const {
        return corners_ + i + static_cast<Id>(n_[0]) * (j + static_cast<Id>(n_[1]) * k);
    }
    bool isCentre(Id v) const { return v >= static_cast<Id>(corners_); }
    std::array<int, 3> coordinates(Id v) const {
        const bool c = isCentre(v);
        const Id w = c ? v - corners_ : v;
        const Id nx = n_[0] + !c, ny = n_[1] + !c;
        return {static_cast<int>(w % nx), static_cast<int>(w / nx % ny), static_cast<int>(w / (nx * ny))};
    }
    Vec3 point(Id v) const {
        const auto c = coordinates(v);
        return origin_ + a_ * (Vec3(c[0], c[1], c[2]) + Vec3::Constant(isCentre(v) ? 0.5 : 0.0));
    }
    /// Cut of an owned edge; -1: none.
    std::int32_t cutOf(Id owner, int slot) const {
        const OwnedCuts& own = owned_[static_cast<std::size_t>(owner)];
        if (!(own.slots >> slot & 1)) return -1;
        return own.first + std::popcount(static_cast<std::uint16_t>(own.slots & ((1u << slot) - 1)));
    }
    /// Other end of an owned edge, or -1 beyond the lattice.
    Id otherEnd(Id v, int slot) const {
        auto c = coordinates(v);
        if (slot < 3) {
            const int limit = isCentre(v) ? n_[slot] - 1 : n_[slot];
            if (++c[slot] > limit) return -1;
            return isCentre(v) ? centre(c[0], c[1], c[2]) : corner(c[0], c[1], c[2]);
        }
        const int m = slot - 3;
        return corner(c[0] + (m & 1), c[1] + (m >> 1 & 1), c[2] + (m >> 2));
    }

    void sample(Progress& progress) {
        side_.resize(corners_ + centres_);
        progress.step("Sampling the shape");
        constexpr std::size_t run = 1 << 22;  // between looks at whether to go on
        for (std::size_t begin = 0; begin < side_.size(); begin += run) {
            progress.check();
            parallelFor(
                std::min(run, side_.size() - begin),
                [&](std::size_t k) {
                    const std::size_t v = begin + k;
                    // what is zero but for rounding counts as outside, wherever the part lies
                    const auto value = static_cast<float>(shape_.evaluate(point(static_cast<Id>(v))).value);
                    side_[v] = value < -nothing * a_ ? Side::inside : Side::outside;
                },
                4096);
        }
    }

    Cut root(Id v, Id w) const { return cutBetween(shape_, point(v), point(w), side_[v], side_[w], a_); }

    void cut(Progress& progress) {
        progress.step("Cutting the lattice", 0.2);
        owned_.assign(side_.size(), {});
        // by layers, corners first: the order of the vertices, whatever the number of threads
        struct Edge {
            Id v, w;
            int slot;
        };
        std::vector<std::vector<Edge>> layers(static_cast<std::size_t>(n_[2]) * 2 + 1);
        parallelFor(
            layers.size(),
            [&](std::size_t layer) {
                const bool c = layer > static_cast<std::size_t>(n_[2]);
                const int k = static_cast<int>(c ? layer - n_[2] - 1 : layer);
                const int end[3] = {n_[0] + !c, n_[1] + !c, n_[2] + !c};
                const Id stride[3] = {1, end[0], static_cast<Id>(end[0]) * end[1]};
                for (int j = 0; j < end[1]; ++j)
                    for (int i = 0; i < end[0]; ++i) {
                        const Id v = c ? centre(i, j, k) : corner(i, j, k);
                        const int at[3] = {i, j, k};
                        for (int d = 0; d < 3; ++d)
                            if (at[d] + 1 < end[d] && side_[v] != side_[v + stride[d]])
                                layers[layer].push_back({v, v + stride[d], d});
                        if (!c) continue;
                        for (int m = 0; m < 8; ++m) {
                            const Id w = corner(i + (m & 1), j + (m >> 1 & 1), k + (m >> 2));
                            if (side_[v] != side_[w]) layers[layer].push_back({v, w, 3 + m});
                        }
                    }
            },
            1);
        auto& edges = cutEdges_;
        for (const auto& layer : layers)
            for (const Edge& e : layer) {
                OwnedCuts& own = owned_.at(static_cast<std::size_t>(e.v));  // slots of one owner follow each other
                if (own.slots == 0) own.first = static_cast<std::int32_t>(edges.size());
                own.slots |= static_cast<std::uint16_t>(1u << e.slot);
                edges.push_back({e.v, e.w});
            }
        progress.check();
        cuts_.resize(edges.size());
        parallelFor(
            edges.size(), [&](std::size_t e) { cuts_[e] = root(edges[e][0], edges[e][1]); }, 64);
    }

    /// Cut between two neighbours, seen from v: index and fraction from v; index -1 when there is none.
    struct Seen {
        std::int32_t cut;
        double fraction;
        Id other;
    };
    template <class Visit>
    void forEdges(Id v, const Visit& visit) const {
        const auto c = coordinates(v);
        const bool isC = isCentre(v);
        for (int d = 0; d < 3; ++d) {
            const int limit = isC ? n_[d] - 1 : n_[d];
            if (c[d] < limit) {
                const Id w = otherEnd(v, d);
                visit(Seen{cutOf(v, d), 0, w}, true, false);
            }
            if (c[d] > 0) {
                auto b = c;
                --b[d];
                const Id w = isC ? centre(b[0], b[1], b[2]) : corner(b[0], b[1], b[2]);
                visit(Seen{cutOf(w, d), 0, w}, true, true);
            }
        }
        for (int m = 0; m < 8; ++m) {
            if (isC) {
                visit(Seen{cutOf(v, 3 + m), 0, otherEnd(v, 3 + m)}, false, false);
            } else {
                const int i = c[0] - (m & 1), j = c[1] - (m >> 1 & 1), k = c[2] - (m >> 2);
                if (i < 0 || j < 0 || k < 0 || i >= n_[0] || j >= n_[1] || k >= n_[2]) continue;
                const Id w = centre(i, j, k);
                visit(Seen{cutOf(w, 3 + m), 0, w}, false, true);
            }
        }
    }

    void warp() {
        moved_.assign(side_.size(), -1);
        touched_.assign(side_.size(), 0);
        std::vector<std::vector<Id>> colour(4);
        for (const auto& [v, w] : cutEdges_) touched_.at(v) = touched_.at(w) = 1;
        touched_.forEach([&](std::size_t v, char touched) {
            if (!touched) return;
            const auto c = coordinates(static_cast<Id>(v));
            colour[2 * isCentre(static_cast<Id>(v)) + ((c[0] + c[1] + c[2]) & 1)].push_back(static_cast<Id>(v));
            moved_.at(v) = -1;  // made now: the loops below run side by side
        });
        for (const auto& group : colour) {
            // vertices of one colour share no edge, so each reads only what another colour wrote
            parallelFor(group.size(), [&](std::size_t g) {
                const Id v = group[g];
                double best = 1e300;
                std::int32_t bestCut = -1;
                forEdges(v, [&](const Seen& s, bool isLong, bool fromEnd) {
                    if (s.cut < 0 || moved_[s.other] >= 0) return;
                    const double f = fromEnd ? 1 - cuts_[s.cut].fraction : cuts_[s.cut].fraction;
                    if (f >= (isLong ? warpLong : warpShort)) return;
                    // in steps, or rounding would choose between cuts that are equally near
                    const double distance = std::round(f * (isLong ? 1.0 : 0.8660254037844386) * 12345678.9);
                    if (distance < best || (distance == best && s.cut < bestCut)) {
                        best = distance;
                        bestCut = s.cut;
                    }
                });
                moved_.at(v) = bestCut;
            });
        }
        moved_.forEach([&](std::size_t v, std::int32_t cut) {
            if (cut >= 0) side_[v] = Side::zero;
        });
    }

    // ---- filling
    // -----------------------------------------------------------------------------------------------------

  public:  // for fillTet()
    Side sideOf(Id v) const { return side_[v]; }
    Filling& filling() { return filling_; }
    std::int32_t vertexOf(Id v) {
        std::int32_t& index = outVertex_.at(v);
        if (index < 0)
            index = moved_[v] >= 0 ? filling_.add(cuts_[moved_[v]].position, cuts_[moved_[v]].surface)
                                   : filling_.add(point(v));
        return index;
    }
    std::int32_t cutVertex(Id v, Id w) {
        std::int32_t cut = -1;
        forEdges(v, [&](const Seen& s, bool, bool) {
            if (s.other == w) cut = s.cut;
        });
        std::int32_t& index = outCut_[cut];
        if (index < 0) index = filling_.add(cuts_[cut].position, cuts_[cut].surface);
        return index;
    }
    /// At the cut of the long edge if there is one; else (both cuts on short edges) at the inside vertex of even
    /// parity.
    bool diagonalFromFirst(Id p, Id q, Id m) const {
        if (isCentre(p) == isCentre(m)) return false;  // long: starts at the cut of p-m, ends at q
        if (isCentre(q) == isCentre(m)) return true;
        const auto c = coordinates(p);
        return ((c[0] + c[1] + c[2]) & 1) == 0;
    }
    /// When its middle is inside, and the moves have not turned it over to lie across its neighbours.
    bool keepsThinWall(const std::array<Id, 4>& v) const {
        Vec3 p[4];
        for (int k = 0; k < 4; ++k) p[k] = cuts_[moved_[v[k]]].position;
        const bool positive = tetVolume(point(v[0]), point(v[1]), point(v[2]), point(v[3])) > 0;
        const double sine = positive ? minimumSine(p[0], p[1], p[2], p[3]) : minimumSine(p[0], p[1], p[3], p[2]);
        return sine > 0.10 && shape_.evaluate(0.25 * (p[0] + p[1] + p[2] + p[3])).value < 0;
    }

  private:
    TetComplex fill(Progress& progress) {
        progress.step("Filling with tetrahedra", 0.6);
        outVertex_.assign(side_.size(), -1);
        outCut_.assign(cuts_.size(), -1);
        // corners of the face between cube (i,j,k) and its neighbour along axis d, in cyclic order
        constexpr int ring[4][2] = {{0, 0}, {1, 0}, {1, 1}, {0, 1}};
        for (int k = 0; k < n_[2]; ++k) {
            progress.check();
            for (int j = 0; j < n_[1]; ++j)
                for (int i = 0; i < n_[0]; ++i)
                    for (int d = 0; d < 3; ++d) {
                        std::array<int, 3> c{i, j, k}, next = c;
                        if (++next[d] >= n_[d]) continue;
                        const Id u = centre(i, j, k), w = centre(next[0], next[1], next[2]);
                        for (int m = 0; m < 4; ++m) {
                            std::array<Id, 2> q;
                            for (int e = 0; e < 2; ++e) {
                                auto p = next;
                                p[(d + 1) % 3] += ring[(m + e) % 4][0];
                                p[(d + 2) % 3] += ring[(m + e) % 4][1];
                                q[e] = corner(p[0], p[1], p[2]);
                            }
                            if (side_[u] == Side::outside && side_[w] == Side::outside &&
                                side_[q[0]] == Side::outside && side_[q[1]] == Side::outside)
                                continue;
                            if (skinOnly_ && isDeep(u) && isDeep(w) && isDeep(q[0]) && isDeep(q[1])) continue;
                            fillTet(*this, std::array<Id, 4>{u, w, q[0], q[1]});
                        }
                    }
        }
        return std::move(filling_.out);
    }

    /// Inside, and so are all neighbours. A vertex that was moved is none, whatever it was.
    bool isDeep(Id v) const { return side_[v] == Side::inside && !touched_[static_cast<std::size_t>(v)]; }

    const shape::Shape& shape_;
    double a_;
    bool skinOnly_;
    Vec3 origin_;
    std::array<int, 3> n_{};
    std::size_t corners_ = 0, centres_ = 0;
    std::vector<Side> side_;         // [vertices]
    SparseValues<OwnedCuts> owned_;  // [vertices]
    SparseValues<char> touched_;     // [vertices] an end of a cut edge
    SparseValues<std::int32_t> moved_, outVertex_;
    std::vector<std::int32_t> outCut_;
    std::vector<Cut> cuts_;
    std::vector<std::array<Id, 2>> cutEdges_;  // [cuts] lattice vertices at the ends
    Filling filling_;
};

/// Whether a point lies inside the closed surface that these triangles make: crossings of a ray.
bool encloses(const TetComplex& complex, const std::vector<Triangle>& surface, const Vec3& p) {
    const Vec3 ray = Vec3(0.8371, 0.4127, 0.3590).normalized();  // along no lattice plane
    bool in = false;
    for (const Triangle& t : surface) {
        const Vec3 &a = complex.position[t[0]], e1 = complex.position[t[1]] - a, e2 = complex.position[t[2]] - a;
        const Vec3 h = ray.cross(e2);
        const double det = e1.dot(h);
        if (det == 0) continue;
        const Vec3 s = (p - a) / det;
        const double u = s.dot(h);
        if (u < 0 || u > 1) continue;
        const Vec3 q = s.cross(e1);
        const double v = ray.dot(q);
        if (v >= 0 && u + v <= 1 && e2.dot(q) > 0) in = !in;
    }
    return in;
}

/// Drops pieces. Where no two pieces meet in an edge or a vertex only, sharing a vertex is the same as sharing a face.
/// A piece is told by its outer boundary: closed boundaries of negative volume are cavities and go with the piece that
/// encloses them.
void keepPieces(TetComplex& complex, const StuffingOptions& options) {
    DisjointSets pieces(complex.position.size());
    for (const Tet& t : complex.tets)
        for (int k = 1; k < 4; ++k) pieces.join(t[0], t[k]);
    auto find = [&](std::int32_t vertex) { return pieces.find(vertex); };
    // volumes by the divergence theorem: with a skin only, inside and outside boundaries are parts of their own
    std::map<std::int32_t, std::vector<Triangle>> surface;
    for (const Triangle& t : boundaryFaces(complex).triangle) surface[find(t[0])].push_back(t);
    std::map<std::int32_t, double> volume;
    for (const auto& [part, triangles] : surface)
        for (const Triangle& t : triangles)
            volume[part] +=
                tetVolume(complex.position[0], complex.position[t[0]], complex.position[t[1]], complex.position[t[2]]);
    if (volume.size() <= 1) return;
    const auto largest = std::max_element(volume.begin(), volume.end(), [](const auto& a, const auto& b) {
                             return a.second < b.second;
                         })->first;
    std::map<std::int32_t, bool> isKept;
    for (const auto& [part, v] : volume)
        isKept[part] = part == largest || (v > 0 && !options.largestPieceOnly && v >= options.smallestPiece);
    for (const auto& [part, v] : volume) {
        if (v > 0) continue;
        for (const auto& [other, w] : volume)
            if (w > 0 && isKept[other] && encloses(complex, surface[other], complex.position[surface[part][0][0]]))
                isKept[part] = true;
    }
    for (const auto& [part, v] : volume)
        if (v > 0 && !isKept[part]) {
            ++complex.droppedPieces;
            complex.droppedVolume += v;
        }
    std::vector<char> keep(complex.tets.size());
    for (std::size_t e = 0; e < keep.size(); ++e) keep[e] = isKept[find(complex.tets[e][0])];
    keepTets(complex, keep);
}

/// Drops tetrahedra. @param bare  receives the vertices inside that this has laid bare
void dropTets(TetComplex& complex, const std::vector<char>& keep, std::vector<std::int32_t>& bare) {
    // a vertex keeps its place in the list of those that stay
    std::vector<char> used(complex.position.size(), 0), isBare(complex.position.size(), 0);
    for (std::size_t e = 0; e < keep.size(); ++e)
        for (auto v : complex.tets[e]) (keep[e] ? used : isBare)[v] = 1;
    bare.clear();
    std::int32_t at = 0;
    for (std::size_t v = 0; v < used.size(); ++v) {
        if (!used[v]) continue;
        if (isBare[v] && complex.surfaces[v].count() == 0) bare.push_back(at);
        ++at;
    }
    keepTets(complex, keep);
}

/// Removes tetrahedra around boundary edges that more than two boundary faces share.
/// @param bare  receives the vertices inside that the removal has laid bare
/// @return whether there were any
bool removePinchedEdges(TetComplex& complex, std::vector<std::int32_t>& bare) {
    const BoundaryFaces boundary = boundaryFaces(complex);
    std::vector<std::array<std::int32_t, 3>> edges;  // low, high, face
    for (std::size_t f = 0; f < boundary.triangle.size(); ++f)
        for (int k = 0; k < 3; ++k) {
            const auto a = boundary.triangle[f][k], b = boundary.triangle[f][(k + 1) % 3];
            edges.push_back({std::min(a, b), std::max(a, b), static_cast<std::int32_t>(f)});
        }
    std::sort(edges.begin(), edges.end());
    std::vector<std::array<std::int32_t, 2>> pinched;
    for (std::size_t i = 0; i < edges.size();) {
        std::size_t j = i;
        while (j < edges.size() && edges[j][0] == edges[i][0] && edges[j][1] == edges[i][1]) ++j;
        if (j - i > 2) pinched.push_back({edges[i][0], edges[i][1]});
        i = j;
    }
    if (pinched.empty()) return false;
    const Incidence around = incidence(complex.position.size(), complex.tets);
    std::vector<char> keep(complex.tets.size(), 1);
    for (const auto& [a, b] : pinched) {
        // the fans of tetrahedra around the edge, joined through faces that hold it
        std::vector<std::int32_t> ring;
        for (auto at = around.offset[a]; at < around.offset[a + 1]; ++at) {
            const Tet& t = complex.tets[around.tet[at]];
            if (std::find(t.begin(), t.end(), b) != t.end()) ring.push_back(around.tet[at]);
        }
        std::vector<int> fan(ring.size());
        std::iota(fan.begin(), fan.end(), 0);
        auto shareFace = [&](std::int32_t s, std::int32_t t) {
            int shared = 0;
            for (auto v : complex.tets[s]) shared += std::count(complex.tets[t].begin(), complex.tets[t].end(), v);
            return shared == 3;
        };
        for (std::size_t pass = 0; pass < ring.size(); ++pass)
            for (std::size_t i = 0; i < ring.size(); ++i)
                for (std::size_t j = 0; j < ring.size(); ++j)
                    if (shareFace(ring[i], ring[j])) fan[i] = fan[j] = std::min(fan[i], fan[j]);
        std::vector<double> volume(ring.size(), 0);
        for (std::size_t i = 0; i < ring.size(); ++i) {
            const Tet& t = complex.tets[ring[i]];
            volume[fan[i]] += tetVolume(complex.position[t[0]], complex.position[t[1]], complex.position[t[2]],
                                        complex.position[t[3]]);
        }
        int smallest = -1;
        for (std::size_t i = 0; i < ring.size(); ++i)
            if (volume[i] > 0 && (smallest < 0 || volume[i] < volume[smallest])) smallest = static_cast<int>(i);
        for (std::size_t i = 0; i < ring.size(); ++i)
            if (fan[i] == smallest) keep[ring[i]] = 0;
    }
    dropTets(complex, keep, bare);
    return true;
}

/// Removes tetrahedra on the boundary that are flat: which way round they are is chance, and so would be their faces'.
/// @param bare  as above
bool removeFlatTets(TetComplex& complex, std::vector<std::int32_t>& bare) {
    constexpr double flat = 1e-3;  // sine of the smallest dihedral angle
    std::vector<char> keep(complex.tets.size(), 1);
    bool any = false;
    for (const auto t : boundaryFaces(complex).tet) {
        const Tet& v = complex.tets[static_cast<std::size_t>(t)];
        const auto& p = complex.position;
        if (minimumSine(p[v[0]], p[v[1]], p[v[2]], p[v[3]]) > flat) continue;
        keep[static_cast<std::size_t>(t)] = 0;
        any = true;
    }
    if (any) dropTets(complex, keep, bare);
    return any;
}

/// Vertices that a removal has laid bare get the surface that owns the boundary there and move onto it where their
/// tetrahedra allow it.
void adoptBareVertices(const shape::Shape& shape, TetComplex& complex, const std::vector<std::int32_t>& exposed) {
    for (auto v : exposed) complex.surfaces[v].add(shape.evaluate(complex.position[v]).surface);
    if (exposed.empty()) return;
    const Incidence around = incidence(complex.position.size(), complex.tets);
    for (auto v : exposed) {
        Vec3 p = complex.position[v];
        const int id = complex.surfaces[v].id[0];
        double worst = 1e300, size = 0;
        for (auto at = around.offset[v]; at < around.offset[v + 1]; ++at)
            for (auto w : complex.tets[around.tet[at]]) size = std::max(size, (complex.position[w] - p).norm());
        if (!projectOnto(shape, &id, 1, p, size)) continue;
        for (auto at = around.offset[v]; at < around.offset[v + 1]; ++at) {
            Vec3 x[4];
            for (int k = 0; k < 4; ++k) {
                const auto w = complex.tets[around.tet[at]][k];
                x[k] = w == v ? p : complex.position[w];
            }
            worst = std::min(worst, minimumSine(x[0], x[1], x[2], x[3]));
        }
        if (worst > 0.15) complex.position[v] = p;
    }
}

/// Gives every face-connected fan around a vertex a vertex of its own, so that the boundary is a manifold at vertices
/// too.
void splitPinchedVertices(TetComplex& complex) {
    const Incidence around = incidence(complex.position.size(), complex.tets);
    const std::size_t vertices = complex.position.size();
    for (std::size_t v = 0; v < vertices; ++v) {
        if (complex.surfaces[v].count() == 0) continue;
        const auto first = around.offset[v], last = around.offset[v + 1];
        std::vector<std::pair<std::array<std::int32_t, 2>, int>> faces;
        std::vector<int> fan(last - first);
        std::iota(fan.begin(), fan.end(), 0);
        auto find = [&](int a) {
            while (fan[a] != a) a = fan[a];
            return a;
        };
        for (auto at = first; at < last; ++at) {
            std::array<std::int32_t, 3> other;
            int n = 0;
            for (auto w : complex.tets[around.tet[at]])
                if (w != static_cast<std::int32_t>(v)) other[n++] = w;
            for (int k = 0; k < 3; ++k)
                faces.push_back(
                    {{std::min(other[k], other[(k + 1) % 3]), std::max(other[k], other[(k + 1) % 3])}, at - first});
        }
        std::sort(faces.begin(), faces.end());
        for (std::size_t i = 1; i < faces.size(); ++i)
            if (faces[i].first == faces[i - 1].first) {
                const int a = find(faces[i].second), b = find(faces[i - 1].second);
                fan[std::max(a, b)] = std::min(a, b);
            }
        std::unordered_map<int, std::int32_t> copy;
        for (auto at = first; at < last; ++at) {
            const int root = find(at - first);
            if (root == find(0)) continue;
            auto [entry, isNew] = copy.try_emplace(root, static_cast<std::int32_t>(complex.position.size()));
            if (isNew) {
                complex.position.push_back(Vec3(complex.position[v]));
                complex.surfaces.push_back(SurfaceSet(complex.surfaces[v]));
            }
            for (auto& w : complex.tets[around.tet[at]])
                if (w == static_cast<std::int32_t>(v)) w = entry->second;
        }
    }
}

}  // namespace

double latticeVertices(const Box3& box, double spacing) {
    double total = 2;
    for (int d = 0; d < 3; ++d) total *= box.size()[d] / spacing + 5.7;  // a margin of 1.6 spacings, and both ends
    return total;
}

TetComplex stuff(const shape::Shape& shape, const StuffingOptions& options, Progress& progress) {
    TetComplex complex = options.size ? gradedFilling(shape, options, progress) : Lattice(shape, options).run(progress);
    if (complex.tets.empty()) {
        throw InputError(ErrorDetail{"The shape holds no material that the lattice can see.",
                                     {},
                                     "spacing " + formatNumber(options.spacing) + " mm",
                                     "a spacing below two thirds of the thinnest wall",
                                     "no tetrahedron inside"});
    }
    std::vector<std::int32_t> bare;
    for (int round = 0; options.size && round < 4 && removeFlatTets(complex, bare); ++round)
        adoptBareVertices(shape, complex, bare);
    for (int round = 0; round < 20 && removePinchedEdges(complex, bare); ++round)
        adoptBareVertices(shape, complex, bare);
    splitPinchedVertices(complex);
    keepPieces(complex, options);
    return complex;
}

}  // namespace escultura::lattice
