/// @file duty/names.hpp
/// Several names in few words.

#pragma once
#include <string>
#include <vector>

namespace escultura::duty {

/// "bolt 1 to 4" where names differ in a number that runs on, else "pin L and pin R" or "pin L and 3 others".
std::string togetherText(const std::vector<std::string>& names);

}  // namespace escultura::duty
