/// @file elastic/linear_solver.hpp
/// What every solver of the equations is to those that need solutions: set up once, then any number of right-hand
/// sides. A further one is a class of its own and a line in chooseSolver().

#pragma once
#include <memory>
#include <string>
#include <vector>

#include "base/progress.hpp"
#include "elastic/conjugate_gradients.hpp"
#include "elastic/system.hpp"

namespace escultura::elastic {

enum class Method { automatic, direct, multigrid };
/// What can be asked for: by the command line, in words.
struct MethodKind {
    Method method;
    const char *key, *words;
};
inline constexpr MethodKind methodKinds[] = {{Method::automatic, "automatic", "chosen by size"},
                                             {Method::direct, "direct", "direct (sparse Cholesky)"},
                                             {Method::multigrid, "multigrid", "multigrid with conjugate gradients"}};

struct SolveOptions {
    Method method = Method::automatic;
    double tolerance = 1e-8;  ///< relative residual at which conjugate gradients stop
    int iterationLimit = 150;
    double memoryLimit = 8e9;             ///< of a direct factor, bytes
    double directMemory = 2e9;            ///< automatic: a larger predicted factor goes to multigrid, bytes
    std::size_t directUnknowns = 150000;  ///< automatic: more unknowns go to multigrid unasked
    double gridFactor = 1.25;             ///< first background grid's spacing over the local corner spacing
    int smootherDegree = 4;
};

/// A system that is set up to be solved. It refers to the system, which must outlive it.
class LinearSolver {
  public:
    virtual ~LinearSolver() = default;
    virtual std::string words() const = 0;  ///< what it is, for people
    /// Memory of matrix, factor or grids, and of the vectors of an iteration, bytes. @param rightSides  at once
    virtual double bytes(std::size_t rightSides) const = 0;
    /// Whether one application solves to rounding. Else it needs an iteration around it.
    virtual bool isExact() const = 0;
    /// z = the inverse of System::matrix() times r, exactly or nearly so, in single precision.
    /// @param vectors  1 or 4, laid out [row][component][vector]
    virtual void apply(int vectors, const std::vector<float>& r, std::vector<float>& z) = 0;
    /// The exact inverse times vectors [vectors][rows]; only of exact ones.
    virtual std::vector<std::vector<Vec3>> solveExactly(const std::vector<std::vector<Vec3>>& right);
};

/// Direct where the model is small or it is asked for and fits, else multigrid.
/// @throws SolveError when the factor that is asked for would not fit or the matrix is not positive definite, Cancelled
std::unique_ptr<LinearSolver> chooseSolver(const System& system, const SolveOptions& options, Progress& progress);

/// Solutions of several right-hand sides with what came out of the iteration. Held mean motions (System::meanRows) are
/// kept by a projection; the solutions have none, and the forces that hold them stay in the residual.
class Solutions {
  public:
    Solutions(const System& system, LinearSolver& solver, const SolveOptions& options);
    /// [vectors][rows] for right-hand sides of the same shape.
    /// @throws SolveError when an iteration does not converge, Cancelled
    std::vector<std::vector<Vec3>> solve(const std::vector<std::vector<Vec3>>& right, Progress& progress);
    /// Whether solve() goes without an iteration, so that one step of refinement pays.
    bool isExact() const { return solver_.isExact() && !means_; }
    /// Null when no mean motion is held.
    const MeanProjection* means() const { return means_.get(); }
    /// Of the last solve(). Without an iteration: zeros, and no residual.
    const IterationReport& report() const { return report_; }

  private:
    const System& system_;
    LinearSolver& solver_;
    SolveOptions options_;
    Preconditioner preconditioner_;
    std::unique_ptr<MeanProjection> means_;
    IterationReport report_;
};

}  // namespace escultura::elastic
