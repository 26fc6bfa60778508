/// @file optimise/grid_levels.hpp
/// The levels of the grid solver: the bricks themselves, the coarse grids, the coarsest one's factor, and the vectors
/// of a cycle. Internal to this folder.

#pragma once
#include <Eigen/Sparse>
#include <Eigen/SparseCholesky>

#include "optimise/grid_rows.hpp"

namespace escultura::optimise {

using Matrix24 = Eigen::Matrix<float, 24, 24, Eigen::RowMajor>;
using Vec4 = Eigen::Array4f;

/// f += K u for n cells of a row from i0 on.
void productOfRow(const RowLayout& at, const RowProduct<float>& p, const float* u, const float* factor, int i0, int n,
                  int j, int k, float* f);
void productOfRow(const RowLayout& at, const RowProduct<double>& p, const double* u, const double* factor, int i0,
                  int n, int j, int k, double* f);
/// Twice the strain energies of n cells of a row.
void energyOfRow(const RowLayout& at, const RowProduct<double>& p, const double* u, int i0, int n, int j, int k,
                 double* energy);

struct GridSolver::Fine {
    Grid grid;
    RowLayout at;
    RowProduct<double> exact;
    RowProduct<float> quick;
    BrickMatrix brick;  ///< times Young's modulus
    std::vector<char> empty, active;
    std::vector<std::pair<int, int>> range;          ///< [rows of cells] first and beyond the last that is not empty
    std::vector<std::pair<std::size_t, Mat3>> held;  ///< node, projector onto what its holds allow
    std::vector<Spring> springs;
    std::vector<float> inverse;  ///< diagonal blocks: 6 rows (xx, xy, xz, yy, yz, zz) for every row of nodes
    std::vector<float> eigen;    ///< vector of the largest eigenvalue
    double largest = 1;

    explicit Fine(const Grid& g) : grid(g), at(g) {}

    template <class T>
    const RowProduct<T>& product() const {
        if constexpr (std::is_same_v<T, float>)
            return quick;
        else
            return exact;
    }
    template <class T, class Row>
    void forRows(int k, const Row& row) const {
        constexpr int width = RowProduct<T>::width;
        for (int j = 0; j < grid.cells[1]; ++j) {
            const auto [first, last] = range[static_cast<std::size_t>(k) * grid.cells[1] + j];
            for (int i = first; i < last; i += width) row(i, std::min(width, last - i), j);
        }
    }
    template <class T>
    void apply(const std::vector<T>& u, std::vector<T>& f, bool projected = true) const {
        const RowProduct<T>& p = product<T>();
        const int layers = grid.cells[2];
        const std::size_t layer = 3 * at.stride * (grid.cells[1] + std::size_t(1));
        parallelFor(
            static_cast<std::size_t>(layers) + 1,
            [&](std::size_t k) { std::fill_n(f.begin() + static_cast<std::ptrdiff_t>(k * layer), layer, T(0)); }, 4);
        for (int parity = 0; parity < 2; ++parity)
            parallelFor(
                static_cast<std::size_t>((layers + 1 - parity) / 2),
                [&](std::size_t half) {
                    const int k = 2 * static_cast<int>(half) + parity;
                    forRows<T>(k, [&](int i, int n, int j) {
                        productOfRow(at, p, u.data(), p.factor.data() + grid.cell(i, j, k), i, n, j, k, f.data());
                    });
                },
                1);
        for (const Spring& s : springs) addAt(s.node, s.stiffness, u, f);
        if (projected) project(f);
    }
    template <class T>
    void addAt(std::size_t node, const Mat3& m, const std::vector<T>& u, std::vector<T>& f) const {
        const auto p = grid.nodeAt(node);
        for (int a = 0; a < 3; ++a)
            for (int b = 0; b < 3; ++b)
                f[at.at(p[0], p[1], p[2], a)] += static_cast<T>(m(a, b)) * u[at.at(p[0], p[1], p[2], b)];
    }
    template <class T>
    void project(std::vector<T>& v) const {
        for (const auto& [node, q] : held) {
            const auto p = grid.nodeAt(node);
            T x[3];
            for (int a = 0; a < 3; ++a) x[a] = v[at.at(p[0], p[1], p[2], a)];
            for (int a = 0; a < 3; ++a)
                v[at.at(p[0], p[1], p[2], a)] =
                    static_cast<T>(q(a, 0)) * x[0] + static_cast<T>(q(a, 1)) * x[1] + static_cast<T>(q(a, 2)) * x[2];
        }
    }
    void toRows(const std::vector<Vec3>& v, std::vector<double>& rows) const {
        rows.assign(at.size(), 0);
        parallelFor(v.size(), [&](std::size_t n) {
            const auto p = grid.nodeAt(n);
            for (int a = 0; a < 3; ++a) rows[at.at(p[0], p[1], p[2], a)] = v[n][a];
        });
    }
    void fromRows(const std::vector<double>& rows, std::vector<Vec3>& v) const {
        v.resize(grid.nodeCount());
        parallelFor(v.size(), [&](std::size_t n) {
            const auto p = grid.nodeAt(n);
            for (int a = 0; a < 3; ++a) v[n][a] = rows[at.at(p[0], p[1], p[2], a)];
        });
    }
    /// z = (or z += scale times) inverse diagonal times r, and more: see smooth().
    template <class Use>
    void forDiagonal(const std::vector<float>& r, const Use& use) const {
        parallelFor(
            at.rows(),
            [&](std::size_t row) {
                const float* m = inverse.data() + 6 * at.stride * row;
                const std::size_t first = 3 * at.stride * row;
                const float *x = r.data() + first, *y = x + at.stride, *z = y + at.stride;
                const std::size_t s = at.stride;
                for (std::size_t i = 0; i < s; ++i) {
                    use(first + i, m[i] * x[i] + m[s + i] * y[i] + m[2 * s + i] * z[i]);
                    use(first + s + i, m[s + i] * x[i] + m[3 * s + i] * y[i] + m[4 * s + i] * z[i]);
                    use(first + 2 * s + i, m[2 * s + i] * x[i] + m[4 * s + i] * y[i] + m[5 * s + i] * z[i]);
                }
            },
            16);
    }
    void invertDiagonal();
    void estimateLargest();
};

struct GridSolver::Coarse {
    std::array<int, 3> cells{};
    std::vector<float> stencil;  ///< [nodes][27][3 columns][4]
    std::vector<float> inverse;  ///< [nodes][3 columns][4]
    std::vector<float> eigen;
    double largest = 1;

