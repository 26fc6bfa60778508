/// @file field/combine.hpp
/// Several density fields of one part: combined to one, or compared.

#pragma once
#include <span>

#include "field/density_field.hpp"

namespace escultura::field {

enum class Combination { maximum, mean, weightedSum };

/// Combines fields cell by cell. Fields on another grid are resampled to the first one's cells, extended in whole cells
/// over all of them: each cell takes the volume-weighted mean of the cells that it overlaps, void outside.
/// @param weights  weightedSum: one factor a field, at least zero; the sum is limited to 1
/// @throws InputError when there is no field, or the weights do not fit
DensityField combine(std::span<const DensityField* const> fields, Combination how, std::span<const double> weights);

/// A field on the cells of another grid. Mass over the common space is kept to rounding.
DensityField resample(const DensityField& field, const DensityField& grid);

/// Two bodies {density >= threshold} compared on the first one's cells.
struct Comparison {
    double both = 0, onlyFirst = 0, onlySecond = 0;  ///< volumes, mm3
    std::vector<std::uint8_t> where;  ///< [cells of the first, extended] bit 0: in the first, bit 1: in the second
    DensityField grid;                ///< its cells; densities are those of the first
    /// Shared volume over the volume of either (Jaccard index).
    double overlap() const { return both + onlyFirst + onlySecond > 0 ? both / (both + onlyFirst + onlySecond) : 1; }
};
Comparison compare(const DensityField& first, double firstThreshold, const DensityField& second,
                   double secondThreshold);

}  // namespace escultura::field
