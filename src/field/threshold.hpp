/// @file field/threshold.hpp
/// What a threshold keeps: volume and mass by one sort, pieces and connected interfaces by union-find, and the largest
/// threshold that still connects all interfaces by a maximum spanning forest.

#pragma once
#include <cstdint>
#include <span>
#include <string>
#include <vector>

#include "field/density_field.hpp"

namespace escultura::field {

/// Cells that an interface keeps solid whatever the density there is (its ring or pad).
struct KeptCells {
    std::string name;
    std::vector<std::size_t> cells;  ///< cell indices, at least one for the interface to be reachable
};

/// Volume kept as a function of the threshold. Built once, then a look-up takes O(log n).
class KeptVolume {
  public:
    explicit KeptVolume(const DensityField& field);
    /// The same with the cells' descending order known already.
    KeptVolume(const DensityField& field, const std::vector<std::uint32_t>& order);
    /// Volume of the cells with density >= threshold, mm3.
    double volume(double threshold) const;
    /// Largest threshold that keeps at least this volume, mm3; 0 when the grid is smaller.
    double thresholdFor(double volume) const;
    /// Shares of all cells in equal bins of density over [0,1].
    std::vector<double> histogram(int bins) const;
    /// Share of the cells with density >= threshold whose density is below `solid`; 0 when none is kept.
    double greyShare(double threshold, double solid = 0.9) const;

  private:
    std::vector<float> sorted_;  // descending
    double cellVolume_;
};

/// The face-connected pieces of {density >= threshold} together with the interfaces' kept cells.
struct Pieces {
    std::vector<std::int32_t> label;     ///< [cells] -1: not kept, else piece; piece 0 is the largest
    std::vector<std::size_t> cellCount;  ///< [pieces] descending
    std::vector<int> pieceOfInterface;   ///< [interfaces] piece that its kept cells touch; -1: none kept
    std::size_t pieces() const { return cellCount.size(); }
};

/// Labels the pieces (6-connectivity).
/// @throws InputError when the threshold keeps no cell
Pieces findPieces(const DensityField& field, double threshold, std::span<const KeptCells> interfaces);

/// The largest threshold at which one face-connected piece of {density >= threshold} touches every interface, the
/// interfaces' own cells counted as solid. Exact: one pass over the cells in descending density.
/// @return threshold in [0,1]; negative when even all cells do not connect them
double largestConnectingThreshold(const DensityField& field, std::span<const KeptCells> interfaces);

}  // namespace escultura::field
