/// From the field to the measured surface. Long because it holds two ways of keeping the volume side by side: by one
/// threshold, and locally so that members stay, until the second can be the only one.

#include "stages/surface_stage.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <unordered_map>

#include "base/disjoint_sets.hpp"
#include "base/error.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"
#include "field/topology.hpp"
#include "shape/drafted_body.hpp"
#include "stages/field_stage.hpp"
#include "surface/extract.hpp"
#include "surface/remesh.hpp"

namespace escultura::stages {
namespace {

PartShape solidAt(const Part& part, const FieldResult& field, std::shared_ptr<const shape::SmoothDensity> density,
                  double threshold) {
    return buildShape(part, field.regions, std::make_shared<shape::FieldBody>(std::move(density), threshold));
}

/// The field without the pieces that the recipe drops.
field::DensityField keptField(const FieldResult& field, const Recipe& recipe) {
    field::DensityField out = field.field;
    const field::Pieces pieces = piecesAt(field, recipe.threshold);
    if (pieces.pieces() <= 1) return out;
    std::vector<double> volume(pieces.pieces(), 0);
    for (std::size_t c = 0; c < out.count(); ++c)
        if (pieces.label[c] >= 0 && out.density[c] >= recipe.threshold) volume[pieces.label[c]] += out.cellVolume();
    const auto largest = std::max_element(volume.begin(), volume.end()) - volume.begin();
    for (std::size_t c = 0; c < out.count(); ++c) {
        const int p = pieces.label[c];
        if (p < 0 || p == largest) continue;
        if (recipe.largestPieceOnly || volume[p] < recipe.smallestIsland) out.density[c] = 0;
    }
    return out;
}

/// Cells within two cells of an interface's material or of a void by definition: there the shape follows the part file,
/// not the field.
std::vector<char> shapedCells(const FieldResult& field, const std::vector<shape::RoundBar>& bars) {
    const auto& f = field.field;
    std::vector<char> shaped(field.isVoid);
    for (int axis = 0; axis < 3; ++axis) {  // a box of two cells around each, one axis at a time
        const std::vector<char> old = shaped;
        const std::size_t stride = axis == 0   ? 1
                                   : axis == 1 ? f.cells[0]
                                               : static_cast<std::size_t>(f.cells[0]) * f.cells[1];
        for (std::size_t c = 0; c < old.size(); ++c) {
            const int at = static_cast<int>(c / stride % f.cells[axis]);
            for (int d = -2; d <= 2; ++d)
                if (at + d >= 0 && at + d < f.cells[axis] && old[c + static_cast<std::ptrdiff_t>(stride) * d])
                    shaped[c] = 1;
        }
    }
    parallelFor(shaped.size(), [&](std::size_t c) {
        for (const shape::RoundBar& bar : bars)
            if (bar.distance(f.centre(c)) < 2 * f.spacing.maxCoeff()) shaped[c] = 1;
    });
    return shaped;
}

/// Cells where the field alone says what the body is.
std::vector<char> speakingCells(const Part& part, const FieldResult& field) {
    // the interfaces' material does not depend on the free body
    std::vector<char> speaks = shapedCells(field, buildShape(part, field.regions, nullptr).bars);
    const auto& f = field.field;
    const double cell = f.spacing.maxCoeff();
    parallelFor(speaks.size(), [&](std::size_t c) {
        const Vec3 p = f.centre(c);
        const bool inside = field.regions.designSpace.contains(p) &&
                            (!field.regions.designBody || field.regions.designBody->value(p) < -cell);
        speaks[c] = !speaks[c] && inside;
    });
    return speaks;
}

std::shared_ptr<const shape::SmoothDensity> smoothDensity(const Part& part, const FieldResult& field,
                                                          const field::DensityField& cells, const Recipe& recipe,
                                                          Progress& progress) {
    shape::FieldSmoothing smoothing;
    smoothing.length = recipe.smoothing;
    for (const SymmetryPlane& s : part.symmetry) smoothing.symmetryPlanes.push_back({s.point, s.normal});
    if (!recipe.keepMembers || !(recipe.smoothing > 0))
        return std::make_shared<shape::SmoothDensity>(cells, field.isVoid, smoothing, progress);
    const std::vector<char> speaks = speakingCells(part, field);
    shape::LocalVolume local;
    local.threshold = recipe.threshold;
    local.target = shape::keptShares(cells, recipe.threshold);
    local.speaks.assign(speaks.begin(), speaks.end());
    smoothing.local = std::move(local);
    return std::make_shared<shape::SmoothDensity>(cells, field.isVoid, smoothing, progress);
}

/// What a threshold of the smoothed density encloses beside the cells that are kept, where the field alone says what
/// the body is and no side of the design space trims it.
class KeptWhereItSpeaks {
  public:
    KeptWhereItSpeaks(const Part& part, const FieldResult& field, const field::DensityField& cells, double threshold,
                      std::shared_ptr<const shape::SmoothDensity> density)
        : field_(cells), density_(std::move(density)), spacing_(cells.spacing) {
        const std::vector<char> speaks = speakingCells(part, field);
        const std::vector<float> shares = shape::keptShares(cells, threshold);
        const Box3 inner = field.regions.designSpace.grown(-(brokenEdge + cells.spacing.maxCoeff()));
        for (const bool trimmed : {false, true}) {  // a part that lies along its design space has no other cells
            if (kept_ > 0) break;
            cells_.clear();
            keeps_.clear();
            for (std::size_t c = 0; c < cells.count(); ++c) {
                if (!speaks[c] || (!trimmed && !inner.contains(cells.centre(c)))) continue;
                cells_.push_back(c);
                keeps_.push_back(shares[c]);
                kept_ += keeps_.back();
            }
        }
    }
    /// mm3
    double asked() const { return kept_ * field_.cellVolume(); }
    double excess(double threshold) const {
        const shape::FieldBody body(density_, threshold);
        const double cell = spacing_.maxCoeff(), far = 0.9 * spacing_.norm();
        return field_.cellVolume() * orderedSum(cells_.size(), 0.0, [&](std::size_t n) {
                   const Vec3 p = field_.centre(cells_[n]);
                   const double d = body.value(p);
                   double share = d < 0;
                   if (std::abs(d) < far) {
                       share = 0;
                       for (int s = 0; s < 8; ++s) {
                           const Vec3 q =
                               p + 0.25 * spacing_.cwiseProduct(Vec3(s & 1 ? 1 : -1, s & 2 ? 1 : -1, s & 4 ? 1 : -1));
                           share += std::clamp(0.5 - body.value(q) / (0.5 * cell), 0.0, 1.0) / 8;
                       }
                   }
                   return share - keeps_[n];
               });
    }

