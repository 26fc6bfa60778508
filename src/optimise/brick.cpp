#include "optimise/brick.hpp"

#include <bit>
#include <cmath>

namespace escultura::optimise {

std::array<double, 8> brickWeights(const Vec3& xi) {
    std::array<double, 8> w{};
    for (unsigned c = 0; c < 8; ++c) {
        w[c] = 1;
        for (unsigned a = 0; a < 3; ++a) w[c] *= c >> a & 1U ? xi[a] : 1 - xi[a];
    }
    return w;
}

BrickMatrix brickStiffness(const Vec3& spacing, double nu) {
    Eigen::Matrix<double, 6, 6> elastic = Eigen::Matrix<double, 6, 6>::Zero();
    const double lambda = nu / ((1 + nu) * (1 - 2 * nu)), mu = 0.5 / (1 + nu);
    elastic.topLeftCorner<3, 3>().setConstant(lambda);
    for (int a = 0; a < 3; ++a) {
        elastic(a, a) += 2 * mu;
        elastic(3 + a, 3 + a) = mu;
    }
    BrickMatrix k = BrickMatrix::Zero();
    const double g = 0.5 / std::sqrt(3.0);
    for (unsigned q = 0; q < 8; ++q) {
        Eigen::Matrix<double, 6, 24> b = Eigen::Matrix<double, 6, 24>::Zero();
        for (unsigned c = 0; c < 8; ++c) {
            Vec3 d;
            for (unsigned a = 0; a < 3; ++a) {
                d[a] = (c >> a & 1U ? 1 : -1) / spacing[a];
                for (unsigned o = 0; o < 3; ++o) {
                    if (o == a) continue;
                    const double xi = 0.5 + (q >> o & 1U ? g : -g);
                    d[a] *= c >> o & 1U ? xi : 1 - xi;
                }
            }
            const int at = static_cast<int>(3 * c);
            for (int a = 0; a < 3; ++a) b(a, at + a) = d[a];
            // xy, yz, zx
            b(3, at) = d[1];
            b(3, at + 1) = d[0];
            b(4, at + 1) = d[2];
            b(4, at + 2) = d[1];
            b(5, at) = d[2];
            b(5, at + 2) = d[0];
        }
        k += spacing.prod() / 8 * b.transpose() * elastic * b;
    }
    return k;
}

BrickBlocks brickBlocks(const BrickMatrix& stiffness) {
    auto sign = [](unsigned function, unsigned corner) { return std::popcount(function & corner) % 2 ? -1.0 : 1.0; };
    BrickBlocks r;
    for (unsigned b = 0; b < 8; ++b)
        for (unsigned d = 0; d < 3; ++d)
            for (unsigned e = 0; e < 3; ++e) {
                double sum = 0;
                for (unsigned c = 0; c < 8; ++c)
                    for (unsigned g = 0; g < 8; ++g)
                        sum += sign(b ^ (1U << d), c) * sign(b ^ (1U << e), g) *
                               stiffness(static_cast<int>(3 * c + d), static_cast<int>(3 * g + e));
                r.block[b][d][e] = sum / 64;
            }
    return r;
}

}  // namespace escultura::optimise
