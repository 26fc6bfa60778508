/// @file judge/summary.hpp
/// Every figure of a variant as JSON.

#pragma once
#include <string>
#include <vector>

#include "project/project.hpp"
#include "project/run.hpp"

namespace escultura::judge {
using namespace project;

/// summary.json: every figure of a variant, as documented in docs/summary.md.
std::string summaryJson(const Project& project, const Variant& variant, const std::vector<Timing>& timings);

}  // namespace escultura::judge
