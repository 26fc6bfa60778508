#include "assess/hotspot_test.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <numbers>
#include <numeric>
#include <set>
#include <unordered_map>

#include "base/quantity.hpp"

namespace escultura::assess {
namespace {

constexpr double converged = 0.05;                    // largest change of the last refinement of a real peak
constexpr double growing = 0.1;                       // least exponent of a singular one
constexpr double sharpTurn = 20;                      // degrees by which the normal turns at a sharp edge, at least
constexpr double refinedReach[] = {1.75, 1.1, 0.85};  // radius of the refined ball at each level, in element sizes
constexpr double measuredReach = 0.7;                 // radius within which the peak is looked for

/// An edge of the boundary with the turn of the normal across it.
struct BoundaryEdge {
    std::int32_t a = -1, b = -1, middle = -1;
    double turn = 0;  ///< degrees, positive at re-entrant edges
};

std::vector<BoundaryEdge> boundaryEdges(const mesh::TetMesh& mesh, const Vec3& place, double reach) {
    struct Half {
        std::size_t face;
        std::int32_t opposite;
    };
    std::unordered_map<std::uint64_t, Half> open;
    std::vector<BoundaryEdge> edges;
    auto normalOf = [&](std::size_t f) {
        const auto& t = mesh.boundary[f];
        return Vec3(
            (mesh.position[t[1]] - mesh.position[t[0]]).cross(mesh.position[t[2]] - mesh.position[t[0]]).normalized());
    };
    for (std::size_t f = 0; f < mesh.boundary.size(); ++f) {
        const auto& t = mesh.boundary[f];
        if (std::min({(mesh.position[t[0]] - place).norm(), (mesh.position[t[1]] - place).norm(),
                      (mesh.position[t[2]] - place).norm()}) > reach)
            continue;
        for (int e = 0; e < 3; ++e) {
            const auto a = t[e], b = t[(e + 1) % 3], c = t[(e + 2) % 3];
            const std::uint64_t key =
                (static_cast<std::uint64_t>(std::min(a, b)) << 32) | static_cast<std::uint32_t>(std::max(a, b));
            const auto at = open.find(key);
            if (at == open.end()) {
                open[key] = {f, c};
                continue;
            }
            const Vec3 n = normalOf(f), m = normalOf(at->second.face);
            const double turn = std::acos(std::clamp(n.dot(m), -1.0, 1.0)) * 180 / std::numbers::pi;
            const bool hollow = (mesh.position[at->second.opposite] - mesh.position[a]).dot(n) > 0;
            edges.push_back({a, b, t[3 + e], hollow ? turn : -turn});
            open.erase(at);
        }
    }
    return edges;
}

double distanceToEdge(const mesh::TetMesh& mesh, const BoundaryEdge& e, const Vec3& p) {
    const Vec3 &a = mesh.position[e.a], d = mesh.position[e.b] - a;
    const double t = std::clamp((p - a).dot(d) / std::max(d.squaredNorm(), 1e-300), 0.0, 1.0);
    return (p - a - t * d).norm();
}

double highestAround(const mesh::TetMesh& mesh, std::span<const double> stress, const Vec3& place, double reach) {
    double highest = 0, nearest = std::numeric_limits<double>::infinity(), atNearest = 0;
    for (const auto& t : mesh.boundary)
        for (auto n : t) {
            const double d = (mesh.position[n] - place).norm();
            if (d <= reach) highest = std::max(highest, stress[n]);
            if (d < nearest) nearest = d, atNearest = stress[n];
        }
    return std::max(highest, atNearest);
}

/// Mean over the nodes of sharp re-entrant edges within a distance; 0: none.
double meanAlongEdge(const mesh::TetMesh& mesh, std::span<const double> stress, const Vec3& place, double reach) {
    std::set<std::int32_t> nodes;
    for (const BoundaryEdge& e : boundaryEdges(mesh, place, reach)) {
        if (e.turn < sharpTurn) continue;
        for (auto n : {e.a, e.b, e.middle})
            if ((mesh.position[n] - place).norm() <= reach) nodes.insert(n);
    }
    double sum = 0;
    for (auto n : nodes) sum += stress[n];
    return nodes.empty() ? 0 : sum / static_cast<double>(nodes.size());
}

/// Smallest hollow radius of faces near a place, by least squares of z = c + d x + e y + (a x2 + 2 b x y + c y2) / 2
/// over their nodes; infinite: none.
double hollowRadius(const mesh::TetMesh& mesh, const std::vector<std::size_t>& faces, const Vec3& place, double fit) {
    Vec3 normal = Vec3::Zero();
    std::set<std::int32_t> nodes;
    for (auto f : faces) {
        const auto& t = mesh.boundary[f];
        normal += (mesh.position[t[1]] - mesh.position[t[0]]).cross(mesh.position[t[2]] - mesh.position[t[0]]);
        for (auto n : t)
            if ((mesh.position[n] - place).norm() <= fit) nodes.insert(n);
    }
    const double none = std::numeric_limits<double>::infinity();
    if (nodes.size() < 8 || !(normal.norm() > 0)) return none;
    normal.normalize();
    const Vec3 u = normal.unitOrthogonal(), v = normal.cross(u);
    Eigen::MatrixXd left(static_cast<Eigen::Index>(nodes.size()), 6);
    Eigen::VectorXd right(static_cast<Eigen::Index>(nodes.size()));
    Eigen::Index row = 0;
    for (auto n : nodes) {
        const Vec3 d = mesh.position[n] - place;
        const double x = d.dot(u), y = d.dot(v);
        left.row(row) << 1, x, y, x * x / 2, x * y, y * y / 2;
        right[row++] = d.dot(normal);
    }
    const Eigen::VectorXd c = left.colPivHouseholderQr().solve(right);
    // principal curvatures of the graph of a function; the normal points outward, hollows curve towards it
    const double gx = c[1], gy = c[2], w = std::sqrt(1 + gx * gx + gy * gy);
    Eigen::Matrix2d first, second;
    first << 1 + gx * gx, gx * gy, gx * gy, 1 + gy * gy;
    second << c[3], c[4], c[4], c[5];
    const Eigen::Matrix2d shape = first.inverse() * second / w;
    const double half = shape.trace() / 2;
    const double highest = half + std::sqrt(std::max(0.0, half * half - shape.determinant()));
    return highest > 1e-6 ? 1 / highest : none;
}

}  // namespace

const char* name(HotspotClass c) {
    static const char* names[] = {"not tested", "real", "singular", "boundary artefact", "unresolved"};
    return names[static_cast<int>(c)];
}

double sizeAround(const mesh::TetMesh& mesh, const Vec3& place, double reach) {
    double sum = 0, nearest = std::numeric_limits<double>::infinity(), ofNearest = 0;
    int count = 0;
    for (const auto& t : mesh.tet) {
        Vec3 middle = Vec3::Zero();
        double longest = 0;
        for (int k = 0; k < 4; ++k) {
            middle += mesh.position[t[k]] / 4;
            for (int l = 0; l < k; ++l) longest = std::max(longest, (mesh.position[t[k]] - mesh.position[t[l]]).norm());
        }
        const double d = (middle - place).norm();
        if (d <= reach) sum += longest, ++count;
        if (d < nearest) nearest = d, ofNearest = longest;
    }
    return count ? sum / count : ofNearest;
}

double elementSizeAt(const mesh::TetMesh& mesh, const Vec3& place) {
    // elements at a place differ by a factor of two: the ball is measured with a first guess
    return sizeAround(mesh, place, 1.5 * sizeAround(mesh, place, 0));
}

Surroundings surroundings(const mesh::TetMesh& mesh, const Vec3& place, double reach, double fit) {
    Surroundings s;
    for (const BoundaryEdge& e : boundaryEdges(mesh, place, 2 * reach))
        if (e.turn > 0 && distanceToEdge(mesh, e, place) <= reach) s.angle = std::min(s.angle, 180 - e.turn);

    // one fit for each smooth face, so that none goes across a machined edge
    std::map<std::int32_t, std::vector<std::size_t>> facesOfOwner;
    for (std::size_t f = 0; f < mesh.boundary.size(); ++f)
        for (auto n : mesh.boundary[f])
            if ((mesh.position[n] - place).norm() <= fit) {
                facesOfOwner[f < mesh.owner.size() ? mesh.owner[f] : 0].push_back(f);
                break;
            }
    for (const auto& [owner, faces] : facesOfOwner)
        s.radius = std::min(s.radius, hollowRadius(mesh, faces, place, fit));
    return s;
}

void classify(Evidence& e) {
    const std::size_t n = std::min(e.peak.size(), e.size.size());
    e.exponent = e.change = 0;
    if (n < 3) {
        e.verdict = HotspotClass::untested;
        e.reason = "Not tested yet.";
        return;
    }
    double sx = 0, sy = 0, sxx = 0, sxy = 0;
    const bool edge = e.sharp && e.alongEdge.size() == n &&
                      std::all_of(e.alongEdge.begin(), e.alongEdge.end(), [](double v) { return v > 0; });
    const std::vector<double>& fitted = edge ? e.alongEdge : e.peak;
    for (std::size_t i = 0; i < n; ++i) {
        const double x = std::log(e.size[i]), y = std::log(std::max(fitted[i], 1e-300));
        sx += x, sy += y, sxx += x * x, sxy += x * y;
    }
    const double count = static_cast<double>(n), spread = count * sxx - sx * sx;
    e.exponent = spread > 0 ? -(count * sxy - sx * sy) / spread : 0;
    e.change = e.peak[n - 1] > 0 ? (e.peak[n - 1] - e.peak[n - 2]) / e.peak[n - 1] : 0;
    const double boundary = std::min(e.toSupport, e.toLoad);
    const std::string grows = "The peak grows as the element size to the power of -" + formatNumber(e.exponent, 2);
    if (std::abs(e.change) < converged) {
        e.verdict = HotspotClass::real;
        e.reason = "The last refinement changed the peak by " + formatNumber(100 * e.change, 2) + " %.";
    } else if (e.change > 0 && boundary <= e.zone) {
        e.verdict = HotspotClass::artefact;
        e.reason = grows + ", " + formatNumber(boundary, 2) + " mm from the " +
                   (e.toSupport <= e.toLoad ? "support" : "load") + " (zone " + formatNumber(e.zone, 2) + " mm).";
    } else if (e.exponent > growing && e.sharp) {
        e.verdict = HotspotClass::singular;
        e.reason = grows + " at a sharp edge of " + formatNumber(e.angle, 3) + "°.";
    } else {
        e.verdict = HotspotClass::unresolved;
        e.reason = "The last refinement still changed the peak by " + formatNumber(100 * e.change, 2) +
                   " %, and nothing near explains it.";
    }
}

std::vector<Evidence> testHotspots(const mesh::TetMesh& mesh, std::span<const double> stress,
                                   std::span<const Suspect> suspects, const Resolve& resolve, Progress& progress) {
    struct Ball {
        Vec3 place;
        double size, coarseAngle;
    };
    std::vector<Ball> balls;
    std::vector<Evidence> all;
    auto measure = [&](Evidence& e, const Ball& b, const mesh::TetMesh& m, std::span<const double> s) {
        const double reach = measuredReach * b.size;
        e.size.push_back(sizeAround(m, b.place, reach));
        e.peak.push_back(highestAround(m, s, b.place, reach));
        e.alongEdge.push_back(meanAlongEdge(m, s, b.place, reach));
        e.elements.push_back(static_cast<std::int64_t>(m.tet.size()));
    };
    for (const Suspect& s : suspects) {
        const double size = elementSizeAt(mesh, s.place);
        balls.push_back({s.place, size, surroundings(mesh, s.place, measuredReach * size, 1.5 * size).angle});
        Evidence e;
        e.toSupport = s.toSupport;
        e.toLoad = s.toLoad;
        e.zone = 2 * size;
        measure(e, balls.back(), mesh, stress);
        all.push_back(std::move(e));
    }
    if (balls.empty()) return all;
    // those that two refinements leave unresolved are refined once more
    std::vector<int> levels(balls.size(), 2);
    for (int level = 1; level <= 3; ++level) {
        if (std::none_of(levels.begin(), levels.end(), [&](int l) { return l >= level; })) break;
        progress.check();
        progress.step("Testing hotspots, refinement " + std::to_string(level));
        std::vector<std::size_t> active;
        for (std::size_t i = 0; i < balls.size(); ++i)
            if (levels[i] >= level) active.push_back(i);
        const std::vector<Refined> pieces = resolve(
            [&](const Vec3& p) {
                double size = 1e300;
                for (std::size_t i = 0; i < balls.size(); ++i)
                    for (int k = 1; k <= std::min(level, levels[i]); ++k)
                        if ((p - balls[i].place).norm() <= refinedReach[k - 1] * balls[i].size)
                            size = std::min(size, std::pow(0.5, k) * balls[i].size);
                return size;
            },
            active);
        for (std::size_t a = 0; a < active.size(); ++a) {
            const std::size_t i = active[a];
            const Refined& finer = pieces.size() == active.size() ? pieces[a] : pieces.at(0);
            measure(all[i], balls[i], finer.mesh, finer.stress);
            if (finer.elements > 0) all[i].elements.back() = finer.elements;
            if (level < 2) continue;
            const double fine = all[i].size.back();
            const Surroundings s = surroundings(finer.mesh, balls[i].place, measuredReach * balls[i].size, 2 * fine);
            all[i].angle = s.angle;
            all[i].radius = s.radius;
            const double turn = 180 - s.angle;
            all[i].sharp = turn >= sharpTurn && turn >= 0.7 * (180 - balls[i].coarseAngle);
            if (all[i].sharp) all[i].radius = 0;
            classify(all[i]);
            if (level == 2 && all[i].verdict == HotspotClass::unresolved) levels[i] = 3;
        }
    }
    return all;
}

std::vector<char> singularZone(const mesh::TetMesh& mesh, const Vec3& place, double distance) {
    std::vector<char> inside(mesh.position.size(), 0);
    const auto edges = boundaryEdges(mesh, place, std::numeric_limits<double>::infinity());
    std::vector<char> reached(mesh.position.size(), 0);
    std::vector<Vec3> middles;
    std::vector<const BoundaryEdge*> sharp, taken;
    for (const BoundaryEdge& e : edges)
        if (e.turn >= sharpTurn) sharp.push_back(&e);
    for (const BoundaryEdge* e : sharp)
        if (distanceToEdge(mesh, *e, place) <= distance) reached[e->a] = reached[e->b] = 1;
    for (bool more = true; more;) {
        more = false;
        for (const BoundaryEdge* e : sharp)
            if (reached[e->a] != reached[e->b]) reached[e->a] = reached[e->b] = 1, more = true;
    }
    for (const BoundaryEdge* e : sharp)
        if (reached[e->a]) taken.push_back(e);
    for (const auto& t : mesh.boundary)
        for (auto n : t) {
            if (inside[n]) continue;
            const Vec3& p = mesh.position[n];
            if (taken.empty()) {
                inside[n] = (p - place).norm() <= distance;
                continue;
            }
            for (const BoundaryEdge* e : taken)
                if (distanceToEdge(mesh, *e, p) <= distance) {
                    inside[n] = 1;
                    break;
                }
        }
    return inside;
}

}  // namespace escultura::assess
