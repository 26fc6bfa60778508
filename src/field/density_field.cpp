#include "field/density_field.hpp"

#include <cmath>

#include "base/error.hpp"
#include "base/quantity.hpp"

namespace escultura::field {

void validate(const DensityField& field) {
    const auto& n = field.cells;
    const std::string size = std::to_string(n[0]) + " x " + std::to_string(n[1]) + " x " + std::to_string(n[2]);
    if (n[0] < 2 || n[1] < 2 || n[2] < 2) {
        throw InputError(ErrorDetail{"The density field is not a solid grid of cells.", field.source, "grid size",
                                     "at least 2 cells along each of three axes", size + " cells"});
    }
    const std::size_t expected = static_cast<std::size_t>(n[0]) * n[1] * n[2];
    if (field.density.size() != expected) {
        throw InputError(ErrorDetail{"The density array does not fit the grid.", field.source, "array length",
                                     std::to_string(expected) + " values (" + size + ")",
                                     std::to_string(field.density.size()) + " values"});
    }
    if (!(field.spacing.array() > 0).all() || !field.spacing.allFinite() || !field.origin.allFinite()) {
        throw InputError(ErrorDetail{"The grid has no usable cell size.", field.source, "spacing",
                                     "three finite lengths above zero", "a zero, negative or infinite value"});
    }
    double low = field.density[0], high = low;
    for (std::size_t c = 0; c < expected; ++c) {
        const double v = field.density[c];
        if (!std::isfinite(v)) {
            const std::size_t nx = n[0], ny = n[1];
            throw InputError(ErrorDetail{"The density field holds a value that is not a number.", field.source,
                                         "cell (" + std::to_string(c % nx) + ", " + std::to_string(c / nx % ny) + ", " +
                                             std::to_string(c / (nx * ny)) + ")",
                                         "a density between 0 and 1", std::isnan(v) ? "NaN" : "infinity"});
        }
        low = std::min(low, v);
        high = std::max(high, v);
    }
    if (low < -1e-6 || high > 1 + 1e-6) {
        std::string hint;
        if (low >= 0 && high <= 100.001 && high > 2) hint = " (looks like per cent: divide by 100)";
        if (low >= 0 && high <= 255 && high > 100.001) hint = " (looks like bytes: divide by 255)";
        throw InputError(ErrorDetail{"The densities are out of range.", field.source, "value range", "0 to 1",
                                     formatNumber(low) + " to " + formatNumber(high) + hint});
    }
}

}  // namespace escultura::field
