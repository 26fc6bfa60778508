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
    CellGrid padded;
    putMargin(g, margin, padded);
    return padded;
}

void putMargin(const CellGrid& g, int margin, CellGrid& padded) {
    padded.n = {g.n[0] + 2 * margin, g.n[1] + 2 * margin, g.n[2] + 2 * margin};
    padded.v.resize(static_cast<std::size_t>(padded.n[0]) * padded.n[1] * padded.n[2]);
    parallelFor(
        static_cast<std::size_t>(padded.n[1]) * static_cast<std::size_t>(padded.n[2]),
        [&](std::size_t row) {
            const int j = static_cast<int>(row % static_cast<std::size_t>(padded.n[1])),
                      k = static_cast<int>(row / static_cast<std::size_t>(padded.n[1]));
            const float* from =
                g.v.data() + g.at(0, std::clamp(j - margin, 0, g.n[1] - 1), std::clamp(k - margin, 0, g.n[2] - 1));
            float* to = padded.v.data() + padded.at(0, j, k);
            std::fill(to, to + margin, from[0]);
            std::copy(from, from + g.n[0], to + margin);
            std::fill(to + margin + g.n[0], to + padded.n[0], from[g.n[0] - 1]);
        },
        64);
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
    std::vector<float> scratch;
    convolve(g, axis, kernel, scratch);
}

void convolve(CellGrid& g, int axis, const std::vector<double>& kernel, std::vector<float>& scratch) {
    const int radius = static_cast<int>(kernel.size()) - 1;
    scratch.resize(g.v.size());
    std::swap(g.v, scratch);
    const std::vector<float>& old = scratch;
    const auto nx = static_cast<std::size_t>(g.n[0]);
    const std::size_t rows = static_cast<std::size_t>(g.n[1]) * static_cast<std::size_t>(g.n[2]);
    // rows of nothing add nothing: most of a large grid, where only a surface's neighbourhood holds something
    std::vector<char> isEmpty(rows);
    parallelFor(
        rows,
        [&](std::size_t row) {
            const float* first = old.data() + row * nx;
            isEmpty[row] = std::all_of(first, first + nx, [](float v) { return v == 0; });
        },
        64);
    parallelFor(
        rows,
        [&](std::size_t row) {
            thread_local std::vector<double> sum;
            sum.assign(nx, 0.0);
            const float* own = old.data() + row * nx;
            float* out = g.v.data() + row * nx;
            const double middle = kernel[0];
            for (std::size_t i = 0; i < nx; ++i) sum[i] = middle * own[i];
            if (axis == 0) {
                if (isEmpty[row]) {
                    std::fill(out, out + nx, 0.0f);
                    return;
                }
                const int last = g.n[0] - 1;
                for (int r = 1; r <= radius; ++r) {
                    const double w = kernel[static_cast<std::size_t>(r)];
                    auto near = [&](int i) {
                        sum[static_cast<std::size_t>(i)] +=
                            w * (static_cast<double>(own[std::max(i - r, 0)]) + own[std::min(i + r, last)]);
                    };
                    const int begin = std::min(r, g.n[0]), end = std::max(begin, g.n[0] - r);
                    for (int i = 0; i < begin; ++i) near(i);
                    for (int i = begin; i < end; ++i)
                        sum[static_cast<std::size_t>(i)] += w * (static_cast<double>(own[i - r]) + own[i + r]);
                    for (int i = end; i < g.n[0]; ++i) near(i);
                }
            } else {
                const int j = static_cast<int>(row % static_cast<std::size_t>(g.n[1])),
                          k = static_cast<int>(row / static_cast<std::size_t>(g.n[1]));
                for (int r = 1; r <= radius; ++r) {
                    const int at = axis == 1 ? j : k, low = std::max(at - r, 0), high = std::min(at + r, g.n[axis] - 1);
                    auto rowAt = [&](int place) {
                        return static_cast<std::size_t>(axis == 1 ? place : j) +
                               static_cast<std::size_t>(g.n[1]) * static_cast<std::size_t>(axis == 1 ? k : place);
                    };
                    const std::size_t a = rowAt(low), b = rowAt(high);
                    if (isEmpty[a] && isEmpty[b]) continue;
                    const float *before = old.data() + a * nx, *after = old.data() + b * nx;
                    const double w = kernel[static_cast<std::size_t>(r)];
                    for (std::size_t i = 0; i < nx; ++i) sum[i] += w * (static_cast<double>(before[i]) + after[i]);
                }
            }
            for (std::size_t i = 0; i < nx; ++i) out[i] = static_cast<float>(sum[i]);
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
