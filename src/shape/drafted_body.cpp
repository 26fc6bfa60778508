#include "shape/drafted_body.hpp"

#include <cmath>

#include "base/error.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"

namespace escultura::shape {

DraftedBody::DraftedBody(const FreeBody& body, const Box3& box, const DraftOptions& options, double step,
                         Progress& progress)
    : step_(step) {
    progress.step("Adding draft");
    const auto [u, v] = perpendicular(options.pull);
    frame_.row(0) = u;
    frame_.row(1) = v;
    frame_.row(2) = options.pull;
    Box3 local;
    for (int m = 0; m < 8; ++m)
        local.include(frame_ * Vec3((m & 1 ? box.high : box.low)[0], (m & 2 ? box.high : box.low)[1],
                                    (m & 4 ? box.high : box.low)[2]));
    local = local.grown(3 * step);
    // the parting plane lies half way between two layers, so that both halves start from a layer of their own
    low_ = local.low;
    low_[2] = options.parting - step * (std::ceil((options.parting - local.low[2]) / step) + 0.5);
    double samples = 1;
    for (int a = 0; a < 3; ++a) {
        n_[a] = static_cast<int>(std::ceil((local.high[a] - low_[a]) / step)) + 1;
        samples *= n_[a];
    }
    if (samples > 2e8)
        throw InputError(ErrorDetail{"The grid for the draft would be too fine.",
                                     {},
                                     "step",
                                     "at most 200 million samples",
                                     formatNumber(samples)});
    value_.resize(static_cast<std::size_t>(samples));
    const double fall = step * std::sin(options.angle * M_PI / 180), slope = std::cos(options.angle * M_PI / 180);
    const std::size_t layer = static_cast<std::size_t>(n_[0]) * n_[1];
    parallelFor(
        static_cast<std::size_t>(n_[1]),
        [&](std::size_t j) {
            for (int i = 0; i < n_[0]; ++i) {
                const std::size_t column = i + static_cast<std::size_t>(n_[0]) * j;
                for (int k = 0; k < n_[2]; ++k)
                    value_[column + layer * k] = static_cast<float>(
                        slope * body.value(frame_.transpose() * (low_ + step_ * Vec3(i, static_cast<double>(j), k))));
                for (int k = n_[2] - 2; k >= 0 && low_[2] + k * step_ > options.parting; --k)
                    value_[column + layer * k] = std::min(value_[column + layer * k],
                                                          value_[column + layer * (k + 1)] - static_cast<float>(fall));
                for (int k = 1; k < n_[2] && low_[2] + k * step_ < options.parting; ++k)
                    value_[column + layer * k] = std::min(value_[column + layer * k],
                                                          value_[column + layer * (k - 1)] - static_cast<float>(fall));
            }
        },
        1);
    progress.check();
}

double DraftedBody::interpolate(const Vec3& local, Vec3* gradient) const {
    double w[3][3], d[3][3];
    std::array<int, 3> first;
    for (int a = 0; a < 3; ++a) {
        const double x = std::clamp((local[a] - low_[a]) / step_, 1.0, n_[a] - 2.0);
        const int centre = std::min(static_cast<int>(x + 0.5), n_[a] - 2);
        const double u = x - centre;
        w[a][0] = 0.5 * (0.5 - u) * (0.5 - u);
        w[a][1] = 0.75 - u * u;
        w[a][2] = 0.5 * (0.5 + u) * (0.5 + u);
        d[a][0] = u - 0.5;
        d[a][1] = -2 * u;
        d[a][2] = u + 0.5;
        first[a] = centre - 1;
    }
    double value = 0;
    Vec3 g = Vec3::Zero();
    for (int c = 0; c < 3; ++c)
        for (int b = 0; b < 3; ++b)
            for (int a = 0; a < 3; ++a) {
                const double v = value_[first[0] + a +
                                        static_cast<std::size_t>(n_[0]) *
                                            (first[1] + b + static_cast<std::size_t>(n_[1]) * (first[2] + c))];
                value += w[0][a] * w[1][b] * w[2][c] * v;
                g += v * Vec3(d[0][a] * w[1][b] * w[2][c], w[0][a] * d[1][b] * w[2][c], w[0][a] * w[1][b] * d[2][c]);
            }
    if (gradient) *gradient = g / step_;
    return value;
}

double DraftedBody::value(const Vec3& p) const {
    return interpolate(frame_ * p, nullptr);
}

Vec3 DraftedBody::gradient(const Vec3& p) const {
    Vec3 g;
    interpolate(frame_ * p, &g);
    return frame_.transpose() * g;
}

}  // namespace escultura::shape
