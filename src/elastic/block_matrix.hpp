/// @file elastic/block_matrix.hpp
/// Sparse symmetric matrices of 3x3 blocks and their products with several vectors at once.

#pragma once
#include <array>
#include <cstdint>
#include <vector>

#include "base/geometry.hpp"

namespace escultura::elastic {

/// Rows of block columns, sorted; both triangles are kept.
struct BlockPattern {
    std::vector<std::int64_t> offset;  ///< [rows + 1]
    std::vector<std::int32_t> column;

    std::size_t rows() const { return offset.empty() ? 0 : offset.size() - 1; }
    /// Place of an entry that exists.
    std::int64_t find(std::int32_t row, std::int32_t col) const;
};

/// Values as a leading single-precision part and the rest: the preconditioner reads the first alone, at half the
/// memory traffic; together they carry 48 bits.
struct SplitBlocks {
    BlockPattern pattern;
    std::vector<float> high, low;  ///< [blocks * 9], row-major blocks

    Mat3 block(std::int64_t at) const;
    void setBlock(std::int64_t at, const Mat3& value);
    std::size_t bytes() const;
};

/// How many vectors one product takes: 1 or 4. Vectors are laid out [row][component][vector].
/// y = A x with the leading parts only.
void multiply(const BlockPattern& pattern, const std::vector<float>& high, int vectors, const float* x, float* y);
/// y = A x with all bits.
void multiply(const SplitBlocks& a, int vectors, const double* x, double* y);

}  // namespace escultura::elastic
