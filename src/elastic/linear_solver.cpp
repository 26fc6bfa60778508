#include "elastic/linear_solver.hpp"

#include <algorithm>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "elastic/direct.hpp"
#include "elastic/multigrid.hpp"

namespace escultura::elastic {
namespace {

using Vectors = std::vector<std::vector<Vec3>>;

const char* why(const SolveOptions& options, const char* automatic) {
    return options.method != Method::automatic ? ", as asked for" : automatic;
}

class Direct : public LinearSolver {
  public:
    /// Orders the unknowns; factorise() must follow.
    Direct(const System& system, const SolveOptions& options, Progress& progress)
        : system_(system), options_(options), solver_(system, progress) {}
    double factorBytes() const { return solver_.factorBytes(); }
    void factorise(Progress& progress) { solver_.factorise(progress); }

    std::string words() const override {
        return std::string("direct, sparse Cholesky (supernodal, one factorisation)") +
               why(options_, ", chosen because the model is small");
    }
    double bytes(std::size_t) const override {
        return solver_.factorBytes() + static_cast<double>(system_.matrix().bytes());
    }
    bool isExact() const override { return true; }
    void apply(int vectors, const std::vector<float>& r, std::vector<float>& z) override {
        Vectors right(static_cast<std::size_t>(vectors), std::vector<Vec3>(system_.rows()));
        for (std::size_t i = 0; i < 3 * system_.rows(); ++i)
            for (int v = 0; v < vectors; ++v) right[v][i / 3][i % 3] = r[i * vectors + v];
        const Vectors x = solver_.solve(right);
        for (std::size_t i = 0; i < 3 * system_.rows(); ++i)
            for (int v = 0; v < vectors; ++v) z[i * vectors + v] = static_cast<float>(x[v][i / 3][i % 3]);
    }
    Vectors solveExactly(const Vectors& right) override { return solver_.solve(right); }

  private:
    const System& system_;
    SolveOptions options_;
    DirectSolver solver_;
};

class MultigridSolver : public LinearSolver {
  public:
    MultigridSolver(const System& system, const SolveOptions& options, Progress& progress)
        : system_(system), options_(options), multigrid_(system, gridOptions(options), progress) {}

    std::string words() const override {
        return "conjugate gradients with multigrid, " + std::to_string(multigrid_.levelUnknowns().size()) + " levels" +
               why(options_, ", chosen because the model is large");
    }
    double bytes(std::size_t rightSides) const override {
        const double vectors = (rightSides == 1 ? 1 : 4) * 3.0 * static_cast<double>(system_.rows());
        return static_cast<double>(system_.matrix().bytes() + multigrid_.bytes()) + vectors * (4 * 8 + 2 * 4);
    }
    bool isExact() const override { return false; }
    void apply(int vectors, const std::vector<float>& r, std::vector<float>& z) override {
        multigrid_.apply(vectors, r, z);
    }

  private:
    static MultigridOptions gridOptions(const SolveOptions& options) {
        MultigridOptions m;
        m.degree = options.smootherDegree;
        return m;
    }
    const System& system_;
    SolveOptions options_;
    Multigrid multigrid_;
};

/// Null when the automatic choice finds the factor too large.
std::unique_ptr<LinearSolver> directIfItFits(const System& system, const SolveOptions& options, Progress& progress) {
    auto direct = std::make_unique<Direct>(system, options, progress);
    const double bytes = direct->factorBytes();
    if (bytes > options.memoryLimit && options.method == Method::direct)
        throw SolveError(ErrorDetail{"The direct solver would need too much memory.",
                                     {},
                                     formatNumber(static_cast<double>(system.unknowns()), 7) + " unknowns",
                                     "a factor of at most " + formatNumber(options.memoryLimit / 1e9) +
                                         " GB: use larger elements or the multigrid solver",
                                     formatNumber(bytes / 1e9) + " GB"});
    if (bytes > (options.method == Method::automatic ? options.directMemory : options.memoryLimit)) return nullptr;
    direct->factorise(progress);
    return direct;
}

}  // namespace

std::vector<std::vector<Vec3>> LinearSolver::solveExactly(const std::vector<std::vector<Vec3>>&) {
    throw SolveError("This solver has no exact inverse.");
}

std::unique_ptr<LinearSolver> chooseSolver(const System& system, const SolveOptions& options, Progress& progress) {
    const bool small = system.unknowns() <= options.directUnknowns;
    if (options.method == Method::direct || (options.method == Method::automatic && small))
        if (auto direct = directIfItFits(system, options, progress)) return direct;
    return std::make_unique<MultigridSolver>(system, options, progress);
}

Solutions::Solutions(const System& system, LinearSolver& solver, const SolveOptions& options)
    : system_(system), solver_(solver), options_(options) {
    preconditioner_ = [this](int vectors, const std::vector<float>& r, std::vector<float>& z) {
        solver_.apply(vectors, r, z);
    };
    if (!system.meanRows().empty()) means_ = std::make_unique<MeanProjection>(system, preconditioner_);
}

Vectors Solutions::solve(const Vectors& right, Progress& progress) {
    report_ = {};
    if (isExact()) {
        report_.iterations.assign(right.size(), 0);
        progress.step("Solving all load cases", 0.9);
        return solver_.solveExactly(right);
    }
    Vectors x;
    const double tolerance = solver_.isExact() ? std::min(options_.tolerance, 1e-9) : options_.tolerance;
    report_ = solveIteratively(system_, preconditioner_, means_.get(), right, x, tolerance, options_.iterationLimit,
                               progress);
    if (!report_.converged) {
        const auto& last = report_.residual.back();
        throw SolveError(ErrorDetail{"The iterative solver did not converge.",
                                     {},
                                     std::to_string(options_.iterationLimit) + " iterations",
                                     "a relative residual of " + formatNumber(options_.tolerance) +
                                         ": use the direct solver or smaller elements",
                                     formatNumber(*std::max_element(last.begin(), last.end()))});
    }
    return x;
}

}  // namespace escultura::elastic
