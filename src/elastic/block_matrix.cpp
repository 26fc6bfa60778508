#include "elastic/block_matrix.hpp"

#include <algorithm>

#include "base/parallel.hpp"

namespace escultura::elastic {
namespace {

// GNU vector types: four right-hand sides in one register.
typedef float Float4 __attribute__((vector_size(16), aligned(16)));
typedef double Double4 __attribute__((vector_size(32), aligned(16)));

template <class Body>
void forRows(std::size_t rows, const Body& body) {
    parallelFor(rows, body, 512);
}

}  // namespace

std::int64_t BlockPattern::find(std::int32_t row, std::int32_t col) const {
    return std::lower_bound(column.begin() + offset[row], column.begin() + offset[row + 1], col) - column.begin();
}

Mat3 SplitBlocks::block(std::int64_t at) const {
    Mat3 m;
    for (int k = 0; k < 9; ++k) m(k / 3, k % 3) = static_cast<double>(high[9 * at + k]) + low[9 * at + k];
    return m;
}

void SplitBlocks::setBlock(std::int64_t at, const Mat3& value) {
    for (int k = 0; k < 9; ++k) {
        const double v = value(k / 3, k % 3);
        high[9 * at + k] = static_cast<float>(v);
        low[9 * at + k] = static_cast<float>(v - high[9 * at + k]);
    }
}

std::size_t SplitBlocks::bytes() const {
    return 4 * (high.size() + low.size() + pattern.column.size()) + 8 * pattern.offset.size();
}

void multiply(const BlockPattern& p, const std::vector<float>& high, int vectors, const float* x, float* y) {
    if (vectors == 4) {
        forRows(p.rows(), [&](std::size_t i) {
            Float4 s0{}, s1{}, s2{};
            for (auto at = p.offset[i]; at < p.offset[i + 1]; ++at) {
                const float* a = &high[9 * at];
                const auto* v = reinterpret_cast<const Float4*>(x + 12 * static_cast<std::size_t>(p.column[at]));
                s0 += a[0] * v[0] + a[1] * v[1] + a[2] * v[2];
                s1 += a[3] * v[0] + a[4] * v[1] + a[5] * v[2];
                s2 += a[6] * v[0] + a[7] * v[1] + a[8] * v[2];
            }
            auto* out = reinterpret_cast<Float4*>(y + 12 * i);
            out[0] = s0;
            out[1] = s1;
            out[2] = s2;
        });
        return;
    }
    forRows(p.rows(), [&](std::size_t i) {
        float s0 = 0, s1 = 0, s2 = 0;
        for (auto at = p.offset[i]; at < p.offset[i + 1]; ++at) {
            const float* a = &high[9 * at];
            const float* v = x + 3 * static_cast<std::size_t>(p.column[at]);
            s0 += a[0] * v[0] + a[1] * v[1] + a[2] * v[2];
            s1 += a[3] * v[0] + a[4] * v[1] + a[5] * v[2];
            s2 += a[6] * v[0] + a[7] * v[1] + a[8] * v[2];
        }
        y[3 * i] = s0, y[3 * i + 1] = s1, y[3 * i + 2] = s2;
    });
}

void multiply(const SplitBlocks& m, int vectors, const double* x, double* y) {
    const BlockPattern& p = m.pattern;
    if (vectors == 4) {
        forRows(p.rows(), [&](std::size_t i) {
            Double4 s0{}, s1{}, s2{};
            for (auto at = p.offset[i]; at < p.offset[i + 1]; ++at) {
                double a[9];
                for (int k = 0; k < 9; ++k) a[k] = static_cast<double>(m.high[9 * at + k]) + m.low[9 * at + k];
                const auto* v = reinterpret_cast<const Double4*>(x + 12 * static_cast<std::size_t>(p.column[at]));
                s0 += a[0] * v[0] + a[1] * v[1] + a[2] * v[2];
                s1 += a[3] * v[0] + a[4] * v[1] + a[5] * v[2];
                s2 += a[6] * v[0] + a[7] * v[1] + a[8] * v[2];
            }
            auto* out = reinterpret_cast<Double4*>(y + 12 * i);
            out[0] = s0;
            out[1] = s1;
            out[2] = s2;
        });
        return;
    }
    forRows(p.rows(), [&](std::size_t i) {
        double s[3] = {0, 0, 0};
        for (auto at = p.offset[i]; at < p.offset[i + 1]; ++at) {
            const double* v = x + 3 * static_cast<std::size_t>(p.column[at]);
            for (int r = 0; r < 3; ++r)
                for (int k = 0; k < 3; ++k)
                    s[r] += (static_cast<double>(m.high[9 * at + 3 * r + k]) + m.low[9 * at + 3 * r + k]) * v[k];
        }
        for (int r = 0; r < 3; ++r) y[3 * i + r] = s[r];
    });
}

}  // namespace escultura::elastic
