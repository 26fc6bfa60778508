#include "elastic/assembly.hpp"

#include <algorithm>

#include "base/parallel.hpp"

namespace escultura::elastic {
namespace {

/// Adds one element's blocks to the rows from low to below high.
void addElement(const Numbering& numbering, const mesh::Tet10& t, const ElementMatrix& k, std::int32_t low,
                std::int32_t high, SplitBlocks& matrix) {
    auto isPlain = [&](std::int32_t row) { return !numbering.row(row).framed && numbering.row(row).group < 0; };
    int at = 0;
    for (int n = 0; n < 10; ++n) {
        const std::int32_t rn = numbering.rowOf(t[n]);
        for (int m = n; m < 10; ++m, ++at) {
            const std::int32_t rm = numbering.rowOf(t[m]);
            if (isPlain(rn) && isPlain(rm)) {
                if (rn >= low && rn < high) addBlock(matrix, rn, rm, k[at]);
                if (m != n && rm >= low && rm < high) addBlock(matrix, rm, rn, k[at].transpose());
                continue;
            }
            std::int32_t a[2], b[2];
            const int na = numbering.rowsOf(t[n], a), nb = numbering.rowsOf(t[m], b);
            for (int p = 0; p < na; ++p)
                for (int q = 0; q < nb; ++q) {
                    const Mat3 block =
                        numbering.transform(t[n], a[p]).transpose() * k[at] * numbering.transform(t[m], b[q]);
                    if (a[p] >= low && a[p] < high) addBlock(matrix, a[p], b[q], block);
                    if (m != n && b[q] >= low && b[q] < high) addBlock(matrix, b[q], a[p], block.transpose());
                }
        }
    }
}

}  // namespace

BlockPattern patternOf(const Numbering& numbering) {
    const mesh::TetMesh& mesh = numbering.mesh();
    const std::size_t rows = numbering.rows();
    BlockPattern pattern;
    std::vector<std::int32_t> start(rows + 1, 0), elements;
    auto forRowsOf = [&](const mesh::Tet10& t, auto visit) {
        for (auto n : t) {
            std::int32_t r[2];
            for (int k = 0, count = numbering.rowsOf(n, r); k < count; ++k) visit(r[k]);
        }
    };
    for (const auto& t : mesh.tet) forRowsOf(t, [&](auto r) { ++start[r + 1]; });
    for (std::size_t n = 0; n < rows; ++n) start[n + 1] += start[n];
    elements.resize(start.back());
    std::vector<std::int32_t> next(start.begin(), start.end() - 1);
    for (std::size_t e = 0; e < mesh.tet.size(); ++e)
        forRowsOf(mesh.tet[e], [&](auto r) { elements[next[r]++] = static_cast<std::int32_t>(e); });
    auto collect = [&](std::size_t n, std::vector<std::int32_t>& row) {
        row.clear();
        for (auto at = start[n]; at < start[n + 1]; ++at)
            forRowsOf(mesh.tet[elements[at]], [&](auto r) { row.push_back(r); });
        std::sort(row.begin(), row.end());
        row.erase(std::unique(row.begin(), row.end()), row.end());
    };
    pattern.offset.assign(rows + 1, 0);
    auto forAll = [&](auto body) {
        constexpr std::size_t block = 1024;  // each with a row of its own
        parallelFor((rows + block - 1) / block,
                    [&](std::size_t b) {
                        std::vector<std::int32_t> row;
                        for (std::size_t n = b * block; n < std::min(rows, (b + 1) * block); ++n) {
                            collect(n, row);
                            body(n, row);
                        }
                    },
                    1);
    };
    forAll([&](std::size_t n, const auto& row) { pattern.offset[n + 1] = static_cast<std::int64_t>(row.size()); });
    for (std::size_t n = 0; n < rows; ++n) pattern.offset[n + 1] += pattern.offset[n];
    pattern.column.resize(pattern.offset.back());
    forAll([&](std::size_t n, const auto& row) {
        std::copy(row.begin(), row.end(), pattern.column.begin() + pattern.offset[n]);
    });
    return pattern;
}

void addBlock(SplitBlocks& matrix, std::int32_t row, std::int32_t column, const Mat3& block) {
    const auto at = matrix.pattern.find(row, column);
    matrix.setBlock(at, matrix.block(at) + block);
}

void addElements(const Numbering& numbering, const ElementKernel& kernel, const std::string& words, SplitBlocks& matrix,
                 Progress& progress) {
    const mesh::TetMesh& mesh = numbering.mesh();
    const std::size_t rows = numbering.rows();
    constexpr std::size_t chunk = 4096, parts = 8;
    std::vector<ElementMatrix> matrices(chunk);
    for (std::size_t begin = 0; begin < mesh.tet.size(); begin += chunk) {
        progress.step(words, static_cast<double>(begin) / static_cast<double>(mesh.tet.size()));
        const std::size_t count = std::min(chunk, mesh.tet.size() - begin);
        parallelFor(
            count, [&](std::size_t i) { kernel(begin + i, matrices[i]); }, 64);
        // each part of the rows is added up by one thread, in the order of the elements: always the same sums
        parallelFor(
            parts,
            [&](std::size_t part) {
                const auto low = static_cast<std::int32_t>(rows * part / parts);
                const auto high = static_cast<std::int32_t>(rows * (part + 1) / parts);
                for (std::size_t i = 0; i < count; ++i)
                    addElement(numbering, mesh.tet[begin + i], matrices[i], low, high, matrix);
            },
            1);
    }
}

void uncouple(const Numbering& numbering, bool keepDiagonal, SplitBlocks& matrix) {
    parallelFor(numbering.rows(), [&](std::size_t r) {
        const Numbering::Row& row = numbering.row(r);
        for (auto at = matrix.pattern.offset[r]; at < matrix.pattern.offset[r + 1]; ++at) {
            const auto col = static_cast<std::size_t>(matrix.pattern.column[at]);
            const Numbering::Row& other = numbering.row(col);
            if (row.freeMask == 7 && other.freeMask == 7) continue;
            Mat3 block = matrix.block(at);
            const double diagonal = keepDiagonal ? std::max(block.trace() / 3, 1e-30) : 0;
            for (int a = 0; a < 3; ++a)
                for (int b = 0; b < 3; ++b)
                    if (!row.isFree(a) || !other.isFree(b)) block(a, b) = r == col && a == b ? diagonal : 0;
            matrix.setBlock(at, block);
        }
    });
}

}  // namespace escultura::elastic
