/// Setting the grid solver up: holds and springs, diagonals, the coarse grids from the finer ones.

#include <cmath>
#include <map>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "optimise/grid_levels.hpp"

namespace escultura::optimise {
namespace {

constexpr std::size_t direct = 2500;  // unknowns of the level that is factorised

/// W^T m W with W the interpolation of a child's corners from its parent's along every axis.
void coarsen(Matrix24& m, unsigned child) {
    for (int pass = 0; pass < 2; ++pass) {
        for (unsigned axis = 0; axis < 3; ++axis) {
            const unsigned bit = 1U << axis;
            for (unsigned c = 0; c < 8; ++c) {
                if (c & bit) continue;
                for (unsigned d = 0; d < 3; ++d) {
                    auto low = m.row(static_cast<int>(3 * c + d)), high = m.row(static_cast<int>(3 * (c | bit) + d));
                    if (child & bit) {
                        high += 0.5F * low;
                        low *= 0.5F;
                    } else {
                        low += 0.5F * high;
                        high *= 0.5F;
                    }
                }
            }
        }
        m.transposeInPlace();
    }
}

/// Largest eigenvalue of D^-1 A by powers, from the last vector.
template <class Operator>
void powers(Operator& a, std::size_t size) {
    const bool fresh = a.eigen.size() != size;
    std::vector<float> f(size, 0.F);
    if (fresh) {
        a.eigen.assign(size, 0.F);
        std::uint32_t state = 12345;
        for (float& x : a.eigen) {
            state = state * 1664525U + 1013904223U;
            x = static_cast<float>(state >> 8) / static_cast<float>(1U << 24) - 0.5F;
        }
    }
    auto norm = [](const std::vector<float>& v) {
        return std::sqrt(orderedSum(v.size(), 0.0, [&](std::size_t i) { return double(v[i]) * v[i]; }));
    };
    double size0 = norm(a.eigen);
    for (int i = 0, count = fresh ? 12 : 5; i < count; ++i) {
        const auto scale = static_cast<float>(1 / std::max(size0, 1e-30));
        parallelFor(
            size, [&](std::size_t n) { a.eigen[n] *= scale; }, 8192);
        a.apply(a.eigen, f);
        a.forDiagonal(f, [&](std::size_t n, float v) { a.eigen[n] = v; });
        size0 = norm(a.eigen);
    }
    a.largest = std::max(size0, 1e-12);
}

}  // namespace

void GridSolver::Fine::invertDiagonal() {
    std::vector<Mat3> diagonal(grid.nodeCount(), Mat3::Zero());
    parallelFor(diagonal.size(), [&](std::size_t n) {
        const auto p = grid.nodeAt(n);
        for (unsigned c = 0; c < 8; ++c) {
            const int i = p[0] - static_cast<int>(c & 1U), j = p[1] - static_cast<int>(c >> 1 & 1U),
                      k = p[2] - static_cast<int>(c >> 2);
            if (i < 0 || j < 0 || k < 0 || i >= grid.cells[0] || j >= grid.cells[1] || k >= grid.cells[2]) continue;
            const int at3 = static_cast<int>(3 * c);
            diagonal[n] += exact.factor[grid.cell(i, j, k)] * brick.block<3, 3>(at3, at3);
        }
    });
    for (const Spring& s : springs) diagonal[s.node] += s.stiffness;
    std::vector<const Mat3*> projector(diagonal.size(), nullptr);
    for (const auto& [node, q] : held) projector[node] = &q;
    inverse.assign(6 * at.stride * at.rows(), 0.F);
    parallelFor(diagonal.size(), [&](std::size_t n) {
        Mat3 d = diagonal[n];
        const double size = d.trace();
        if (!(size > 0)) return;
        if (projector[n]) d = *projector[n] * d * *projector[n] + size * (Mat3::Identity() - *projector[n]);
        Mat3 i = d.inverse();
        if (projector[n]) i = *projector[n] * i * *projector[n];
        const auto p = grid.nodeAt(n);
        float* to = inverse.data() + at.row(p[1], p[2]) * 2 + p[0];
        const double entry[6] = {i(0, 0), i(0, 1), i(0, 2), i(1, 1), i(1, 2), i(2, 2)};
        for (std::size_t e = 0; e < 6; ++e) to[e * at.stride] = static_cast<float>(entry[e]);
    });
}

void GridSolver::Coarse::assemble(const std::vector<Matrix24>& element, const std::vector<char>& there) {
    stencil.assign(nodes() * 324, 0.F);
    inverse.assign(nodes() * 12, 0.F);
    parallelFor(
        nodes(),
        [&](std::size_t n) {
            const std::size_t nx = cells[0] + std::size_t(1), ny = cells[1] + std::size_t(1);
            const int p[3] = {static_cast<int>(n % nx), static_cast<int>(n / nx % ny), static_cast<int>(n / (nx * ny))};
            float* s = stencil.data() + 324 * n;
            for (unsigned c = 0; c < 8; ++c) {
                int at[3];
                bool inside = true;
                for (unsigned a = 0; a < 3; ++a) {
                    at[a] = p[a] - static_cast<int>(c >> a & 1U);
                    inside &= at[a] >= 0 && at[a] < cells[a];
                }
                if (!inside) continue;
                const std::size_t e =
                    static_cast<std::size_t>(at[0]) +
                    static_cast<std::size_t>(cells[0]) *
                        (at[1] + static_cast<std::size_t>(cells[1]) * static_cast<std::size_t>(at[2]));
                if (!there[e]) continue;
                for (unsigned g = 0; g < 8; ++g) {
                    unsigned o = 0, power = 1;
                    for (unsigned a = 0; a < 3; ++a, power *= 3) o += power * (1 + (g >> a & 1U) - (c >> a & 1U));
                    for (unsigned col = 0; col < 3; ++col)
                        for (unsigned r = 0; r < 3; ++r)
                            s[12 * o + 4 * col + r] +=
                                element[e](static_cast<int>(3 * c + r), static_cast<int>(3 * g + col));
                }
            }
            Mat3 d;
            for (unsigned col = 0; col < 3; ++col)
                for (unsigned r = 0; r < 3; ++r)
                    d(static_cast<int>(r), static_cast<int>(col)) = s[12 * 13 + 4 * col + r];
            const double size = d.trace();
            if (!(size > 0)) return;
            // a node whose motion the supports leave hardly any of does not count in those directions
            const Eigen::SelfAdjointEigenSolver<Mat3> split(0.5 * (d + d.transpose()));
            Mat3 i = Mat3::Zero();
            for (int a = 0; a < 3; ++a)
                if (split.eigenvalues()[a] > 1e-6 * size)
                    i += split.eigenvectors().col(a) * split.eigenvectors().col(a).transpose() / split.eigenvalues()[a];
            for (unsigned col = 0; col < 3; ++col)
                for (unsigned r = 0; r < 3; ++r)
                    inverse[12 * n + 4 * col + r] = static_cast<float>(i(static_cast<int>(r), static_cast<int>(col)));
        },
        64);
}

GridSolver::GridSolver(const Grid& grid, const std::vector<char>& empty, double youngsModulus, double poissonsRatio,
                       std::vector<Hold> holds, const std::vector<Spring>& springs)
    : fine_(std::make_unique<Fine>(grid)) {
    Fine& f = *fine_;
    f.brick = youngsModulus * brickStiffness(grid.spacing, poissonsRatio);
    const BrickBlocks blocks = brickBlocks(f.brick);
    for (std::size_t b = 0; b < 8; ++b)
        for (std::size_t d = 0; d < 3; ++d)
            for (std::size_t e = 0; e < 3; ++e) {
                f.exact.block[b][d][e] = blocks.block[b][d][e];
                f.quick.block[b][d][e] = static_cast<float>(blocks.block[b][d][e]);
            }
    f.empty = empty;
    f.active.assign(grid.nodeCount(), 0);
    f.range.assign(static_cast<std::size_t>(grid.cells[1]) * grid.cells[2], {0, 0});
    for (std::size_t c = 0; c < grid.cellCount(); ++c) {
        if (empty[c]) continue;
        for (unsigned k = 0; k < 8; ++k) f.active[grid.corner(c, k)] = 1;
        const auto p = grid.cellAt(c);
        auto& r = f.range[static_cast<std::size_t>(p[2]) * grid.cells[1] + p[1]];
        if (r.second == 0) r.first = p[0];
        r.second = p[0] + 1;
    }
    std::map<std::size_t, std::vector<Vec3>> held;
    for (const Hold& h : holds) {
        Vec3 d = h.direction;
        auto& known = held[h.node];
        for (int pass = 0; pass < 2; ++pass)
            for (const Vec3& k : known) d -= d.dot(k) * k;
        if (d.norm() > 1e-6) known.push_back(d.normalized());
    }
    for (const auto& [node, directions] : held) {
        Mat3 q = Mat3::Identity();
        for (const Vec3& d : directions) q -= d * d.transpose();
        if (directions.size() == 3) q.setZero();
        f.held.emplace_back(node, q);
    }
    std::map<std::size_t, Mat3> sprung;
    for (const Spring& s : springs)
        if (f.active[s.node]) sprung.try_emplace(s.node, Mat3::Zero()).first->second += s.stiffness;
    for (const auto& [node, stiffness] : sprung) f.springs.push_back({node, stiffness});
    std::array<int, 3> cells = grid.cells;
    for (std::size_t unknowns = 3 * grid.nodeCount();
         unknowns > direct && std::max({cells[0], cells[1], cells[2]}) > 1;) {
        for (int& c : cells) c = (c + 1) / 2;
        auto level = std::make_unique<Coarse>();
        level->cells = cells;
        unknowns = 3 * level->nodes();
        coarse_.push_back(std::move(level));
    }
    if (coarse_.empty()) {  // so small that one coarse grid is factorised all the same
        for (int& c : cells) c = (c + 1) / 2;
        coarse_.push_back(std::make_unique<Coarse>());
        coarse_.back()->cells = cells;
    }
}

GridSolver::~GridSolver() = default;

/// Parts of setFactors() that need only what they are given.
struct GridSolver::Steps {
    /// Cells whose stiffness is not the brick's alone: with holds or springs.
    static std::map<std::size_t, Matrix24> specialCells(const Fine& f) {
        const Grid& grid = f.grid;
        std::map<std::size_t, Matrix24> special;
        auto cellsAround = [&](std::size_t node, const auto& use) {
            const auto p = grid.nodeAt(node);
            for (unsigned c = 0; c < 8; ++c) {
                const int i = p[0] - static_cast<int>(c & 1U), j = p[1] - static_cast<int>(c >> 1 & 1U),
                          k = p[2] - static_cast<int>(c >> 2);
                if (i < 0 || j < 0 || k < 0 || i >= grid.cells[0] || j >= grid.cells[1] || k >= grid.cells[2]) continue;
                const std::size_t cell = grid.cell(i, j, k);
                if (f.empty[cell]) continue;
                special.try_emplace(cell, f.exact.factor[cell] * f.brick.cast<float>());
                if (!use(special[cell], c)) break;
            }
        };
        for (const Spring& s : f.springs)
            cellsAround(s.node, [&](Matrix24& m, unsigned c) {
                m.block<3, 3>(static_cast<int>(3 * c), static_cast<int>(3 * c)) += s.stiffness.cast<float>();
                return false;  // once
            });
        for (const auto& [node, q] : f.held) {
            const Eigen::Matrix3f projector = q.cast<float>();
            cellsAround(node, [&](Matrix24& m, unsigned c) {
                const int at = static_cast<int>(3 * c);
                m.middleRows<3>(at) = (projector * m.middleRows<3>(at)).eval();
                m.middleCols<3>(at) = (m.middleCols<3>(at) * projector).eval();
                return true;
            });
        }
        return special;
    }

