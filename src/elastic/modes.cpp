/// Block Lanczos iteration on the inverse of the stiffness (Grimes, Lewis and Simon 1994, without shifts): the wanted
/// pairs of A x = m K x are those of largest m. The basis is kept orthogonal in the product of K; the blocks have four
/// vectors, which is what the solvers take at once.

#include "elastic/modes.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <numbers>
#include <random>

#include "base/error.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"
#include "elastic/loads.hpp"
#include "elastic/stress.hpp"

namespace escultura::elastic {
namespace {

using Vector = std::vector<Vec3>;
using Vectors = std::vector<Vector>;
/// Four vectors of unknowns, laid out [row][component][vector].
using Block = std::vector<double>;
using Four = Eigen::Matrix4d;

constexpr int width = 4;
constexpr int mostBlocks = 40;

/// Products of each vector of one block with each of another.
Four products(const Block& a, const Block& b) {
    return orderedSum(a.size() / width, Four(Four::Zero()), [&](std::size_t i) -> Four {
        const Eigen::Map<const Eigen::RowVector4d> left(&a[width * i]), right(&b[width * i]);
        return left.transpose() * right;
    });
}
/// a += b c
void addProduct(Block& a, const Block& b, const Four& c) {
    parallelFor(
        a.size() / width,
        [&](std::size_t i) {
            Eigen::Map<Eigen::RowVector4d>(&a[width * i]) += Eigen::Map<const Eigen::RowVector4d>(&b[width * i]) * c;
        },
        4096);
}
/// a = a c
void multiplyBy(Block& a, const Four& c) {
    parallelFor(
        a.size() / width,
        [&](std::size_t i) {
            Eigen::Map<Eigen::RowVector4d> row(&a[width * i]);
            row = (row * c).eval();
        },
        4096);
}
Block product(const SplitBlocks& matrix, const Block& x) {
    Block y(x.size());
    multiply(matrix, width, x.data(), y.data());
    return y;
}
Vectors vectorsOf(const Block& block) {
    Vectors v(width, Vector(block.size() / (3 * width)));
    for (std::size_t i = 0; i < block.size() / width; ++i)
        for (int k = 0; k < width; ++k) v[static_cast<std::size_t>(k)][i / 3][i % 3] = block[width * i + k];
    return v;
}
Block blockOf(const Vectors& vectors) {
    Block block(width * 3 * vectors.front().size());
    for (std::size_t i = 0; i < block.size() / width; ++i)
        for (int k = 0; k < width; ++k) block[width * i + k] = vectors[static_cast<std::size_t>(k)][i / 3][i % 3];
    return block;
}

/// A pair of the projected problem.
struct Pair {
    double value;           ///< m
    double error;           ///< bound of its relative error
    Eigen::VectorXd share;  ///< of the basis
};

/// A value of the projected problem, and the residual of its vector of norm 1, both in the product of K.
struct Ritz {
    double value, residual;
};

/// Relative error of a value that the residuals leave: the residual itself, or where the others are far enough the
/// square over the distance to them, of the value alone or of a group that it belongs to (Parlett 1998, chapter 11).
/// What lies near by may be off by its own residual.
/// @param all  from the largest down; the distance to zero counts below the last when these are all above zero
double errorOf(const std::vector<Ritz>& all, std::size_t k, bool areAll) {
    double least = all[k].residual;
    double above = 0;
    for (std::size_t first = k + 1; first-- > 0;) {
        above += std::pow(all[first].residual, 2);
        double squares = above;
        for (std::size_t last = k; last < all.size() - (areAll ? 0 : 1); ++last) {
            if (last > k) squares += std::pow(all[last].residual, 2);
            const bool isEnd = last + 1 == all.size();
            double gap = all[last].value - (isEnd ? 0 : all[last + 1].value + all[last + 1].residual);
            if (first > 0) gap = std::min(gap, all[first - 1].value - all[first - 1].residual - all[first].value);
            if (gap > 0) least = std::min(least, squares / gap);
        }
    }
    return least / all[k].value;
}

/// The pairs A x = m K x, from the ends of the spectrum inward.
class Lanczos {
  public:
    /// @param a  symmetric, zero on held unknowns
    Lanczos(const System& system, LinearSolver& solver, const SolveOptions& options, const SplitBlocks& a)
        : system_(system), a_(a), solutions_(system, solver, options) {}

