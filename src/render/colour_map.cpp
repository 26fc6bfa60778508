#include "render/colour_map.hpp"

#include <algorithm>
#include <cmath>
#include <span>

namespace escultura::render {
namespace {

constexpr Colour stressStops[] = {{0xED, 0xE7, 0xDA}, {0xEE, 0xCF, 0xA8}, {0xE0, 0x97, 0x5F},
                                  {0xB8, 0x55, 0x2B}, {0x84, 0x2A, 0x1B}, {0x4A, 0x14, 0x10}};
constexpr Colour displacementStops[] = {
    {0xF1, 0xEC, 0xDF}, {0xB9, 0xD6, 0xCB}, {0x6F, 0xAE, 0xA6}, {0x2B, 0x79, 0x75}, {0x0B, 0x3F, 0x40}};
constexpr Colour safetyStops[] = {{0x6E, 0x1B, 0x12}, {0xB0, 0x48, 0x2A}, {0xE0, 0xA0, 0x78}, {0xF3, 0xEC, 0xDC},
                                  {0xB7, 0xD8, 0xCF}, {0x79, 0xB5, 0xAC}, {0x3D, 0x8B, 0x85}};
// two-sided: below zero teal, above it brown
constexpr Colour deviationStops[] = {
    {0x0F, 0x4A, 0x4A}, {0x5E, 0xA3, 0x9C}, {0xF1, 0xEC, 0xDF}, {0xD9, 0xA4, 0x4C}, {0x7A, 0x4E, 0x12}};

Colour blend(std::span<const Colour> stops, double x) {
    const double at = std::clamp(x, 0.0, 1.0) * static_cast<double>(stops.size() - 1);
    const auto i = std::min(static_cast<std::size_t>(at), stops.size() - 2);
    const double t = at - static_cast<double>(i);
    auto mix = [&](std::uint8_t a, std::uint8_t b) { return static_cast<std::uint8_t>(std::lround(a + t * (b - a))); };
    return {mix(stops[i].r, stops[i + 1].r), mix(stops[i].g, stops[i + 1].g), mix(stops[i].b, stops[i + 1].b)};
}

}  // namespace

double ColourScale::position(double value) const {
    if (!(high > low)) return 0;
    if (ramp == Ramp::safetyFactor) {
        if (value <= middle) return middle > low ? 0.5 * std::clamp((value - low) / (middle - low), 0.0, 1.0) : 0.0;
        return high > middle ? 0.5 + 0.5 * std::clamp((value - middle) / (high - middle), 0.0, 1.0) : 1.0;
    }
    return std::clamp((value - low) / (high - low), 0.0, 1.0);
}

double ColourScale::valueAt(double x) const {
    if (ramp == Ramp::safetyFactor)
        return x < 0.5 ? low + 2 * x * (middle - low) : middle + (2 * x - 1) * (high - middle);
    return low + x * (high - low);
}

Colour ColourScale::colourAt(double x) const {
    if (bands > 0) x = (std::min(std::floor(x * bands), bands - 1.0) + 0.5) / bands;
    switch (ramp) {
        case Ramp::stress:
            return blend(stressStops, x);
        case Ramp::displacement:
            return blend(displacementStops, x);
        case Ramp::safetyFactor:
            return blend(safetyStops, x);
        case Ramp::deviation:
            return blend(deviationStops, x);
    }
    return {};
}

}  // namespace escultura::render
