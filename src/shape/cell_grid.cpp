#include "shape/cell_grid.hpp"

#include <algorithm>
#include <cmath>

#include "base/parallel.hpp"

namespace escultura::shape {

void fillUnknown(CellGrid& g, std::vector<char> unknown) {
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

CellGrid withMargin(const CellGrid& g, int margin) {
    CellGrid padded{{g.n[0] + 2 * margin, g.n[1] + 2 * margin, g.n[2] + 2 * margin}, {}};
    padded.v.resize(static_cast<std::size_t>(padded.n[0]) * padded.n[1] * padded.n[2]);
    for (int k = 0; k < padded.n[2]; ++k)
        for (int j = 0; j < padded.n[1]; ++j)
            for (int i = 0; i < padded.n[0]; ++i)
                padded.v[padded.at(i, j, k)] =
                    g.v[g.at(std::clamp(i - margin, 0, g.n[0] - 1), std::clamp(j - margin, 0, g.n[1] - 1),
                             std::clamp(k - margin, 0, g.n[2] - 1))];
    return padded;
}

std::vector<double> gaussian(double sigma) {
    std::vector<double> kernel(static_cast<std::size_t>(std::ceil(3.5 * sigma)) + 1);
    double sum = 0;
    for (std::size_t r = 0; r < kernel.size(); ++r) {
        kernel[r] = std::exp(-0.5 * static_cast<double>(r * r) / (sigma * sigma));
        sum += r ? 2 * kernel[r] : kernel[r];
    }
    for (double& w : kernel) w /= sum;
    return kernel;
}

void convolve(CellGrid& g, int axis, const std::vector<double>& kernel) {
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

void symmetrise(CellGrid& g, const Vec3& firstCentre, const Vec3& spacing, const Vec3& point, const Vec3& normal) {
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

}  // namespace escultura::shape