    /// @param wanted  how many of the largest m above zero; fewer come back when there are not more
    std::vector<Pair> largest(std::size_t wanted, double tolerance, Progress& progress) {
        Block next = solved(start(), progress);
        std::vector<Pair> pairs;
        for (int step = 0; step < mostBlocks; ++step) {
            progress.step("Looking for modes, block " + std::to_string(step + 1),
                          static_cast<double>(step) / mostBlocks);
            if (!takeInto(std::move(next))) return pairs;  // the whole space is spanned
            growProjection();
            next = solved(image_, progress);
            pairs = pairsOf(next, wanted);
            const bool settled =
                std::all_of(pairs.begin(), pairs.end(), [&](const Pair& p) { return p.error <= tolerance; });
            // one block more than it takes to see them: a mode that the start hardly holds shows late
            if (settled && step >= 3 && (pairs.size() == wanted || step >= 8)) return pairs;
        }
        throw SolveError(ErrorDetail{"The search for modes did not settle.",
                                     {},
                                     std::to_string(mostBlocks * width) + " vectors",
                                     "fewer modes, or a mesh without slivers",
                                     std::to_string(pairs.size()) + " pairs that still move"});
    }
    /// A pair's vector in unknowns.
    Vector vectorOf(const Pair& pair) const {
        Vector x(system_.rows(), Vec3::Zero());
        for (std::size_t b = 0; b < basis_.size(); ++b) {
            const Eigen::Vector4d share = pair.share.segment<width>(static_cast<Eigen::Index>(width * b));
            parallelFor(
                x.size(),
                [&](std::size_t r) {
                    for (std::size_t k = 0; k < 3; ++k)
                        x[r][static_cast<Eigen::Index>(k)] +=
                            Eigen::Map<const Eigen::RowVector4d>(&basis_[b][width * (3 * r + k)]).dot(share);
                },
                4096);
        }
        return x;
    }

  private:
    /// Random forces, within what A sees: the same ones every time.
    Block start() const {
        std::mt19937 random(20);
        Block block(width * 3 * system_.rows());
        for (std::size_t i = 0; i < block.size() / width; ++i)
            for (int k = 0; k < width; ++k) {
                const double value = static_cast<double>(random()) / 4294967296.0 - 0.5;
                block[width * i + k] = system_.row(i / 3).isFree(static_cast<int>(i % 3)) ? value : 0.0;
            }
        return product(a_, block);
    }
    Block solved(const Block& right, Progress& progress) {
        return blockOf(solutions_.solve(vectorsOf(right), progress));
    }
    Block stiffnessTimes(const Block& x) const {
        Block y = product(system_.matrix(), x);
        system_.subtractBed(width, x.data(), y.data());
        return y;
    }
    /// Takes the basis' part out of a block, in the product of K; twice, for rounding (Kahan).
    void takeBasisOut(Block& block) const {
        for (int pass = 0; pass < 2; ++pass)
            for (std::size_t b = 0; b < basis_.size(); ++b)
                addProduct(block, basis_[b], -products(weighted_[b], block));
    }
    /// Makes a block's vectors orthogonal of length 1 in the product of K; those that are spanned by others become 0.
    /// @return how many are left
    int normalise(Block& block, Block& weighted) const {
        int left = 0;
        for (int pass = 0; pass < 2; ++pass) {
            weighted = stiffnessTimes(block);
            const Four gram = products(block, weighted);
            const Eigen::SelfAdjointEigenSolver<Four> solver(0.5 * (gram + gram.transpose()));
            Four turn = Four::Zero();
            left = 0;
            for (int k = 0; k < width; ++k) {
                const double size = solver.eigenvalues()[k];
                if (!(size > 1e-14 * solver.eigenvalues()[width - 1]) || !std::isfinite(size)) continue;
                turn.col(k) = solver.eigenvectors().col(k) / std::sqrt(size);
                ++left;
            }
            multiplyBy(block, turn);
            multiplyBy(weighted, turn);
        }
        return left;
    }
    /// Adds a block to the basis. @return whether there was anything new in it
    bool takeInto(Block block) {
        Block weighted;
        if (normalise(block, weighted) == 0) return false;
        takeBasisOut(block);
        weighted = stiffnessTimes(block);
        const Four left = products(block, weighted);  // of vectors of length 1
        Four keep = Four::Zero();
        for (int k = 0; k < width; ++k) keep(k, k) = left(k, k) > 1e-14 ? 1 : 0;
        if (keep.isZero()) return false;
        multiplyBy(block, keep);
        if (normalise(block, weighted) == 0) return false;
        image_ = product(a_, block);
        basis_.push_back(std::move(block));
        weighted_.push_back(std::move(weighted));
        return true;
    }
    void growProjection() {
        const auto n = static_cast<Eigen::Index>(width * basis_.size());
        projection_.conservativeResize(n, n);
        for (std::size_t b = 0; b < basis_.size(); ++b) {
            const Four v = products(basis_[b], image_);
            const auto at = static_cast<Eigen::Index>(width * b);
            projection_.block<width, width>(at, n - width) = v;
            projection_.block<width, width>(n - width, at) = v.transpose();
        }
        const Four last = projection_.bottomRightCorner<width, width>();
        projection_.bottomRightCorner<width, width>() = 0.5 * (last + last.transpose());
    }
    /// Pairs of the projection with their residuals: what of K^-1 A x lies outside the basis comes from the last block.
    /// @param applied  K^-1 A times that block
    std::vector<Pair> pairsOf(const Block& applied, std::size_t wanted) const {
        const auto n = static_cast<Eigen::Index>(width * basis_.size());
        const Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd> solver(projection_);
        Block outside = applied;
        takeBasisOut(outside);
        const Four gram = products(outside, stiffnessTimes(outside));
        std::vector<Pair> pairs;
        std::vector<Ritz> ritz;  // some more than are wanted: what is next to the last decides its error
        const double largest = solver.eigenvalues().cwiseAbs().maxCoeff();
        bool areAll = true;
        for (Eigen::Index k = n - 1; k >= 0; --k) {
            const double value = solver.eigenvalues()[k];
            if (!(value > 1e-9 * largest)) break;
            areAll = ritz.size() < wanted + width;
            if (!areAll) break;
            const Eigen::VectorXd share = solver.eigenvectors().col(k);
            const Eigen::Vector4d last = share.tail<width>();
            ritz.push_back({value, std::sqrt(std::max(last.dot(gram * last), 0.0))});
            if (pairs.size() < wanted) pairs.push_back({value, 0, share});
        }
        for (std::size_t k = 0; k < pairs.size(); ++k) pairs[k].error = errorOf(ritz, k, areAll);
        return pairs;
    }

