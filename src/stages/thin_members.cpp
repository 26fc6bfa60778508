#include "stages/thin_members.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <unordered_map>

#include "base/disjoint_sets.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"

namespace escultura::stages {
namespace {

constexpr double leastRadius = 0.2;  // cells: thinner is noise of the cells' steps
constexpr double joinReach = 1.5;    // cells between balls of one member
constexpr std::size_t leastBalls = 6;
// A member goes on where it is up to so many times as thick as the smallest: it is decided whole, not its waist alone.
constexpr double wholeUpTo = 1.3;

/// Cells around a place. Calls visit(cell, its centre) for those whose centres lie within a distance.
template <class Visit>
void forCellsNear(const field::DensityField& f, const Vec3& p, double reach, const Visit& visit) {
    std::array<int, 3> first, last;
    for (int a = 0; a < 3; ++a) {
        first[a] = std::clamp(static_cast<int>(std::floor((p[a] - reach - f.origin[a]) / f.spacing[a])), 0, f.cells[a]);
        last[a] =
            std::clamp(static_cast<int>(std::floor((p[a] + reach - f.origin[a]) / f.spacing[a])) + 1, 0, f.cells[a]);
    }
    for (int k = first[2]; k < last[2]; ++k)
        for (int j = first[1]; j < last[1]; ++j)
            for (int i = first[0]; i < last[0]; ++i) {
                const std::size_t c = f.index(i, j, k);
                const Vec3 centre = f.centre(c);
                if ((centre - p).squaredNorm() <= reach * reach) visit(c, centre);
            }
}

/// Balls between opposite walls that are thinner than some. @param counts  whether a place does
template <class Counts>
std::vector<surface::Ball> thinBalls(const field::DensityField& field, const IsoSurface& iso, double thinnerThan,
                                     const Counts& counts, Progress& progress) {
    progress.step("Looking for thin members");
    const double cell = field.spacing.maxCoeff();
    const surface::TriMesh& mesh = iso.mesh;
    std::vector<surface::InscribedBall> found(mesh.triangle.size());
    parallelFor(found.size(), [&](std::size_t t) {
        const Triangle& v = mesh.triangle[t];
        const Vec3 &a = mesh.position[v[0]], &b = mesh.position[v[1]], &c = mesh.position[v[2]];
        const Vec3 across = (b - a).cross(c - a);
        if (!(across.norm() > 1e-12)) return;
        const Vec3 p = (a + b + c) / 3;
        if (!counts(p)) return;
        const auto ball = surface::inscribedBall(iso.tree, p, across.normalized(), 0.5 * thinnerThan);
        if (!ball || ball->separation < surface::wallSeparation || ball->radius < leastRadius * cell) return;
        if (counts(ball->centre)) found[t] = *ball;
    });
    progress.check();
    std::vector<surface::Ball> balls;
    for (const auto& b : found)
        if (b.radius > 0) balls.push_back({b.centre, b.radius});
    return balls;
}

/// Balls whose middles lie within a distance of each other, in sets.
DisjointSets<std::size_t> chains(const std::vector<surface::Ball>& balls, double reach) {
    DisjointSets<std::size_t> sets(balls.size());
    const surface::Bins bins(reach);
    std::unordered_map<std::int64_t, std::vector<std::size_t>> at;
    for (std::size_t b = 0; b < balls.size(); ++b) {
        const Vec3& p = balls[b].centre;
        bins.within(p - Vec3::Constant(reach), p + Vec3::Constant(reach), [&](std::int64_t key) {
            if (const auto near = at.find(key); near != at.end())
                for (const std::size_t other : near->second)
                    if ((balls[other].centre - p).norm() <= reach) sets.join(b, other);
        });
        at[bins.keyAt(p)].push_back(b);
    }
    return sets;
}

/// Longest distance between places, from one that is farthest from the first: within a factor of two of the longest.
double lengthOf(const std::vector<Vec3>& places) {
    auto farthest = [&](const Vec3& p) {
        return *std::max_element(places.begin(), places.end(), [&](const Vec3& a, const Vec3& b) {
            return (a - p).squaredNorm() < (b - p).squaredNorm();
        });
    };
    const Vec3 end = farthest(places.front());
    return (farthest(end) - end).norm();
}

/// The images of a place by the part's planes of symmetry, itself first.
std::vector<Vec3> images(const Part& part, const Vec3& p) {
    std::vector<Vec3> all{p};
    for (const SymmetryPlane& s : part.symmetry)
        for (std::size_t i = 0, n = all.size(); i < n; ++i)
            all.push_back(all[i] - 2 * (all[i] - s.point).dot(s.normal) * s.normal);
    return all;
}

/// Whether a place lies inside a member.
bool holds(const RawMember& m, const Vec3& p, double cell) {
    return std::any_of(m.balls.begin(), m.balls.end(),
                       [&](const surface::Ball& b) { return (b.centre - p).norm() < std::max(b.radius, 0.75 * cell); });
}

/// What the recipe decides of a member: the latest decision with a place inside it, or inside its mirror image.
MemberFate fateOf(const Part& part, const Recipe& recipe, const RawMember& m, double cell) {
    for (auto d = recipe.thin.decisions.rbegin(); d != recipe.thin.decisions.rend(); ++d)
        for (const Vec3& p : images(part, d->at))
            if (holds(m, p, cell)) return d->fate;
    return recipe.thin.others;
}

}  // namespace

std::size_t cellAt(const field::DensityField& f, const Vec3& p) {
    const Vec3 x = (p - f.origin).cwiseQuotient(f.spacing);
    std::array<int, 3> c;
    for (int a = 0; a < 3; ++a) c[a] = std::clamp(static_cast<int>(std::floor(x[a])), 0, f.cells[a] - 1);
    return f.index(c[0], c[1], c[2]);
}

double deepestNear(const shape::Shape& solid, const surface::TriangleTree& tree, const Vec3& p, double cell) {
    double deep = 0;
    for (int n = -1; n < 6; ++n) {
        const Vec3 q = n < 0 ? p : Vec3(p + (n % 2 ? 0.4 : -0.4) * cell * Vec3::Unit(n / 2));
        if (solid.evaluate(q).value < 0) deep = std::max(deep, tree.distance(q));
    }
    return deep;
}

std::vector<float> thicknessNear(const field::DensityField& field, const IsoSurface& iso, double thinnerThan,
                                 Progress& progress) {
    std::vector<float> thin(field.count(), 0.0f);
    for (const surface::Ball& b : thinBalls(
             field, iso, thinnerThan, [](const Vec3&) { return true; }, progress))
        forCellsNear(field, b.centre, b.radius + 1.25 * field.spacing.maxCoeff(), [&](std::size_t c, const Vec3&) {
            const auto t = static_cast<float>(2 * b.radius);
            if (thin[c] == 0 || t < thin[c]) thin[c] = t;
        });
    return thin;
}

double smallestMember(const Recipe& recipe, const field::DensityField& field) {
    return recipe.thin.smallest > 0 ? recipe.thin.smallest : field.spacing.maxCoeff();
}

std::vector<RawMember> findThinMembers(const Part& part, const FieldResult& field, const Recipe& recipe,
                                       const IsoSurface& iso, const std::vector<char>& shaped, Progress& progress) {
    const double cell = field.field.spacing.maxCoeff(), smallest = smallestMember(recipe, field.field);
    const Box3 inner = field.regions.designSpace.grown(-0.25 * cell);
    const std::vector<surface::Ball> balls = thinBalls(
        field.field, iso, wholeUpTo * smallest,
        [&](const Vec3& p) { return !shaped[cellAt(field.field, p)] && inner.contains(p); }, progress);
    std::map<std::size_t, RawMember> groups;
    DisjointSets<std::size_t> sets = chains(balls, joinReach * cell);
    for (std::size_t b = 0; b < balls.size(); ++b) groups[sets.find(b)].balls.push_back(balls[b]);
    std::vector<RawMember> members;
    for (auto& [root, m] : groups) {
        std::vector<Vec3> core;  // what is thinner than the smallest
        Vec3 middle = Vec3::Zero();
        double sum = 0, least = 1e300;
        for (const surface::Ball& b : m.balls) {
            if (b.radius >= 0.5 * smallest) continue;
            core.push_back(b.centre);
            middle += b.centre;
            sum += b.radius;
            least = std::min(least, b.radius);
        }
        if (core.size() < leastBalls) continue;
        middle /= static_cast<double>(core.size());
        m.told.thickness = 2 * sum / static_cast<double>(core.size());
        m.told.least = 2 * least;
        std::vector<Vec3> whole;
        for (const surface::Ball& b : m.balls) whole.push_back(b.centre);
        m.told.length = lengthOf(whole);
        if (lengthOf(core) < std::max(m.told.thickness, cell)) continue;  // a speck on a thicker one
        m.told.at = *std::min_element(core.begin(), core.end(), [&](const Vec3& a, const Vec3& b) {
            return (a - middle).squaredNorm() < (b - middle).squaredNorm();
        });
        m.told.fate = fateOf(part, recipe, m, cell);
        members.push_back(std::move(m));
    }
    std::sort(members.begin(), members.end(), [](const RawMember& a, const RawMember& b) {
        return std::make_tuple(a.told.thickness, a.told.at[0], a.told.at[1], a.told.at[2]) <
               std::make_tuple(b.told.thickness, b.told.at[0], b.told.at[1], b.told.at[2]);
    });
    return members;
}

namespace {

/// Cells of members to be left out: those around the balls that no ball of a diameter inside the body holds.
void leaveOut(const std::vector<const RawMember*>& members, const surface::TriangleTree& tree,
              const field::DensityField& before, double threshold, double diameter, field::DensityField& cells) {
    const double cell = before.spacing.maxCoeff();
    std::vector<char> thin(before.count(), 0), beside(before.count(), 0);
    for (const RawMember* m : members)
        for (const surface::Ball& b : m->balls) {
            const double around = b.radius + 1.75 * cell;
            forCellsNear(before, b.centre, around, [&](std::size_t c, const Vec3&) { thin[c] = 1; });
            forCellsNear(before, b.centre, around + 0.5 * diameter + cell,
                         [&](std::size_t c, const Vec3&) { beside[c] = 1; });
        }
    // middles of such balls, at the corners of half cells
    std::vector<std::size_t> look;
    for (std::size_t c = 0; c < beside.size(); ++c)
        if (beside[c] && before.density[c] >= threshold) look.push_back(c);
    std::vector<std::array<char, 8>> deep(look.size());
    auto placeOf = [&](std::size_t n, int s) {
        return Vec3(before.centre(look[n]) +
                    0.25 * before.spacing.cwiseProduct(Vec3(s & 1 ? 1 : -1, s & 2 ? 1 : -1, s & 4 ? 1 : -1)));
    };
    parallelFor(look.size(), [&](std::size_t n) {
        for (int s = 0; s < 8; ++s) deep[n][s] = tree.distance(placeOf(n, s), 0.5 * diameter) >= 0.499 * diameter;
    });
    std::vector<char> holds(before.count(), 0);
    for (std::size_t n = 0; n < look.size(); ++n)
        for (int s = 0; s < 8; ++s)
            if (deep[n][s])
                forCellsNear(before, placeOf(n, s), 0.5 * diameter + 0.6 * cell,
                             [&](std::size_t c, const Vec3&) { holds[c] = 1; });
    for (std::size_t c = 0; c < thin.size(); ++c)
        if (thin[c] && !holds[c]) cells.density[c] = 0;
}

/// Fills the cells around a member's middles to the smallest, and by what the smoothing takes away again.
void bringUp(const RawMember& m, double threshold, double smallest, field::DensityField& cells) {
    constexpr int fine = 4;
    constexpr double smoothedAway = 0.12;  // cells, of the radius of a strut
    const double cell = cells.spacing.maxCoeff();
    std::map<std::size_t, std::vector<surface::Ball>> ballsOf;
    for (const surface::Ball& b : m.balls) {
        const surface::Ball filled{b.centre, std::max(0.5 * smallest + smoothedAway * cell, b.radius)};
        forCellsNear(cells, b.centre, filled.radius + 0.87 * cell,
                     [&](std::size_t c, const Vec3&) { ballsOf[c].push_back(filled); });
    }
    for (const auto& [c, balls] : ballsOf) {
        int inside = 0;
        for (int s = 0; s < fine * fine * fine; ++s) {
            const Vec3 at = Vec3(s % fine + 0.5, s / fine % fine + 0.5, s / (fine * fine) + 0.5) / fine;
            const Vec3 p = cells.centre(c) + cells.spacing.cwiseProduct(at - Vec3::Constant(0.5));
            inside += std::any_of(balls.begin(), balls.end(),
                                  [&](const surface::Ball& b) { return (b.centre - p).norm() < b.radius; });
        }
        const double share = inside / static_cast<double>(fine * fine * fine);
        cells.density[c] =
            std::max(cells.density[c], static_cast<float>(std::clamp(share + threshold - 0.5, 0.0, 1.0)));
    }
}

}  // namespace

void applyFates(const std::vector<RawMember>& members, const FieldResult& field, const Recipe& recipe,
                const IsoSurface& iso, field::DensityField& cells) {
    const double smallest = smallestMember(recipe, field.field);
    std::vector<const RawMember*> out;
    for (const RawMember& m : members)
        if (m.told.fate == MemberFate::leaveOut) out.push_back(&m);
    if (!out.empty()) {
        const field::DensityField before = cells;
        leaveOut(out, iso.tree, before, recipe.threshold, wholeUpTo * smallest, cells);
    }
    for (const RawMember& m : members)
        if (m.told.fate == MemberFate::thicken) bringUp(m, recipe.threshold, smallest, cells);
}

void tellThinMembers(std::vector<RawMember> members, const Part& part, const Recipe& recipe,
                     const field::DensityField& field, const shape::Shape& solid, const surface::TriangleTree& tree,
                     SurfaceResult& r) {
    constexpr double leastKept = 0.85, leastBroughtUp = 0.95;
    const double cell = field.spacing.maxCoeff();
    r.smallestMember = smallestMember(recipe, field);
    auto mm = [](double v) { return formatNumber(v, 3) + " mm"; };
    for (RawMember& m : members) {
        std::vector<double> depth(m.balls.size());
        parallelFor(depth.size(), [&](std::size_t b) {
            // near its roots the body is thicker than the member
            const double most = m.told.fate == MemberFate::thicken ? 0.5 * r.smallestMember : m.balls[b].radius;
            depth[b] = std::min(deepestNear(solid, tree, m.balls[b].centre, cell), most);
        });
        double sum = 0, counted = 0;
        for (std::size_t b = 0; b < depth.size(); ++b)
            if (m.balls[b].radius < 0.5 * r.smallestMember) {
                sum += depth[b];
                ++counted;
            }
        m.told.after = 2 * sum / std::max(counted, 1.0);
        std::string text = "A member of " + mm(m.told.thickness) + ", " + mm(m.told.length) +
                           " long, is thinner than the smallest of " + mm(r.smallestMember) + ": ";
        bool isTold = true;
        switch (m.told.fate) {
            case MemberFate::undecided:
                text += "undecided, now " + mm(m.told.after) + ".";
                break;
            case MemberFate::keep:
                text += "to be kept, but now " + mm(m.told.after) + ".";
                isTold = m.told.after < leastKept * m.told.thickness;
                break;
            case MemberFate::thicken:
                text += "to be brought up, but now " + mm(m.told.after) + ".";
                isTold = m.told.after < leastBroughtUp * r.smallestMember;
                break;
            case MemberFate::leaveOut:
                text += "to be left out, but some of it is still there.";
                isTold = m.told.after > 0.25 * m.told.thickness;
                break;
        }
        if (isTold)
            r.findings.push_back({GeometryFinding::Kind::thinMember, text, m.told.at, m.told.thickness, m.told.after});
        r.members.push_back(m.told);
    }
    for (const MemberDecision& d : recipe.thin.decisions) {
        const std::vector<Vec3> places = images(part, d.at);
        const bool isThere = std::any_of(members.begin(), members.end(), [&](const RawMember& m) {
            return std::any_of(places.begin(), places.end(), [&](const Vec3& p) { return holds(m, p, cell); });
        });
        if (!isThere)
            r.findings.push_back({GeometryFinding::Kind::lostDecision,
                                  std::string("A decision, ") + name(d.fate) +
                                      ", was made for a member that is not there: the field, its threshold or the "
                                      "smallest member has changed.",
                                  d.at, 0, 0});
    }
}

}  // namespace escultura::stages
