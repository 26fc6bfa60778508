/// @file view/measure.hpp
/// What lies between places that were picked on a body.

#pragma once
#include <QString>
#include <optional>
#include <vector>

#include "base/geometry.hpp"

namespace escultura::app {

/// A number of a place, or of what is read there; what is nothing but for rounding is 0.
QString placeNumber(double v);

/// Figures of one to three places.
struct Measured {
    std::optional<double> distance;  ///< between the first two, mm
    Vec3 components = Vec3::Zero();  ///< of the way from the first to the second, mm
    std::optional<double> angle;     ///< at the second of three, degrees
    std::optional<double> radius;    ///< of the circle through three; none when they lie on a line, mm
    std::optional<double> wall;      ///< at a single place, along its normal to where the body ends, mm
    QString words() const;
};

/// @param wall  at the last place, along its normal, mm
Measured measured(const std::vector<Vec3>& places, std::optional<double> wall);

}  // namespace escultura::app
