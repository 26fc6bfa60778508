/// @file optimise/brick.hpp
/// The eight-node brick of a grid of equal cells, and its product in the basis of its reflections.

#pragma once
#include <Eigen/Dense>
#include <array>

#include "base/geometry.hpp"

namespace escultura::optimise {

/// Rows and columns 3 corner + component; bit a of the corner's number says whether it lies at the high side along a.
using BrickMatrix = Eigen::Matrix<double, 24, 24>;

/// Stiffness of a brick of isotropic material with Young's modulus 1 MPa, trilinear shape functions, 2 x 2 x 2 Gauss
/// points. @param spacing  edge lengths, mm. @return N/mm
BrickMatrix brickStiffness(const Vec3& spacing, double poissonsRatio);

/// The stiffness seen by its reflections: in the Walsh-Hadamard basis of the corners it falls apart into eight blocks
/// of 3 x 3, one for each way to be even or odd about the three middle planes. Block b couples component d of the
/// function b ^ (1 << d).
struct BrickBlocks {
    std::array<std::array<std::array<double, 3>, 3>, 8> block{};  ///< N/mm; includes the 1/8 of the basis
};
BrickBlocks brickBlocks(const BrickMatrix& stiffness);

/// Shape functions at a place in the cell; beyond it they go on linearly. @param xi  0 to 1 along each edge
std::array<double, 8> brickWeights(const Vec3& xi);

}  // namespace escultura::optimise
