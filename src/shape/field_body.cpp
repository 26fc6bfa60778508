#include "shape/field_body.hpp"

#include <cmath>

#include "base/parallel.hpp"

namespace escultura::shape {
namespace {

// The density's slope in 1/cell below which a distance is no longer read from it (flat middle of a member).
constexpr double gentlestSlope = 0.15;

struct Grid {
    std::array<int, 3> n;
    std::vector<float> v;
    std::size_t at(int i, int j, int k) const {
        return i + static_cast<std::size_t>(n[0]) * (j + static_cast<std::size_t>(n[1]) * k);
    }
};

/// Fills unknown cells layer by layer with the mean of their known neighbours (26 of them).
void fillUnknown(Grid& g, std::vector<char> unknown) {
    for (int layer = 0; layer < 12; ++layer) {
        std::vector<std::pair<std::size_t, float>> found;
        for (int k = 0; k < g.n[2]; ++k)
            for (int j = 0; j < g.n[1]; ++j)
                for (int i = 0; i < g.n[0]; ++i) {
                    if (!unknown[g.at(i, j, k)]) continue;
                    double sum = 0, weight = 0;
                    for (int c = std::max(k - 1, 0); c <= std::min(k + 1, g.n[2] - 1); ++c)
                        for (int b = std::max(j - 1, 0); b <= std::min(j + 1, g.n[1] - 1); ++b)
                            for (int a = std::max(i - 1, 0); a <= std::min(i + 1, g.n[0] - 1); ++a) {
                                if (unknown[g.at(a, b, c)]) continue;
                                const double w = 1.0 / (std::abs(a - i) + std::abs(b - j) + std::abs(c - k));
                                sum += w * g.v[g.at(a, b, c)];
                                weight += w;
                            }
                    if (weight > 0) found.emplace_back(g.at(i, j, k), static_cast<float>(sum / weight));
                }
        if (found.empty()) return;
        for (const auto& [cell, value] : found) {
            g.v[cell] = value;
            unknown[cell] = 0;
        }
    }
}

/// One pass of a symmetric kernel along an axis; beyond the ends the border value is continued.
void convolve(Grid& g, int axis, const std::vector<double>& kernel) {
    const int radius = static_cast<int>(kernel.size()) - 1;
    const std::vector<float> old = g.v;
    const std::size_t stride = axis == 0 ? 1 : axis == 1 ? g.n[0] : static_cast<std::size_t>(g.n[0]) * g.n[1];
    parallelFor(
        static_cast<std::size_t>(g.n[1]) * g.n[2],
        [&](std::size_t row) {
            const int j = static_cast<int>(row % g.n[1]), k = static_cast<int>(row / g.n[1]);
            for (int i = 0; i < g.n[0]; ++i) {
                const int at = axis == 0 ? i : axis == 1 ? j : k;
                const std::size_t base = g.at(i, j, k) - at * stride;
                double sum = kernel[0] * old[base + at * stride];
                for (int r = 1; r <= radius; ++r) {
                    const int low = std::max(at - r, 0), high = std::min(at + r, g.n[axis] - 1);
                    sum += kernel[r] * (static_cast<double>(old[base + low * stride]) + old[base + high * stride]);
                }
                g.v[base + at * stride] = static_cast<float>(sum);
            }
        },
        16);
}

/// Mean of the grid and its mirror image about a plane; where the image falls outside the grid the value stays.
void symmetrise(Grid& g, const Vec3& firstCentre, const Vec3& spacing, const Vec3& point, const Vec3& normal) {
    const std::vector<float> old = g.v;
    auto sample = [&](const Vec3& p, double& value) {
        const Vec3 x = (p - firstCentre).cwiseQuotient(spacing);
        std::array<int, 3> base;
        Vec3 t;
        for (int a = 0; a < 3; ++a) {
            if (x[a] < -0.5 || x[a] > g.n[a] - 0.5) return false;
            const double c = std::clamp(x[a], 0.0, g.n[a] - 1.0);
            base[a] = std::min(static_cast<int>(c + 1e-9), g.n[a] - 2);
            t[a] = c - base[a];
        }
        value = 0;
        for (int corner = 0; corner < 8; ++corner) {
            const int a = corner & 1, b = corner >> 1 & 1, c = corner >> 2;
            value += (a ? t[0] : 1 - t[0]) * (b ? t[1] : 1 - t[1]) * (c ? t[2] : 1 - t[2]) *
                     old[g.at(base[0] + a, base[1] + b, base[2] + c)];
        }
        return true;
    };
    for (int k = 0; k < g.n[2]; ++k)
        for (int j = 0; j < g.n[1]; ++j)
            for (int i = 0; i < g.n[0]; ++i) {
                const Vec3 p = firstCentre + spacing.cwiseProduct(Vec3(i, j, k));
                double mirrored = 0;
                if (sample(p - 2 * (p - point).dot(normal) * normal, mirrored))
                    g.v[g.at(i, j, k)] = static_cast<float>(0.5 * (old[g.at(i, j, k)] + mirrored));
            }
}

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
    Grid g{field.cells, field.density};
    if (!unknown.empty()) fillUnknown(g, unknown);
    for (const auto& [point, normal] : options.symmetryPlanes)
        symmetrise(g, field.origin + 0.5 * spacing_, spacing_, point, normal);

    Grid padded{{g.n[0] + 2 * margin, g.n[1] + 2 * margin, g.n[2] + 2 * margin}, {}};
    padded.v.resize(static_cast<std::size_t>(padded.n[0]) * padded.n[1] * padded.n[2]);
    for (int k = 0; k < padded.n[2]; ++k)
        for (int j = 0; j < padded.n[1]; ++j)
            for (int i = 0; i < padded.n[0]; ++i)
                padded.v[padded.at(i, j, k)] =
                    g.v[g.at(std::clamp(i - margin, 0, g.n[0] - 1), std::clamp(j - margin, 0, g.n[1] - 1),
                             std::clamp(k - margin, 0, g.n[2] - 1))];
    for (int axis = 0; axis < 3; ++axis) {
        progress.check();
        const double sigma = options.length / 2.354820045 / spacing_[axis];  // full width at half height of a Gaussian
        if (sigma < 1e-3) continue;
        std::vector<double> kernel(static_cast<std::size_t>(std::ceil(3.5 * sigma)) + 1);
        double sum = 0;
        for (std::size_t r = 0; r < kernel.size(); ++r) {
            kernel[r] = std::exp(-0.5 * r * r / (sigma * sigma));
            sum += r ? 2 * kernel[r] : kernel[r];
        }
        for (double& w : kernel) w /= sum;
        convolve(padded, axis, kernel);
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
