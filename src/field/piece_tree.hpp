/// @file field/piece_tree.hpp
/// The pieces of a density field at every threshold at once: a merge tree of its superlevel sets (Carr, Snoeyink and
/// Axen 2003, join tree), built by one pass over the cells in descending density.

#pragma once
#include <cstdint>
#include <span>
#include <vector>

#include "field/threshold.hpp"

namespace escultura::field {

/// What one threshold keeps, without labels.
struct PieceCounts {
    std::size_t cells = 0;                ///< kept by density
    std::vector<std::size_t> pieceCells;  ///< [pieces] cells kept by density, descending
    std::vector<int> pieceOfInterface;    ///< [interfaces] index into pieceCells; -1: no cells
};

/// Built in O(n log n) once; a look-up costs the number of local maxima of the density, not the number of cells.
class PieceTree {
  public:
    /// @param interfaces  cells that are solid at every threshold
    PieceTree(const DensityField& field, std::span<const KeptCells> interfaces);

    /// Face-connected pieces of {density >= threshold} together with the interfaces' cells; a piece of interface cells
    /// alone counts with zero cells.
    PieceCounts at(double threshold) const;
    /// See largestConnectingThreshold().
    double largestConnectingThreshold() const { return connecting_; }
    /// Cells in descending density.
    const std::vector<std::uint32_t>& order() const { return order_; }

  private:
    struct Branch {
        float birth, death;      // a piece of its own for thresholds in (death, birth]
        std::int32_t parent;     // branch that it joins at its death; -1: none
        std::uint32_t first, n;  // its growth in history_
    };
    struct Growth {
        float density;
        std::uint32_t cells;  // kept by density down to here
    };
    struct Builder;
    void findConnecting();
    std::vector<std::uint32_t> order_;
    std::vector<Branch> branches_;
    std::vector<Growth> history_;
    std::vector<std::int32_t> branchOfInterface_;
    std::vector<float> sorted_;
    double connecting_ = 1;
};

/// Cells of a field in descending density; ties in ascending index. Radix sort.
std::vector<std::uint32_t> descendingOrder(const std::vector<float>& density);

}  // namespace escultura::field
