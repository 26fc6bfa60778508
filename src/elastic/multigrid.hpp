/// @file elastic/multigrid.hpp
/// Geometric multigrid on nested background grids with Galerkin products, as a preconditioner of conjugate gradients.

#pragma once
#include <Eigen/Dense>
#include <functional>
#include <memory>
#include <string>

#include "base/progress.hpp"
#include "elastic/system.hpp"

namespace escultura::elastic {

struct MultigridOptions {
    int degree = 4;               ///< of the Chebyshev smoother
    std::size_t coarsest = 4000;  ///< unknowns of the level that is solved directly
};

/// One V-cycle in single precision (Hackbusch and Sauter 1997; fourth-kind Chebyshev smoothing on 3x3 block Jacobi,
/// Lottes 2022). The first coarse space is the trilinear interpolation of a grid laid over the part, which holds the
/// rigid motions; the next ones are the same grid coarsened by two.
class Multigrid {
  public:
    /// @param system  built with a grid; it must outlive this
    Multigrid(const System& system, const MultigridOptions& options, Progress& progress);
    ~Multigrid();

    /// z = approximate inverse times r, for 1 or 4 vectors. [rows][component][vector]
    void apply(int vectors, const std::vector<float>& r, std::vector<float>& z);
    std::size_t bytes() const;
    std::vector<std::size_t> levelUnknowns() const;  ///< finest first

  private:
    struct Level;
    struct Direct;
    void cycle(std::size_t level, int vectors, const std::vector<float>& r, std::vector<float>& z);
    void smooth(Level& level, int vectors, const std::vector<float>& r, std::vector<float>& z, bool fromZero);

    const System& system_;
    MultigridOptions options_;
    std::vector<std::unique_ptr<Level>> levels_;
    std::unique_ptr<Direct> direct_;
};

/// What conjugate gradients did.
struct IterationReport {
    std::vector<int> iterations;               ///< [vectors] until its residual was small enough
    std::vector<std::vector<float>> residual;  ///< [iterations + 1][vectors] relative to the right-hand side
    bool converged = true;
};

/// An approximate inverse of System::matrix(), for 1 or 4 vectors laid out [row][component][vector].
using Preconditioner = std::function<void(int vectors, const std::vector<float>& r, std::vector<float>& z)>;

/// Keeps conjugate gradients within the displacements whose held mean motions are zero, B x = 0 (constraint
/// preconditioner; Gould, Hribar and Nocedal 2001): z - Z (B Z)^-1 B z with Z = M^-1 B^T, and r - B^T (B B^T)^-1 B r.
class MeanProjection {
  public:
    /// @param system  with mean rows; it must outlive this
    MeanProjection(const System& system, const Preconditioner& preconditioner);

    /// z within B z = 0. @param z  [row][component][vector]
    void projectStep(int vectors, std::vector<double>& z) const;
    /// r without the forces that hold the mean motions.
    void projectResidual(int vectors, std::vector<double>& r) const;
    /// A displacement with B x = wanted.
    std::vector<Vec3> particular(const Eigen::VectorXd& wanted) const;
    /// B x.
    Eigen::VectorXd meanOf(const std::vector<Vec3>& x) const;

  private:
    Eigen::MatrixXd rowsTimes(int vectors, const std::vector<double>& x) const;

    const System& system_;
    std::vector<std::vector<double>> step_;  ///< Z, [means][rows * 3]
    Eigen::CompleteOrthogonalDecomposition<Eigen::MatrixXd> ofStep_, ofRows_;
};

/// Solves A x = b for several right-hand sides by preconditioned conjugate gradients, each with its own coefficients,
/// the products shared. Reports the residual through Progress::record("residual", ...).
/// @param b      [vectors][rows]; x starts at zero
/// @param means  null: no mean motion is held. Else the stiffness without System::subtractBed()'s bed is inverted on
///               the displacements that the projection keeps to
IterationReport solveIteratively(const System& system, const Preconditioner& preconditioner,
                                 const MeanProjection* means, const std::vector<std::vector<Vec3>>& b,
                                 std::vector<std::vector<Vec3>>& x, double tolerance, int limit, Progress& progress);

}  // namespace escultura::elastic
