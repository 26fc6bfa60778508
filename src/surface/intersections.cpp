#include "surface/intersections.hpp"

#include <algorithm>
#include <cmath>

namespace escultura::surface {
namespace {

/// A number as an exact sum of doubles, smallest first (Shewchuk 1997).
using Expansion = std::vector<double>;

std::array<double, 2> twoSum(double a, double b) {
    const double s = a + b, bb = s - a;
    return {(a - (s - bb)) + (b - bb), s};
}
std::array<double, 2> twoProduct(double a, double b) {
    const double p = a * b;
    return {std::fma(a, b, -p), p};
}
Expansion grown(const Expansion& e, double b) {
    Expansion out;
    double q = b;
    for (double x : e) {
        const auto [low, high] = twoSum(q, x);
        if (low != 0) out.push_back(low);
        q = high;
    }
    if (q != 0 || out.empty()) out.push_back(q);
    return out;
}
Expansion sum(Expansion a, const Expansion& b) {
    for (double x : b) a = grown(a, x);
    return a;
}
Expansion product(const Expansion& a, const Expansion& b) {
    Expansion out{0.0};
    for (double x : a)
        for (double y : b) {
            const auto [low, high] = twoProduct(x, y);
            out = grown(grown(out, low), high);
        }
    return out;
}
Expansion negated(Expansion a) {
    for (double& x : a) x = -x;
    return a;
}
Expansion difference(double a, double b) {
    const auto [low, high] = twoSum(a, -b);
    return low != 0 ? Expansion{low, high} : Expansion{high};
}
int sign(const Expansion& e) {
    return e.back() > 0 ? 1 : e.back() < 0 ? -1 : 0;
}

int exactOrientation(const Vec3& a, const Vec3& b, const Vec3& c, const Vec3& d) {
    std::array<std::array<Expansion, 3>, 3> m;
    const Vec3* rows[3] = {&a, &b, &c};
    for (int r = 0; r < 3; ++r)
        for (int k = 0; k < 3; ++k) m[r][k] = difference((*rows[r])[k], d[k]);
    auto minor = [&](int r, int s, int i, int j) {
        return sum(product(m[r][i], m[s][j]), negated(product(m[r][j], m[s][i])));
    };
    Expansion det = product(m[0][0], minor(1, 2, 1, 2));
    det = sum(det, negated(product(m[0][1], minor(1, 2, 0, 2))));
    det = sum(det, product(m[0][2], minor(1, 2, 0, 1)));
    return sign(det);
}

/// Sign of the turn a, b, c in the plane of two coordinates.
int turn(const Vec3& a, const Vec3& b, const Vec3& c, int x, int y) {
    const Expansion e = sum(product(difference(b[x], a[x]), difference(c[y], a[y])),
                            negated(product(difference(b[y], a[y]), difference(c[x], a[x]))));
    return sign(e);
}

bool inTriangle2(const Vec3& p, const std::array<Vec3, 3>& t, int x, int y) {
    const int s0 = turn(t[0], t[1], p, x, y), s1 = turn(t[1], t[2], p, x, y), s2 = turn(t[2], t[0], p, x, y);
    return (s0 >= 0 && s1 >= 0 && s2 >= 0) || (s0 <= 0 && s1 <= 0 && s2 <= 0);
}

bool segmentsMeet2(const Vec3& a, const Vec3& b, const Vec3& c, const Vec3& d, int x, int y) {
    const int s1 = turn(a, b, c, x, y), s2 = turn(a, b, d, x, y), s3 = turn(c, d, a, x, y), s4 = turn(c, d, b, x, y);
    return s1 * s2 < 0 && s3 * s4 < 0;
}

/// Coordinates onto which a triangle does not fall flat.
std::array<int, 2> spread(const std::array<Vec3, 3>& t) {
    const Vec3 n = (t[1] - t[0]).cross(t[2] - t[0]).cwiseAbs();
    int drop = 0;
    n.maxCoeff(&drop);
    return {(drop + 1) % 3, (drop + 2) % 3};
}

/// Whether the segment p, q meets the triangle (touching counts); both may lie in its plane.
bool segmentMeets(const Vec3& p, const Vec3& q, const std::array<Vec3, 3>& t) {
    const int sp = orientation(t[0], t[1], t[2], p), sq = orientation(t[0], t[1], t[2], q);
    if (sp * sq > 0) return false;
    if (sp == 0 && sq == 0) {
        const auto [x, y] = spread(t);
        if (inTriangle2(p, t, x, y) || inTriangle2(q, t, x, y)) return true;
        for (int k = 0; k < 3; ++k)
            if (segmentsMeet2(p, q, t[k], t[(k + 1) % 3], x, y)) return true;
        return false;
    }
    const int s0 = orientation(p, q, t[0], t[1]), s1 = orientation(p, q, t[1], t[2]),
              s2 = orientation(p, q, t[2], t[0]);
    return (s0 >= 0 && s1 >= 0 && s2 >= 0) || (s0 <= 0 && s1 <= 0 && s2 <= 0);
}

std::array<Vec3, 3> corners(const TriMesh& m, std::int32_t t) {
    return {m.position[m.triangle[t][0]], m.position[m.triangle[t][1]], m.position[m.triangle[t][2]]};
}

bool meet(const TriMesh& m, std::int32_t s, std::int32_t t) {
    const Triangle &a = m.triangle[s], &b = m.triangle[t];
    // vertices in the same place count as one: where a surface touches itself in a point it has two there
    const auto same = [&](std::int32_t v, std::int32_t w) { return v == w || m.position[v] == m.position[w]; };
    std::vector<std::int32_t> shared;
    for (auto v : a)
        for (auto w : b)
            if (same(v, w)) shared.push_back(v);
    const auto ta = corners(m, s), tb = corners(m, t);
    if (shared.size() == 3) return true;
    if (shared.size() == 2) {
        // neighbours cut each other only when folded flat onto each other
        auto other = [&](const Triangle& k) {
            for (auto v : k)
                if (!same(v, shared[0]) && !same(v, shared[1])) return v;
            return k[0];
        };
        const Vec3 &p = m.position[other(a)], &q = m.position[other(b)], &e = m.position[shared[0]],
                   &f = m.position[shared[1]];
        if (orientation(e, f, p, q) != 0) return false;
        const auto [x, y] = spread(ta);
        return turn(e, f, p, x, y) * turn(e, f, q, x, y) > 0;
    }
    if (shared.size() == 1) {
        // the edges that do not hold the shared vertex
        auto opposite = [&](const Triangle& k, const std::array<Vec3, 3>& against) {
            for (int i = 0; i < 3; ++i)
                if (same(k[i], shared[0]))
                    return segmentMeets(m.position[k[(i + 1) % 3]], m.position[k[(i + 2) % 3]], against);
            return false;
        };
        return opposite(a, tb) || opposite(b, ta);
    }
    for (int k = 0; k < 3; ++k)
        if (segmentMeets(ta[k], ta[(k + 1) % 3], tb) || segmentMeets(tb[k], tb[(k + 1) % 3], ta)) return true;
    return false;
}

}  // namespace

int orientation(const Vec3& a, const Vec3& b, const Vec3& c, const Vec3& d) {
    const Vec3 ad = a - d, bd = b - d, cd = c - d;
    const double xy = bd[0] * cd[1], yx = cd[0] * bd[1], yz = cd[0] * ad[1], zy = ad[0] * cd[1], zx = ad[0] * bd[1],
                 xz = bd[0] * ad[1];
    const double det = ad[2] * (xy - yx) + bd[2] * (yz - zy) + cd[2] * (zx - xz);
    const double permanent = (std::abs(xy) + std::abs(yx)) * std::abs(ad[2]) +
                             (std::abs(yz) + std::abs(zy)) * std::abs(bd[2]) +
                             (std::abs(zx) + std::abs(xz)) * std::abs(cd[2]);
    const double bound = 7.7715611723761e-16 * permanent;  // (7 + 56 eps) eps
    if (det > bound) return 1;
    if (det < -bound) return -1;
    return exactOrientation(a, b, c, d);
}

std::vector<std::array<std::int32_t, 2>> selfIntersections(const TriMesh& mesh, std::size_t most) {
    std::vector<std::array<std::int32_t, 2>> found;
    const TriangleTree tree(mesh);
    for (std::size_t t = 0; t < mesh.triangle.size() && found.size() < most; ++t) {
        Box3 box;
        for (auto v : mesh.triangle[t]) box.include(mesh.position[v]);
        const auto own = static_cast<std::int32_t>(t);
        tree.forOverlapping(box, [&](std::int32_t other) {
            if (other > own && found.size() < most && meet(mesh, own, other)) found.push_back({own, other});
        });
    }
    return found;
}

}  // namespace escultura::surface
