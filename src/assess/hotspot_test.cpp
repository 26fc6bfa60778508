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

constexpr double converged = 0.05;      // largest change of the last refinement of a real peak
constexpr double settled = 0.02;        // a peak that changes by more is refined once more
constexpr double diminishing = 0.75;    // of the step before, at most, when it has not settled
constexpr double growing = 0.1;         // least exponent of a singular one
constexpr double weaklyGrowing = 0.03;  // least exponent of a weak one: an edge that stays sharp
constexpr double halved = 0.62;         // size over the one before, at most, on average of all steps
constexpr double smaller = 0.85;        // and at each step: the mesh did get finer
constexpr double sharpTurn = 20;        // degrees by which the normal turns at a sharp edge, at least
constexpr double lastReach = 0.5;       // of the third one, which is around the peak of the second
constexpr double sizedReach = 0.3;      // radius around a peak within which elements are measured
constexpr double measuredReach = 0.7;   // radius within which the peak is looked for

/// An edge of the boundary with the turn of the normal across it.
struct BoundaryEdge {
    std::int32_t a = -1, b = -1, middle = -1;
    double turn = 0;    ///< degrees, positive at re-entrant edges
    bool seam = false;  ///< two surfaces of the shape meet there
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
            const std::size_t g = at->second.face;
            const bool seam = std::max(f, g) < mesh.owner.size() && mesh.owner[f] != mesh.owner[g];
            edges.push_back({a, b, t[3 + e], hollow ? turn : -turn, seam});
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

/// Highest stress within a distance of a place, case by case, and where the highest of all is.
struct Highest {
    std::vector<double> ofCase;
    double all = 0;
    Vec3 at = Vec3::Zero();
};
Highest highestAround(const mesh::TetMesh& mesh, const std::vector<std::vector<double>>& stress, const Vec3& place,
                      double reach) {
    Highest h;
    h.ofCase.assign(stress.size(), 0);
    double nearest = std::numeric_limits<double>::infinity();
    std::int32_t nearestNode = -1;
    h.at = place;
    auto see = [&](std::int32_t n) {
        for (std::size_t c = 0; c < stress.size(); ++c) {
            h.ofCase[c] = std::max(h.ofCase[c], stress[c][n]);
            if (stress[c][n] > h.all) {
                h.all = stress[c][n];
                h.at = mesh.position[n];
            }
        }
    };
    for (const auto& t : mesh.boundary)
        for (auto n : t) {
            const double d = (mesh.position[n] - place).norm();
            if (d <= reach) see(n);
            if (d < nearest) {
                nearest = d;
                nearestNode = n;
            }
        }
    if (nearestNode >= 0) see(nearestNode);
    return h;
}

/// Mean over the nodes of sharp re-entrant edges within a distance; 0: none.
double meanAlongEdge(const mesh::TetMesh& mesh, const std::vector<std::vector<double>>& stress, const Vec3& place,
                     double reach) {
    std::set<std::int32_t> nodes;
    for (const BoundaryEdge& e : boundaryEdges(mesh, place, reach)) {
        if (e.turn < sharpTurn) continue;
        for (auto n : {e.a, e.b, e.middle})
            if ((mesh.position[n] - place).norm() <= reach) nodes.insert(n);
    }
    double sum = 0;
    for (auto n : nodes) {
        double highest = 0;
        for (const auto& ofCase : stress) highest = std::max(highest, ofCase[n]);
        sum += highest;
    }
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
        if (d <= reach) {
            sum += longest;
            ++count;
        }
        if (d < nearest) {
            nearest = d;
            ofNearest = longest;
        }
    }
    return count ? sum / count : ofNearest;
}

double elementSizeAt(const mesh::TetMesh& mesh, const Vec3& place) {
    // elements at a place differ by a factor of two: the ball is measured with a first guess
    return sizeAround(mesh, place, 1.5 * sizeAround(mesh, place, 0));
}

