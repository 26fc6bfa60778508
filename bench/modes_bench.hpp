/// @file modes_bench.hpp
/// Natural frequencies and buckling factors beside what theory says.

#pragma once

namespace escultura::bench {

/// Prints the table of docs/analyses.md. @return how many figures count with more than the truth
int runModes();

}  // namespace escultura::bench
