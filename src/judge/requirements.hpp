/// @file judge/requirements.hpp
/// Whether a variant satisfies what is required, and what stands between it and its release.

#pragma once
#include <string>
#include <vector>

#include "project/project.hpp"

namespace escultura::judge {
using namespace project;

/// State of a requirement.
struct RequirementState {
    /// metSoFar: on a figure that proves nothing yet, such as that of untested hotspots or of a check of level 'look'.
    enum class State { met, metSoFar, notMet, unknown, outOfDate } state = State::unknown;
    Requirement::Kind kind = Requirement::Kind::safetyFactor;
    std::string key;  ///< RequirementKind::key
    std::string name, unit, source;
    double limit = 0;
    bool atLeast = false;           ///< limit is a minimum
    bool hasLimit = true;           ///< else the requirement is met or not; its value is the count of what is missing
    double value = 0;               ///< NaN when not known
    std::string doubt;              ///< how far a safety factor may be off and what it is not; beside the number
    std::string note;               ///< what the value leaves out, or why it is not known; may be empty
    Stage evidence = Stage::check;  ///< where the value comes from
};
const char* word(RequirementState::State state);

/// The safety factor is that of factorOf().
/// @param lastKnown  older results to show as out of date when the variant's own are missing; may be null
std::vector<RequirementState> requirementStates(const Project& project, const Variant& variant,
                                                const SurfaceResult* lastSurface, const CheckResult* lastCheck);

/// Largest difference of the volumes of mesh and body that a check may rest on, share.
inline constexpr double volumeBar = 0.005;
/// What the mesh of a fresh check leaves out of its body, a sentence each.
std::vector<std::string> meshGaps(const Project& project, const Recipe& recipe);

/// What stands in the way of a release.
struct Blocker {
    std::string text;  ///< a sentence
    Stage stage = Stage::release;
    std::string finding;  ///< id, when it is about one
};
/// Empty: the release is open.
std::vector<Blocker> releaseBlockers(const Project& project, const Variant& variant);

}  // namespace escultura::judge
