/// @file elastic/material.hpp
/// Linear elastic materials, isotropic and orthotropic, and what they bear.

#pragma once
#include <Eigen/Core>
#include <optional>
#include <string>

#include "base/geometry.hpp"

namespace escultura::elastic {

/// One symmetric tensor: xx, yy, zz, xy, yz, zx. Strains use engineering shear.
using Voigt6 = Eigen::Matrix<double, 6, 1>;
using Stiffness6 = Eigen::Matrix<double, 6, 6>;

/// Constants of an orthotropic material along the axes 1, 2, 3 of its frame.
struct Orthotropic {
    Vec3 youngs = Vec3::Zero();     ///< E1, E2, E3, MPa
    Vec3 poissons = Vec3::Zero();   ///< nu12, nu23, nu31: strain along the second index by stress along the first
    Vec3 shear = Vec3::Zero();      ///< G12, G23, G31, MPa
    Mat3 frame = Mat3::Identity();  ///< columns: the axes 1, 2, 3 in global coordinates
};

/// What ends the life of a part under static load.
enum class FailureRule {
    ductile,  ///< yield strength against von Mises stress
    brittle,  ///< ultimate strength against the maximum principal stress
};

struct Material {
    std::string name;
    double youngsModulus = 0;  ///< MPa; of an orthotropic material not used
    double poissonsRatio = 0;
    double density = 0;           ///< kg/mm3
    double yieldStrength = 0;     ///< MPa
    std::string yieldSource;      ///< where the strength comes from, and whether it is a minimum
    double ultimateStrength = 0;  ///< MPa; needed by the brittle rule only, else 0 when unknown
    FailureRule rule = FailureRule::ductile;
    std::optional<Orthotropic> orthotropic{};
};

/// Refuses constants that no such material has: E <= 0, nu outside (-1, 0.5), an orthotropic stiffness that is not
/// positive definite, density <= 0, the strength that the rule needs <= 0.
/// @throws InputError
void validate(const Material& material);

/// Stress = C strain in global axes, MPa.
Stiffness6 elasticity(const Material& material);

/// The strength that the rule compares with: yield or ultimate, MPa.
double strength(const Material& material);

/// The stress that the rule compares with the strength: von Mises, or the maximum principal stress where it pulls.
double failureStress(const Material& material, const Voigt6& stress);

/// A stress tensor in the axes given by the columns of a rotation.
Voigt6 stressInFrame(const Voigt6& stress, const Mat3& frame);

/// Von Mises stress, MPa.
double vonMises(const Voigt6& stress);

/// Principal stresses, descending, MPa.
Eigen::Vector3d principal(const Voigt6& stress);

/// Directions of the principal stresses, as columns in the order of principal().
Mat3 principalDirections(const Voigt6& stress);

}  // namespace escultura::elastic
