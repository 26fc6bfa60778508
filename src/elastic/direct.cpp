#include "elastic/direct.hpp"

#include <cholmod.h>
#include <dlfcn.h>

#include <Eigen/Dense>
#include <atomic>
#include <chrono>
#include <condition_variable>
#include <exception>
#include <memory>
#include <mutex>
#include <thread>

#include "base/error.hpp"
#include "base/quantity.hpp"

namespace escultura::elastic {
namespace {

std::atomic<int> abandoned{0};

/// Runs work that cannot be interrupted on a thread of its own, so that cancelling takes effect at once: the thread
/// then ends alone, and `owner` keeps what it uses alive.
template <class Owner, class Work>
void runApart(const std::shared_ptr<Owner>& owner, Progress& progress, const Work& work) {
    struct State {
        std::mutex mutex;
        std::condition_variable ended;
        bool done = false;
        std::exception_ptr error;
    };
    auto state = std::make_shared<State>();
    ++abandoned;
    std::thread([state, keep = std::shared_ptr<Owner>(owner), work]() mutable {
        std::exception_ptr error;
        try {
            work(*keep);
        } catch (...) {
            error = std::current_exception();
        }
        keep.reset();
        {
            const std::lock_guard lock(state->mutex);
            state->done = true;
            state->error = error;
        }
        state->ended.notify_all();
        --abandoned;
    }).detach();
    std::unique_lock lock(state->mutex);
    while (!state->ended.wait_for(lock, std::chrono::milliseconds(50), [&] { return state->done; })) progress.check();
    if (state->error) std::rethrow_exception(state->error);
}

/// CHOLMOD's workspace and factor, released together.
class Cholesky {
  public:
    Cholesky() {
        cholmod_l_start(&common_);
        common_.supernodal = CHOLMOD_SUPERNODAL;
        common_.nmethods = 1;
        common_.method[0].ordering = CHOLMOD_METIS;
        common_.postorder = 1;
        common_.print = 0;
        common_.try_catch = 1;
    }
    ~Cholesky() {
        cholmod_l_free_factor(&factor_, &common_);
        cholmod_l_free_sparse(&matrix_, &common_);
        cholmod_l_finish(&common_);
    }
    Cholesky(const Cholesky&) = delete;
    Cholesky& operator=(const Cholesky&) = delete;

    /// Lower triangle (by columns) of the free unknowns.
    void load(const SplitBlocks& k, const std::vector<std::int32_t>& number, std::size_t unknowns) {
        std::vector<std::int64_t> count(unknowns + 1, 0);
        auto forEntries = [&](auto visit) {
            for (std::size_t row = 0; row < k.pattern.rows(); ++row)
                for (auto at = k.pattern.offset[row]; at < k.pattern.offset[row + 1]; ++at) {
                    const Mat3 block = k.block(at);
                    for (int a = 0; a < 3; ++a) {
                        const auto i = number[3 * row + a];
                        if (i < 0) continue;
                        for (int b = 0; b < 3; ++b) {
                            const auto j = number[3 * static_cast<std::size_t>(k.pattern.column[at]) + b];
                            if (j >= i) visit(i, j, block(a, b));  // column i, row j: ascending in j
                        }
                    }
                }
        };
        forEntries([&](auto i, auto, double) { ++count[i + 1]; });
        for (std::size_t i = 0; i < unknowns; ++i) count[i + 1] += count[i];
        matrix_ = cholmod_l_allocate_sparse(unknowns, unknowns, count.back(), 1, 1, -1, CHOLMOD_REAL, &common_);
        check("the matrix");
        auto* p = static_cast<SuiteSparse_long*>(matrix_->p);
        auto* rows = static_cast<SuiteSparse_long*>(matrix_->i);
        auto* x = static_cast<double*>(matrix_->x);
        for (std::size_t i = 0; i <= unknowns; ++i) p[i] = count[i];
        forEntries([&](auto i, auto j, double v) {
            rows[count[i]] = j;
            x[count[i]++] = v;
        });
    }
    void order() {
        // one at a time: the ordering draws from the process's random numbers, and orderings side by side would draw
        // each other's, so that the same part would not give the same bits
        static std::mutex one;
        const std::lock_guard lock(one);
        factor_ = cholmod_l_analyze(matrix_, &common_);
        check("the ordering");
    }
    double factorBytes() const { return 8.0 * (factor_->is_super ? static_cast<double>(factor_->xsize) : common_.lnz); }
    void factorise() {
        cholmod_l_factorize(matrix_, factor_, &common_);
        if (common_.status == CHOLMOD_NOT_POSDEF || factor_->minor < factor_->n) {
            throw SolveError(
                ErrorDetail{"The stiffness matrix is not positive definite.",
                            {},
                            {},
                            "a part that its supports hold everywhere",
                            "an unknown without stiffness (number " + std::to_string(factor_->minor) + ")"});
        }
        check("the factorisation");
    }
    Eigen::MatrixXd solve(Eigen::MatrixXd& right) {
        cholmod_dense b{};
        b.nrow = right.rows();
        b.ncol = right.cols();
        b.nzmax = right.size();
        b.d = right.rows();
        b.x = right.data();
        b.xtype = CHOLMOD_REAL;
        b.dtype = CHOLMOD_DOUBLE;
        cholmod_dense* x = cholmod_l_solve(CHOLMOD_A, factor_, &b, &common_);
        check("the solution");
        Eigen::MatrixXd result = Eigen::Map<Eigen::MatrixXd>(static_cast<double*>(x->x), right.rows(), right.cols());
        cholmod_l_free_dense(&x, &common_);
        return result;
    }

