/// @file elastic/multigrid.hpp
/// Geometric multigrid on nested background grids with Galerkin products, as a preconditioner of conjugate gradients.

#pragma once
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
    void makeTransfer(const BackgroundGrid& own, const std::vector<Vec3>& position, Level& level,
                      std::vector<std::int32_t>& leaf, Progress& progress) const;
    /// The coarsest level is solved directly. @param exact  its matrix in double precision
    void factoriseCoarsest(const BlockPattern& pattern, const std::vector<Mat3>& exact, Progress& progress);
    void cycle(std::size_t level, int vectors, const std::vector<float>& r, std::vector<float>& z);
    void smooth(Level& level, int vectors, const std::vector<float>& r, std::vector<float>& z, bool fromZero);

    const System& system_;
    MultigridOptions options_;
    std::vector<std::unique_ptr<Level>> levels_;
    std::unique_ptr<Direct> direct_;
};

}  // namespace escultura::elastic
