#include "lattice/tet_complex.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>
#include <string>

#include "base/error.hpp"

namespace escultura::lattice {
namespace {
constexpr int faceOf[4][3] = {
    {1, 2, 3}, {0, 3, 2}, {0, 1, 3}, {0, 2, 1}};  // opposite vertex k, outward for positive volume
}

std::int16_t surfaceId(std::int64_t surface) {
    constexpr std::int64_t most = std::numeric_limits<std::int16_t>::max();
    if (surface < -1 || surface > most)
        throw InputError(ErrorDetail{"A body has too many faces to be told apart.",
                                     {},
                                     "its faces",
                                     "at most " + std::to_string(most),
                                     "number " + std::to_string(surface)});
    return static_cast<std::int16_t>(surface);
}

bool SurfaceSet::add(int surface) {
    if (has(surface)) return true;
    const int n = count();
    if (n == 3) return false;
    id[n] = surfaceId(surface);
    std::sort(id.begin(), id.begin() + n + 1);
    return true;
}

SurfaceSet SurfaceSet::common(const SurfaceSet& other) const {
    SurfaceSet both;
    int n = 0;
    for (auto s : id)
        if (s >= 0 && other.has(s)) both.id[n++] = s;
    return both;
}

Incidence incidence(std::size_t vertices, const std::vector<Tet>& tets) {
    Incidence r;
    r.offset.assign(vertices + 1, 0);
    for (const Tet& t : tets)
        for (auto v : t) ++r.offset[v + 1];
    std::partial_sum(r.offset.begin(), r.offset.end(), r.offset.begin());
    r.tet.resize(tets.size() * 4);
    std::vector<std::int32_t> next(r.offset.begin(), r.offset.end() - 1);
    for (std::size_t e = 0; e < tets.size(); ++e)
        for (auto v : tets[e]) r.tet[next[v]++] = static_cast<std::int32_t>(e);
    return r;
}

BoundaryFaces boundaryFaces(const TetComplex& complex) {
    const auto& tets = complex.tets;
    std::vector<char> onBoundary(complex.position.size());
    for (std::size_t v = 0; v < onBoundary.size(); ++v) onBoundary[v] = complex.surfaces[v].count() > 0;
    // faces gathered by their smallest vertex; within such a group a face that comes once is open
    struct Face {
        std::int32_t middle, high, tet;
        std::int8_t side;
    };
    std::vector<std::int32_t> offset(complex.position.size() + 1, 0);
    auto forFaces = [&](const auto& visit) {
        for (std::size_t e = 0; e < tets.size(); ++e)
            for (int k = 0; k < 4; ++k) {
                std::int32_t a = tets[e][faceOf[k][0]], b = tets[e][faceOf[k][1]], c = tets[e][faceOf[k][2]];
                if (!onBoundary[a] || !onBoundary[b] || !onBoundary[c]) continue;
                if (a > b) std::swap(a, b);
                if (b > c) std::swap(b, c);
                if (a > b) std::swap(a, b);
                visit(a, Face{b, c, static_cast<std::int32_t>(e), static_cast<std::int8_t>(k)});
            }
    };
    forFaces([&](std::int32_t low, const Face&) { ++offset[low + 1]; });
    std::partial_sum(offset.begin(), offset.end(), offset.begin());
    std::vector<Face> faces(static_cast<std::size_t>(offset.back()));
    std::vector<std::int32_t> next(offset.begin(), offset.end() - 1);
    forFaces([&](std::int32_t low, const Face& f) { faces[next[low]++] = f; });
    std::vector<std::pair<std::int32_t, std::int8_t>> open;
    for (std::size_t v = 0; v + 1 < offset.size(); ++v)
        for (auto i = offset[v]; i < offset[v + 1]; ++i) {
            bool once = true;
            for (auto j = offset[v]; j < offset[v + 1] && once; ++j)
                once = j == i || faces[j].middle != faces[i].middle || faces[j].high != faces[i].high;
            if (once) open.emplace_back(faces[i].tet, faces[i].side);
        }
    std::sort(open.begin(), open.end());
    BoundaryFaces result;
    for (const auto& [tet, side] : open) {
        const Tet& t = tets[tet];
        result.triangle.push_back({t[faceOf[side][0]], t[faceOf[side][1]], t[faceOf[side][2]]});
        result.tet.push_back(tet);
    }
    return result;
}

double minimumSine(const Vec3& a, const Vec3& b, const Vec3& c, const Vec3& d) {
    const Vec3 ab = b - a, ac = c - a, ad = d - a, bc = c - b, bd = d - b;
    const Vec3 na = bc.cross(bd), nb = ac.cross(ad), nc = ab.cross(ad),
               nd = ab.cross(ac);  // twice the areas, opposite a, b, c, d
    const double volume6 = ab.cross(ac).dot(ad);
    const double la = na.squaredNorm(), lb = nb.squaredNorm(), lc = nc.squaredNorm(), ld = nd.squaredNorm();
    // sin^2 at an edge = (6V)^2 l^2 / (|n_k|^2 |n_l|^2), n the normals of the two faces that share it
    double worst = 1e300;
    auto edge = [&](const Vec3& e, double x, double y) { worst = std::min(worst, e.squaredNorm() / (x * y)); };
    edge(ab, lc, ld);
    edge(ac, lb, ld);
    edge(ad, lb, lc);
    edge(bc, la, ld);
    edge(bd, la, lc);
    edge(d - c, la, lb);
    if (!(worst < 1e300)) return -1;
    return volume6 * std::sqrt(worst);
}

std::array<double, 6> dihedralAngles(const Vec3& a, const Vec3& b, const Vec3& c, const Vec3& d) {
    const Vec3 p[4] = {a, b, c, d};
    Vec3 n[4];
    for (int k = 0; k < 4; ++k)
        n[k] = (p[faceOf[k][1]] - p[faceOf[k][0]]).cross(p[faceOf[k][2]] - p[faceOf[k][0]]).normalized();
    std::array<double, 6> angle;
    int at = 0;
    for (int i = 0; i < 4; ++i)
        for (int j = i + 1; j < 4; ++j) angle[at++] = std::acos(std::clamp(-n[i].dot(n[j]), -1.0, 1.0)) * 180 / M_PI;
    return angle;
}

void keepTets(TetComplex& complex, const std::vector<char>& keep) {
    std::vector<std::int32_t> renumber(complex.position.size(), -1);
    std::size_t out = 0;
    for (std::size_t e = 0; e < complex.tets.size(); ++e) {
        if (!keep[e]) continue;
        for (auto v : complex.tets[e]) renumber[v] = 0;
        complex.tets[out++] = complex.tets[e];
    }
    complex.tets.resize(out);
    std::int32_t count = 0;
    for (std::size_t v = 0; v < renumber.size(); ++v) {
        if (renumber[v] < 0) continue;
        renumber[v] = count;
        complex.position[count] = complex.position[v];
        complex.surfaces[count++] = complex.surfaces[v];
    }
    complex.position.resize(count);
    complex.surfaces.resize(count);
    for (Tet& t : complex.tets)
        for (auto& v : t) v = renumber[v];
}

}  // namespace escultura::lattice
