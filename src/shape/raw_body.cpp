#include "shape/raw_body.hpp"

#include <algorithm>

#include "base/parallel.hpp"

namespace escultura::shape {
namespace {

constexpr int block = 8;  // cells
// by how much of their range interpolated values may leave it: the sizes of weights sum to 1.25 at most along an axis
constexpr double overshoot = 0.5 * (1.25 * 1.25 * 1.25 - 1);

}  // namespace

std::array<double, 4> cubicWeights(double t) {
    return {t * (-0.5 + t * (1 - 0.5 * t)), 1 + t * t * (-2.5 + 1.5 * t), t * (0.5 + t * (2 - 1.5 * t)),
            t * t * (-0.5 + 0.5 * t)};
}

RawBody::RawBody(const field::DensityField& f, double threshold) : f_(f), t_(threshold) {
    std::size_t count = 1;
    for (std::size_t a = 0; a < 3; ++a) {
        blocks_[a] = f.cells[a] / block + 1;
        count *= static_cast<std::size_t>(blocks_[a]);
    }
    range_.resize(count);
    parallelFor(
        count,
        [&](std::size_t b) {
            const auto nx = static_cast<std::size_t>(blocks_[0]), ny = static_cast<std::size_t>(blocks_[1]);
            const std::array<int, 3> at{static_cast<int>(b % nx), static_cast<int>(b / nx % ny),
                                        static_cast<int>(b / (nx * ny))};
            float least = 1e30F, most = -1e30F;
            std::array<int, 3> low, high;  // cells that the interpolation sees from within the block
            for (std::size_t a = 0; a < 3; ++a) {
                low[a] = at[a] * block - 1;
                high[a] = at[a] * block + block + 2;
                if (low[a] < 0 || high[a] > f.cells[a]) least = std::min(least, 0.0F), most = std::max(most, 0.0F);
                low[a] = std::max(low[a], 0);
                high[a] = std::min(high[a], f.cells[a]);
            }
            for (int k = low[2]; k < high[2]; ++k)
                for (int j = low[1]; j < high[1]; ++j)
                    for (int i = low[0]; i < high[0]; ++i) {
                        const float value = f.density[f.index(i, j, k)];
                        least = std::min(least, value);
                        most = std::max(most, value);
                    }
            const auto beyond = static_cast<float>(overshoot) * (most - least);
            range_[b] = {least - beyond, most + beyond};
        },
        16);
}

double RawBody::surfaceValue(int, const Vec3& p) const {
    const Vec3 x = (p - f_.origin).cwiseQuotient(f_.spacing) - Vec3::Constant(0.5);
    std::size_t b = 0;
    bool isInside = true;
    for (int a = 2; a >= 0; --a) {
        const double cell = std::floor(x[a]);
        const auto n = static_cast<std::size_t>(a);
        isInside = isInside && cell >= 0 && cell < f_.cells[n];
        if (!isInside) break;
        b = b * static_cast<std::size_t>(blocks_[n]) + static_cast<std::size_t>(cell) / block;
    }
    if (isInside) {
        const Range& range = range_[b];
        const double h = f_.spacing.minCoeff();
        constexpr double hair = 1e-3;
        if (range.most < t_ - hair) return (t_ - range.most) * h;
        if (range.least > t_ + hair) return (t_ - range.least) * h;
    }
    const double value = cubicBetween(x, [&](const std::array<double, 4>& w, int first, int j, int k) {
        if (j < 0 || j >= f_.cells[1] || k < 0 || k >= f_.cells[2]) return 0.0;
        const std::size_t row = f_.index(0, j, k);
        double line = 0;
        for (int i = std::max(0, -first); i < 4 && first + i < f_.cells[0]; ++i)
            line += w[static_cast<std::size_t>(i)] * f_.density[row + static_cast<std::size_t>(first + i)];
        return line;
    });
    return (t_ - value) * f_.spacing.minCoeff();
}

}  // namespace escultura::shape
