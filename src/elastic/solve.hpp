/// @file elastic/solve.hpp
/// Linear static solution: assembly, supports, one factorisation for all load cases, reactions and equilibrium.

#pragma once
#include <string>
#include <vector>

#include "elastic/loads.hpp"
#include "elastic/material.hpp"

namespace escultura::elastic {

/// One displacement component of one node is given, mm.
struct Constraint {
    std::int32_t node;
    std::int8_t component;  ///< 0, 1, 2: x, y, z
    double value = 0;
};

/// Displacements and reactions of one load case.
struct CaseSolution {
    std::vector<Vec3> displacement;  ///< [nodes] mm
    std::vector<Vec3> reaction;      ///< [nodes] N; zero where nothing is held
    Resultant applied, reactions;    ///< about the origin
    double equilibriumError = 0;     ///< |applied + reactions| over |applied|, force and moment, the larger
    double residual = 0;             ///< |K u - f| over |f| on the free unknowns
    double strainEnergy = 0;         ///< N mm
};

struct Solution {
    std::size_t unknowns = 0;
    std::string solver;  ///< what solved it, in words
    double factorNonzeros = 0;
    std::vector<CaseSolution> cases;
};

/// Names of the rigid motions that the constraints leave free; empty when the part is held. For example
/// "rotation about (0, 1, 0)".
std::vector<std::string> freeMotions(const mesh::TetMesh& mesh, const std::vector<Constraint>& constraints);

/// Waits for direct solutions that were cancelled while the factorisation ran: it cannot be stopped half way, so it is
/// left to end in the background and its result is dropped. Call it before the process ends.
void waitForAbandonedSolutions();

/// Solves all load cases with one supernodal Cholesky factorisation and one step of iterative refinement.
/// @param loads  nodal forces of each case, N
/// @throws InputError when the constraints leave a rigid motion, SolveError when the factor would not fit `memoryLimit`
///         bytes or the matrix is not positive definite, Cancelled
Solution solve(const mesh::TetMesh& mesh, const Material& material, const std::vector<Constraint>& constraints,
               const std::vector<NodalForces>& loads, Progress& progress, double memoryLimit = 8e9);

}  // namespace escultura::elastic
