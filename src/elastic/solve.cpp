#include "elastic/solve.hpp"

#include <cholmod.h>

#include <Eigen/Dense>
#include <algorithm>
#include <atomic>
#include <chrono>
#include <cmath>
#include <condition_variable>
#include <exception>
#include <memory>
#include <mutex>
#include <thread>

#include "base/error.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"

namespace escultura::elastic {
namespace {

using Block = Eigen::Matrix3d;

/// Symmetric matrix of 3x3 blocks; rows sorted, both triangles kept.
struct BlockMatrix {
    std::vector<std::int64_t> offset;  // [nodes + 1]
    std::vector<std::int32_t> column;
    std::vector<Block> value;

    std::int64_t find(std::int32_t row, std::int32_t col) const {
        return std::lower_bound(column.begin() + offset[row], column.begin() + offset[row + 1], col) - column.begin();
    }
    void multiply(const std::vector<Vec3>& x, std::vector<Vec3>& y) const {
        parallelFor(y.size(), [&](std::size_t i) {
            Vec3 sum = Vec3::Zero();
            for (auto at = offset[i]; at < offset[i + 1]; ++at) sum += value[at] * x[column[at]];
            y[i] = sum;
        });
    }
};

using ElementMatrix = std::array<Block, 55>;  // upper triangle of 10 x 10 blocks, by rows

/// Element stiffness with the four-point rule, exact for straight elements.
void elementStiffness(const mesh::TetMesh& mesh, std::size_t e, double lambda, double mu, ElementMatrix& k) {
    static const double a = 0.585410196624969, b = 0.138196601125011;
    static const Vec3 point[4] = {Vec3(b, b, b), Vec3(a, b, b), Vec3(b, a, b), Vec3(b, b, a)};
    for (Block& block : k) block.setZero();
    for (const Vec3& xi : point) {
        Vec3 d[10];
        mesh::shapeDerivatives(xi, d);
        Mat3 j = Mat3::Zero();
        for (int n = 0; n < 10; ++n) j += mesh.position[mesh.tet[e][n]] * d[n].transpose();
        const double weight = j.determinant() / 24;
        const Mat3 inverse = j.inverse().transpose();
        for (int n = 0; n < 10; ++n) d[n] = inverse * d[n];
        int at = 0;
        for (int n = 0; n < 10; ++n)
            for (int m = n; m < 10; ++m, ++at) {
                Block& block = k[at];
                block.noalias() += (weight * lambda) * d[n] * d[m].transpose();
                block.noalias() += (weight * mu) * d[m] * d[n].transpose();
                block.diagonal().array() += weight * mu * d[n].dot(d[m]);
            }
    }
}

BlockMatrix assemble(const mesh::TetMesh& mesh, const Material& material, Progress& progress) {
    const std::size_t nodes = mesh.position.size();
    BlockMatrix k;
    {
        std::vector<std::int32_t> start(nodes + 1, 0), elements;
        for (const auto& t : mesh.tet)
            for (auto n : t) ++start[n + 1];
        for (std::size_t n = 0; n < nodes; ++n) start[n + 1] += start[n];
        elements.resize(start.back());
        std::vector<std::int32_t> next(start.begin(), start.end() - 1);
        for (std::size_t e = 0; e < mesh.tet.size(); ++e)
            for (auto n : mesh.tet[e]) elements[next[n]++] = static_cast<std::int32_t>(e);
        std::vector<std::vector<std::int32_t>> rows(nodes);
        parallelFor(nodes, [&](std::size_t n) {
            auto& row = rows[n];
            for (auto at = start[n]; at < start[n + 1]; ++at)
                row.insert(row.end(), mesh.tet[elements[at]].begin(), mesh.tet[elements[at]].end());
            std::sort(row.begin(), row.end());
            row.erase(std::unique(row.begin(), row.end()), row.end());
        });
        k.offset.assign(nodes + 1, 0);
        for (std::size_t n = 0; n < nodes; ++n)
            k.offset[n + 1] = k.offset[n] + static_cast<std::int64_t>(rows[n].size());
        k.column.resize(k.offset.back());
        parallelFor(nodes,
                    [&](std::size_t n) { std::copy(rows[n].begin(), rows[n].end(), k.column.begin() + k.offset[n]); });
        k.value.assign(k.column.size(), Block::Zero());
    }
    const double mu = material.youngsModulus / (2 * (1 + material.poissonsRatio));
    const double lambda = material.youngsModulus * material.poissonsRatio /
                          ((1 + material.poissonsRatio) * (1 - 2 * material.poissonsRatio));
    constexpr std::size_t chunk = 4096;
    std::vector<ElementMatrix> matrices(chunk);
    for (std::size_t begin = 0; begin < mesh.tet.size(); begin += chunk) {
        progress.step("Assembling the stiffness", static_cast<double>(begin) / mesh.tet.size());
        const std::size_t count = std::min(chunk, mesh.tet.size() - begin);
        parallelFor(
            count, [&](std::size_t i) { elementStiffness(mesh, begin + i, lambda, mu, matrices[i]); }, 64);
        for (std::size_t i = 0; i < count; ++i) {  // in order: the same sums for any number of threads
            const auto& t = mesh.tet[begin + i];
            int at = 0;
            for (int n = 0; n < 10; ++n)
                for (int m = n; m < 10; ++m, ++at) {
                    k.value[k.find(t[n], t[m])] += matrices[i][at];
                    if (m != n) k.value[k.find(t[m], t[n])] += matrices[i][at].transpose();
                }
        }
    }
    return k;
}

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
    void load(const BlockMatrix& k, const std::vector<std::int32_t>& number, std::size_t unknowns) {
        std::vector<std::int64_t> count(unknowns + 1, 0);
        auto forEntries = [&](auto visit) {
            for (std::size_t row = 0; row + 1 < k.offset.size(); ++row)
                for (auto at = k.offset[row]; at < k.offset[row + 1]; ++at)
                    for (int a = 0; a < 3; ++a) {
                        const auto i = number[3 * row + a];
                        if (i < 0) continue;
                        for (int b = 0; b < 3; ++b) {
                            const auto j = number[3 * static_cast<std::size_t>(k.column[at]) + b];
                            if (j >= i) visit(i, j, k.value[at](a, b));  // column i, row j: ascending in j
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
    void order(double memoryLimit) {
        factor_ = cholmod_l_analyze(matrix_, &common_);
        check("the ordering");
        const double bytes =
            8.0 * static_cast<double>(factor_->is_super ? static_cast<double>(factor_->xsize) : common_.lnz);
        if (bytes > memoryLimit) {
            throw SolveError(
                ErrorDetail{"The direct solver would need too much memory.",
                            {},
                            formatNumber(static_cast<double>(matrix_->nrow), 7) + " unknowns",
                            "a factor of at most " + formatNumber(memoryLimit / 1e9) + " GB: use larger elements",
                            formatNumber(bytes / 1e9) + " GB"});
        }
    }
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
    double nonzeros() const { return common_.lnz; }

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

/// The six rigid motions at a point: three translations, three rotations about the centre scaled by `size`.
Eigen::Matrix<double, 3, 6> rigidMotions(const Vec3& p, const Vec3& centre, double size) {
    const Vec3 r = (p - centre) / size;
    Eigen::Matrix<double, 3, 6> m;
    m.leftCols<3>().setIdentity();
    m.col(3) = Vec3::UnitX().cross(r);
    m.col(4) = Vec3::UnitY().cross(r);
    m.col(5) = Vec3::UnitZ().cross(r);
    return m;
}

}  // namespace

void waitForAbandonedSolutions() {
    while (abandoned > 0) std::this_thread::sleep_for(std::chrono::milliseconds(20));
}

std::vector<std::string> freeMotions(const mesh::TetMesh& mesh, const std::vector<Constraint>& constraints) {
    Box3 box;
    for (std::size_t i = 0; i < mesh.cornerCount; ++i) box.include(mesh.position[i]);
    const double size = std::max(0.5 * box.diagonal(), 1e-9);
    Eigen::Matrix<double, 6, 6> gram = Eigen::Matrix<double, 6, 6>::Zero();
    for (const Constraint& c : constraints) {
        const Eigen::Matrix<double, 1, 6> row =
            rigidMotions(mesh.position[c.node], box.centre(), size).row(c.component);
        gram += row.transpose() * row;
    }
    if (!constraints.empty()) gram /= static_cast<double>(constraints.size());
    const Eigen::SelfAdjointEigenSolver<Eigen::Matrix<double, 6, 6>> eigen(gram);
    std::vector<std::string> names;
    for (int k = 0; k < 6; ++k) {
        if (eigen.eigenvalues()[k] > 1e-8) continue;
        const Eigen::Matrix<double, 6, 1> v = eigen.eigenvectors().col(k);
        const bool turns = v.tail<3>().norm() > 0.5 * v.head<3>().norm();
        Vec3 d = turns ? Vec3(v.tail<3>()) : Vec3(v.head<3>());
        d.normalize();
        int largest = 0;
        d.cwiseAbs().maxCoeff(&largest);
        if (d[largest] < 0) d = -d;
        auto part = [](double x) { return formatNumber(std::round(100 * x) / 100 + 0.0, 2); };
        names.push_back((turns ? "rotation about (" : "translation along (") + part(d[0]) + ", " + part(d[1]) + ", " +
                        part(d[2]) + ")");
    }
    return names;
}

Solution solve(const mesh::TetMesh& mesh, const Material& material, const std::vector<Constraint>& constraints,
               const std::vector<NodalForces>& loads, Progress& progress, double memoryLimit) {
    const auto free = freeMotions(mesh, constraints);
    if (!free.empty()) {
        std::string found;
        for (const auto& f : free) found += (found.empty() ? "" : ", ") + f;
        throw InputError(ErrorDetail{"The supports leave the part free to move.",
                                     {},
                                     "supports",
                                     "all six rigid motions held",
                                     "free: " + found});
    }
    const std::size_t nodes = mesh.position.size(), cases = loads.size();
    BlockMatrix k = assemble(mesh, material, progress);

    std::vector<std::int32_t> number(3 * nodes, 0);
    std::vector<double> given(3 * nodes, 0.0);
    for (const Constraint& c : constraints) {
        number[3 * static_cast<std::size_t>(c.node) + c.component] = -1;
        given[3 * static_cast<std::size_t>(c.node) + c.component] = c.value;
    }
    std::size_t unknowns = 0;
    for (auto& n : number)
        if (n == 0) n = static_cast<std::int32_t>(unknowns++);

    Solution solution;
    solution.unknowns = unknowns;
    solution.cases.resize(cases);
    const auto shared = std::make_shared<Cholesky>();
    Cholesky& cholesky = *shared;
    cholesky.load(k, number, unknowns);
    progress.step("Ordering the unknowns");
    runApart(shared, progress, [memoryLimit](Cholesky& c) { c.order(memoryLimit); });
    progress.step("Factorising", 0.1);
    runApart(shared, progress, [](Cholesky& c) { c.factorise(); });
    solution.solver = "direct, sparse Cholesky (supernodal, one factorisation)";
    solution.factorNonzeros = cholesky.nonzeros();

    std::vector<std::vector<Vec3>> u(cases, std::vector<Vec3>(nodes)), force(cases, std::vector<Vec3>(nodes));
    for (auto& x : u)
        for (std::size_t i = 0; i < 3 * nodes; ++i) x[i / 3][i % 3] = given[i];
    Eigen::MatrixXd right(unknowns, cases);
    auto residual = [&] {  // f - K u on the free unknowns
        for (std::size_t c = 0; c < cases; ++c) {
            k.multiply(u[c], force[c]);
            for (std::size_t i = 0; i < 3 * nodes; ++i)
                if (number[i] >= 0) right(number[i], c) = loads[c][i / 3][i % 3] - force[c][i / 3][i % 3];
        }
    };
    residual();
    Eigen::VectorXd size(cases);
    for (std::size_t c = 0; c < cases; ++c) size[c] = std::max(right.col(c).norm(), 1e-300);
    for (int pass = 0; pass < 2; ++pass) {  // the second is the refinement
        progress.step("Solving all load cases", 0.9 + 0.05 * pass);
        const Eigen::MatrixXd x = cholesky.solve(right);
        for (std::size_t c = 0; c < cases; ++c)
            for (std::size_t i = 0; i < 3 * nodes; ++i)
                if (number[i] >= 0) u[c][i / 3][i % 3] += x(number[i], c);
        residual();
    }
    Box3 box;
    for (const Vec3& p : mesh.position) box.include(p);
    for (std::size_t c = 0; c < cases; ++c) {
        CaseSolution& s = solution.cases[c];
        s.residual = right.col(c).norm() / size[c];
        s.reaction.assign(nodes, Vec3::Zero());
        for (std::size_t i = 0; i < 3 * nodes; ++i)
            if (number[i] < 0) s.reaction[i / 3][i % 3] = force[c][i / 3][i % 3] - loads[c][i / 3][i % 3];
        for (std::size_t i = 0; i < nodes; ++i) s.strainEnergy += 0.5 * u[c][i].dot(force[c][i]);
        s.displacement = std::move(u[c]);
        s.applied = resultant(mesh, loads[c], Vec3::Zero());
        s.reactions = resultant(mesh, s.reaction, Vec3::Zero());
        // relative to the sum of the forces' sizes, so that a self-balanced load has an error too
        double total = 0;
        for (std::size_t i = 0; i < nodes; ++i) total += loads[c][i].norm();
        for (std::size_t i = 0; i < nodes; ++i) total += total > 0 ? 0 : s.reaction[i].norm();
        if (s.applied.force.norm() > 1e-6 * total) total = s.applied.force.norm();
        if (total > 0)
            s.equilibriumError = std::max((s.applied.force + s.reactions.force).norm() / total,
                                          (s.applied.moment + s.reactions.moment).norm() / (total * box.diagonal()));
    }
    return solution;
}

}  // namespace escultura::elastic