  private:
    const field::DensityField& field_;
    std::shared_ptr<const shape::SmoothDensity> density_;
    Vec3 spacing_;
    std::vector<std::size_t> cells_;
    std::vector<float> keeps_;
    double kept_ = 0;
};

/// The threshold at which an excess of volume, which falls with it, is zero: bracketed by growing steps, then by regula
/// falsi. Where it cannot be reached, the end of the range that is nearest.
/// @param excess  of a threshold, mm3
template <class Excess>
double thresholdWithout(const Excess& excess, double start, double firstStep, double tolerance) {
    double low = start, high = start;
    double fl = excess(low), fh = fl;
    if (std::abs(fl) <= tolerance) return start;
    for (double step = firstStep; fl < 0 && low > 0.01; step *= 2) {  // too little: lower the threshold
        high = low;
        fh = fl;
        low = std::max(low - step, 0.01);
        fl = excess(low);
    }
    for (double step = firstStep; fh > 0 && high < 0.99; step *= 2) {
        low = high;
        fl = fh;
        high = std::min(high + step, 0.99);
        fh = excess(high);
    }
    if (fl < 0) return low;
    if (fh > 0) return high;
    for (int i = 0; i < 12; ++i) {
        const double t =
            std::clamp(low + (high - low) * fl / (fl - fh), low + 0.05 * (high - low), high - 0.05 * (high - low));
        const double f = excess(t);
        if (std::abs(f) < tolerance) return t;
        (f > 0 ? low : high) = t;
        (f > 0 ? fl : fh) = f;
    }
    return 0.5 * (low + high);
}

/// The threshold of the smoothed density that encloses as much as the kept cells within 0.02 %.
double solveKeptThreshold(const KeptWhereItSpeaks& kept, double start, Progress& progress) {
    progress.step("Keeping the volume");
    return thresholdWithout(
        [&](double t) {
            progress.check();
            return kept.excess(t);
        },
        start, 0.02, 2e-4 * kept.asked());
}

/// The threshold at which the solid encloses the asked volume within 0.02 % of the sampled volume.
double solveThreshold(const Part& part, const FieldResult& field,
                      const std::shared_ptr<const shape::SmoothDensity>& density, double start, double asked,
                      double fineness, Progress& progress) {
    const double cell = fineness * field.field.spacing.minCoeff();
    return thresholdWithout(
        [&](double t) {
            return surface::sampledVolume(*solidAt(part, field, density, t).solid, cell, progress) - asked;
        },
        start, 0.04, 2e-4 * asked);
}

/// The raw field as a body: trilinear between cell centres, empty beyond the grid.
class RawBody final : public shape::Shape {
  public:
    RawBody(const field::DensityField& f, double threshold) : f_(f), t_(threshold) {}
    shape::Sample evaluate(const Vec3& p) const override { return {surfaceValue(0, p), 0}; }
    int surfaceCount() const override { return 1; }
    double surfaceValue(int, const Vec3& p) const override {
        const Vec3 x = (p - f_.origin).cwiseQuotient(f_.spacing) - Vec3::Constant(0.5);
        double value = 0;
        const int i = static_cast<int>(std::floor(x[0])), j = static_cast<int>(std::floor(x[1])),
                  k = static_cast<int>(std::floor(x[2]));
        const Vec3 t = x - Vec3(i, j, k);
        for (int m = 0; m < 8; ++m) {
            const int a = i + (m & 1), b = j + (m >> 1 & 1), c = k + (m >> 2);
            if (a < 0 || b < 0 || c < 0 || a >= f_.cells[0] || b >= f_.cells[1] || c >= f_.cells[2]) continue;
            value += (m & 1 ? t[0] : 1 - t[0]) * (m & 2 ? t[1] : 1 - t[1]) * (m & 4 ? t[2] : 1 - t[2]) *
                     f_.density[f_.index(a, b, c)];
        }
        return (t_ - value) * f_.spacing.minCoeff();
    }
    Vec3 surfaceGradient(int, const Vec3&) const override { return Vec3::UnitX(); }
    Box3 bounds() const override { return f_.bounds().grown(f_.spacing.maxCoeff()); }

