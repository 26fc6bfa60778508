/// @file elastic/kernels.hpp
/// What one element contributes to a matrix: stiffness, mass, geometric stiffness.

#pragma once
#include <array>
#include <functional>
#include <vector>

#include "elastic/material.hpp"
#include "mesh/tet_mesh.hpp"

namespace escultura::elastic {

/// Upper triangle of the 10 x 10 blocks of an element's nodes, by rows.
using ElementMatrix = std::array<Mat3, 55>;
/// Fills the matrix of an element; called from several threads at once.
using ElementKernel = std::function<void(std::size_t element, ElementMatrix& matrix)>;

/// K = integral of B^T C B, N/mm; four-point rule, exact for straight elements.
ElementKernel stiffnessKernel(const mesh::TetMesh& mesh, const Material& material);
/// M = integral of density N^T N (consistent), in the unit of density times mm3; rule of degree 4, exact for straight
/// elements.
ElementKernel massKernel(const mesh::TetMesh& mesh, double density);
/// G = integral of grad N^T s grad N with the stresses s of displacements: what a first-order theory adds to the
/// stiffness of a part that is under stress (Zienkiewicz and Taylor, The Finite Element Method, vol. 2), N/mm.
/// @param displacement  [nodes] mm; it and the mesh must outlive the kernel
ElementKernel geometricKernel(const mesh::TetMesh& mesh, const Material& material,
                              const std::vector<Vec3>& displacement);

/// Internal forces K u of displacements, by integrating the stresses. [nodes] N
/// @param displacement  [nodes] mm
std::vector<Vec3> internalForces(const mesh::TetMesh& mesh, const Stiffness6& elasticity,
                                 const std::vector<Vec3>& displacement);

}  // namespace escultura::elastic