    const System& system_;
    const SplitBlocks& a_;
    Solutions solutions_;
    std::vector<Block> basis_, weighted_;  // v, K v
    Block image_;                          // A v of the last block
    Eigen::MatrixXd projection_;           // v^T A v
};

double dot(const Vector& a, const Vector& b) {
    return orderedSum(a.size(), 0.0, [&](std::size_t i) { return a[i].dot(b[i]); });
}
Vector product(const SplitBlocks& matrix, const Vector& x) {
    std::vector<double> in(3 * x.size()), out(3 * x.size());
    for (std::size_t i = 0; i < in.size(); ++i) in[i] = x[i / 3][i % 3];
    multiply(matrix, 1, in.data(), out.data());
    Vector y(x.size());
    for (std::size_t i = 0; i < out.size(); ++i) y[i / 3][i % 3] = out[i];
    return y;
}

void requireHeld(const mesh::TetMesh& mesh, const Supports& supports) {
    const auto free = freeMotions(mesh, supports);
    if (free.empty()) return;
    std::string found;
    for (const auto& f : free) found += (found.empty() ? "" : ", ") + f;
    throw InputError(ErrorDetail{
        "The supports leave the part free to move.", {}, "supports", "all six rigid motions held", "free: " + found});
}

/// Largest displacement 1, the largest component positive.
Vector normalised(Vector shape) {
    double largest = 0;
    Vec3 at = Vec3::Zero();
    for (const Vec3& u : shape)
        if (u.norm() > largest) {
            largest = u.norm();
            at = u;
        }
    int k = 0;
    at.cwiseAbs().maxCoeff(&k);
    if (largest > 0)
        for (Vec3& u : shape) u *= (at[k] < 0 ? -1 : 1) / largest;
    return shape;
}

/// The iteration's own vectors need no more: products with K are exact, so that values stay bounds of the true ones,
/// and a solution's error only adds a little of other vectors to the space.
SolveOptions exactEnough(SolveOptions options) {
    options.tolerance = 1e-6;
    return options;
}

struct Pairs {
    std::vector<Pair> pairs;
    Vectors vectors;  ///< of unknowns
};

Pairs pairsOf(const System& system, LinearSolver& solver, const SplitBlocks& a, const ModeOptions& options,
              Progress& progress) {
    Lanczos lanczos(system, solver, exactEnough(options.solve), a);
    Pairs found;
    found.pairs = lanczos.largest(static_cast<std::size_t>(options.count), options.tolerance, progress);
    for (const Pair& p : found.pairs) found.vectors.push_back(lanczos.vectorOf(p));
    return found;
}

/// Squared error of a shape in the energy norm, relative: a quotient of energies is too high by this share, a frequency
/// by half of it.
double squaredError(const mesh::TetMesh& mesh, const Material& material, const Vector& shape, Progress& progress) {
    const auto gauss = gaussStress(mesh, material, shape);
    const auto recovered = recoverStress(mesh, gauss, progress);
    return std::pow(errorEstimate(mesh, material, gauss, recovered).relative, 2);
}

double gridFactorOf(const SolveOptions& options) {
    return options.method == Method::direct ? 0 : options.gridFactor;
}

}  // namespace

std::vector<Mode> naturalModes(const mesh::TetMesh& mesh, const Material& material, const Supports& supports,
                               const ModeOptions& options, Progress& progress) {
    requireHeld(mesh, supports);
    const System system(mesh, material, supports, gridFactorOf(options.solve), progress);
    const SplitBlocks mass = system.assembled(massKernel(mesh, material.density), "Assembling the mass", progress);
    const auto solver = chooseSolver(system, options.solve, progress);
    const Pairs found = pairsOf(system, *solver, mass, options, progress);
    // momentum of a unit motion along each axis
    Vectors momentum;
    double whole = 0;
    for (int k = 0; k < 3; ++k) {
        NodalForces nodal(mesh.position.size(), Vec3::Zero());
        addBodyForce(
            mesh, [&](const Vec3&) -> Vec3 { return material.density * Vec3::Unit(k); }, nodal);
        if (k == 0)
            for (const Vec3& f : nodal) whole += f[0];
        momentum.push_back(system.restricted(nodal));
    }
    std::vector<Mode> modes;
    for (std::size_t i = 0; i < found.pairs.size(); ++i) {
        const Vector& x = found.vectors[i];
        Mode m;
        // the stiffness is in N/mm, the mass in kg: 1 N/mm/kg is 1000 1/s2
        m.value = std::sqrt(1000 / found.pairs[i].value) / (2 * std::numbers::pi);
        m.error = 0.5 * found.pairs[i].error;
        const double own = dot(x, product(mass, x));
        for (int k = 0; k < 3; ++k) m.share[k] = std::pow(dot(x, momentum[k]), 2) / (own * whole);
        m.shape = normalised(system.displacement(x));
        m.meshError = squaredError(mesh, material, m.shape, progress);
        modes.push_back(std::move(m));
    }
    return modes;
}

std::vector<std::vector<Mode>> bucklingModes(const mesh::TetMesh& mesh, const Material& material,
                                             const Supports& supports,
                                             const std::vector<const std::vector<Vec3>*>& displacement,
                                             const ModeOptions& options, Progress& progress) {
    requireHeld(mesh, supports);
    const System system(mesh, material, supports, gridFactorOf(options.solve), progress);
    const auto solver = chooseSolver(system, options.solve, progress);
    std::vector<std::vector<Mode>> all;
    for (const std::vector<Vec3>* u : displacement) {
        std::vector<Vec3> pressed(u->size());  // -G: pushing makes it positive
        for (std::size_t n = 0; n < pressed.size(); ++n) pressed[n] = -(*u)[n];
        const SplitBlocks geometric =
            system.assembled(geometricKernel(mesh, material, pressed), "Assembling the geometric stiffness", progress);
        const Pairs found = pairsOf(system, *solver, geometric, options, progress);
        auto& modes = all.emplace_back();
        for (std::size_t i = 0; i < found.pairs.size(); ++i) {
            Mode m;
            m.value = 1 / found.pairs[i].value;
            m.error = found.pairs[i].error;
            m.shape = normalised(system.displacement(found.vectors[i]));
            m.meshError = 2 * squaredError(mesh, material, m.shape, progress);
            modes.push_back(std::move(m));
        }
    }
    return all;
}

}  // namespace escultura::elastic
