/// @file field/density_field.hpp
/// A regular grid of cell densities: the raw result of a topology optimisation.

#pragma once
#include <array>
#include <string>
#include <vector>

#include "base/geometry.hpp"

namespace escultura::field {

/// Densities between 0 and 1 at cells of equal size, x fastest. Plain value.
struct DensityField {
    std::array<int, 3> cells{0, 0, 0};  ///< count along x, y, z
    Vec3 origin = Vec3::Zero();         ///< low corner of cell (0,0,0), mm
    Vec3 spacing = Vec3::Ones();        ///< edge lengths of a cell, mm
    std::vector<float> density;         ///< [cells[0]*cells[1]*cells[2]]
    std::string source;                 ///< file and array it was read from

    std::size_t count() const { return density.size(); }
    double cellVolume() const { return spacing.prod(); }
    std::size_t index(int i, int j, int k) const {
        return static_cast<std::size_t>(i) +
               static_cast<std::size_t>(cells[0]) * (j + static_cast<std::size_t>(cells[1]) * k);
    }
    Vec3 centre(std::size_t cell) const {
        const std::size_t nx = cells[0], ny = cells[1];
        return origin + spacing.cwiseProduct(Vec3(cell % nx + 0.5, cell / nx % ny + 0.5, cell / (nx * ny) + 0.5));
    }
    Box3 bounds() const { return {origin, origin + spacing.cwiseProduct(Vec3(cells[0], cells[1], cells[2]))}; }
};

/// Refuses what is not a density field: no cells, a flat grid, wrong array length, NaN, infinities, values outside
/// [0,1] by more than 1e-6 (recognises 0..100 and 0..255 and says so).
/// @throws InputError naming the first offending cell
void validate(const DensityField& field);

}  // namespace escultura::field
