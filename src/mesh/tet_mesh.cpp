#include "mesh/tet_mesh.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

#include "base/error.hpp"
#include "base/parallel.hpp"
#include "lattice/refine.hpp"
#include "lattice/stuffing.hpp"
#include "surface/extract.hpp"

namespace escultura::mesh {
namespace {

using Edge = std::array<std::int32_t, 2>;

std::vector<Edge> uniqueEdges(const std::vector<lattice::Tet>& tets) {
    std::vector<Edge> edges;
    edges.reserve(tets.size() * 6);
    for (const auto& t : tets)
        for (const auto& e : edgeCorners) edges.push_back({std::min(t[e[0]], t[e[1]]), std::max(t[e[0]], t[e[1]])});
    std::sort(edges.begin(), edges.end());
    edges.erase(std::unique(edges.begin(), edges.end()), edges.end());
    return edges;
}

std::int32_t edgeIndex(const std::vector<Edge>& edges, std::int32_t a, std::int32_t b) {
    return static_cast<std::int32_t>(
        std::lower_bound(edges.begin(), edges.end(), Edge{std::min(a, b), std::max(a, b)}) - edges.begin());
}

/// Mid-side nodes on straight edges, elements and boundary faces (owners not set).
TetMesh withStraightEdges(std::vector<Vec3> corners, const std::vector<lattice::Tet>& tets,
                          const std::vector<Edge>& edges, const std::vector<Triangle>& boundary) {
    TetMesh m;
    m.position = std::move(corners);
    m.cornerCount = m.position.size();
    const auto first = static_cast<std::int32_t>(m.cornerCount);
    m.position.reserve(m.cornerCount + edges.size());
    for (const Edge& e : edges) m.position.push_back(0.5 * (m.position[e[0]] + m.position[e[1]]));
    m.tet.resize(tets.size());
    parallelFor(tets.size(), [&](std::size_t i) {
        for (int k = 0; k < 4; ++k) m.tet[i][k] = tets[i][k];
        for (int k = 0; k < 6; ++k)
            m.tet[i][4 + k] = first + edgeIndex(edges, tets[i][edgeCorners[k][0]], tets[i][edgeCorners[k][1]]);
    });
    m.boundary.resize(boundary.size());
    for (std::size_t f = 0; f < boundary.size(); ++f)
        for (int k = 0; k < 3; ++k) {
            m.boundary[f][k] = boundary[f][k];
            m.boundary[f][3 + k] = first + edgeIndex(edges, boundary[f][k], boundary[f][(k + 1) % 3]);
        }
    return m;
}

/// Values of a cubic at 20 points of the reference tetrahedron -> its Bernstein coefficients.
struct BernsteinCubic {
    std::vector<Vec3> point;
    Eigen::Matrix<double, 20, 20> toCoefficients;

