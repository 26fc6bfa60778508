/// @file optimise/mma.hpp
/// The method of moving asymptotes (Svanberg 1987), its subproblems solved by a primal-dual interior point method
/// (Svanberg 2002).

#pragma once
#include <Eigen/Dense>

namespace escultura::optimise {

/// Minimises f0(x) with f_i(x) <= 0 and 0 <= x <= 1, one step at a time. Few constraints, many variables. Values should
/// be scaled to about 1. A constraint that cannot be met is violated as little as possible.
class MovingAsymptotes {
  public:
    explicit MovingAsymptotes(double move) : move_(move) {}
    /// Largest change of a variable in a step.
    void setMove(double move) { move_ = move; }
    /// @param x         [n] where values and gradients are known
    /// @param gradient  [n] of f0
    /// @param f         [m]
    /// @param jacobian  [m][n] of f
    /// @return          [n] the next point
    Eigen::ArrayXd step(const Eigen::ArrayXd& x, const Eigen::ArrayXd& gradient, const Eigen::VectorXd& f,
                        const Eigen::MatrixXd& jacobian);

  private:
    double move_;
    int steps_ = 0;
    Eigen::ArrayXd low_, high_, last_, beforeLast_;
};

}  // namespace escultura::optimise
