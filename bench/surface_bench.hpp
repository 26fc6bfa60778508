/// @file surface_bench.hpp
/// What surfaces keep of their fields: members, handles, places; and random shapes by the thousand.

#pragma once
#include <string>
#include <vector>

namespace escultura::bench {

/// Prints members, handles, deviation and normal jumps of parts and of a made-up brace, with one threshold and with the
/// volume kept locally. @return 1 when a surface that keeps members loses one
int benchMembers(const std::vector<std::string>& parts);

/// Random shapes, each extracted and meshed; prints those that are not as they should be. Goes on where it was stopped.
/// @param first    seed
/// @param state    file with the seeds that are done and their figures
/// @return 1 when any was not as it should be
int benchFuzz(int first, int count, const std::string& state);

}  // namespace escultura::bench
