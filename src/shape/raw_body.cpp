#include "shape/raw_body.hpp"

#include <algorithm>
#include <cmath>

namespace escultura::shape {

std::array<double, 4> cubicWeights(double t) {
    return {t * (-0.5 + t * (1 - 0.5 * t)), 1 + t * t * (-2.5 + 1.5 * t), t * (0.5 + t * (2 - 1.5 * t)),
            t * t * (-0.5 + 0.5 * t)};
}

double RawBody::surfaceValue(int, const Vec3& p) const {
    const Vec3 x = (p - f_.origin).cwiseQuotient(f_.spacing) - Vec3::Constant(0.5);
    std::array<int, 3> first;
    std::array<std::array<double, 4>, 3> w;
    for (std::size_t a = 0; a < 3; ++a) {
        const double whole = std::floor(x[static_cast<int>(a)]);
        first[a] = static_cast<int>(whole) - 1;
        w[a] = cubicWeights(x[static_cast<int>(a)] - whole);
    }
    double value = 0;
    for (int k = 0; k < 4; ++k) {
        const int c = first[2] + k;
        if (c < 0 || c >= f_.cells[2]) continue;
        for (int j = 0; j < 4; ++j) {
            const int b = first[1] + j;
            if (b < 0 || b >= f_.cells[1]) continue;
            const std::size_t row = f_.index(0, b, c);
            double line = 0;
            for (int i = std::max(0, -first[0]); i < 4 && first[0] + i < f_.cells[0]; ++i)
                line += w[0][static_cast<std::size_t>(i)] * f_.density[row + static_cast<std::size_t>(first[0] + i)];
            value += w[1][static_cast<std::size_t>(j)] * w[2][static_cast<std::size_t>(k)] * line;
        }
    }
    return (t_ - value) * f_.spacing.minCoeff();
}

}  // namespace escultura::shape
