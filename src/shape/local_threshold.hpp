/// @file shape/local_threshold.hpp
/// A threshold that varies in space so that a smoothed density encloses everywhere the volume of the cells that it came
/// from. With one threshold for all, thick members take the volume that smoothing takes from thin ones, which thin out
/// and break.

#pragma once
#include <array>
#include <vector>

#include "base/progress.hpp"
#include "field/density_field.hpp"
#include "shape/cell_grid.hpp"

namespace escultura::shape {

/// What the smoothed body must enclose.
struct LocalVolume {
    double threshold = 0.5;     ///< of the cells; the local one starts there
    std::vector<float> target;  ///< [cells] share of each cell that belongs to the body
    std::vector<float> speaks;  ///< [cells] 0 where something else shapes the body (cuts, interfaces), else 1
};

/// Share of each cell on the kept side of a threshold, by samples of the raw body (see raw_body.hpp). [cells]
std::vector<float> keptShares(const field::DensityField& field, double threshold);

/// Members and gaps that are at risk. Thin: they hold no ball of one and a half cells; slim: none of three.
struct ThinPlaces {
    std::vector<char> member, gap;  ///< [cells] of thin ones
    CellGrid nearThin, nearSlim;    ///< 1 at thin and slim members, falling smoothly to 0 around them
};
ThinPlaces thinPlaces(const LocalVolume& volume, const std::array<int, 3>& cells);

/// Iterates t += gain * blur(have - target) / target, all blurred: `have` is what {density >= t} encloses of each cell,
/// by eight samples a cell. t stays within 0.08 and 0.92.
/// @param smoothed  B-spline coefficients of the density, with a margin around the cells
/// @return          t on the grid of `smoothed`
/// @throws Cancelled
CellGrid localThreshold(const CellGrid& smoothed, const std::array<int, 3>& cells, int margin,
                        const LocalVolume& volume, const ThinPlaces& thin, Progress& progress);

}  // namespace escultura::shape
