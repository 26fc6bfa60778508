/// @file elastic/material.hpp
/// Isotropic linear elastic material.

#pragma once
#include <Eigen/Core>
#include <string>

namespace escultura::elastic {

/// One symmetric tensor: xx, yy, zz, xy, yz, zx. Strains use engineering shear.
using Voigt6 = Eigen::Matrix<double, 6, 1>;
using Stiffness6 = Eigen::Matrix<double, 6, 6>;

struct Material {
    std::string name;
    double youngsModulus = 0;  ///< MPa
    double poissonsRatio = 0;
    double density = 0;        ///< kg/mm3
    double yieldStrength = 0;  ///< MPa
    std::string yieldSource;   ///< where the yield strength comes from, and whether it is a minimum
};

/// Refuses constants that no isotropic material has: E <= 0, nu outside (-1, 0.5), density <= 0, yield <= 0.
/// @throws InputError
void validate(const Material& material);

/// Stress = C strain, MPa.
Stiffness6 elasticity(const Material& material);

/// Von Mises stress, MPa.
double vonMises(const Voigt6& stress);

/// Principal stresses, descending, MPa.
Eigen::Vector3d principal(const Voigt6& stress);

}  // namespace escultura::elastic
