#include "elastic/material.hpp"

#include <Eigen/Cholesky>
#include <Eigen/Eigenvalues>
#include <Eigen/LU>
#include <cmath>

#include "base/error.hpp"
#include "base/quantity.hpp"

namespace escultura::elastic {
namespace {

constexpr int pairs[6][2] = {{0, 0}, {1, 1}, {2, 2}, {0, 1}, {1, 2}, {2, 0}};

Mat3 tensorOf(const Voigt6& s) {
    Mat3 t;
    t << s[0], s[3], s[5], s[3], s[1], s[4], s[5], s[4], s[2];
    return t;
}

/// strain in the frame's axes = T strain in global axes, engineering shears.
Stiffness6 strainRotation(const Mat3& frame) {
    Stiffness6 t;
    for (int row = 0; row < 6; ++row)
        for (int col = 0; col < 6; ++col) {
            const int i = pairs[row][0], j = pairs[row][1], k = pairs[col][0], l = pairs[col][1];
            const double both = frame(k, i) * frame(l, j) + frame(l, i) * frame(k, j);
            t(row, col) = 0.5 * both * (row > 2 ? 2 : 1);
        }
    return t;
}

Stiffness6 orthotropicStiffness(const Orthotropic& o) {
    Stiffness6 s = Stiffness6::Zero();
    for (int i = 0; i < 3; ++i) {
        const int j = (i + 1) % 3;
        s(i, i) = 1 / o.youngs[i];
        s(i, j) = s(j, i) = -o.poissons[i] / o.youngs[i];
        s(3 + i, 3 + i) = 1 / o.shear[i];
    }
    const Stiffness6 t = strainRotation(o.frame);
    return t.transpose() * s.inverse() * t;
}

}  // namespace

void validate(const Material& m) {
    auto refuse = [&](const char* place, const char* expected, double found) {
        throw InputError(
            ErrorDetail{"The material '" + m.name + "' cannot be used.", {}, place, expected, formatNumber(found)});
    };
    auto positive = [&](const char* place, double v) {
        if (!(v > 0) || !std::isfinite(v)) refuse(place, "a value above 0 MPa", v);
    };
    if (m.orthotropic) {
        for (int i = 0; i < 3; ++i) positive("material.orthotropic.youngs_moduli", m.orthotropic->youngs[i]);
        for (int i = 0; i < 3; ++i) positive("material.orthotropic.shear_moduli", m.orthotropic->shear[i]);
        const Stiffness6 c = orthotropicStiffness(*m.orthotropic);
        const double lowest = Eigen::SelfAdjointEigenSolver<Stiffness6>(c, Eigen::EigenvaluesOnly).eigenvalues()[0];
        if (!(lowest > 0))
            refuse("material.orthotropic.poissons_ratios", "ratios that give a positive definite stiffness", lowest);
    } else {
        positive("material.youngs_modulus", m.youngsModulus);
        if (!(m.poissonsRatio > -1 && m.poissonsRatio < 0.5))
            refuse("material.poissons_ratio", "a value above -1 and below 0.5", m.poissonsRatio);
    }
    if (!(m.density > 0) || !std::isfinite(m.density)) refuse("material.density", "a value above 0", m.density);
    if (m.rule == FailureRule::ductile) positive("material.yield_strength", m.yieldStrength);
    if (m.rule == FailureRule::brittle) positive("material.ultimate_strength", m.ultimateStrength);
}

Stiffness6 elasticity(const Material& m) {
    if (m.orthotropic) return orthotropicStiffness(*m.orthotropic);
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

double strength(const Material& m) {
    return m.rule == FailureRule::brittle ? m.ultimateStrength : m.yieldStrength;
}

double failureStress(const Material& m, const Voigt6& stress) {
    return m.rule == FailureRule::brittle ? std::max(principal(stress)[0], 0.0) : vonMises(stress);
}

Voigt6 stressInFrame(const Voigt6& stress, const Mat3& frame) {
    const Mat3 t = frame.transpose() * tensorOf(stress) * frame;
    Voigt6 s;
    for (int k = 0; k < 6; ++k) s[k] = t(pairs[k][0], pairs[k][1]);
    return s;
}

double vonMises(const Voigt6& s) {
    const double a = s[0] - s[1], b = s[1] - s[2], c = s[2] - s[0];
    return std::sqrt(0.5 * (a * a + b * b + c * c) + 3 * (s[3] * s[3] + s[4] * s[4] + s[5] * s[5]));
}

Eigen::Vector3d principal(const Voigt6& s) {
    return Eigen::SelfAdjointEigenSolver<Mat3>(tensorOf(s), Eigen::EigenvaluesOnly).eigenvalues().reverse();
}

Mat3 principalDirections(const Voigt6& s) {
    return Eigen::SelfAdjointEigenSolver<Mat3>(tensorOf(s)).eigenvectors().rowwise().reverse();
}

}  // namespace escultura::elastic