double testReach(const mesh::TetMesh& mesh, const Vec3& place) {
    return measuredReach * elementSizeAt(mesh, place);
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

bool isAtSharpEdge(const mesh::TetMesh& mesh, const Vec3& place, double reach) {
    for (const BoundaryEdge& e : boundaryEdges(mesh, place, 2 * reach))
        if (e.seam && e.turn >= sharpTurn && distanceToEdge(mesh, e, place) <= reach) return true;
    return false;
}

double Evidence::counts(std::size_t loadCase) const {
    if (peak.empty() || loadCase >= casePeak.size()) return 0;
    const bool grows = verdict != HotspotClass::real && peak.size() > 1;
    const double beyond = grows && peak.back() > 0 ? std::abs(peak.back() - peak[peak.size() - 2]) / peak.back() : 0;
    return casePeak[loadCase] * (1 + beyond + (cutError > cutErrorBar ? cutError : 0));
}

double Evidence::counts() const {
    double highest = 0;
    for (std::size_t c = 0; c < casePeak.size(); ++c) highest = std::max(highest, counts(c));
    return highest;
}

namespace {

/// Index of the first refinement that left the elements as they were; 0: each made them smaller.
std::size_t firstWithoutEffect(const Evidence& e, std::size_t n) {
    for (std::size_t i = 1; i < n; ++i)
        if (!(e.size[i] <= smaller * e.size[i - 1])) return i;
    return e.size[n - 1] <= std::pow(halved, static_cast<double>(n - 1)) * e.size[0] ? 0 : n - 1;
}

/// lambda of value ~ size^-lambda.
double fittedExponent(const std::vector<double>& size, const std::vector<double>& value, std::size_t n) {
    double sx = 0, sy = 0, sxx = 0, sxy = 0;
    for (std::size_t i = 0; i < n; ++i) {
        const double x = std::log(size[i]), y = std::log(std::max(value[i], 1e-300));
        sx += x;
        sy += y;
        sxx += x * x;
        sxy += x * y;
    }
    const double count = static_cast<double>(n), spread = count * sxx - sx * sx;
    return spread > 0 ? -(count * sxy - sx * sy) / spread : 0;
}

}  // namespace

void classify(Evidence& e) {
    const std::size_t n = std::min(e.peak.size(), e.size.size());
    e.exponent = e.change = 0;
    if (n < 3) {
        e.verdict = HotspotClass::untested;
        e.reason = "Not tested yet.";
        return;
    }
    const bool edge = e.sharp && e.alongEdge.size() == n &&
                      std::all_of(e.alongEdge.begin(), e.alongEdge.end(), [](double v) { return v > 0; });
    e.exponent = fittedExponent(e.size, edge ? e.alongEdge : e.peak, n);
    e.change = e.peak[n - 1] > 0 ? (e.peak[n - 1] - e.peak[n - 2]) / e.peak[n - 1] : 0;
    const double before = (e.peak[n - 2] - e.peak[n - 3]) / std::max(e.peak[n - 1], 1e-300);
    const double lastSize = std::log(e.size[n - 2] / e.size[n - 1]);
    const double lastExponent =
        lastSize > 0 && e.peak[n - 2] > 0 && e.peak[n - 1] > 0 ? std::log(e.peak[n - 1] / e.peak[n - 2]) / lastSize : 0;
    const std::string changed = "The last refinement changed the peak by " + formatNumber(100 * e.change, 2) + " %";
    const std::string grows = "The peak grows as the element size to the power of -" + formatNumber(e.exponent, 2);
    const bool small = std::abs(e.change) < settled ||
                       (std::abs(e.change) < converged && std::abs(e.change) <= diminishing * std::abs(before));
    const bool weak = e.sharp && e.exponent >= weaklyGrowing && lastExponent >= weaklyGrowing;
    const double boundary = std::min(e.toSupport, e.toLoad);
    e.verdict = HotspotClass::unresolved;
    if (const std::size_t same = firstWithoutEffect(e, n)) {
        e.reason = "Not refined: the elements stayed at " + formatNumber(e.size[same], 3) + " mm instead of " +
                   formatNumber(0.5 * e.size[same - 1], 3) + " mm.";
    } else if (cutMatters(e.cutError, e.change)) {
        e.reason =
            "The piece that was solved depends on where it is cut by " + formatNumber(100 * e.cutError, 2) + " %.";
    } else if (small && !weak) {
        e.verdict = HotspotClass::real;
        e.reason = changed + ".";
    } else if (e.change > 0 && e.exponent > growing && e.sharp) {
        e.verdict = HotspotClass::singular;
        e.reason = grows + " at a sharp edge of " + formatNumber(e.angle, 3) + "°.";
    } else if (e.change > 0 && e.exponent > growing && boundary <= e.zone) {
        e.verdict = HotspotClass::artefact;
        e.reason = grows + ", " + formatNumber(boundary < 1e-3 ? 0 : boundary, 2) + " mm from the " +
                   (e.toSupport <= e.toLoad ? "support" : "load") + " (its zone: " + formatNumber(e.zone, 2) + " mm).";
    } else if (weak) {
        e.reason = grows + " at an edge of " + formatNumber(e.angle, 3) +
                   "° that stays sharp: too little for a verdict, and it has no limit.";
    } else {
        e.reason = changed + ", and nothing near explains it.";
    }
}

namespace {

/// The surroundings that a suspect is measured in.
struct Ball {
    Vec3 place;
    double size, coarseAngle;
};

/// Adds what one mesh says of a place. @param last  of a third refinement, which is around the peak only
void addMeasure(Evidence& e, const Ball& b, const Suspect& suspect, const mesh::TetMesh& m,
                const std::vector<std::vector<double>>& s, bool last) {
    e.reach = measuredReach * b.size;
    // the last refinement is around the peak only, so that is where it is looked for
    const Highest highest =
        last ? highestAround(m, s, e.at, measuredReach * lastReach * b.size) : highestAround(m, s, b.place, e.reach);
    e.size.push_back(sizeAround(m, highest.at, (last ? 0.5 : 1) * sizedReach * b.size));
    for (std::size_t c = 0; last && c < highest.ofCase.size(); ++c) {
        const bool governs = e.casePeak[c] >= e.peak.back();  // others may have their peak elsewhere
        if (!governs)
            e.casePeak[c] = std::max(e.casePeak[c], highest.ofCase[c]);
        else
            e.casePeak[c] = highest.ofCase[c];
    }
    if (!last) e.casePeak = highest.ofCase;
    e.peak.push_back(highest.all);
    e.at = highest.at;
    e.alongEdge.push_back(meanAlongEdge(m, s, b.place, e.reach));
    e.elements.push_back(static_cast<std::int64_t>(m.tet.size()));
    if (!suspect.nearBoundary) return;
    const NearBoundary near = suspect.nearBoundary(e.at);
    e.toSupport = near.toSupport;
    e.toLoad = near.toLoad;
    e.zone = near.zone;
}

}  // namespace

std::vector<Evidence> testHotspots(const mesh::TetMesh& mesh, const std::vector<std::vector<double>>& stress,
                                   std::span<const Suspect> suspects, const Resolve& resolve, Progress& progress) {
    std::vector<Ball> balls;
    std::vector<Evidence> all;
    auto measure = [&](Evidence& e, std::size_t i, const mesh::TetMesh& m, const std::vector<std::vector<double>>& s,
                       bool last = false) { addMeasure(e, balls[i], suspects[i], m, s, last); };
    for (std::size_t i = 0; i < suspects.size(); ++i) {
        const Vec3& place = suspects[i].place;
        const double size = elementSizeAt(mesh, place);
        balls.push_back({place, size, surroundings(mesh, place, measuredReach * size, 1.5 * size).angle});
        all.emplace_back();
        measure(all.back(), i, mesh, stress);
    }
    if (balls.empty()) return all;
    // those that two refinements do not settle are refined once more, around the peak as it is then; what grows at a
    // sharp edge is known already
    std::vector<Vec3> lastPeak(balls.size(), Vec3::Zero());
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
                    for (int k = 1; k <= std::min(level, levels[i]); ++k) {
                        const double far = k < 3 ? (p - balls[i].place).norm() / refinedBall[k - 1]
                                                 : (p - lastPeak[i]).norm() / lastReach;
                        if (far <= balls[i].size) size = std::min(size, std::pow(0.5, k) * balls[i].size);
                    }
                return size;
            },
            active);
        for (std::size_t a = 0; a < active.size(); ++a) {
            const std::size_t i = active[a];
            const Refined& finer = pieces.size() == active.size() ? pieces[a] : pieces.at(0);
            measure(all[i], i, finer.mesh, finer.stress, level == 3);
            all[i].cutError = finer.cutError;
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
            lastPeak[i] = all[i].at;
            if (level == 2 && std::abs(all[i].change) > settled && all[i].verdict != HotspotClass::singular)
                levels[i] = 3;
        }
    }
    return all;
}

