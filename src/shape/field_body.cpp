#include "shape/field_body.hpp"

#include <algorithm>
#include <cmath>

#include "shape/cell_grid.hpp"
#include "shape/local_threshold.hpp"
#include "shape/member_smoothing.hpp"

namespace escultura::shape {
namespace {

// The density's slope in 1/cell below which a distance is no longer read from it (flat middle of a member).
constexpr double gentlestSlope = 0.15;
// Most that slim and thin members are smoothed by, cells.
constexpr double slimSmoothing = 2.3, thinSmoothing = 1.5;

/// Quadratic B-spline weights of the three nearest centres at offset u in [-0.5, 0.5], and their derivatives.
inline void splineWeights(double u, double* w, double* d) {
    w[0] = 0.5 * (0.5 - u) * (0.5 - u);
    w[1] = 0.75 - u * u;
    w[2] = 0.5 * (0.5 + u) * (0.5 + u);
    d[0] = u - 0.5;
    d[1] = -2 * u;
    d[2] = u + 0.5;
}

}  // namespace

SmoothDensity::SmoothDensity(const field::DensityField& field, const std::vector<char>& unknown,
                             const FieldSmoothing& options, Progress& progress)
    : spacing_(field.spacing) {
    progress.step("Smoothing the density");
    CellGrid g{field.cells, field.density};
    if (!unknown.empty()) fillUnknown(g, unknown);
    for (const auto& [point, normal] : options.symmetryPlanes)
        symmetrise(g, field.origin + 0.5 * spacing_, spacing_, point, normal);

    auto smoothed = [&](double length) {
        CellGrid padded = withMargin(g, margin);
        for (int axis = 0; axis < 3; ++axis) {
            progress.check();
            const double sigma = length / 2.354820045 / spacing_[axis];  // full width at half height of a Gaussian
            if (sigma >= 1e-3) convolve(padded, axis, gaussian(sigma));
        }
        return padded;
    };
    CellGrid padded = smoothed(options.length);
    if (options.local) {
        LocalVolume local = *options.local;
        for (const auto& [point, normal] : options.symmetryPlanes) {
            CellGrid target{field.cells, std::move(local.target)}, speaks{field.cells, std::move(local.speaks)};
            symmetrise(target, field.origin + 0.5 * spacing_, spacing_, point, normal);
            symmetrise(speaks, field.origin + 0.5 * spacing_, spacing_, point, normal);
            local.target = std::move(target.v);
            local.speaks = std::move(speaks.v);
        }
        // what smooths faces would wash slim and thin members out
        const ThinPlaces thin = thinPlaces(local, field.cells);
        std::optional<StructureTensor> tensor;
        for (const auto& [most, where] :
             {std::pair(slimSmoothing, &thin.nearSlim), std::pair(thinSmoothing, &thin.nearThin)}) {
            const double narrow = most * spacing_.minCoeff();
            if (options.length <= narrow) continue;
            CellGrid close = smoothed(narrow);
            const CellGrid weight = withMargin(*where, margin);
            if (!tensor) tensor.emplace(close, spacing_);
            smoothAlong(close, weight, *tensor, spacing_, options.length, narrow);
            for (std::size_t c = 0; c < padded.v.size(); ++c) padded.v[c] += weight.v[c] * (close.v[c] - padded.v[c]);
        }
        const CellGrid threshold = localThreshold(padded, field.cells, margin, local, thin, progress);
        for (std::size_t c = 0; c < padded.v.size(); ++c)
            padded.v[c] -= threshold.v[c] - static_cast<float>(local.threshold);
    }
    size_ = padded.n;
    origin_ = field.origin + (0.5 - margin) * spacing_;
    coefficient_ = std::move(padded.v);
}

double SmoothDensity::density(const Vec3& p, Vec3* gradient) const {
    double w[3][3], d[3][3];
    std::array<int, 3> first;
    for (int a = 0; a < 3; ++a) {
        const double x = std::clamp((p[a] - origin_[a]) / spacing_[a], 1.0, size_[a] - 2.0);
        const int nearest = static_cast<int>(x + 0.5);
        const int centre = std::min(nearest, size_[a] - 2);
        splineWeights(x - centre, w[a], d[a]);
        first[a] = centre - 1;
    }
    double value = 0, gx = 0, gy = 0, gz = 0;
    for (int c = 0; c < 3; ++c) {
        for (int b = 0; b < 3; ++b) {
            const float* row =
                &coefficient_[first[0] + static_cast<std::size_t>(size_[0]) *
                                             (first[1] + b + static_cast<std::size_t>(size_[1]) * (first[2] + c))];
            const double line = w[0][0] * row[0] + w[0][1] * row[1] + w[0][2] * row[2];
            value += w[1][b] * w[2][c] * line;
            if (gradient) {
                gx += w[1][b] * w[2][c] * (d[0][0] * row[0] + d[0][1] * row[1] + d[0][2] * row[2]);
                gy += d[1][b] * w[2][c] * line;
                gz += w[1][b] * d[2][c] * line;
            }
        }
    }
    if (gradient) *gradient = Vec3(gx, gy, gz).cwiseQuotient(spacing_);
    return value;
}

Vec3 FieldBody::gradient(const Vec3& p) const {
    Vec3 g;
    density_->density(p, &g);
    return -g / std::hypot(g.norm(), gentlestSlope / density_->spacing().minCoeff());
}

double FieldBody::distance(double density, double slope, double threshold, double cell) {
    return std::clamp((threshold - density) / std::hypot(slope, gentlestSlope / cell), -6 * cell, 6 * cell);
}

double FieldBody::value(const Vec3& p) const {
    Vec3 g;
    const double density = density_->density(p, &g);
    return distance(density, g.norm(), threshold_, density_->spacing().minCoeff());
}

}  // namespace escultura::shape
