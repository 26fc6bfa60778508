/// escultura-bench-gamg: PETSc's conjugate gradients with its algebraic multigrid on a system that `escultura-bench
/// solve` wrote. Only for comparison; built when PETSc is there.
///
/// Usage: mpirun -n 2 escultura-bench-gamg FILE
/// Prints: seconds of set-up, seconds of solving all right-hand sides, most iterations, bytes of all ranks.

#include <petscksp.h>

#include <algorithm>
#include <cstdio>
#include <fstream>
#include <string>

namespace {

double residentBytes() {
    std::ifstream in("/proc/self/status");
    for (std::string line; std::getline(in, line);)
        if (line.rfind("VmHWM:", 0) == 0) return 1024 * std::stod(line.substr(6));
    return 0;
}

}  // namespace

int main(int argc, char** argv) {
    if (argc < 2) return 2;
    PetscCall(PetscInitialize(&argc, &argv, nullptr, nullptr));
    // a rigid-body near-null space needs more than the plain options: threshold, smoother sweeps, shifted coarse solve
    PetscCall(PetscOptionsInsertString(
        nullptr,
        "-ksp_type cg -ksp_rtol 1e-8 -ksp_norm_type unpreconditioned -ksp_max_it 500 -pc_type gamg "
        "-pc_gamg_threshold 0.01 -mg_levels_ksp_type chebyshev -mg_levels_ksp_max_it 3 -mg_levels_pc_type jacobi "
        "-mg_coarse_pc_type redundant -mg_coarse_redundant_pc_type lu "
        "-mg_coarse_redundant_pc_factor_shift_type nonzero -mg_coarse_redundant_pc_factor_shift_amount 1e-7"));
    PetscViewer viewer;
    PetscCall(PetscViewerBinaryOpen(PETSC_COMM_WORLD, argv[1], FILE_MODE_READ, &viewer));
    Mat a;
    PetscCall(MatCreate(PETSC_COMM_WORLD, &a));
    PetscCall(MatSetType(a, MATAIJ));
    PetscCall(MatSetBlockSize(a, 3));
    PetscCall(MatLoad(a, viewer));
    Vec position, b, x;
    PetscCall(MatCreateVecs(a, &x, &b));
    PetscCall(VecDuplicate(b, &position));
    PetscCall(VecSetBlockSize(position, 3));
    PetscCall(VecLoad(position, viewer));
    MatNullSpace rigid;
    PetscCall(MatNullSpaceCreateRigidBody(position, &rigid));
    PetscCall(MatSetNearNullSpace(a, rigid));
    KSP ksp;
    PetscCall(KSPCreate(PETSC_COMM_WORLD, &ksp));
    PetscCall(KSPSetOperators(ksp, a, a));
    PetscCall(KSPSetFromOptions(ksp));
    PetscLogDouble start, ready, end;
    PetscCall(PetscTime(&start));
    PetscCall(KSPSetUp(ksp));
    PetscCall(PetscTime(&ready));
    PetscInt count = 0;
    PetscInt one = 1;
    PetscCall(PetscViewerBinaryRead(viewer, &count, one, nullptr, PETSC_INT));
    double solving = 0;
    PetscInt most = 0;
    for (PetscInt k = 0; k < count; ++k) {
        PetscCall(VecLoad(b, viewer));
        PetscLogDouble from;
        PetscCall(PetscTime(&from));
        PetscCall(KSPSolve(ksp, b, x));
        PetscCall(PetscTime(&end));
        solving += end - from;
        PetscInt iterations;
        KSPConvergedReason reason;
        PetscCall(KSPGetIterationNumber(ksp, &iterations));
        PetscCall(KSPGetConvergedReason(ksp, &reason));
        if (reason <= 0) {
            std::fprintf(stderr, "not converged: %s\n", KSPConvergedReasons[reason]);
            iterations = 9999;
        }
        most = std::max(most, iterations);
    }
    double own = residentBytes(), all = 0;
    MPI_Reduce(&own, &all, 1, MPI_DOUBLE, MPI_SUM, 0, PETSC_COMM_WORLD);
    PetscCall(PetscPrintf(PETSC_COMM_WORLD, "%g %g %d %g\n", ready - start, solving, static_cast<int>(most), all));
    PetscCall(PetscFinalize());
    return 0;
}
