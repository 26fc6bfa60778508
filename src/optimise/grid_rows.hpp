/// @file optimise/grid_rows.hpp
/// Vectors and products on the finest grid, laid out in rows along x. Internal to this folder.

#pragma once
#include <algorithm>
#include <cstring>
#include <vector>

#include "base/parallel.hpp"
#include "optimise/grid.hpp"

namespace escultura::optimise {

/// Where a node's component lies: rows along x of one component, padded.
struct RowLayout {
    explicit RowLayout(const Grid& grid)
        : cells(grid.cells), stride((static_cast<std::size_t>(grid.cells[0]) + 1 + 15) / 16 * 16) {}
    std::array<int, 3> cells;
    std::size_t stride;
    std::size_t rows() const { return (cells[1] + std::size_t(1)) * (cells[2] + std::size_t(1)); }
    std::size_t size() const { return 3 * rows() * stride; }
    std::size_t row(int j, int k) const {
        return 3 * stride * (j + (cells[1] + std::size_t(1)) * static_cast<std::size_t>(k));
    }
    std::size_t at(int i, int j, int k, int component) const {
        return row(j, k) + static_cast<std::size_t>(component) * stride + static_cast<std::size_t>(i);
    }
};

/// Blocks and factors in one precision.
template <class T>
struct RowProduct {
    T block[8][3][3];
    std::vector<T> factor;  ///< [cells] times Young's modulus

    /// Cells of a row that are handled at once.
    static constexpr int width = 64;
    /// Walsh transform along one axis of the corners.
    static void butterfly(T (&h)[24][width], int n) {
        for (unsigned bit = 1; bit < 8; bit <<= 1)
            for (unsigned c = 0; c < 8; ++c) {
                if (c & bit) continue;
                for (unsigned d = 0; d < 3; ++d) {
                    T *a = h[3 * c + d], *b = h[3 * (c | bit) + d];
                    for (int i = 0; i < n; ++i) {
                        const T s = a[i] + b[i], t = a[i] - b[i];
                        a[i] = s;
                        b[i] = t;
                    }
                }
            }
    }
    static void load(const RowLayout& at, const T* u, int i0, int n, int j, int k, T (&h)[24][width]) {
        for (unsigned c = 0; c < 8; ++c)
            for (unsigned d = 0; d < 3; ++d) {
                const T* from = u + at.at(i0 + static_cast<int>(c & 1U), j + static_cast<int>(c >> 1 & 1U),
                                          k + static_cast<int>(c >> 2), static_cast<int>(d));
                std::memcpy(h[3 * c + d], from, static_cast<std::size_t>(n) * sizeof(T));
            }
    }
    /// h = blocks times h, each cell times its factor.
    void stiffen(const T* f, T (&h)[24][width], int n) const {
        for (unsigned b = 0; b < 8; ++b) {
            T *x = h[3 * (b ^ 1U)], *y = h[3 * (b ^ 2U) + 1], *z = h[3 * (b ^ 4U) + 2];
            const auto& m = block[b];
            for (int i = 0; i < n; ++i) {
                const T p = f[i] * x[i], q = f[i] * y[i], r = f[i] * z[i];
                x[i] = m[0][0] * p + m[0][1] * q + m[0][2] * r;
                y[i] = m[1][0] * p + m[1][1] * q + m[1][2] * r;
                z[i] = m[2][0] * p + m[2][1] * q + m[2][2] * r;
            }
        }
    }
};

}  // namespace escultura::optimise