    std::size_t nodes() const { return (cells[0] + std::size_t(1)) * (cells[1] + 1) * (cells[2] + 1); }
    std::size_t node(int i, int j, int k) const {
        return static_cast<std::size_t>(i) +
               (cells[0] + std::size_t(1)) * (j + (cells[1] + std::size_t(1)) * static_cast<std::size_t>(k));
    }
    /// Vectors hold four floats a node, the last zero.
    void apply(const std::vector<float>& u, std::vector<float>& f) const {
        const std::size_t nx = cells[0] + std::size_t(1);
        parallelFor((cells[1] + std::size_t(1)) * (cells[2] + 1),
                    [&](std::size_t row) {
                        const int j = static_cast<int>(row % (cells[1] + std::size_t(1))),
                                  k = static_cast<int>(row / (cells[1] + std::size_t(1)));
                        for (std::size_t i = 0; i < nx; ++i) {
                            const std::size_t n = row * nx + i;
                            Vec4 sum = Vec4::Zero();
                            const float* m = stencil.data() + n * 324;
                            for (int o = 0; o < 27; ++o, m += 12) {
                                const int x = static_cast<int>(i) + o % 3 - 1, y = j + o / 3 % 3 - 1, z = k + o / 9 - 1;
                                if (x < 0 || y < 0 || z < 0 || x > cells[0] || y > cells[1] || z > cells[2]) continue;
                                const float* v = u.data() + 4 * node(x, y, z);
                                sum += Eigen::Map<const Vec4>(m) * v[0] + Eigen::Map<const Vec4>(m + 4) * v[1] +
                                       Eigen::Map<const Vec4>(m + 8) * v[2];
                            }
                            Eigen::Map<Vec4>(f.data() + 4 * n) = sum;
                        }
                    },
                    8);
    }
    template <class Use>
    void forDiagonal(const std::vector<float>& r, const Use& use) const {
        parallelFor(nodes(), [&](std::size_t n) {
            const float *m = inverse.data() + 12 * n, *x = r.data() + 4 * n;
            for (std::size_t a = 0; a < 3; ++a) use(4 * n + a, m[a] * x[0] + m[4 + a] * x[1] + m[8 + a] * x[2]);
        });
    }
    void assemble(const std::vector<Matrix24>& element, const std::vector<char>& there);
};

struct GridSolver::Direct {
    Eigen::SimplicialLDLT<Eigen::SparseMatrix<double>> factor;
};

struct GridSolver::Work {
    struct Level {
        std::vector<float> r, z, t, d;
        void resize(std::size_t n) {
            for (auto* v : {&r, &z, &t, &d}) v->assign(n, 0.F);
        }
    };
    std::vector<Level> level;  ///< finest first
};

}  // namespace escultura::optimise
