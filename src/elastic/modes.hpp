/// @file elastic/modes.hpp
/// Natural frequencies and buckling of a supported part: both are pairs of two symmetric matrices.

#pragma once
#include <string>
#include <vector>

#include "elastic/linear_solver.hpp"

namespace escultura::elastic {

struct Mode {
    double value = 0;         ///< natural frequency, Hz; or the factor on the loads at which the part gives way
    std::vector<Vec3> shape;  ///< [nodes] largest displacement 1
    double error = 0;         ///< bound of the value's relative error from the iteration alone, not from the mesh
    /// Share by which the mesh may have raised the value: twice what the jumps of the shape's stresses between
    /// elements tell (squared energy norm of the error; Zienkiewicz and Zhu 1987, Wiberg, Bausys and Hager 1999).
    double meshError = 0;
    Vec3 share = Vec3::Zero();  ///< natural modes: of the part's mass that moves along x, y, z
};

/// What is asked of modes().
struct ModeOptions {
    int count = 6;            ///< modes wanted, 1 to 40
    double tolerance = 1e-4;  ///< relative error of the values that the iteration may leave
    SolveOptions solve{};
};

/// Lowest natural frequencies, in order. Displacements that are given count as held; elastic beds and remote supports
/// act without mass. Quadratic elements with consistent mass: frequencies come out a little high on coarse meshes.
/// @throws InputError when the supports leave a rigid motion, SolveError when the iteration does not settle, Cancelled
std::vector<Mode> naturalModes(const mesh::TetMesh& mesh, const Material& material, const Supports& supports,
                               const ModeOptions& options, Progress& progress);

/// Lowest factors above zero on each load case at which the part buckles, by linear theory about the unloaded shape:
/// (K + factor G) shape = 0. Parts with imperfections give way earlier. Empty: under that load nothing buckles.
/// @param displacement  [cases][nodes] of the load cases, mm
/// @return [cases]
std::vector<std::vector<Mode>> bucklingModes(const mesh::TetMesh& mesh, const Material& material,
                                             const Supports& supports,
                                             const std::vector<const std::vector<Vec3>*>& displacement,
                                             const ModeOptions& options, Progress& progress);

}  // namespace escultura::elastic
