#include "elastic/material.hpp"

#include <Eigen/Eigenvalues>
#include <cmath>

#include "base/error.hpp"
#include "base/quantity.hpp"

namespace escultura::elastic {

void validate(const Material& m) {
    auto refuse = [&](const char* place, const char* expected, double found) {
        throw InputError(
            ErrorDetail{"The material '" + m.name + "' cannot be used.", {}, place, expected, formatNumber(found)});
    };
    if (!(m.youngsModulus > 0) || !std::isfinite(m.youngsModulus))
        refuse("material.youngs_modulus", "a value above 0 MPa", m.youngsModulus);
    if (!(m.poissonsRatio > -1 && m.poissonsRatio < 0.5))
        refuse("material.poissons_ratio", "a value above -1 and below 0.5", m.poissonsRatio);
    if (!(m.density > 0) || !std::isfinite(m.density)) refuse("material.density", "a value above 0", m.density);
    if (!(m.yieldStrength > 0) || !std::isfinite(m.yieldStrength))
        refuse("material.yield_strength", "a value above 0 MPa", m.yieldStrength);
}

Stiffness6 elasticity(const Material& m) {
    const double mu = m.youngsModulus / (2 * (1 + m.poissonsRatio));
    const double lambda = m.youngsModulus * m.poissonsRatio / ((1 + m.poissonsRatio) * (1 - 2 * m.poissonsRatio));
    Stiffness6 c = Stiffness6::Zero();
    c.topLeftCorner<3, 3>().setConstant(lambda);
    for (int i = 0; i < 3; ++i) {
        c(i, i) += 2 * mu;
        c(3 + i, 3 + i) = mu;
    }
    return c;
}

double vonMises(const Voigt6& s) {
    const double a = s[0] - s[1], b = s[1] - s[2], c = s[2] - s[0];
    return std::sqrt(0.5 * (a * a + b * b + c * c) + 3 * (s[3] * s[3] + s[4] * s[4] + s[5] * s[5]));
}

Eigen::Vector3d principal(const Voigt6& s) {
    Eigen::Matrix3d t;
    t << s[0], s[3], s[5], s[3], s[1], s[4], s[5], s[4], s[2];
    return Eigen::SelfAdjointEigenSolver<Eigen::Matrix3d>(t, Eigen::EigenvaluesOnly).eigenvalues().reverse();
}

}  // namespace escultura::elastic
