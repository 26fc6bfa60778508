/// @file cage_bench.hpp
/// Cages with the fewest faces: the demo parts, made-up bodies of four kinds, random organic shapes.

#pragma once
#include <string>
#include <vector>

namespace escultura::bench {

/// Prints a table. @param shapes  count of random organic shapes
/// @return 1 when a cage is not within its tolerance or a solid not sound
int benchCages(const std::vector<std::string>& parts, int shapes);

}  // namespace escultura::bench
