/// @file base/quantity.hpp
/// Numbers with units and arithmetic: '2*450 lbf', '32.2 ft/s^2', '1/4 in'. Internal units: mm, N, MPa, kg, s.

#pragma once
#include <array>
#include <string>
#include <string_view>

namespace escultura {

/// Exponents of length, mass, time.
struct Dimension {
    int length = 0, mass = 0, time = 0;
    bool operator==(const Dimension&) const = default;
};

namespace dimension {
inline constexpr Dimension none{0, 0, 0}, length{1, 0, 0}, mass{0, 1, 0}, force{1, 1, -2}, stress{-1, 1, -2},
    density{-3, 1, 0}, moment{2, 1, -2}, acceleration{1, 0, -2}, frequency{0, 0, -1};
}

/// Reads an expression with +, -, *, /, ^, brackets and unit symbols. A number without a unit is taken in
/// `defaultUnit`.
/// @param text         what the user typed
/// @param wanted       dimension that must come out
/// @param defaultUnit  unit symbol of bare numbers, e.g. "mm", "N", "MPa", "kg/m^3"; empty for pure numbers
/// @return             value in internal units: mm, kg, N, MPa, kg/mm3, N mm, mm/s2
/// @throws InputError  with the position of the first character that cannot be read, or the dimension that came out
double parseQuantity(std::string_view text, Dimension wanted, std::string_view defaultUnit);

/// What a unit measures. @throws InputError for an unknown unit expression
Dimension dimensionOf(std::string_view unit);

/// Internal value of one such unit (unitScale("in") is 25.4). @throws InputError for an unknown unit expression
double unitScale(std::string_view unit);

/// A number with a sensible count of digits: three to four significant, no exponent between 0.001 and 99,999.
std::string formatNumber(double value, int significant = 4);

}  // namespace escultura