  private:
    void check(const char* what) const {
        if (common_.status == CHOLMOD_OUT_OF_MEMORY || common_.status == CHOLMOD_TOO_LARGE)
            throw SolveError(std::string("There is not enough memory for ") + what + ": use larger elements.");
        if (common_.status < CHOLMOD_OK) throw SolveError(std::string("The direct solver failed at ") + what + ".");
    }
    cholmod_common common_{};
    cholmod_sparse* matrix_ = nullptr;
    cholmod_factor* factor_ = nullptr;
};

}  // namespace

void waitForAbandonedSolutions() {
    while (abandoned > 0) std::this_thread::sleep_for(std::chrono::milliseconds(20));
}

namespace {
/// A function of the BLAS library that is loaded; null when it has none of this name.
template <class Function>
Function* blasFunction(const char* name) {
    return reinterpret_cast<Function*>(dlsym(RTLD_DEFAULT, name));
}
}  // namespace

namespace {
std::atomic<int> apart = 0;  // OneThreadEach alive

/// A number of threads that the size alone decides: sums are split by it, and the same part must give the same bits on
/// any number of cores.
void fixThreads(std::size_t unknowns) {
    if (apart > 0) return;
    if (auto* set = blasFunction<void(int)>("openblas_set_num_threads")) set(unknowns > 300000 ? 2 : 1);
}
}  // namespace

OneThreadEach::OneThreadEach() {
    ++apart;
    auto* threads = blasFunction<int()>("openblas_get_num_threads");
    auto* set = blasFunction<void(int)>("openblas_set_num_threads");
    if (!threads || !set) return;
    before_ = threads();
    set(1);
}

OneThreadEach::~OneThreadEach() {
    --apart;
    if (before_ > 0) blasFunction<void(int)>("openblas_set_num_threads")(before_);
}

struct DirectSolver::Inside {
    std::shared_ptr<Cholesky> cholesky = std::make_shared<Cholesky>();
    std::vector<std::int32_t> number;  // [rows * 3]; -1: held
    std::size_t unknowns = 0;
};

DirectSolver::DirectSolver(const System& system, Progress& progress) : inside_(std::make_unique<Inside>()) {
    inside_->number.assign(3 * system.rows(), -1);
    for (std::size_t r = 0; r < system.rows(); ++r)
        for (int k = 0; k < 3; ++k)
            if (system.row(r).freeMask >> k & 1)
                inside_->number[3 * r + k] = static_cast<std::int32_t>(inside_->unknowns++);
    inside_->cholesky->load(system.matrix(), inside_->number, inside_->unknowns);
    progress.step("Ordering the unknowns");
    runApart(inside_->cholesky, progress, [](Cholesky& c) { c.order(); });
}

DirectSolver::~DirectSolver() = default;

double DirectSolver::factorBytes() const {
    return inside_->cholesky->factorBytes();
}

void DirectSolver::factorise(Progress& progress) {
    progress.step("Factorising", 0.1);
    fixThreads(inside_->unknowns);
    runApart(inside_->cholesky, progress, [](Cholesky& c) { c.factorise(); });
}

std::vector<std::vector<Vec3>> DirectSolver::solve(const std::vector<std::vector<Vec3>>& right) {
    const auto& number = inside_->number;
    Eigen::MatrixXd b(inside_->unknowns, right.size());
    for (std::size_t c = 0; c < right.size(); ++c)
        for (std::size_t i = 0; i < number.size(); ++i)
            if (number[i] >= 0) b(number[i], static_cast<Eigen::Index>(c)) = right[c][i / 3][i % 3];
    fixThreads(inside_->unknowns);
    const Eigen::MatrixXd x = inside_->cholesky->solve(b);
    std::vector<std::vector<Vec3>> u(right.size(), std::vector<Vec3>(number.size() / 3, Vec3::Zero()));
    for (std::size_t c = 0; c < right.size(); ++c)
        for (std::size_t i = 0; i < number.size(); ++i)
            if (number[i] >= 0) u[c][i / 3][i % 3] = x(number[i], static_cast<Eigen::Index>(c));
    return u;
}

}  // namespace escultura::elastic
