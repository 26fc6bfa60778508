/// @file elastic/direct.hpp
/// Direct solution by supernodal sparse Cholesky factorisation.

#pragma once
#include <memory>
#include <vector>

#include "base/progress.hpp"
#include "elastic/system.hpp"

namespace escultura::elastic {

/// Ordering at construction, so that its memory is known before the factorisation starts. Ordering and factorisation
/// cannot be stopped half way: when cancelled they end in the background and their result is dropped.
class DirectSolver {
  public:
    DirectSolver(const System& system, Progress& progress);
    ~DirectSolver();
    /// Memory that the factor will take, bytes.
    double factorBytes() const;
    /// @throws SolveError when the matrix is not positive definite or memory runs out, Cancelled
    void factorise(Progress& progress);
    /// Unknowns [vectors][rows] for forces of the same shape.
    std::vector<std::vector<Vec3>> solve(const std::vector<std::vector<Vec3>>& right);

  private:
    struct Inside;
    std::unique_ptr<Inside> inside_;
};

/// Waits for direct solutions that were cancelled while the factorisation ran. Call it before the process ends.
void waitForAbandonedSolutions();

/// While it lives factorisations use one thread each: several that run side by side would wait for each other's. Where
/// the linear algebra library cannot be told, nothing happens.
class OneThreadEach {
  public:
    OneThreadEach();
    ~OneThreadEach();
    OneThreadEach(const OneThreadEach&) = delete;
    OneThreadEach& operator=(const OneThreadEach&) = delete;

  private:
    int before_ = 0;
};

}  // namespace escultura::elastic
