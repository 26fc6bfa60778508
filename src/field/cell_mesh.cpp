#include "field/cell_mesh.hpp"

#include <algorithm>
#include <cmath>

#include "base/error.hpp"
#include "base/quantity.hpp"

namespace escultura::field {
namespace {

using Tetra = std::array<Vec3, 4>;

/// Faces by corners, and the corner pairs of the mid-side nodes in file order.
struct Topology {
    int corners;
    std::vector<std::vector<int>> faces;
    std::vector<std::array<int, 2>> edges;
};

const Topology& topology(CellShape shape) {
    static const Topology all[4] = {
        {4, {{0, 1, 3}, {1, 2, 3}, {2, 0, 3}, {0, 2, 1}}, {{0, 1}, {1, 2}, {2, 0}, {0, 3}, {1, 3}, {2, 3}}},
        {8,
         {{0, 4, 7, 3}, {1, 2, 6, 5}, {0, 1, 5, 4}, {3, 7, 6, 2}, {0, 3, 2, 1}, {4, 5, 6, 7}},
         {{0, 1}, {1, 2}, {2, 3}, {3, 0}, {4, 5}, {5, 6}, {6, 7}, {7, 4}, {0, 4}, {1, 5}, {2, 6}, {3, 7}}},
        {6,
         {{0, 1, 2}, {3, 5, 4}, {0, 3, 4, 1}, {1, 4, 5, 2}, {2, 5, 3, 0}},
         {{0, 1}, {1, 2}, {2, 0}, {3, 4}, {4, 5}, {5, 3}, {0, 3}, {1, 4}, {2, 5}}},
        {5,
         {{0, 3, 2, 1}, {0, 1, 4}, {1, 2, 4}, {2, 3, 4}, {3, 0, 4}},
         {{0, 1}, {1, 2}, {2, 3}, {3, 0}, {0, 4}, {1, 4}, {2, 4}, {3, 4}}},
    };
    return all[static_cast<int>(shape)];
}

/// Cuts an element into tetrahedra: linear tetrahedra stay whole, everything else becomes fans from the middle over the
/// middles of its faces, which walk along the mid-side nodes.
template <class Visit>
void forTetrahedra(const CellMesh& m, std::size_t e, const Visit& visit) {
    const Topology& t = topology(m.shape[e]);
    const std::int32_t* node = &m.node[m.first[e]];
    const auto nodes = static_cast<int>(m.first[e + 1] - m.first[e]);
    if (nodes == 4) {
        visit(Tetra{m.position[node[0]], m.position[node[1]], m.position[node[2]], m.position[node[3]]});
        return;
    }
    const bool quadratic = nodes >= t.corners + static_cast<int>(t.edges.size());
    Vec3 middle = Vec3::Zero();
    for (int k = 0; k < t.corners; ++k) middle += m.position[node[k]] / t.corners;
    std::vector<Vec3> rim;
    for (const auto& face : t.faces) {
        rim.clear();
        Vec3 centre = Vec3::Zero();
        for (std::size_t k = 0; k < face.size(); ++k) {
            const int a = face[k], b = face[(k + 1) % face.size()];
            rim.push_back(m.position[node[a]]);
            if (!quadratic) continue;
            for (std::size_t edge = 0; edge < t.edges.size(); ++edge)
                if ((t.edges[edge][0] == a && t.edges[edge][1] == b) ||
                    (t.edges[edge][0] == b && t.edges[edge][1] == a))
                    rim.push_back(m.position[node[t.corners + edge]]);
        }
        for (const Vec3& p : rim) centre += p / static_cast<double>(rim.size());
        for (std::size_t k = 0; k < rim.size(); ++k) visit(Tetra{middle, centre, rim[k], rim[(k + 1) % rim.size()]});
    }
}

double volume(const Tetra& t) {
    return std::abs(tetVolume(t[0], t[1], t[2], t[3]));
}

/// Splits a tetrahedron by the plane x[axis] = at and passes on the tetrahedra of each side.
template <class Visit>
void split(const Tetra& t, int axis, double at, const Visit& visit) {
    int low[4], high[4], nl = 0, nh = 0;
    for (int k = 0; k < 4; ++k) (t[k][axis] < at ? low[nl++] : high[nh++]) = k;
    if (nl == 0 || nh == 0) {
        visit(t, nl > 0);
        return;
    }
    auto cut = [&](int a, int b) {
        const double s = (at - t[a][axis]) / (t[b][axis] - t[a][axis]);
        Vec3 p = t[a] + s * (t[b] - t[a]);
        p[axis] = at;
        return p;
    };
    auto prism = [&](const Vec3& a0, const Vec3& a1, const Vec3& a2, const Vec3& b0, const Vec3& b1, const Vec3& b2,
                     bool below) {
        visit(Tetra{a0, a1, a2, b0}, below);
        visit(Tetra{a1, a2, b0, b1}, below);
        visit(Tetra{a2, b0, b1, b2}, below);
    };
    if (nl == 1 || nh == 1) {
        const bool aloneBelow = nl == 1;
        const int one = aloneBelow ? low[0] : high[0];
        const int* rest = aloneBelow ? high : low;
        const Vec3 c0 = cut(one, rest[0]), c1 = cut(one, rest[1]), c2 = cut(one, rest[2]);
        visit(Tetra{t[one], c0, c1, c2}, aloneBelow);
        prism(t[rest[0]], t[rest[1]], t[rest[2]], c0, c1, c2, !aloneBelow);
        return;
    }
    const Vec3 c00 = cut(low[0], high[0]), c01 = cut(low[0], high[1]), c10 = cut(low[1], high[0]),
               c11 = cut(low[1], high[1]);
    prism(t[low[0]], c00, c01, t[low[1]], c10, c11, true);
    prism(t[high[0]], c00, c10, t[high[1]], c01, c11, false);
}

/// Adds the volume of a tetrahedron (in cell units, times a weight) to the grid's cells, cutting it until each piece
/// lies in one.
void addVolume(const DensityField& f, std::vector<double>& sum, const Tetra& t, double weight) {
    for (int a = 0; a < 3; ++a) {
        const auto [low, high] = std::minmax({t[0][a], t[1][a], t[2][a], t[3][a]});
        const double first = std::floor(low + 1e-9), last = std::ceil(high - 1e-9);
        if (last - first <= 1) continue;
        split(t, a, first + std::floor((last - first) / 2),
              [&](const Tetra& piece, bool) { addVolume(f, sum, piece, weight); });
        return;
    }
    const Vec3 c = 0.25 * (t[0] + t[1] + t[2] + t[3]);
    std::array<int, 3> i;
    for (int a = 0; a < 3; ++a) i[a] = std::clamp(static_cast<int>(std::floor(c[a])), 0, f.cells[a] - 1);
    sum[f.index(i[0], i[1], i[2])] += weight * volume(t);
}

/// An empty grid from the low corner of a box over the box and, in whole cells, over `cover`.
DensityField gridOver(const Box3& box, const Vec3& cell, const std::optional<Box3>& cover) {
    DensityField f;
    f.spacing = cell;
    double cells = 1;
    for (int a = 0; a < 3; ++a) {
        double before = 0, after = std::max(1.0, std::ceil(box.size()[a] / cell[a] - 1e-6));
        if (cover && cover->low[a] < cover->high[a]) {
            before = std::max(0.0, std::ceil((box.low[a] - cover->low[a]) / cell[a] - 1e-6));
            after = std::max(after, std::ceil((cover->high[a] - box.low[a]) / cell[a] - 1e-6));
        }
        cells *= before + after;
        if (cells > 2e8)
            throw InputError(ErrorDetail{"The grid would be too fine.",
                                         {},
                                         "cell size",
                                         "cells that keep the grid below 200 million cells",
                                         formatNumber(cell[a]) + " mm"});
        f.cells[a] = static_cast<int>(before + after);
        f.origin[a] = box.low[a] - before * cell[a];
    }
    f.density.assign(static_cast<std::size_t>(cells), 0.0f);
    return f;
}

}  // namespace

int cornerCount(CellShape shape) {
    return topology(shape).corners;
}

double volumeOf(const CellMesh& mesh, std::size_t element) {
    double sum = 0;
    forTetrahedra(mesh, element, [&](const Tetra& t) { sum += volume(t); });
    return sum;
}

Vec3 typicalCell(const CellMesh& mesh) {
    Vec3 sum = Vec3::Zero();
    for (std::size_t e = 0; e < mesh.count(); ++e) {
        Box3 box;
        for (auto n = mesh.first[e]; n < mesh.first[e + 1]; ++n) box.include(mesh.position[mesh.node[n]]);
        sum += box.size();
    }
    return sum / static_cast<double>(std::max<std::size_t>(mesh.count(), 1));
}

DensityField rasterise(const CellMesh& mesh, std::span<const float> density, const Vec3& cell,
                       const std::optional<Box3>& cover, Progress& progress) {
    Box3 box;
    for (auto n : mesh.node) box.include(mesh.position[n]);
    DensityField f = gridOver(box, cell, cover);
    std::vector<double> sum(f.count(), 0.0);
    for (std::size_t e = 0; e < mesh.count(); ++e) {
        if ((e & 4095) == 0)
            progress.step("Resampling the mesh", static_cast<double>(e) / static_cast<double>(mesh.count()));
        if (density[e] == 0) continue;
        auto add = [&](Tetra t) {
            for (Vec3& p : t) p = (p - f.origin).cwiseQuotient(cell);
            addVolume(f, sum, t, density[e]);
        };
        forTetrahedra(mesh, e, add);
    }
    for (std::size_t c = 0; c < sum.size(); ++c) {
        // rounding only: elements that overlap are told apart by validate()
        f.density[c] = static_cast<float>(sum[c] > 1 && sum[c] < 1 + 1e-5 ? 1.0 : sum[c]);
    }
    return f;
}

namespace {

/// Spacing and origin of the lattice that coordinates lie on along one axis; spacing 0 when they do not.
std::array<double, 2> latticeOf(std::vector<double> x) {
    std::sort(x.begin(), x.end());
    const double range = x.back() - x.front();
    std::vector<double> steps, levels{x.front()};
    for (double v : x)
        if (v - levels.back() > 1e-5 * range) {
            steps.push_back(v - levels.back());
            levels.push_back(v);
        }
    if (steps.empty() || levels.size() > 5000) return {0, x.front()};
    const double least = *std::min_element(steps.begin(), steps.end());
    const double count = std::round(range / least);
    const double spacing = range / count;
    for (double v : levels) {
        const double at = (v - x.front()) / spacing;
        if (std::abs(at - std::round(at)) > 0.01) return {0, x.front()};
    }
    return {spacing, x.front()};
}

struct PointCells {
    DensityField grid;
    std::vector<std::vector<std::int32_t>> in;
};

PointCells bin(std::span<const Vec3> points, const Box3& box, double size, const std::optional<Box3>& cover) {
    PointCells b{gridOver(box, Vec3::Constant(size), cover), {}};
    b.in.resize(b.grid.count());
    for (std::size_t p = 0; p < points.size(); ++p) {
        std::array<int, 3> i;
        for (int a = 0; a < 3; ++a)
            i[a] = std::clamp(static_cast<int>((points[p][a] - b.grid.origin[a]) / size), 0, b.grid.cells[a] - 1);
        b.in[b.grid.index(i[0], i[1], i[2])].push_back(static_cast<std::int32_t>(p));
    }
    return b;
}

template <class Visit>
void forNear(const PointCells& b, const Vec3& p, const Visit& visit) {
    std::array<int, 3> c;
    for (int a = 0; a < 3; ++a) c[a] = static_cast<int>(std::floor((p[a] - b.grid.origin[a]) / b.grid.spacing[a]));
    for (int k = std::max(c[2] - 1, 0); k <= std::min(c[2] + 1, b.grid.cells[2] - 1); ++k)
        for (int j = std::max(c[1] - 1, 0); j <= std::min(c[1] + 1, b.grid.cells[1] - 1); ++j)
            for (int i = std::max(c[0] - 1, 0); i <= std::min(c[0] + 1, b.grid.cells[0] - 1); ++i)
                for (auto q : b.in[b.grid.index(i, j, k)]) visit(q);
}

double medianNeighbourDistance(std::span<const Vec3> points, const Box3& box) {
    const double guess = 1.5 * std::cbrt(std::max(box.size().prod(), 1e-30) / static_cast<double>(points.size()));
    const PointCells b = bin(points, box, std::max(guess, box.size().maxCoeff() / 400), {});
    std::vector<double> nearest;
    const std::size_t step = std::max<std::size_t>(1, points.size() / 5000);
    for (std::size_t p = 0; p < points.size(); p += step) {
        double best = 1e300;
        forNear(b, points[p], [&](std::int32_t q) {
            if (static_cast<std::size_t>(q) != p) best = std::min(best, (points[q] - points[p]).norm());
        });
        if (best < 1e300) nearest.push_back(best);
    }
    if (nearest.empty()) return guess;
    std::nth_element(nearest.begin(), nearest.begin() + nearest.size() / 2, nearest.end());
    return nearest[nearest.size() / 2];
}

}  // namespace

DensityField gridOfPoints(std::span<const Vec3> points, std::span<const float> density,
                          const std::optional<double>& cell, const std::optional<Box3>& cover, Progress& progress) {
    auto refuse = [](const std::string& expected, const std::string& found) {
        throw InputError(ErrorDetail{"The points are no density field.", {}, "points", expected, found});
    };
    if (points.size() < 8) refuse("at least 8 points", std::to_string(points.size()));
    Box3 box;
    for (const Vec3& p : points) box.include(p);
    if (!(box.size().minCoeff() > 1e-9 * box.size().maxCoeff()))
        refuse("points that differ in x, y and z", "a flat cloud, " + formatNumber(box.size()[0]) + " x " +
                                                       formatNumber(box.size()[1]) + " x " +
                                                       formatNumber(box.size()[2]) + " mm");
    progress.step("Sorting the points into cells");
    std::array<double, 3> spacing;
    for (int a = 0; a < 3; ++a) {
        std::vector<double> x;
        x.reserve(points.size());
        for (const Vec3& p : points) x.push_back(p[a]);
        spacing[a] = latticeOf(std::move(x))[0];
    }
    if (!cell && spacing[0] > 0 && spacing[1] > 0 && spacing[2] > 0) {
        const Vec3 size(spacing[0], spacing[1], spacing[2]);
        DensityField f = gridOver({box.low - 0.5 * size, box.high + 0.5 * size}, size, cover);
        std::vector<char> taken(f.count(), 0);
        for (std::size_t p = 0; p < points.size(); ++p) {
            std::array<int, 3> i;
            for (int a = 0; a < 3; ++a)
                i[a] = std::clamp(static_cast<int>((points[p][a] - f.origin[a]) / size[a]), 0, f.cells[a] - 1);
            const std::size_t c = f.index(i[0], i[1], i[2]);
            if (taken[c])
                refuse("one point a cell", "two points near (" + formatNumber(points[p][0]) + ", " +
                                               formatNumber(points[p][1]) + ", " + formatNumber(points[p][2]) + ") mm");
            taken[c] = 1;
            f.density[c] = density[p];
        }
        return f;
    }
    const double size = cell ? *cell : medianNeighbourDistance(points, box);
    if (!(size > 0)) refuse("points apart from each other", "most points in the same place");
    const PointCells b = bin(points, box.grown(0.5 * size), size, cover);
    DensityField f = b.grid;
    for (std::size_t c = 0; c < f.count(); ++c) {
        if ((c & 65535) == 0)
            progress.step("Averaging the points", static_cast<double>(c) / static_cast<double>(f.count()));
        double sum = 0;
        if (!b.in[c].empty()) {
            for (auto p : b.in[c]) sum += density[p];
            f.density[c] = static_cast<float>(sum / static_cast<double>(b.in[c].size()));
            continue;
        }
        double weight = 0;
        const Vec3 at = f.centre(c);
        forNear(b, at, [&](std::int32_t p) {
            const double d = (points[p] - at).norm();
            if (d > 1.5 * size) return;
            sum += density[p] / d;
            weight += 1 / d;
        });
        if (weight > 0) f.density[c] = static_cast<float>(sum / weight);
    }
    return f;
}

}  // namespace escultura::field
