/// @file bench/hostile_bench.hpp
/// Damaged inputs by the thousand, in one run that can be stopped and gone on with.

#pragma once
#include <string>

namespace escultura::bench {

/// @param share   of 10,000 part files, 10,000 fields, 2,000 bodies, 1,000 projects and 1,000 releases
/// @param folder  where inputs, the state of the run and what failed are kept
/// @return exit code: 1 when a try did not end well
int benchHostile(double share, const std::string& folder);

}  // namespace escultura::bench
