/// @file duty/part_numbers.hpp
/// Numbers of the part file that a variant may have otherwise: diameters, lengths, blend radii, factors of load cases,
/// constants of the material.

#pragma once
#include <optional>
#include <string>
#include <vector>

#include "duty/part.hpp"
#include "duty/recipe.hpp"

namespace escultura::duty {

/// One number of the part file.
struct PartNumberInfo {
    std::string place;  ///< by names: "/interfaces/pin L/bore_diameter", escaped as in a JSON Pointer (RFC 6901)
    std::string label;  ///< such as "pin L: bore diameter"
    std::string unit;   ///< of the value, as bare numbers in the part file have it
    double value = 0;
};

/// Every number that may be changed, in the order of the part file.
std::vector<PartNumberInfo> partNumbers(const Part& part);

/// A place by names, whatever it was by: earlier versions counted interfaces and load cases ("/interfaces/0/length").
/// Null: the part has no such number.
std::optional<std::string> namedPlace(const Part& part, const std::string& place);

/// Marks a place that an earlier version stored by count, until nameNumbers() has the part.
std::string byCount(const std::string& place);
/// Turns marked places into places by names, with the part that they were counted in.
void nameNumbers(const Part& part, std::vector<PartNumber>& numbers);
std::string namedOrMarked(const Part& part, const std::string& place);

/// Lets numbers follow interfaces and load cases that an edit has renamed, and drops those of which it removed.
/// @return labels of the numbers that were dropped
std::vector<std::string> followNames(const Part& before, const Part& after, std::vector<PartNumber>& numbers);

/// The part with numbers replaced; everything else is as it was.
/// @throws InputError when the part has no number at a place, or is none with it
Part withNumbers(const Part& part, const std::vector<PartNumber>& numbers);

/// Sets a number among others; one at the same place is replaced.
void setNumber(std::vector<PartNumber>& numbers, const std::string& place, double value);

}  // namespace escultura::duty