    BernsteinCubic() {
        std::vector<std::array<int, 4>> exponent;
        for (int a = 3; a >= 0; --a)
            for (int b = 3 - a; b >= 0; --b)
                for (int c = 3 - a - b; c >= 0; --c) exponent.push_back({a, b, c, 3 - a - b - c});
        const double factorial[4] = {1, 1, 2, 6};
        Eigen::Matrix<double, 20, 20> value;
        for (int i = 0; i < 20; ++i) {
            const auto& e = exponent[i];
            point.push_back(Vec3(e[1], e[2], e[3]) / 3.0);
            const double l[4] = {e[0] / 3.0, e[1] / 3.0, e[2] / 3.0, e[3] / 3.0};
            for (int j = 0; j < 20; ++j) {
                double b = 6;
                for (int k = 0; k < 4; ++k) b *= std::pow(l[k], exponent[j][k]) / factorial[exponent[j][k]];
                value(i, j) = b;
            }
        }
        toCoefficients = value.inverse();
    }
    double minimum(const TetMesh& m, std::size_t e) const {
        Eigen::Matrix<double, 20, 1> f;
        for (int i = 0; i < 20; ++i) f[i] = jacobian(m, e, point[i]).determinant();
        return (toCoefficients * f).minCoeff();
    }
};

/// Moves mid-side nodes of boundary edges onto the surfaces that both ends share.
void curveBoundary(TetMesh& m, const shape::Shape& shape, const lattice::TetComplex& c, const std::vector<Edge>& edges,
                   Progress& progress) {
    std::vector<char> onBoundary(m.position.size(), 0);
    for (const Triangle6& f : m.boundary)
        for (int k = 3; k < 6; ++k) onBoundary[f[k]] = 1;
    std::vector<Vec3> offset(edges.size(), Vec3::Zero());
    std::vector<char> missed(edges.size(), 0);
    progress.step("Curving the boundary");
    parallelFor(edges.size(), [&](std::size_t e) {
        const auto node = m.cornerCount + e;
        if (!onBoundary[node]) return;
        const auto set = c.surfaces[edges[e][0]].common(c.surfaces[edges[e][1]]);
        if (set.count() == 0) return;
        const Vec3 middle = m.position[node];
        const double length = (m.position[edges[e][1]] - m.position[edges[e][0]]).norm();
        auto attempt = [&](int count) {
            Vec3 p = middle;
            int ids[3] = {set.id[0], set.id[1], set.id[2]};
            if (!projectOnto(shape, ids, count, p, 0.5 * length) ||
                std::abs(shape.evaluate(p).value) > 1e-5 * length + shape.roughness())
                return false;
            if ((p - middle).norm() > 0.15 * length) return false;
            offset[e] = p - middle;
            return true;
        };
        if (attempt(set.count())) return;
        missed[e] = 1;
        if (set.count() > 1) attempt(1);
    });
    m.straightEdges = static_cast<int>(std::count(missed.begin(), missed.end(), 1));
    for (std::size_t e = 0; e < edges.size(); ++e) m.position[m.cornerCount + e] += offset[e];

    static const BernsteinCubic bernstein;
    std::vector<char> relaxed(edges.size(), 0);
    std::vector<char> bad(m.tet.size());
    for (int round = 0; round < 12; ++round) {
        progress.check();
        parallelFor(m.tet.size(), [&](std::size_t i) {
            bad[i] = 0;
            bool curved = false;
            for (int k = 4; k < 10; ++k) curved = curved || offset[m.tet[i][k] - m.cornerCount].squaredNorm() > 0;
            if (!curved) return;
            const auto& t = m.tet[i];
            const double straight =
                6 * tetVolume(m.position[t[0]], m.position[t[1]], m.position[t[2]], m.position[t[3]]);
            bad[i] = bernstein.minimum(m, i) < 0.2 * straight;
        });
        std::vector<char> shrink(edges.size(), 0);
        bool any = false;
        for (std::size_t i = 0; i < m.tet.size(); ++i)
            if (bad[i])
                for (int k = 4; k < 10; ++k) shrink[m.tet[i][k] - m.cornerCount] = any = true;
        if (!any) break;
        for (std::size_t e = 0; e < edges.size(); ++e) {
            if (!shrink[e] || offset[e].squaredNorm() == 0) continue;
            relaxed[e] = 1;
            const Vec3 next = round < 8 ? Vec3(0.6 * offset[e]) : Vec3(Vec3::Zero());
            m.position[m.cornerCount + e] += next - offset[e];
            offset[e] = next;
        }
    }
    m.relaxedEdges = static_cast<int>(std::count(relaxed.begin(), relaxed.end(), 1));
}

}  // namespace

lattice::TetComplex cornerMesh(const shape::Shape& shape, const MeshOptions& options, lattice::CreaseReport& creases,
                               Progress& progress) {
    lattice::StuffingOptions stuffing;
    stuffing.spacing = options.elementSize;
    stuffing.size = options.wallSize;
    stuffing.limit = options.limit;
    stuffing.largestPieceOnly = !options.allPieces;
    stuffing.smallestPiece = options.smallestPiece;
    stuffing.offset = options.offset;
    lattice::TetComplex c = lattice::stuff(shape, stuffing, progress);
    creases = lattice::repairCreases(shape, c, options.elementSize, progress);
    progress.step("Improving the elements");
    lattice::improve(shape, c, {0.42, 6}, progress);
    if (options.localSize) lattice::refine(shape, c, options.localSize, options.limit, progress);
    return c;
}

TetMesh curvedMesh(const shape::Shape& shape, const lattice::TetComplex& c, Progress& progress) {
    std::vector<std::int32_t> vertexOf;
    surface::TriMesh skin = surface::boundaryOf(shape, c, nullptr, &vertexOf);
    for (Triangle& t : skin.triangle)
        for (auto& v : t) v = vertexOf[v];
    const std::vector<Edge> edges = uniqueEdges(c.tets);
    TetMesh m = withStraightEdges(c.position, c.tets, edges, skin.triangle);
    m.owner = skin.owner;
    curveBoundary(m, shape, c, edges, progress);
    return m;
}

TetMesh meshShape(const shape::Shape& shape, const MeshOptions& options, Progress& progress) {
    lattice::CreaseReport creases;
    const lattice::TetComplex c = cornerMesh(shape, options, creases, progress);
    TetMesh m = curvedMesh(shape, c, progress);
    m.creases = creases;
    return m;
}

TetMesh quadraticMesh(std::vector<Vec3> corners, const std::vector<lattice::Tet>& tets) {
    lattice::TetComplex c;
    c.position = corners;
    c.tets = tets;
    lattice::SurfaceSet any;
    any.add(0);
    c.surfaces.assign(corners.size(), any);
    TetMesh m = withStraightEdges(std::move(corners), tets, uniqueEdges(tets), lattice::boundaryFaces(c).triangle);
    m.owner.assign(m.boundary.size(), 0);
    return m;
}

void shapeFunctions(const Vec3& xi, double* n) {
    const double l[4] = {1 - xi.sum(), xi[0], xi[1], xi[2]};
    for (int k = 0; k < 4; ++k) n[k] = l[k] * (2 * l[k] - 1);
    for (int k = 0; k < 6; ++k) n[4 + k] = 4 * l[edgeCorners[k][0]] * l[edgeCorners[k][1]];
}

void shapeDerivatives(const Vec3& xi, Vec3* d) {
    const double l[4] = {1 - xi.sum(), xi[0], xi[1], xi[2]};
    static const Vec3 dl[4] = {Vec3(-1, -1, -1), Vec3::UnitX(), Vec3::UnitY(), Vec3::UnitZ()};
    for (int k = 0; k < 4; ++k) d[k] = (4 * l[k] - 1) * dl[k];
    for (int k = 0; k < 6; ++k) {
        const int i = edgeCorners[k][0], j = edgeCorners[k][1];
        d[4 + k] = 4 * (l[i] * dl[j] + l[j] * dl[i]);
    }
}

Mat3 jacobian(const TetMesh& mesh, std::size_t element, const Vec3& xi) {
    Vec3 d[10];
    shapeDerivatives(xi, d);
    Mat3 j = Mat3::Zero();
    for (int k = 0; k < 10; ++k) j += mesh.position[mesh.tet[element][k]] * d[k].transpose();
    return j;
}

Quality measureQuality(const TetMesh& mesh) {
    struct One {
        double low, high, jacobian, aspect, volume;
    };
    std::vector<One> all(mesh.tet.size());
    static const std::vector<Vec3> points = [] {
        std::vector<Vec3> p{Vec3(0, 0, 0), Vec3(1, 0, 0), Vec3(0, 1, 0), Vec3(0, 0, 1), Vec3(.25, .25, .25)};
        for (const auto& e : edgeCorners) p.push_back(0.5 * (p[e[0]] + p[e[1]]));
        return p;
    }();
    // four-point rule of degree 2; the volume of a curved element needs degree 3: five-point rule (Keast 1986)
    static const double w[5] = {-2.0 / 15, 3.0 / 40, 3.0 / 40, 3.0 / 40, 3.0 / 40};
    static const Vec3 x[5] = {Vec3(.25, .25, .25), Vec3(1 / 6., 1 / 6., 1 / 6.), Vec3(.5, 1 / 6., 1 / 6.),
                              Vec3(1 / 6., .5, 1 / 6.), Vec3(1 / 6., 1 / 6., .5)};
    parallelFor(mesh.tet.size(), [&](std::size_t e) {
        const auto& t = mesh.tet[e];
        const Vec3 &a = mesh.position[t[0]], &b = mesh.position[t[1]], &c = mesh.position[t[2]],
                   &d = mesh.position[t[3]];
        const auto angles = lattice::dihedralAngles(a, b, c, d);
        One& q = all[e];
        q.low = *std::min_element(angles.begin(), angles.end());
        q.high = *std::max_element(angles.begin(), angles.end());
        double low = 1e300, high = -1e300;
        for (const Vec3& p : points) {
            const double det = jacobian(mesh, e, p).determinant();
            low = std::min(low, det);
            high = std::max(high, det);
        }
        q.jacobian = high > 0 ? low / high : -1;
        const double volume = tetVolume(a, b, c, d);
        double longest = 0, largestFace = 0;
        const Vec3 p[4] = {a, b, c, d};
        for (const auto& k : edgeCorners) longest = std::max(longest, (p[k[0]] - p[k[1]]).norm());
        for (int k = 0; k < 4; ++k)
            largestFace = std::max(
                largestFace, 0.5 * (p[(k + 2) % 4] - p[(k + 1) % 4]).cross(p[(k + 3) % 4] - p[(k + 1) % 4]).norm());
        q.aspect = std::sqrt(2.0 / 3.0) * longest * largestFace / (3 * volume);
        q.volume = 0;
        for (int k = 0; k < 5; ++k) q.volume += w[k] * jacobian(mesh, e, x[k]).determinant();
    });
    Quality quality;
    quality.minDihedral = 180;
    quality.minScaledJacobian = 1;
    quality.dihedralHistogram.assign(18, 0);
    quality.aspectHistogram.assign(20, 0);
    quality.jacobianHistogram.assign(20, 0);
    const QualityLimits limits;
    std::vector<std::pair<double, std::int32_t>> order;  // share of the warning limits that is left, least first
    for (std::size_t e = 0; e < all.size(); ++e) {
        const One& q = all[e];
        quality.minDihedral = std::min(quality.minDihedral, q.low);
        quality.maxDihedral = std::max(quality.maxDihedral, q.high);
        quality.minScaledJacobian = std::min(quality.minScaledJacobian, q.jacobian);
        quality.maxAspectRatio = std::max(quality.maxAspectRatio, q.aspect);
        quality.volume += q.volume;
        ++quality.dihedralHistogram[std::clamp(static_cast<int>(q.low / 5), 0, 17)];
        ++quality.aspectHistogram[std::clamp(static_cast<int>((q.aspect - 1) / 0.5), 0, 19)];
        ++quality.jacobianHistogram[std::clamp(static_cast<int>(q.jacobian / 0.05), 0, 19)];
        const bool fails =
            q.low < limits.failDihedral || q.aspect > limits.failAspect || !(q.jacobian > limits.failJacobian);
        const bool warns =
            q.low < limits.warnDihedral || q.aspect > limits.warnAspect || q.jacobian < limits.warnJacobian;
        quality.failed += fails;
        quality.warned += warns && !fails;
        order.emplace_back(
            std::min({q.low / limits.warnDihedral, limits.warnAspect / q.aspect, q.jacobian / limits.warnJacobian}),
            static_cast<std::int32_t>(e));
    }
    const std::size_t shown = std::min<std::size_t>(50, order.size());
    std::partial_sort(order.begin(), order.begin() + static_cast<std::ptrdiff_t>(shown), order.end());
    for (std::size_t k = 0; k < shown; ++k) {
        const auto e = order[k].second;
        const One& q = all[e];
        const auto& t = mesh.tet[e];
        quality.worst.push_back(
            {e, q.low, q.aspect, q.jacobian,
             (mesh.position[t[0]] + mesh.position[t[1]] + mesh.position[t[2]] + mesh.position[t[3]]) / 4});
    }
    return quality;
}

}  // namespace escultura::mesh
