#include "optimise/grid_levels.hpp"

// Products are compiled for wide registers too; without contraction the bits are the same. The thread sanitizer cannot
// bear what chooses between them before it has begun itself.
#if defined(__x86_64__) && defined(__GNUC__) && !defined(__clang__) && !defined(__SANITIZE_THREAD__)
#define ESCULTURA_WIDE __attribute__((target_clones("avx2", "default")))
#else
#define ESCULTURA_WIDE
#endif

namespace escultura::optimise {
namespace {

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

}  // namespace

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

}  // namespace escultura::optimise