    /// The equations of the coarsest level; what supports take away or nothing fills stays regular.
    static std::vector<Eigen::Triplet<double>> entriesOf(const Coarse& last) {
        std::vector<Eigen::Triplet<double>> entries;
        double largest = 0;
        for (std::size_t n = 0; n < last.nodes(); ++n)
            for (std::size_t a = 0; a < 3; ++a)
                largest = std::max(largest, double(last.stencil[324 * n + 12 * 13 + 5 * a]));
        for (std::size_t n = 0; n < last.nodes(); ++n) {
            const std::size_t nx = last.cells[0] + std::size_t(1), ny = last.cells[1] + std::size_t(1);
            const int p[3] = {static_cast<int>(n % nx), static_cast<int>(n / nx % ny), static_cast<int>(n / (nx * ny))};
            for (int o = 0; o < 27; ++o) {
                const int x = p[0] + o % 3 - 1, y = p[1] + o / 3 % 3 - 1, z = p[2] + o / 9 - 1;
                if (x < 0 || y < 0 || z < 0 || x > last.cells[0] || y > last.cells[1] || z > last.cells[2]) continue;
                const std::size_t m = last.node(x, y, z);
                for (std::size_t col = 0; col < 3; ++col)
                    for (std::size_t row = 0; row < 3; ++row) {
                        const double v = last.stencil[324 * n + 12 * static_cast<std::size_t>(o) + 4 * col + row];
                        if (v != 0)
                            entries.emplace_back(static_cast<int>(3 * n + row), static_cast<int>(3 * m + col), v);
                    }
            }
            for (std::size_t a = 0; a < 3; ++a) {
                // directions that the supports take away, and nodes without material
                const double d = last.stencil[324 * n + 12 * 13 + 5 * a];
                const auto i = static_cast<int>(3 * n + a);
                entries.emplace_back(i, i, d > 1e-12 * largest ? 1e-7 * d : largest);
            }
        }
        return entries;
    }
};

void GridSolver::setFactors(const std::vector<double>& factor, Progress& progress) {
    Fine& f = *fine_;
    const Grid& grid = f.grid;
    f.exact.factor.assign(grid.cellCount(), 0.0);
    f.quick.factor.assign(grid.cellCount(), 0.F);
    parallelFor(grid.cellCount(), [&](std::size_t c) {
        if (f.empty[c]) return;
        f.exact.factor[c] = factor[c];
        f.quick.factor[c] = static_cast<float>(factor[c]);
    });
    f.invertDiagonal();
    powers(f, f.at.size());
    progress.check();

    const std::map<std::size_t, Matrix24> special = Steps::specialCells(f);
    std::array<Matrix24, 8> child;
    for (unsigned c = 0; c < 8; ++c) {
        child[c] = f.brick.cast<float>();
        coarsen(child[c], c);
    }
    std::vector<Matrix24> element, finer;
    std::vector<char> there, finerThere;
    std::array<int, 3> cells = grid.cells;
    for (std::size_t l = 0; l < coarse_.size(); ++l) {
        Coarse& level = *coarse_[l];
        const std::size_t count =
            static_cast<std::size_t>(level.cells[0]) * level.cells[1] * static_cast<std::size_t>(level.cells[2]);
        std::swap(element, finer);
        std::swap(there, finerThere);
        element.assign(count, Matrix24::Zero());
        there.assign(count, 0);
        parallelFor(
            count,
            [&](std::size_t e) {
                const std::size_t nx = level.cells[0], ny = level.cells[1];
                const int p[3] = {static_cast<int>(e % nx), static_cast<int>(e / nx % ny),
                                  static_cast<int>(e / (nx * ny))};
                for (unsigned c = 0; c < 8; ++c) {
                    int at[3];
                    bool inside = true;
                    for (unsigned a = 0; a < 3; ++a) {
                        at[a] = 2 * p[a] + static_cast<int>(c >> a & 1U);
                        inside &= at[a] < cells[a];
                    }
                    if (!inside) continue;
                    const std::size_t from =
                        static_cast<std::size_t>(at[0]) +
                        static_cast<std::size_t>(cells[0]) *
                            (at[1] + static_cast<std::size_t>(cells[1]) * static_cast<std::size_t>(at[2]));
                    if (l == 0) {
                        if (f.empty[from]) continue;
                        if (const auto own = special.find(from); own != special.end()) {
                            Matrix24 m = own->second;
                            coarsen(m, c);
                            element[e] += m;
                        } else {
                            element[e] += f.quick.factor[from] * child[c];
                        }
                    } else {
                        if (!finerThere[from]) continue;
                        Matrix24 m = finer[from];
                        coarsen(m, c);
                        element[e] += m;
                    }
                    there[e] = 1;
                }
            },
            16);
        level.assemble(element, there);
        if (l + 1 < coarse_.size()) powers(level, 4 * level.nodes());
        cells = level.cells;
        progress.check();
    }
    factoriseCoarsest();
}

void GridSolver::factoriseCoarsest() {
    const Coarse& last = *coarse_.back();
    const std::vector<Eigen::Triplet<double>> entries = Steps::entriesOf(last);
    const auto unknowns = static_cast<int>(3 * last.nodes());
    Eigen::SparseMatrix<double> matrix(unknowns, unknowns);
    matrix.setFromTriplets(entries.begin(), entries.end());
    direct_ = std::make_unique<Direct>();
    direct_->factor.compute(matrix);
    if (direct_->factor.info() != Eigen::Success)
        throw InputError("The equations on the grid cannot be solved: the part is not held.");
}

}  // namespace escultura::optimise
