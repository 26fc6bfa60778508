#include "shape/member_smoothing.hpp"

#include <Eigen/Eigenvalues>
#include <algorithm>
#include <cmath>

#include "base/parallel.hpp"
#include "shape/raw_body.hpp"

namespace escultura::shape {
namespace {

constexpr double aroundSigma = 2.0;  // cells over which directions are averaged
constexpr double sampleStep = 0.75;  // cells between samples along a line
constexpr double reach = 2.5;        // sigmas that a line goes each way
constexpr double alike = 0.03;       // share of the largest squared change at which a direction is mostly across
constexpr int pairs[6][2] = {{0, 0}, {1, 1}, {2, 2}, {0, 1}, {1, 2}, {0, 2}};

/// By cubic convolution; beyond the grid the border is continued. @param x  in cells from the first middle
double valueAt(const CellGrid& g, const Vec3& x) {
    return cubicBetween(x, [&](const std::array<double, 4>& w, int first, int j, int k) {
        const std::size_t row = g.at(0, std::clamp(j, 0, g.n[1] - 1), std::clamp(k, 0, g.n[2] - 1));
        double line = 0;
        for (int i = 0; i < 4; ++i)
            line += w[static_cast<std::size_t>(i)] *
                    g.v[row + static_cast<std::size_t>(std::clamp(first + i, 0, g.n[0] - 1))];
        return line;
    });
}

}  // namespace

StructureTensor::StructureTensor(const CellGrid& density, const Vec3& spacing) {
    for (CellGrid& p : product_) p = {density.n, std::vector<float>(density.v.size())};
    parallelFor(static_cast<std::size_t>(density.n[2]), [&](std::size_t slab) {
        const int k = static_cast<int>(slab);
        for (int j = 0; j < density.n[1]; ++j)
            for (int i = 0; i < density.n[0]; ++i) {
                const std::array<int, 3> c{i, j, k};
                Vec3 g;
                for (int a = 0; a < 3; ++a) {
                    auto low = c, high = c;
                    low[a] = std::max(low[a] - 1, 0);
                    high[a] = std::min(high[a] + 1, density.n[a] - 1);
                    g[a] = (density.v[density.at(high[0], high[1], high[2])] -
                            density.v[density.at(low[0], low[1], low[2])]) /
                           (std::max(high[a] - low[a], 1) * spacing[a]);
                }
                const std::size_t at = density.at(i, j, k);
                for (int p = 0; p < 6; ++p) product_[p].v[at] = static_cast<float>(g[pairs[p][0]] * g[pairs[p][1]]);
            }
    });
    const std::vector<double> kernel = gaussian(aroundSigma);
    for (CellGrid& p : product_)
        for (int axis = 0; axis < 3; ++axis) convolve(p, axis, kernel);
}

StructureTensor::Directions StructureTensor::at(std::size_t cell) const {
    Mat3 t;
    for (int p = 0; p < 6; ++p) t(pairs[p][0], pairs[p][1]) = t(pairs[p][1], pairs[p][0]) = product_[p].v[cell];
    const Eigen::SelfAdjointEigenSolver<Mat3> eigen(t);  // ascending
    const Vec3 change = eigen.eigenvalues();
    Directions d;
    for (int k = 0; k < 2; ++k) {
        const double ratio = change[2] > 1e-12 ? std::max(change[1 - k], 0.0) / change[2] : 1;
        d.along[k] = eigen.eigenvectors().col(1 - k);
        d.share[k] = std::exp(-(ratio / alike) * (ratio / alike));
    }
    return d;
}

void smoothAlong(CellGrid& density, const CellGrid& where, const StructureTensor& tensor, const Vec3& spacing,
                 double width, double already) {
    const double more = width * width - already * already, cell = spacing.minCoeff();
    if (!(more > 0)) return;
    const double sigma = std::sqrt(more) / 2.354820045;
    for (int k = 0; k < 2; ++k) {  // one line after the other
        const CellGrid old = density;
        parallelFor(static_cast<std::size_t>(density.n[1]) * density.n[2], [&](std::size_t row) {
            const int y = static_cast<int>(row % density.n[1]), z = static_cast<int>(row / density.n[1]);
            for (int x = 0; x < density.n[0]; ++x) {
                const std::size_t c = density.at(x, y, z);
                if (!(where.v[c] > 0)) continue;
                const StructureTensor::Directions d = tensor.at(c);
                const double own = sigma * std::sqrt(d.share[k]);
                if (own < 0.2 * cell) continue;
                const Vec3 step = (sampleStep * cell * d.along[k]).cwiseQuotient(spacing);
                double sum = old.v[c], weights = 1;
                const int last = static_cast<int>(std::ceil(reach * own / (sampleStep * cell)));
                for (int s = 1; s <= last; ++s) {
                    const double w = std::exp(-0.5 * std::pow(s * sampleStep * cell / own, 2));
                    for (const double side : {-1.0, 1.0}) sum += w * valueAt(old, Vec3(x, y, z) + side * s * step);
                    weights += 2 * w;
                }
                density.v[c] = static_cast<float>(sum / weights);
            }
        });
    }
}

}  // namespace escultura::shape
