/// @file duty/units.hpp
/// Units of a part file's bare numbers.

#pragma once
#include <string>

namespace escultura::duty {

/// Units of bare numbers in a part file.
struct Units {
    std::string length = "mm", force = "N", stress = "MPa", density = "kg/m^3", mass = "kg";
};

// the unit of a figure's bare numbers, as its description names it
inline std::string inForce(const Units& u) {
    return u.force;
}
inline std::string inLength(const Units& u) {
    return u.length;
}
inline std::string inStress(const Units& u) {
    return u.stress;
}
inline std::string inMass(const Units& u) {
    return u.mass;
}
inline std::string inMoment(const Units& u) {
    return u.force + "*" + u.length;
}
inline std::string inHertz(const Units&) {
    return "Hz";
}
inline std::string withoutUnit(const Units&) {
    return {};
}

}  // namespace escultura::duty
