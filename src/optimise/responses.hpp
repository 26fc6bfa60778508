/// @file optimise/responses.hpp
/// What a design does under its loads, each figure with its gradient by the densities.

#pragma once
#include <memory>

#include "optimise/grid.hpp"
#include "optimise/problem.hpp"

namespace escultura::optimise {

/// A figure and its gradient by the densities. [cells]
struct Response {
    double value = 0;
    std::vector<double> gradient;
};

/// Solves the cases for one design after another, each starting from the last one's displacements. Stiffness follows
/// the density by its third power (Bendsoe and Sigmund 1999), from 1e-7 up.
class Responses {
  public:
    explicit Responses(const Problem& problem, double tolerance);
    ~Responses();

    /// @param density  [cells]. @return iterations of all cases. @throws InputError, Cancelled
    int solve(const std::vector<double>& density, Progress& progress);
    /// Work of the loads, N mm: twice the strain energy under forces; with given displacements it counts against it, so
    /// that less is stiffer in either case.
    Response compliance(std::size_t loadCase) const;
    /// Share of the problem's volume that is material.
    Response share() const;
    /// p-norm (8) of the von Mises stress at the cells' centres over the allowable one, with the square root of the
    /// density as relaxation (Bruggi 2008; Le and others 2010). Solves the adjoint equations.
    /// @param largest  receives the largest of the cells
    Response stress(std::size_t loadCase, double allowable, double* largest, Progress& progress);
    /// The largest of the cells alone.
    double largestStress(std::size_t loadCase, double allowable) const;
    const std::vector<Vec3>& displacements(std::size_t loadCase) const { return displacement_[loadCase]; }

  private:
    /// Deviator of the stress at a cell's centre, of solid material, MPa.
    Mat3 deviatorAt(const std::vector<Vec3>& u, std::size_t cell) const;
    /// Relaxed von Mises stress over the allowable one; 0 where it is not judged. [cells]
    std::vector<double> relaxedStress(const std::vector<Vec3>& u, double allowable) const;
    void bodyForces(const GridCase& loadCase, std::vector<Vec3>& forces) const;
    /// Adds factor times (v . body force of each cell) by the densities.
    void addBodyForceGradient(const GridCase& loadCase, const std::vector<Vec3>& v, double factor,
                              std::vector<double>& gradient) const;

    const Problem& problem_;
    double tolerance_;
    std::unique_ptr<GridSolver> solver_;
    std::vector<double> density_, factor_, slope_;
    std::vector<std::vector<Vec3>> displacement_, given_, force_, adjoint_;
};

}  // namespace escultura::optimise
