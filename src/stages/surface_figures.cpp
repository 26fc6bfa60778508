#include "stages/surface_figures.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <unordered_map>

#include "base/disjoint_sets.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"
#include "stages/field_stage.hpp"

namespace escultura::stages {

namespace {

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
std::vector<float> triangleFigures(const field::DensityField& field, const shape::RawBody& raw,
                                   const surface::TriangleTree& tree, const std::vector<char>& shaped,
                                   const Box3& inner, SurfaceResult& r) {
    const std::size_t n = r.mesh.position.size();
    // the figures are of the triangles, not of their corners alone: by the middles of their edges
    std::vector<char> isFree(n, 0);
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

}  // namespace

void measureDeviation(const field::DensityField& field, const shape::RawBody& raw, const surface::TriangleTree& tree,
                      const std::vector<char>& shaped, const Box3& inner, bool ofTriangles, SurfaceResult& r,
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
        size = triangleFigures(field, raw, tree, shaped, inner, r);
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

namespace {

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

}  // namespace

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

namespace {

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

}  // namespace

std::array<std::vector<Loss>, 2> thinnerPlaces(const FieldResult& field, const Recipe& recipe, const IsoSurface& raw,
                                               const surface::TriangleTree& ownTree, const PartShape& solid,
                                               const std::vector<char>& shaped, Progress& progress) {
    progress.step("Looking for lost members");
    const double cell = field.field.spacing.maxCoeff();
    const surface::TriMesh& iso = raw.mesh;
    const std::size_t step = std::max<std::size_t>(1, iso.triangle.size() / 12000);
    const std::size_t samples = iso.triangle.size() / step;
    const double most = 4 * cell;                     // only walls and gaps of up to eight cells are at risk
    std::vector<std::array<Ball, 2>> found(samples);  // of members and of gaps; radius 0: none
    parallelFor(samples, [&](std::size_t s) {
        const Triangle& v = iso.triangle[s * step];
        const Vec3 &a = iso.position[v[0]], &b = iso.position[v[1]], &c = iso.position[v[2]];
        const Vec3 across = (b - a).cross(c - a);
        if (!(across.norm() > 1e-12)) return;
        const Vec3 p = (a + b + c) / 3, normal = across.normalized();
        if (shaped[cellAt(field.field, p)]) return;
        for (int side = 0; side < 2; ++side) {
            const auto ball = surface::inscribedBall(raw.tree, p, side ? Vec3(-normal) : normal, most);
            if (!ball || ball->separation < surface::wallSeparation || ball->radius < 0.5 * cell) continue;
            const std::size_t at = cellAt(field.field, ball->centre);
            if (shaped[at] || !field.regions.designSpace.grown(-cell).contains(ball->centre)) continue;
            found[s][side] = {ball->centre, ball->radius,
                              side || !recipe.keepMembers ? (side ? 1 : -1) * solid.solid->evaluate(ball->centre).value
                                                          : deepestNear(*solid.solid, ownTree, ball->centre, cell)};
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
            if (f.lines.empty() && r.mesh.owner[t] != f.surface) continue;
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

}  // namespace escultura::stages