std::vector<char> singularZone(const mesh::TetMesh& mesh, const Vec3& place, double angle, double distance,
                               const std::function<bool(std::int32_t node)>& isOwn) {
    std::vector<char> inside(mesh.position.size(), 0), reached(mesh.position.size(), 0);
    // facets of a rounded edge turn less than the tested edge does
    const double turn = std::max(sharpTurn, 0.7 * (180 - angle));
    std::vector<BoundaryEdge> sharp, taken;
    for (const BoundaryEdge& e : boundaryEdges(mesh, place, std::numeric_limits<double>::infinity()))
        if (e.turn >= turn && isOwn(e.a) && isOwn(e.b)) sharp.push_back(e);
    for (const BoundaryEdge& e : sharp)
        if (distanceToEdge(mesh, e, place) <= distance) reached[e.a] = reached[e.b] = 1;
    for (bool more = true; more;) {
        more = false;
        for (const BoundaryEdge& e : sharp)
            if (reached[e.a] != reached[e.b]) {
                reached[e.a] = reached[e.b] = 1;
                more = true;
            }
    }
    for (const BoundaryEdge& e : sharp)
        if (reached[e.a]) taken.push_back(e);
    for (std::size_t n = 0; n < inside.size(); ++n) {
        if (!isOwn(static_cast<std::int32_t>(n))) continue;
        const Vec3& p = mesh.position[n];
        if (taken.empty()) inside[n] = (p - place).norm() <= distance;
        for (std::size_t k = 0; k < taken.size() && !inside[n]; ++k)
            inside[n] = distanceToEdge(mesh, taken[k], p) <= distance;
    }
    return inside;
}

}  // namespace escultura::assess