  private:
    const field::DensityField& f_;
    double t_;
};

/// The cell that a point lies in, the nearest one outside the grid.
std::size_t cellAt(const field::DensityField& f, const Vec3& p) {
    const Vec3 x = (p - f.origin).cwiseQuotient(f.spacing);
    std::array<int, 3> c;
    for (int a = 0; a < 3; ++a) c[a] = std::clamp(static_cast<int>(std::floor(x[a])), 0, f.cells[a] - 1);
    return f.index(c[0], c[1], c[2]);
}

/// Mean, root of the mean square and largest of the corners' deviations. @return their sizes
std::vector<float> cornerFigures(const field::DensityField& field, const std::vector<char>& shaped, SurfaceResult& r) {
    const std::size_t n = r.mesh.position.size();
    std::vector<char> isFree(n, 1);
    for (std::size_t v = 0; v < n; ++v) isFree[v] = !shaped[cellAt(field, r.mesh.position[v])];
    for (std::size_t t = 0; t < r.mesh.triangle.size(); ++t)
        if (r.mesh.owner[t] != 0)
            for (auto v : r.mesh.triangle[t]) isFree[v] = 0;
    double sum = 0, squares = 0;
    std::vector<float> size;
    for (std::size_t v = 0; v < n; ++v) {
        if (!isFree[v]) continue;
        const float d = r.deviation[v];
        sum += d;
        squares += static_cast<double>(d) * d;
        size.push_back(std::abs(d));
        if (size.back() > r.deviationMax) {
            r.deviationMax = size.back();
            r.deviationMaxAt = r.mesh.position[v];
        }
    }
    if (size.empty()) return size;
    r.deviationMean = sum / static_cast<double>(size.size());
    r.deviationRms = std::sqrt(squares / static_cast<double>(size.size()));
    return size;
}

/// The same of the triangles. @return sizes at the middles of their edges
std::vector<float> triangleFigures(const field::DensityField& field, const RawBody& raw,
                                   const surface::TriangleTree& tree, const std::vector<char>& shaped,
                                   const Box3& designSpace, SurfaceResult& r) {
    const std::size_t n = r.mesh.position.size();
    // the figures are of the triangles, not of their corners alone: by the middles of their edges
    std::vector<char> isFree(n, 0);
    const Box3 inner = designSpace.grown(-brokenEdge);  // its sides trim the body, whatever the field says there
    for (const bool trimmed : {false, true}) {
        for (std::size_t v = 0; v < n; ++v)
            isFree[v] = !shaped[cellAt(field, r.mesh.position[v])] && (trimmed || inner.contains(r.mesh.position[v]));
        if (std::count(isFree.begin(), isFree.end(), 1) > static_cast<std::ptrdiff_t>(n / 20)) break;
    }
    struct Middle {
        Vec3 at;
        double area, distance;
    };
    std::vector<Middle> middles;
    for (std::size_t t = 0; t < r.mesh.triangle.size(); ++t) {
        const Triangle& v = r.mesh.triangle[t];
        if (r.mesh.owner[t] != 0 || !isFree[v[0]] || !isFree[v[1]] || !isFree[v[2]]) continue;
        const Vec3 &a = r.mesh.position[v[0]], &b = r.mesh.position[v[1]], &c = r.mesh.position[v[2]];
        const double area = (b - a).cross(c - a).norm() / 6;
        for (const Vec3& p : {Vec3(0.5 * (a + b)), Vec3(0.5 * (b + c)), Vec3(0.5 * (c + a))})
            middles.push_back({p, area, 0});
    }
    parallelFor(middles.size(), [&](std::size_t m) {
        const double d = tree.distance(middles[m].at);
        middles[m].distance = raw.evaluate(middles[m].at).value > 0 ? d : -d;
    });
    double area = 0, sum = 0, squares = 0;
    std::vector<float> size;
    for (const Middle& m : middles) {
        area += m.area;
        sum += m.area * m.distance;
        squares += m.area * m.distance * m.distance;
        size.push_back(static_cast<float>(std::abs(m.distance)));
        if (size.back() > r.deviationMax) {
            r.deviationMax = size.back();
            r.deviationMaxAt = m.at;
        }
    }
    if (!(area > 0)) return {};
    r.deviationMean = sum / area;
    r.deviationRms = std::sqrt(squares / area);
    return size;
}

void measureDeviation(const field::DensityField& field, const RawBody& raw, const surface::TriangleTree& tree,
                      const std::vector<char>& shaped, const Box3& designSpace, bool ofTriangles, SurfaceResult& r,
                      Progress& progress) {
    progress.step("Measuring the deviation");
    const std::size_t n = r.mesh.position.size();
    r.deviation.resize(n);
    parallelFor(n, [&](std::size_t v) {
        const double d = tree.distance(r.mesh.position[v]);
        r.deviation[v] = static_cast<float>(raw.evaluate(r.mesh.position[v]).value > 0 ? d : -d);
    });
    std::vector<float> size;
    if (ofTriangles)
        size = triangleFigures(field, raw, tree, shaped, designSpace, r);
    else
        size = cornerFigures(field, shaped, r);
    if (size.empty()) return;
    const auto at = size.begin() + static_cast<std::ptrdiff_t>(0.95 * static_cast<double>(size.size() - 1));
    std::nth_element(size.begin(), at, size.end());
    r.deviation95 = *at;
}

void measureBores(const Part& part, const std::vector<lattice::SurfaceSet>& vertexSurfaces, SurfaceResult& r) {
    for (const NamedFace& f : r.faces) {
        if (f.face != "bore") continue;
        BoreFigure b{f.interface, part.findInterface(f.interface)->boreDiameter, 0, 0};
        double sum = 0;
        int count = 0;
        for (std::size_t v = 0; v < r.mesh.position.size(); ++v) {
            const Vec3 d = r.mesh.position[v] - f.origin;
            const double along = d.dot(f.axis);
            if (!vertexSurfaces[v].has(f.surface) || along < f.low || along > f.high) continue;
            const double diameter = 2 * (d - along * f.axis).norm();
            sum += diameter;
            ++count;
            b.error = std::max(b.error, std::abs(diameter - b.nominal));
        }
        b.measured = count ? sum / count : 0;
        if (!count) b.error = b.nominal;
        r.bores.push_back(b);
    }
}

/// A place where the raw field has a member (or a gap) and the surface has less of it.
struct Loss {
    Vec3 position;
    double before, after;
};

/// Joins losses that lie close together; the worst of each group stands for it.
std::vector<Loss> grouped(std::vector<Loss> losses, double reach) {
    DisjointSets<std::size_t> sets(losses.size());
    for (std::size_t i = 0; i < losses.size(); ++i)
        for (std::size_t j = 0; j < i; ++j)
            if ((losses[i].position - losses[j].position).norm() < reach) sets.join(i, j);
    std::map<std::size_t, std::vector<std::size_t>> members;
    for (std::size_t i = 0; i < losses.size(); ++i) members[sets.find(i)].push_back(i);
    std::vector<Loss> out;
    for (const auto& [root, list] : members) {
        if (list.size() < 3) continue;  // a single sample is noise of the staircase
        const auto worst = *std::min_element(list.begin(), list.end(), [&](auto a, auto b) {
            return losses[a].after / losses[a].before < losses[b].after / losses[b].before;
        });
        out.push_back(losses[worst]);
    }
    return out;
}

/// What the surface should have: the cells where the field alone speaks, elsewhere the solid, which the part file
/// shapes there. @param shaped  [cells] non-zero there
field::Topology meantTopology(const field::DensityField& f, double threshold, const std::vector<char>& shaped,
                              const shape::Shape& solid) {
    // bores may be narrower than two cells
    const int fine = f.count() <= 2000000 ? 2 : 1;
    const std::array<int, 3> n{fine * f.cells[0], fine * f.cells[1], fine * f.cells[2]};
    std::vector<char> body(static_cast<std::size_t>(n[0]) * n[1] * n[2]);
    parallelFor(static_cast<std::size_t>(n[1]) * n[2], [&](std::size_t row) {
        const int j = static_cast<int>(row % n[1]), k = static_cast<int>(row / n[1]);
        for (int i = 0; i < n[0]; ++i) {
            const std::size_t c = f.index(i / fine, j / fine, k / fine);
            const Vec3 p = f.origin + f.spacing.cwiseProduct(Vec3(i + 0.5, j + 0.5, k + 0.5)) / fine;
            body[row * n[0] + i] = shaped[c] ? solid.evaluate(p).value < 0 : f.density[c] >= threshold;
        }
    });
    return field::topologyOf(body, n);
}

constexpr double leastKept = 0.85;  // share of a member's thickness below which it counts as thinned

/// An inscribed ball of the raw field, and how deep the surface's material is there.
struct Ball {
    Vec3 centre = Vec3::Zero();
    double radius = 0, depth = 0;  ///< mm
};

/// Members that kept less than their share, by means over the balls within a cell and a half: between the steps of the
/// cells single ones are now larger, now smaller than the member.
std::vector<Loss> thinnedMembers(const field::DensityField& f, const std::vector<Ball>& members) {
    std::unordered_map<std::size_t, std::vector<const Ball*>> near;
    for (const Ball& b : members) near[cellAt(f, b.centre)].push_back(&b);
    const double reach = 1.5 * f.spacing.maxCoeff();
    std::vector<Loss> losses;
    for (const Ball& member : members) {
        if (member.depth >= leastKept * member.radius) continue;
        double before = 0, after = 0;
        auto add = [&](const Ball* b) {
            if ((b->centre - member.centre).norm() >= reach) return;
            before += b->radius;
            after += std::min(b->depth, b->radius);
        };
        for (int n = 0; n < 27; ++n) {
            const Vec3 step(n % 3 - 1, n / 3 % 3 - 1, n / 9 - 1);
            const auto at = near.find(cellAt(f, member.centre + f.spacing.cwiseProduct(step)));
            if (at != near.end()) std::for_each(at->second.begin(), at->second.end(), add);
        }
        if (after < leastKept * before)
            losses.push_back({member.centre, 2 * member.radius, 2 * member.radius * after / before});
    }
    return losses;
}

/// Compares walls and gaps of the raw iso-surface, measured by inscribed balls, with the surface: by its own triangles
/// where members are kept, else by the solid's distance at the middle of a ball.
/// @return lost or thinned members, closed gaps
std::array<std::vector<Loss>, 2> thinnerPlaces(const FieldResult& field, const Recipe& recipe,
                                               const surface::TriMesh& iso, const surface::TriangleTree& tree,
                                               const surface::TriangleTree& ownTree, const PartShape& solid,
                                               const std::vector<char>& shaped, Progress& progress) {
    progress.step("Looking for lost members");
    const double cell = field.field.spacing.maxCoeff();
    const std::size_t step = std::max<std::size_t>(1, iso.triangle.size() / 12000);
    const std::size_t samples = iso.triangle.size() / step;
    const double most = 4 * cell;                     // only walls and gaps of up to eight cells are at risk
    std::vector<std::array<Ball, 2>> found(samples);  // of members and of gaps; radius 0: none
    // how deep the surface's own material is near a place: the middle of a member may have moved a little
    auto deepest = [&](const Vec3& centre) {
        double deep = 0;
        for (int n = -1; n < 6; ++n) {
            const Vec3 p = n < 0 ? centre : Vec3(centre + (n % 2 ? 0.4 : -0.4) * cell * Vec3::Unit(n / 2));
            if (solid.solid->evaluate(p).value < 0) deep = std::max(deep, ownTree.distance(p));
        }
        return deep;
    };
    parallelFor(samples, [&](std::size_t s) {
        const Triangle& v = iso.triangle[s * step];
        const Vec3 &a = iso.position[v[0]], &b = iso.position[v[1]], &c = iso.position[v[2]];
        const Vec3 across = (b - a).cross(c - a);
        if (!(across.norm() > 1e-12)) return;
        const Vec3 p = (a + b + c) / 3, normal = across.normalized();
        if (shaped[cellAt(field.field, p)]) return;
        for (int side = 0; side < 2; ++side) {
            const auto ball = surface::inscribedBall(tree, p, side ? Vec3(-normal) : normal, most);
            if (!ball || ball->separation < 140 || ball->radius < 0.6 * cell) continue;
            const std::size_t at = cellAt(field.field, ball->centre);
            if (shaped[at] || !field.regions.designSpace.grown(-cell).contains(ball->centre)) continue;
            found[s][side] = {ball->centre, ball->radius,
                              side || !recipe.keepMembers ? (side ? 1 : -1) * solid.solid->evaluate(ball->centre).value
                                                          : deepest(ball->centre)};
        }
    });
    std::array<std::vector<Loss>, 2> losses;
    for (const auto& [member, gap] : found) {
        if (gap.radius > 0 && gap.depth < 0) losses[1].push_back({gap.centre, 2 * gap.radius, 0});
        if (!recipe.keepMembers && member.radius > 0 && member.depth < 0.5 * member.radius)
            losses[0].push_back({member.centre, 2 * member.radius, std::max(0.0, 2 * member.depth)});
    }
    if (!recipe.keepMembers) return losses;
    std::vector<Ball> members;
    for (const auto& pair : found)
        if (pair[0].radius > 0) members.push_back(pair[0]);
    losses[0] = thinnedMembers(field.field, members);
    return losses;
}

/// Findings about members, gaps, interfaces, pieces and handles.
void findLosses(const Part& part, const FieldResult& field, const std::array<std::vector<Loss>, 2>& losses,
                SurfaceResult& r) {
    const double cell = field.field.spacing.maxCoeff();
    auto mm = [](double v) { return formatNumber(v, 3) + " mm"; };
    for (const Loss& l : grouped(losses[0], 2 * cell)) {
        const bool gone = l.after <= 0.05 * l.before;
        r.findings.push_back({gone ? GeometryFinding::Kind::memberLost : GeometryFinding::Kind::memberThinned,
                              gone ? "A member of " + mm(l.before) + " is gone."
                                   : "A member of " + mm(l.before) + " is thinned to about " + mm(l.after) + ".",
                              l.position, l.before, l.after});
    }
    for (const Loss& l : grouped(losses[1], 2 * cell))
        r.findings.push_back({GeometryFinding::Kind::gapClosed, "A gap or hole of " + mm(l.before) + " is closed.",
                              l.position, l.before, 0});
    for (const NamedFace& f : r.faces) {
        double area = 0;
        for (std::size_t t = 0; t < r.mesh.triangle.size(); ++t) {
            if (r.mesh.owner[t] != f.surface) continue;
            const Triangle& v = r.mesh.triangle[t];
            const Vec3 &a = r.mesh.position[v[0]], &b = r.mesh.position[v[1]], &c = r.mesh.position[v[2]];
            if (f.holds((a + b + c) / 3)) area += 0.5 * (b - a).cross(c - a).norm();
        }
        if (area > 0) continue;
        const Interface& i = *part.findInterface(f.interface);
        r.findings.push_back({GeometryFinding::Kind::interfaceLost,
                              "Interface '" + f.interface + "' has no material at its " + f.face + ".",
                              i.origin + 0.5 * i.length * i.axis, 1, 0});
    }
    if (r.measures.pieces != 1)
        r.findings.push_back({GeometryFinding::Kind::pieces,
                              "The surface has " + std::to_string(r.measures.pieces) + " pieces, the raw field " +
                                  std::to_string(r.rawPieces) + ".",
                              r.measures.centroid, static_cast<double>(r.rawPieces),
                              static_cast<double>(r.measures.pieces)});
    if (r.measures.genus != r.rawGenus)
        r.findings.push_back({GeometryFinding::Kind::handles,
                              "The field and its interfaces make " + std::to_string(r.rawGenus) +
                                  " handles, the surface has " + std::to_string(r.measures.genus) + ".",
                              r.measures.centroid, static_cast<double>(r.rawGenus),
                              static_cast<double>(r.measures.genus)});
}

/// Moves the threshold, and the vertices with it, until the surface encloses the asked volume within 0.02 %: the
/// sampled volume is right to about a per cent only.
void keepVolume(const Part& part, const FieldResult& field, const Recipe& recipe,
                const std::shared_ptr<const shape::SmoothDensity>& density,
                const std::vector<lattice::SurfaceSet>& vertexSurfaces, SurfaceResult& r, Progress& progress) {
    double previousThreshold = r.solvedThreshold, previousVolume = r.measures.volume;
    double next = r.solvedThreshold + 0.01 * (previousVolume > r.askedVolume ? 1 : -1);
    for (int i = 0; i < 6 && std::abs(r.measures.volume - r.askedVolume) > 2e-4 * r.askedVolume; ++i) {
        progress.step("Keeping the volume");
        next = std::clamp(next, 0.01, 0.99);
        surface::followShape(*solidAt(part, field, density, next).solid, vertexSurfaces, 0.4 * recipe.surfaceSpacing,
                             r.mesh);
        r.measures = surface::measure(r.mesh);
        r.solvedThreshold = next;
        const double slope = (r.measures.volume - previousVolume) / (next - previousThreshold);
        if (!(slope < 0)) break;
        previousThreshold = next;
        previousVolume = r.measures.volume;
        next += std::clamp((r.askedVolume - r.measures.volume) / slope, -0.05, 0.05);
    }
}

/// A body whose surface is moved outward in regions.
class ThickenedBody final : public shape::FreeBody {
  public:
    ThickenedBody(std::shared_ptr<const shape::FreeBody> body, std::vector<Thickening> regions)
        : body_(std::move(body)), regions_(std::move(regions)) {}
    double value(const Vec3& p) const override {
        double shift = 0;
        for (const Thickening& t : regions_) shift += t.amount * weightAt(t, p);
        if (shift == 0) return body_->value(p);
        // looked up on the old surface, where the distance estimate is exact
        const Vec3 outward = body_->gradient(p);
        const double slope = outward.norm();
        return slope > 1e-9 ? body_->value(p - shift / slope * outward) : body_->value(p) - shift;
    }

