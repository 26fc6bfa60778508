/// The equations of a grid of bricks: products row by row, what holds leave, and the coarse grids of one multigrid
/// cycle around conjugate gradients.

#include "optimise/grid.hpp"

#include <Eigen/Sparse>
#include <Eigen/SparseCholesky>
#include <cmath>
#include <map>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "optimise/grid_rows.hpp"

// Products are compiled for wide registers too; without contraction the bits are the same. The thread sanitizer cannot
// bear what chooses between them before it has begun itself.
#if defined(__x86_64__) && defined(__GNUC__) && !defined(__clang__) && !defined(__SANITIZE_THREAD__)
#define ESCULTURA_WIDE __attribute__((target_clones("avx2", "default")))
#else
#define ESCULTURA_WIDE
#endif

namespace escultura::optimise {
namespace {

constexpr int degree = 2;             // of the smoother
constexpr double smoothed = 8;        // its range: the largest eigenvalue over this
constexpr double safety = 1.15;       // on the estimate of the largest eigenvalue
constexpr std::size_t direct = 2500;  // unknowns of the level that is factorised

using Matrix24 = Eigen::Matrix<float, 24, 24, Eigen::RowMajor>;
using Vec4 = Eigen::Array4f;

template <class T>
void addRow(const RowLayout& at, const T (&h)[24][RowProduct<T>::width], int i0, int n, int j, int k, T* f) {
    for (unsigned c = 0; c < 8; ++c)
        for (unsigned d = 0; d < 3; ++d) {
            T* to = f + at.at(i0 + static_cast<int>(c & 1U), j + static_cast<int>(c >> 1 & 1U),
                              k + static_cast<int>(c >> 2), static_cast<int>(d));
            const T* from = h[3 * c + d];
            for (int i = 0; i < n; ++i) to[i] += from[i];
        }
}

ESCULTURA_WIDE void productOfRow(const RowLayout& at, const RowProduct<float>& p, const float* u, const float* factor,
                                 int i0, int n, int j, int k, float* f) {
    alignas(64) float h[24][RowProduct<float>::width];
    p.load(at, u, i0, n, j, k, h);
    p.butterfly(h, n);
    p.stiffen(factor, h, n);
    p.butterfly(h, n);
    addRow<float>(at, h, i0, n, j, k, f);
}
ESCULTURA_WIDE void productOfRow(const RowLayout& at, const RowProduct<double>& p, const double* u,
                                 const double* factor, int i0, int n, int j, int k, double* f) {
    alignas(64) double h[24][RowProduct<double>::width];
    p.load(at, u, i0, n, j, k, h);
    p.butterfly(h, n);
    p.stiffen(factor, h, n);
    p.butterfly(h, n);
    addRow<double>(at, h, i0, n, j, k, f);
}
ESCULTURA_WIDE void energyOfRow(const RowLayout& at, const RowProduct<double>& p, const double* u, int i0, int n, int j,
                                int k, double* energy) {
    alignas(64) double h[24][RowProduct<double>::width];
    p.load(at, u, i0, n, j, k, h);
    p.butterfly(h, n);
    for (int i = 0; i < n; ++i) energy[i] = 0;
    for (unsigned b = 0; b < 8; ++b) {
        const double *x = h[3 * (b ^ 1U)], *y = h[3 * (b ^ 2U) + 1], *z = h[3 * (b ^ 4U) + 2];
        const auto& m = p.block[b];
        for (int i = 0; i < n; ++i)
            energy[i] += x[i] * (m[0][0] * x[i] + m[0][1] * y[i] + m[0][2] * z[i]) +
                         y[i] * (m[1][0] * x[i] + m[1][1] * y[i] + m[1][2] * z[i]) +
                         z[i] * (m[2][0] * x[i] + m[2][1] * y[i] + m[2][2] * z[i]);
    }
}

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

}  // namespace

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

namespace {

/// What a finer level's residual is on a coarser one: the node 2i takes itself and half of its neighbours along every
/// axis. @param at  the residual at a finer node
template <class Level, class Read>
void restricted(const std::array<int, 3>& finer, const Level& level, std::vector<float>& r, const Read& at) {
    parallelFor(
        level.nodes(),
        [&](std::size_t n) {
            const std::size_t nx = level.cells[0] + std::size_t(1), ny = level.cells[1] + std::size_t(1);
            const int p[3] = {2 * static_cast<int>(n % nx), 2 * static_cast<int>(n / nx % ny),
                              2 * static_cast<int>(n / (nx * ny))};
            Vec4 sum = Vec4::Zero();
            for (int o = 0; o < 27; ++o) {
                const int d[3] = {o % 3 - 1, o / 3 % 3 - 1, o / 9 - 1};
                const int x = p[0] + d[0], y = p[1] + d[1], z = p[2] + d[2];
                if (x < 0 || y < 0 || z < 0 || x > finer[0] || y > finer[1] || z > finer[2]) continue;
                const float weight = (d[0] ? 0.5F : 1.F) * (d[1] ? 0.5F : 1.F) * (d[2] ? 0.5F : 1.F);
                sum += weight * at(x, y, z);
            }
            Eigen::Map<Vec4>(r.data() + 4 * n) = sum;
        },
        64);
}

/// A coarser level's values at a finer node.
template <class Level>
Vec4 interpolated(const Level& level, const std::vector<float>& z, const std::array<int, 3>& p) {
    Vec4 sum = Vec4::Zero();
    for (unsigned c = 0; c < 8; ++c) {
        int at[3];
        float weight = 1;
        for (unsigned x = 0; x < 3; ++x) {
            const int odd = p[x] & 1;
            if (!odd && (c >> x & 1U)) weight = 0;
            if (odd) weight *= 0.5F;
            at[x] = p[x] / 2 + static_cast<int>(c >> x & 1U);
        }
        if (weight > 0) sum += weight * Eigen::Map<const Vec4>(z.data() + 4 * level.node(at[0], at[1], at[2]));
    }
    return sum;
}

/// Chebyshev steps on D^-1 A from z (or from zero): z gets better for A z = r.
template <class Operator, class Level>
void smooth(const Operator& a, Level& w, bool fromZero) {
    const double high = safety * a.largest, low = a.largest / smoothed;
    const double theta = 0.5 * (high + low), delta = 0.5 * (high - low), sigma = theta / delta;
    double rho = 1 / sigma;
    const auto first = static_cast<float>(1 / theta);
    if (fromZero) {
        a.forDiagonal(w.r, [&](std::size_t i, float v) { w.z[i] = w.d[i] = first * v; });
    } else {
        a.apply(w.z, w.t);
        parallelFor(
            w.t.size(), [&](std::size_t i) { w.t[i] = w.r[i] - w.t[i]; }, 8192);
        a.forDiagonal(w.t, [&](std::size_t i, float v) {
            w.d[i] = first * v;
            w.z[i] += w.d[i];
        });
    }
    for (int step = 1; step < degree; ++step) {
        a.apply(w.z, w.t);
        parallelFor(
            w.t.size(), [&](std::size_t i) { w.t[i] = w.r[i] - w.t[i]; }, 8192);
        const double next = 1 / (2 * sigma - rho);
        const auto keep = static_cast<float>(next * rho), add = static_cast<float>(2 * next / delta);
        a.forDiagonal(w.t, [&](std::size_t i, float v) {
            w.d[i] = keep * w.d[i] + add * v;
            w.z[i] += w.d[i];
        });
        rho = next;
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

void GridSolver::coarseCycle(std::size_t level, Work& work) const {
    const Coarse& a = *coarse_[level];
    auto& w = work.level[level + 1];
    if (level + 1 == coarse_.size()) {
        Eigen::VectorXd b(static_cast<Eigen::Index>(3 * a.nodes()));
        for (std::size_t n = 0; n < a.nodes(); ++n)
            for (std::size_t c = 0; c < 3; ++c) b[static_cast<Eigen::Index>(3 * n + c)] = w.r[4 * n + c];
        const Eigen::VectorXd x = direct_->factor.solve(b);
        for (std::size_t n = 0; n < a.nodes(); ++n)
            for (std::size_t c = 0; c < 3; ++c)
                w.z[4 * n + c] = static_cast<float>(x[static_cast<Eigen::Index>(3 * n + c)]);
        return;
    }
    smooth(a, w, true);
    a.apply(w.z, w.t);
    parallelFor(
        w.t.size(), [&](std::size_t i) { w.t[i] = w.r[i] - w.t[i]; }, 8192);
    const Coarse& b = *coarse_[level + 1];
    auto& below = work.level[level + 2];
    restricted(a.cells, b, below.r,
               [&](int x, int y, int z) { return Vec4(Eigen::Map<const Vec4>(w.t.data() + 4 * a.node(x, y, z))); });
    coarseCycle(level + 1, work);
    parallelFor(
        a.nodes(),
        [&](std::size_t n) {
            const std::size_t nx = a.cells[0] + std::size_t(1), ny = a.cells[1] + std::size_t(1);
            const std::array<int, 3> p{static_cast<int>(n % nx), static_cast<int>(n / nx % ny),
                                       static_cast<int>(n / (nx * ny))};
            Eigen::Map<Vec4>(w.z.data() + 4 * n) += interpolated(b, below.z, p);
        },
        64);
    smooth(a, w, false);
}

void GridSolver::cycle(Work& work) const {
    const Fine& f = *fine_;
    auto& w = work.level[0];
    smooth(f, w, true);
    f.apply(w.z, w.t);
    parallelFor(
        w.t.size(), [&](std::size_t i) { w.t[i] = w.r[i] - w.t[i]; }, 8192);
    const Coarse& b = *coarse_.front();
    auto& below = work.level[1];
    restricted(f.grid.cells, b, below.r, [&](int x, int y, int z) {
        return Vec4(w.t[f.at.at(x, y, z, 0)], w.t[f.at.at(x, y, z, 1)], w.t[f.at.at(x, y, z, 2)], 0);
    });
    coarseCycle(0, work);
    parallelFor(
        f.grid.nodeCount(),
        [&](std::size_t n) {
            if (!f.active[n]) return;
            const auto p = f.grid.nodeAt(n);
            const Vec4 sum = interpolated(b, below.z, p);
            for (int a = 0; a < 3; ++a) w.t[f.at.at(p[0], p[1], p[2], a)] = sum[a];
        },
        64);
    f.project(w.t);
    parallelFor(
        f.grid.nodeCount(),
        [&](std::size_t n) {
            if (!f.active[n]) return;
            const auto p = f.grid.nodeAt(n);
            for (int a = 0; a < 3; ++a) w.z[f.at.at(p[0], p[1], p[2], a)] += w.t[f.at.at(p[0], p[1], p[2], a)];
        },
        256);
    smooth(f, w, false);
}

void GridSolver::multiply(const std::vector<Vec3>& u, std::vector<Vec3>& f) const {
    std::vector<double> rows, out(fine_->at.size());
    fine_->toRows(u, rows);
    fine_->apply(rows, out, false);
    fine_->fromRows(out, f);
}

void GridSolver::project(std::vector<Vec3>& v) const {
    for (const auto& [node, q] : fine_->held) v[node] = (q * v[node]).eval();
}

void GridSolver::energies(const std::vector<Vec3>& u, std::vector<double>& energy) const {
    const Fine& f = *fine_;
    std::vector<double> rows;
    f.toRows(u, rows);
    energy.assign(f.grid.cellCount(), 0.0);
    parallelFor(
        static_cast<std::size_t>(f.grid.cells[2]),
        [&](std::size_t k) {
            f.forRows<double>(static_cast<int>(k), [&](int i, int n, int j) {
                energyOfRow(f.at, f.exact, rows.data(), i, n, j, static_cast<int>(k),
                            energy.data() + f.grid.cell(i, j, static_cast<int>(k)));
                for (std::size_t c = f.grid.cell(i, j, static_cast<int>(k)), end = c + static_cast<std::size_t>(n);
                     c < end; ++c)
                    if (f.empty[c]) energy[c] = 0;
            });
        },
        1);
}

SolveReport GridSolver::solve(const std::vector<Vec3>& force, std::vector<Vec3>& u, double tolerance, int limit,
                              Progress& progress) const {
    const Fine& f = *fine_;
    const std::size_t size = f.at.size();
    std::vector<double> b, x, r(size), p(size), q(size), before;
    f.toRows(force, b);
    f.project(b);
    parallelFor(f.grid.nodeCount(), [&](std::size_t n) {
        const auto at = f.grid.nodeAt(n);
        if (!f.active[n])
            for (int a = 0; a < 3; ++a) b[f.at.at(at[0], at[1], at[2], a)] = 0;
    });
    u.resize(f.grid.nodeCount(), Vec3::Zero());
    f.toRows(u, x);
    f.project(x);
    auto dot = [&](const auto& v, const auto& w) {
        return orderedSum(size, 0.0, [&](std::size_t i) { return double(v[i]) * double(w[i]); });
    };
    SolveReport report;
    const double whole = std::sqrt(dot(b, b));
    if (!(whole > 0)) {
        u.assign(u.size(), Vec3::Zero());
        return report;
    }
    Work work;
    work.level.resize(coarse_.size() + 1);
    work.level[0].resize(size);
    for (std::size_t l = 0; l < coarse_.size(); ++l) work.level[l + 1].resize(4 * coarse_[l]->nodes());
    f.apply(x, q);
    parallelFor(
        size, [&](std::size_t i) { r[i] = b[i] - q[i]; }, 8192);
    double rho = 0;
    report.residual = std::sqrt(dot(r, r)) / whole;
    for (; report.residual > tolerance && report.iterations < limit; ++report.iterations) {
        progress.check();
        auto& w = work.level[0];
        const double scale = 1 / (report.residual * whole);
        parallelFor(
            size, [&](std::size_t i) { w.r[i] = static_cast<float>(scale * r[i]); }, 8192);
        cycle(work);
        const double next = dot(r, w.z);
        double beta = 0;
        if (report.iterations > 0) beta = (next - dot(before, w.z)) / rho;  // flexible
        rho = next;
        parallelFor(
            size, [&](std::size_t i) { p[i] = w.z[i] + beta * p[i]; }, 8192);
        f.project(p);  // the cycle does so in single precision
        f.apply(p, q);
        const double curvature = dot(p, q);
        if (!(curvature > 0)) break;
        const double step = dot(p, r) / curvature;
        before = r;
        parallelFor(
            size,
            [&](std::size_t i) {
                x[i] += step * p[i];
                r[i] -= step * q[i];
            },
            8192);
        report.residual = std::sqrt(dot(r, r)) / whole;
        if (!std::isfinite(report.residual)) break;
    }
    f.fromRows(x, u);
    if (!(report.residual <= tolerance * 1.0000001))
        throw InputError(ErrorDetail{"The equations on the grid were not solved.",
                                     {},
                                     "after " + std::to_string(report.iterations) + " iterations",
                                     "a residual of " + formatNumber(tolerance) + " or less",
                                     formatNumber(report.residual)});
    return report;
}

std::size_t GridSolver::bytes() const {
    std::size_t sum = fine_->inverse.size() * 4 + fine_->eigen.size() * 4 + fine_->exact.factor.size() * 12;
    for (const auto& c : coarse_) sum += 4 * (c->stencil.size() + c->inverse.size() + c->eigen.size());
    return sum;
}

}  // namespace escultura::optimise
