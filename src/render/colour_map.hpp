/// @file render/colour_map.hpp
/// Colour ramps for stress, displacement, safety factor and deviation; readable without telling red from green.

#pragma once
#include <array>
#include <cstdint>

namespace escultura::render {

struct Colour {
    std::uint8_t r = 0, g = 0, b = 0;
};

enum class Ramp {
    stress,        ///< plaster, clay, dark red-brown
    displacement,  ///< paper to deep teal
    safetyFactor,  ///< two-sided about the required value
    deviation,     ///< paper to ochre-brown
};

/// Maps values to colours over a range. For the safety factor, `middle` is the required value: its colour is pale, what
/// is below is clay-red, above teal.
struct ColourScale {
    Ramp ramp = Ramp::stress;
    double low = 0, high = 1, middle = 0;
    int bands = 0;  ///< 0: continuous
    /// Position of a value on the scale, 0 to 1.
    double position(double value) const;
    /// Value at a position.
    double valueAt(double position) const;
    Colour colourAt(double position) const;
    Colour colour(double value) const { return colourAt(position(value)); }
};

}  // namespace escultura::render