  private:
    std::shared_ptr<const shape::FreeBody> body_;
    std::vector<Thickening> regions_;
};

/// Whether the recipe adds material on top of the asked volume.
bool addsMaterial(const Recipe& recipe) {
    return recipe.draft.add || !recipe.thickenings.empty();
}

/// The free body: thickened, and with draft when the recipe adds it.
std::shared_ptr<const shape::FreeBody> freeBody(const FieldResult& field, const Recipe& recipe,
                                                std::shared_ptr<const shape::SmoothDensity> density, double threshold,
                                                Progress& progress) {
    std::shared_ptr<const shape::FreeBody> body = std::make_shared<shape::FieldBody>(std::move(density), threshold);
    if (!recipe.thickenings.empty()) {
        for (std::size_t t = 0; t < recipe.thickenings.size(); ++t)
            requireSound(recipe.thickenings[t], "thickening " + std::to_string(t + 1));
        body = std::make_shared<ThickenedBody>(std::move(body), recipe.thickenings);
    }
    if (!recipe.draft.add) return body;
    const shape::DraftOptions draft{recipe.draft.pull.normalized(), recipe.draft.parting, recipe.draft.angle};
    return std::make_shared<shape::DraftedBody>(*body, field.regions.designSpace, draft,
                                                0.5 * field.field.spacing.minCoeff(), progress);
}

/// The solid that is extracted: with draft when the recipe adds it.
PartShape draftedSolid(const Part& part, const FieldResult& field, const Recipe& recipe,
                       std::shared_ptr<const shape::SmoothDensity> density, double threshold, Progress& progress) {
    return buildShape(part, field.regions, freeBody(field, recipe, std::move(density), threshold, progress));
}

/// Volume between the free triangles of a mesh and the body, positive where the mesh lies inside it, mm3: chords of a
/// curved body do. By the middles of the edges, which is exact for quadratic surfaces.
double chordVolume(const shape::Shape& body, const surface::TriMesh& mesh) {
    return orderedSum(mesh.triangle.size(), 0.0, [&](std::size_t t) {
        if (mesh.owner[t] != 0) return 0.0;
        const Triangle& v = mesh.triangle[t];
        const Vec3 &a = mesh.position[v[0]], &b = mesh.position[v[1]], &c = mesh.position[v[2]];
        const double area = 0.5 * (b - a).cross(c - a).norm();
        return -area / 3 *
               (body.surfaceValue(0, 0.5 * (a + b)) + body.surfaceValue(0, 0.5 * (b + c)) +
                body.surfaceValue(0, 0.5 * (c + a)));
    });
}

/// Moves the free vertices a little off the body so that the triangles enclose its volume within 0.02 %.
void keepBodyVolume(const Part& part, const FieldResult& field, const Recipe& recipe,
                    const std::shared_ptr<const shape::SmoothDensity>& density, const shape::Shape& body,
                    const std::vector<lattice::SurfaceSet>& vertexSurfaces, SurfaceResult& r, Progress& progress) {
    double threshold = r.solvedThreshold, missing = chordVolume(body, r.mesh);
    double next = threshold + 0.005 * (missing < 0 ? 1 : -1);
    for (int i = 0; i < 5 && std::abs(missing) > 2e-4 * r.measures.volume; ++i) {
        progress.step("Keeping the volume");
        next = std::clamp(next, 0.01, 0.99);
        surface::followShape(*draftedSolid(part, field, recipe, density, next, progress).solid, vertexSurfaces,
                             0.4 * recipe.surfaceSpacing, r.mesh);
        const double now = chordVolume(body, r.mesh), slope = (now - missing) / (next - threshold);
        threshold = next;
        missing = now;
        if (!(slope > 0)) break;
        next -= std::clamp(missing / slope, -0.05, 0.05);
    }
    r.measures = surface::measure(r.mesh);
}

/// Lays the triangles out anew as the recipe asks; as extracted they stay.
void layOut(const shape::Shape& body, const Recipe& recipe, surface::TriMesh& mesh,
            std::vector<lattice::SurfaceSet>& vertexSurfaces, Progress& progress) {
    if (recipe.triangles == Triangles::budget) {
        surface::remeshToBudget(body, recipe.triangleBudget, mesh, vertexSurfaces, progress);
    } else if (recipe.triangles == Triangles::even) {
        surface::RemeshOptions o;
        o.edgeLength = recipe.surfaceSpacing;
        o.chordError = 0.04 * recipe.surfaceSpacing;
        surface::remesh(body, o, mesh, vertexSurfaces, progress);
    }
}

/// The surface that keeps the volume of the field locally, and its members. @return the body that it lies on
PartShape buildKeepingMembers(const Part& part, const FieldResult& field, const Recipe& recipe,
                              const field::DensityField& cells,
                              const std::shared_ptr<const shape::SmoothDensity>& density, SurfaceResult& r,
                              std::vector<lattice::SurfaceSet>& vertexSurfaces, Progress& progress) {
    const KeptWhereItSpeaks kept(part, field, cells, recipe.threshold, density);
    r.solvedThreshold = solveKeptThreshold(kept, recipe.threshold, progress);
    const surface::PieceRule pieces{recipe.largestPieceOnly, 0.5 * recipe.smallestIsland};
    PartShape solid = draftedSolid(part, field, recipe, density, r.solvedThreshold, progress);
    r.faces = solid.faces;
    r.mesh = surface::extractSurface(*solid.solid, recipe.surfaceSpacing, true, pieces, progress, &vertexSurfaces);
    layOut(*solid.solid, recipe, r.mesh, vertexSurfaces, progress);
    r.measures = surface::measure(r.mesh);
    if (addsMaterial(recipe)) {  // the samples' error is the same with and without what is added
        const double cell = 0.5 * field.field.spacing.minCoeff();
        r.draftVolume = surface::sampledVolume(*solid.solid, cell, progress) -
                        surface::sampledVolume(*solidAt(part, field, density, r.solvedThreshold).solid, cell, progress);
    }
    keepBodyVolume(part, field, recipe, density, *solid.solid, vertexSurfaces, r, progress);
    r.askedVolume =
        r.measures.volume - r.draftVolume + chordVolume(*solid.solid, r.mesh) - kept.excess(r.solvedThreshold);
    return solid;
}

/// The surface with one threshold for all. @return the body that it lies on
PartShape buildWithOneThreshold(const Part& part, const FieldResult& field, const Recipe& recipe,
                                const std::shared_ptr<const shape::SmoothDensity>& density, SurfaceResult& r,
                                std::vector<lattice::SurfaceSet>& vertexSurfaces, Progress& progress) {
    r.askedVolume = thresholdFigures(part, field, recipe).keptPiecesVolume;
    r.solvedThreshold =
        solveThreshold(part, field, density, recipe.threshold, r.askedVolume, recipe.draft.add ? 0.5 : 1.0, progress);
    const surface::PieceRule pieces{recipe.largestPieceOnly, 0.5 * recipe.smallestIsland};
    if (!recipe.thickenings.empty() && !recipe.draft.add) {  // what is not thickened stays as it is without it
        SurfaceResult plain = r;
        plain.mesh = surface::extractSurface(*solidAt(part, field, density, r.solvedThreshold).solid,
                                             recipe.surfaceSpacing, true, pieces, progress, &vertexSurfaces);
        plain.measures = surface::measure(plain.mesh);
        keepVolume(part, field, recipe, density, vertexSurfaces, plain, progress);
        r.solvedThreshold = plain.solvedThreshold;
        vertexSurfaces.clear();
    }
    const PartShape solid = draftedSolid(part, field, recipe, density, r.solvedThreshold, progress);
    r.faces = solid.faces;
    r.mesh = surface::extractSurface(*solid.solid, recipe.surfaceSpacing, true, pieces, progress, &vertexSurfaces);
    r.measures = surface::measure(r.mesh);
    if (!addsMaterial(recipe)) keepVolume(part, field, recipe, density, vertexSurfaces, r, progress);
    const PartShape final = addsMaterial(recipe) ? solid : solidAt(part, field, density, r.solvedThreshold);
    if (recipe.triangles != Triangles::asExtracted) {
        layOut(*final.solid, recipe, r.mesh, vertexSurfaces, progress);
        r.measures = surface::measure(r.mesh);
        if (!addsMaterial(recipe)) keepVolume(part, field, recipe, density, vertexSurfaces, r, progress);
    }
    r.draftVolume = addsMaterial(recipe) ? r.measures.volume - r.askedVolume : 0;
    return final;
}

}  // namespace

const char* name(GeometryFinding::Kind kind) {
    static const char* names[] = {"member lost", "member thinned", "gap closed", "interface lost", "pieces", "handles"};
    return names[static_cast<int>(kind)];
}

PartShape surfaceShape(const Part& part, const FieldResult& field, const Recipe& recipe, double threshold,
                       Progress& progress) {
    return draftedSolid(part, field, recipe, smoothDensity(part, field, keptField(field, recipe), recipe, progress),
                        threshold, progress);
}

PartShape coverShape(const Part& part, const FieldResult& field, const Recipe& recipe, double threshold, double margin,
                     Progress& progress) {
    const auto density = smoothDensity(part, field, keptField(field, recipe), recipe, progress);
    return buildCover(part, field.regions, freeBody(field, recipe, density, threshold, progress), margin);
}

surface::TriMesh rawSurface(const FieldResult& field, double threshold, Progress& progress) {
    return surface::extractSurface(RawBody(field.field, threshold), field.field.spacing.minCoeff(), false, progress);
}

surface::TriMesh designSpaceSurface(const Part& part, const Regions& regions, double spacing, Progress& progress) {
    return surface::extractSurface(*buildShape(part, regions, nullptr).solid, spacing, true, progress);
}

namespace {

/// A surface with what its measures need.
struct BuiltSurface {
    SurfaceResult r;
    PartShape body;
    std::vector<lattice::SurfaceSet> vertexSurfaces;
    std::vector<char> shaped;  ///< [cells]
};

BuiltSurface build(const Part& part, const FieldResult& field, const Recipe& recipe, const field::DensityField& cells,
                   const std::shared_ptr<const shape::SmoothDensity>& density, Progress& progress) {
    BuiltSurface b;
    b.body = recipe.keepMembers
                 ? buildKeepingMembers(part, field, recipe, cells, density, b.r, b.vertexSurfaces, progress)
                 : buildWithOneThreshold(part, field, recipe, density, b.r, b.vertexSurfaces, progress);
    b.shaped = shapedCells(field, b.body.bars);
    const field::Topology meant = meantTopology(cells, recipe.threshold, b.shaped, *b.body.solid);
    // where cells touch in an edge only, both counts are as good
    b.r.rawGenus = std::clamp(b.r.measures.genus, meant.leastHandles, meant.mostHandles);
    return b;
}

SurfaceResult surfaceInFrame(const Part& part, const FieldResult& field, const Recipe& recipe, Progress& progress) {
    const field::DensityField cells = keptField(field, recipe);
    const auto density = smoothDensity(part, field, cells, recipe, progress);
    BuiltSurface built = build(part, field, recipe, cells, density, progress);
    if (const double fine = 0.48 * cells.spacing.minCoeff();
        recipe.keepMembers && recipe.surfaceSpacing > fine && built.r.rawGenus != built.r.measures.genus) {
        // a lattice about as coarse as the cells leaves pinholes in webs, or closes small holes
        progress.step("Extracting again with shorter edges: handles are missing or too many");
        Recipe finer = recipe;
        finer.surfaceSpacing = fine;
        BuiltSurface better = build(part, field, finer, cells, density, progress);
        if (better.r.rawGenus == better.r.measures.genus) {
            built = std::move(better);
            built.r.finerSpacing = fine;
        }
    }
    SurfaceResult& r = built.r;
    const PartShape& final = built.body;
    const std::vector<char>& shaped = built.shaped;
    r.mass = r.measures.volume * part.material.density;
    measureBores(part, built.vertexSurfaces, r);

    const RawBody raw(cells, recipe.threshold);
    const surface::TriMesh iso =
        surface::extractSurface(raw, cells.spacing.minCoeff(), false, {false, 0}, progress, nullptr);
    r.rawPieces = thresholdFigures(part, field, recipe).keptPieces;
    const surface::TriangleTree rawTree(iso), ownTree(r.mesh);
    measureDeviation(cells, raw, rawTree, shaped, field.regions.designSpace, recipe.keepMembers, r, progress);
    r.thickness = surface::wallThickness(r.mesh, ownTree, progress);
    findLosses(part, field, thinnerPlaces(field, recipe, iso, rawTree, ownTree, final, shaped, progress), r);
    return std::move(built.r);
}

}  // namespace

SurfaceResult evaluateSurface(const Part& part, const FieldResult& field, const Recipe& recipe, Progress& progress) {
    const OwnFrame& frame = field.frame;
    SurfaceResult r = surfaceInFrame(into(frame, part), *field.own, into(frame, recipe), progress);
    r.mesh = outOf(frame, std::move(r.mesh));
    r.faces = outOf(part, r.faces);
    for (Vec3* p : {&r.measures.centroid, &r.deviationMaxAt, &r.thickness.leastAt}) *p = frame.outOf(*p);
    for (GeometryFinding& f : r.findings) f.position = frame.outOf(f.position);
    const Mat3 own = r.measures.inertia;
    for (int i = 0; i < 3; ++i)
        for (int k = 0; k < 3; ++k)
            r.measures.inertia(frame.axis[i], frame.axis[k]) = frame.sense[i] * frame.sense[k] * own(i, k);
    return r;
}

ProcessResult evaluateProcess(const SurfaceResult& surface, const Recipe& recipe, Progress& progress) {
    ProcessResult r;
    const surface::TriangleTree tree(surface.mesh);
    r.draft = surface::draftFigures(surface.mesh, tree, recipe.draft.pull.normalized(), recipe.draft.parting,
                                    recipe.draft.angle, progress);
    r.overhang =
        surface::overhangFigures(surface.mesh, tree, recipe.printing.up.normalized(), recipe.printing.overhang);
    r.directions = surface::sweepBuildDirections(surface.mesh, tree, recipe.printing.overhang, progress);
    return r;
}

}  // namespace escultura::stages
