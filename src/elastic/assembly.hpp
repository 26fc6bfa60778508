/// @file elastic/assembly.hpp
/// Sparse matrices on a numbering from what the elements contribute.

#pragma once
#include "elastic/block_matrix.hpp"
#include "elastic/kernels.hpp"
#include "elastic/numbering.hpp"

namespace escultura::elastic {

/// Which rows share an element. [rows]
BlockPattern patternOf(const Numbering& numbering);
/// Adds all elements, in their order whatever the number of threads. @param words  what is assembled, for the progress
void addElements(const Numbering& numbering, const ElementKernel& kernel, const std::string& words, SplitBlocks& matrix,
                 Progress& progress);
/// Adds a block to one entry that exists.
void addBlock(SplitBlocks& matrix, std::int32_t row, std::int32_t column, const Mat3& block);
/// Uncouples held unknowns: their rows and columns become zero, on the diagonal the mean of the block or nothing.
void uncouple(const Numbering& numbering, bool keepDiagonal, SplitBlocks& matrix);

}  // namespace escultura::elastic
