/// @file project/part_numbers.hpp
/// Numbers of the part file that a variant may have otherwise: diameters, lengths, blend radii, factors of load cases,
/// constants of the material.

#pragma once
#include <string>
#include <vector>

#include "project/part.hpp"
#include "project/recipe.hpp"

namespace escultura::project {

/// One number of the part file.
struct PartNumberInfo {
    std::string place;  ///< JSON Pointer (RFC 6901)
    std::string label;  ///< such as "pin L: bore diameter"
    std::string unit;   ///< of the value, as bare numbers in the part file have it
    double value = 0;
};

/// Every number that may be changed, in the order of the part file.
std::vector<PartNumberInfo> partNumbers(const Part& part);

/// The part with numbers replaced; everything else is as it was.
/// @throws InputError when the part has no number at a place, or is none with it
Part withNumbers(const Part& part, const std::vector<PartNumber>& numbers);

/// Sets a number among others; one at the same place is replaced.
void setNumber(std::vector<PartNumber>& numbers, const std::string& place, double value);

}  // namespace escultura::project
