/// @file elastic/mean_projection.hpp
/// Held mean motions (remote supports) within an iteration.

#pragma once
#include <Eigen/Dense>
#include <functional>
#include <vector>

#include "elastic/system.hpp"

namespace escultura::elastic {

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

}  // namespace escultura::elastic
