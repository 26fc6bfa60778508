/// @file judge/requirement_measures.hpp
/// How each kind of requirement is measured, and which stage its evidence comes from. Internal to this folder.

#pragma once
#include <limits>
#include <memory>
#include <string>

#include "project/project.hpp"

namespace escultura::judge {
using namespace project;

/// Everything that a requirement may be measured on.
struct Known {
    const Project& project;
    const Variant& variant;
    const Part& part;
    std::shared_ptr<const SurfaceResult> surface;
    std::shared_ptr<const CheckResult> check;
    std::shared_ptr<const RebuildResult> rebuilt;
    std::shared_ptr<const ProcessResult> process;
    const SurfaceResult* onSurface;  ///< fresh or last
    const CheckResult* onCheck;
    bool checksRebuilt() const { return variant.recipe.check.rebuilt && !variant.recipe.check.original; }
};

/// A value, whether it is fresh, and what it leaves out.
struct Measured {
    double value = std::numeric_limits<double>::quiet_NaN();
    bool fresh = true;
    std::string note{};
    bool proven = true;  ///< else met only so far
    std::string doubt{};
};

struct RequirementMeasure {
    Requirement::Kind kind;
    Stage evidence;
    Measured (*measured)(const Known& known, const Requirement& requirement);
};
const RequirementMeasure& requirementMeasure(Requirement::Kind kind);

}  // namespace escultura::judge
