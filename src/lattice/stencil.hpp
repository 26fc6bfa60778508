/// @file lattice/stencil.hpp
/// What isosurface stuffing makes of one tetrahedron of a lattice: inside this folder only.

#pragma once
#include "lattice/tet_complex.hpp"
#include "shape/shape.hpp"

namespace escultura::lattice {

enum class Side : std::int8_t { inside, zero, outside };

/// Where the boundary crosses an edge.
struct Cut {
    double fraction;  // from the edge's first vertex
    Vec3 position;
    std::int16_t surface;
};

/// Of a lattice's spacing: a value this small is rounding.
inline constexpr double nothing = 1e-8;

/// Root of the shape along an edge by the Illinois variant of regula falsi (Dowell and Jarratt 1971).
/// @param pSide, qSide  of the ends; outside even where the value is rounding
/// @param spacing       of the lattice, mm
Cut cutBetween(const shape::Shape& shape, const Vec3& p, const Vec3& q, Side pSide, Side qSide, double spacing);

/// Puts together the tetrahedra of stencils.
class Filling {
  public:
    TetComplex out;

    std::int32_t add(const Vec3& position, int surface = -1) {
        SurfaceSet set;
        if (surface >= 0) set.add(surface);
        out.position.push_back(position);
        out.surfaces.push_back(set);
        return static_cast<std::int32_t>(out.position.size()) - 1;
    }
    void emit(std::int32_t a, std::int32_t b, std::int32_t c, std::int32_t d) {
        const auto& p = out.position;
        if (tetVolume(p[a], p[b], p[c], p[d]) < 0) std::swap(c, d);
        out.tets.push_back({a, b, c, d});
    }
    /// Prism with triangles (a0,a1,a2) and (b0,b1,b2); diagonal k, on the quad of sides k and k+1, starts at a_k when
    /// startsAtFirst[k], else at a_{k+1} (and ends at b of the other side). The diagonals must not run in a ring.
    void emitPrism(const std::array<std::int32_t, 3>& a, const std::array<std::int32_t, 3>& b,
                   const std::array<bool, 3>& startsAtFirst);
};

/// One tetrahedron of a lattice. @tparam Lattice  has
///   Side sideOf(Id), std::int32_t vertexOf(Id), std::int32_t cutVertex(Id, Id), Filling& filling(),
///   bool diagonalFromFirst(Id p, Id q, Id m): on a face with p and q inside and m outside, whether the quad's diagonal
///   joins p and the cut of q-m; the same for every tetrahedron at the face, and never in a ring about a vertex m,
///   bool keepsThinWall(v): whether a tetrahedron with all vertices on the boundary is kept
template <class Lattice, class Id>
void fillTet(Lattice& lattice, const std::array<Id, 4>& v) {
    Filling& f = lattice.filling();
    int in[4], zero[4], outIdx[4], ni = 0, nz = 0, no = 0;
    for (int k = 0; k < 4; ++k) {
        const Side side = lattice.sideOf(v[k]);
        if (side == Side::inside)
            in[ni++] = k;
        else if (side == Side::zero)
            zero[nz++] = k;
        else
            outIdx[no++] = k;
    }
    if (no == 0 && (ni > 0 || lattice.keepsThinWall(v))) {
        f.emit(lattice.vertexOf(v[0]), lattice.vertexOf(v[1]), lattice.vertexOf(v[2]), lattice.vertexOf(v[3]));
        return;
    }
    if (ni == 0 || no == 0) return;
    if (ni == 1) {
        std::array<std::int32_t, 4> t;
        int at = 0;
        t[at++] = lattice.vertexOf(v[in[0]]);
        for (int k = 0; k < nz; ++k) t[at++] = lattice.vertexOf(v[zero[k]]);
        for (int k = 0; k < no; ++k) t[at++] = lattice.cutVertex(v[in[0]], v[outIdx[k]]);
        f.emit(t[0], t[1], t[2], t[3]);
        return;
    }
    if (ni == 3) {
        const int m = outIdx[0];
        std::array<std::int32_t, 3> a, b;
        std::array<bool, 3> first;
        for (int k = 0; k < 3; ++k) {
            a[k] = lattice.vertexOf(v[in[k]]);
            b[k] = lattice.cutVertex(v[in[k]], v[m]);
            first[k] = lattice.diagonalFromFirst(v[in[k]], v[in[(k + 1) % 3]], v[m]);
        }
        f.emitPrism(a, b, first);
        return;
    }
    // ni == 2
    const int p = in[0], q = in[1];
    const std::int32_t vp = lattice.vertexOf(v[p]), vq = lattice.vertexOf(v[q]);
    if (no == 1) {
        const std::int32_t vz = lattice.vertexOf(v[zero[0]]), cp = lattice.cutVertex(v[p], v[outIdx[0]]),
                           cq = lattice.cutVertex(v[q], v[outIdx[0]]);
        if (lattice.diagonalFromFirst(v[p], v[q], v[outIdx[0]])) {
            f.emit(vz, vp, vq, cq);
            f.emit(vz, vp, cq, cp);
        } else {
            f.emit(vz, vp, vq, cp);
            f.emit(vz, vq, cq, cp);
        }
        return;
    }
    // two inside, two outside: prism with triangles (p, cp0, cp1) and (q, cq0, cq1)
    const std::int32_t cp0 = lattice.cutVertex(v[p], v[outIdx[0]]), cp1 = lattice.cutVertex(v[p], v[outIdx[1]]);
    const std::int32_t cq0 = lattice.cutVertex(v[q], v[outIdx[0]]), cq1 = lattice.cutVertex(v[q], v[outIdx[1]]);
    const bool d0 = lattice.diagonalFromFirst(v[p], v[q], v[outIdx[0]]);  // quad p-q, joins p to cq0
    const bool d1 = lattice.diagonalFromFirst(v[p], v[q], v[outIdx[1]]);
    // sides: 0 = (p,q), 1 = (cp0,cq0), 2 = (cp1,cq1); the quad of sides 1 and 2 lies on the boundary and is free:
    // shorter diagonal, unless the other two forbid it (a prism's diagonals must not run in a ring)
    const auto& x = f.out.position;
    bool between = (x[cp0] - x[cq1]).squaredNorm() <= (x[cp1] - x[cq0]).squaredNorm();
    const bool ring0 = d0, ring2 = !d1;  // orientation of quads (0,1) and (2,0) in the ring
    if (ring0 == ring2) between = !ring0;
    f.emitPrism({vp, cp0, cp1}, {vq, cq0, cq1}, {d0, between, ring2});
}

}  // namespace escultura::lattice
