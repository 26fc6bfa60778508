/// @file optimise/grid.hpp
/// Linear elasticity on a grid of equal bricks whose stiffness varies from cell to cell.

#pragma once
#include <cstdint>
#include <memory>
#include <vector>

#include "base/progress.hpp"
#include "optimise/brick.hpp"

namespace escultura::optimise {

/// Equal cells, x fastest. Nodes are numbered the same way, one more along each axis.
struct Grid {
    std::array<int, 3> cells{0, 0, 0};
    Vec3 origin = Vec3::Zero();   ///< low corner, mm
    Vec3 spacing = Vec3::Ones();  ///< edge lengths of a cell, mm
    std::size_t cellCount() const { return static_cast<std::size_t>(cells[0]) * cells[1] * cells[2]; }
    std::size_t nodeCount() const { return (cells[0] + std::size_t(1)) * (cells[1] + 1) * (cells[2] + 1); }
    std::size_t cell(int i, int j, int k) const {
        return static_cast<std::size_t>(i) +
               static_cast<std::size_t>(cells[0]) * (j + static_cast<std::size_t>(cells[1]) * k);
    }
    std::size_t node(int i, int j, int k) const {
        return static_cast<std::size_t>(i) +
               (cells[0] + std::size_t(1)) * (j + (cells[1] + std::size_t(1)) * static_cast<std::size_t>(k));
    }
    std::array<int, 3> cellAt(std::size_t c) const {
        const std::size_t nx = cells[0], ny = cells[1];
        return {static_cast<int>(c % nx), static_cast<int>(c / nx % ny), static_cast<int>(c / (nx * ny))};
    }
    std::array<int, 3> nodeAt(std::size_t n) const {
        const std::size_t nx = cells[0] + 1, ny = cells[1] + 1;
        return {static_cast<int>(n % nx), static_cast<int>(n / nx % ny), static_cast<int>(n / (nx * ny))};
    }
    Vec3 centre(std::size_t c) const {
        const auto p = cellAt(c);
        return origin + spacing.cwiseProduct(Vec3(p[0] + 0.5, p[1] + 0.5, p[2] + 0.5));
    }
    Vec3 position(std::size_t n) const {
        const auto p = nodeAt(n);
        return origin + spacing.cwiseProduct(Vec3(p[0], p[1], p[2]));
    }
    /// Node of a corner of a cell; bit a of the corner: at the high side along a.
    std::size_t corner(std::size_t c, unsigned corner) const {
        const auto p = cellAt(c);
        return node(p[0] + static_cast<int>(corner & 1U), p[1] + static_cast<int>(corner >> 1 & 1U),
                    p[2] + static_cast<int>(corner >> 2));
    }
};

/// A node that does not move along a direction (unless a case gives it a displacement).
struct Hold {
    std::size_t node = 0;
    Vec3 direction = Vec3::UnitX();  ///< unit vector
};
/// A node on springs to the ground.
struct Spring {
    std::size_t node = 0;
    Mat3 stiffness = Mat3::Zero();  ///< N/mm, symmetric, not negative
};

struct SolveReport {
    int iterations = 0;
    double residual = 0;  ///< over the right-hand side
};

/// Solves K u = f with K the sum of the cells' stiffnesses: matrix-free conjugate gradients in double precision with a
/// Galerkin multigrid cycle in single precision (Chebyshev smoothing of degree 2 on 3 x 3 block Jacobi, sparse Cholesky
/// at the coarsest level). The number of iterations hardly depends on size and contrast. Holds are met exactly: the
/// equations are projected onto the displacements that they allow, on the coarse grids too.
class GridSolver {
  public:
    /// @param empty  [cells] 1: never any material there
    /// @param youngsModulus  MPa at a stiffness factor of 1
    GridSolver(const Grid& grid, const std::vector<char>& empty, double youngsModulus, double poissonsRatio,
               std::vector<Hold> holds, const std::vector<Spring>& springs);
    ~GridSolver();

    /// Sets the cells' stiffness factors and makes the coarse grids. @param factor  [cells] above 0 where not empty
    void setFactors(const std::vector<double>& factor, Progress& progress);
    /// K u for any u, without regard to holds. [nodes] N
    void multiply(const std::vector<Vec3>& u, std::vector<Vec3>& f) const;
    /// Takes out of forces or displacements what acts along holds.
    void project(std::vector<Vec3>& v) const;
    /// Twice the strain energy of each cell at a stiffness factor of 1; 0 in empty ones. [cells] N mm
    void energies(const std::vector<Vec3>& u, std::vector<double>& energy) const;

    /// Solves for displacements that are zero along the holds. Thread-safe between calls of setFactors().
    /// @param f  [nodes] N; what acts along holds goes into them
    /// @param u  [nodes] mm; where it starts from, and the solution
    /// @throws Cancelled
    SolveReport solve(const std::vector<Vec3>& f, std::vector<Vec3>& u, double tolerance, int limit,
                      Progress& progress) const;
    std::size_t bytes() const;

  private:
    struct Fine;
    struct Coarse;
    struct Direct;
    struct Work;
    struct Steps;
    void factoriseCoarsest();
    void cycle(Work& work) const;
    void coarseCycle(std::size_t level, Work& work) const;

    std::unique_ptr<Fine> fine_;
    std::vector<std::unique_ptr<Coarse>> coarse_;
    std::unique_ptr<Direct> direct_;
};

}  // namespace escultura::optimise
