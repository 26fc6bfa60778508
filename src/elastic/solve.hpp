/// @file elastic/solve.hpp
/// Linear static solution: supports, one set-up for all load cases, reactions and equilibrium.

#pragma once
#include <string>
#include <vector>

#include "elastic/direct.hpp"
#include "elastic/linear_solver.hpp"
#include "elastic/loads.hpp"
#include "elastic/material.hpp"
#include "elastic/supports.hpp"

namespace escultura::elastic {

/// Displacements and reactions of one load case.
struct CaseSolution {
    std::vector<Vec3> displacement;  ///< [nodes] mm
    std::vector<Vec3> reaction;      ///< [nodes] N; zero where nothing is held
    Resultant applied, reactions;    ///< about the origin
    double equilibriumError = 0;     ///< |applied + reactions| over |applied|, force and moment, the larger
    double residual = 0;             ///< |K u - f| over |f| on the free unknowns
    double strainEnergy = 0;         ///< N mm
    int iterations = 0;              ///< of conjugate gradients; 0: solved directly
};

struct Solution {
    std::size_t unknowns = 0;
    std::string solver;  ///< what solved it and why, in words
    double memory = 0;   ///< of matrix, factor or grids, bytes
    double setupSeconds = 0, solveSeconds = 0;
    std::vector<std::vector<float>> residual;  ///< [iterations + 1][cases] of conjugate gradients
    std::vector<CaseSolution> cases;
};

/// Solves all load cases with one set-up: direct when small, else conjugate gradients with multigrid.
/// @throws InputError when the supports leave a rigid motion, SolveError when the factor would not fit, the matrix is
///         not positive definite or the iteration does not converge, Cancelled
Solution solve(const mesh::TetMesh& mesh, const Material& material, const Supports& supports,
               const std::vector<LoadVector>& loads, const SolveOptions& options, Progress& progress);

/// The same for nodal forces and simple constraints.
Solution solve(const mesh::TetMesh& mesh, const Material& material, const std::vector<Constraint>& constraints,
               const std::vector<NodalForces>& loads, Progress& progress, double memoryLimit = 8e9);

}  // namespace escultura::elastic
