/// @file stages/ready.hpp
/// What is missing or suspicious before a check.

#pragma once
#include <string>
#include <vector>

#include "stages/field_stage.hpp"
#include "stages/surface_stage.hpp"

namespace escultura::stages {

/// One line of the ready list.
struct ReadyNote {
    enum class Severity { blocker, warning } severity = Severity::warning;
    std::string text;  ///< what is wrong, with its figures
    std::string fix;   ///< what to do
    enum class Place { material, supports, loads, cases, field, interfaces, mesh } place = Place::loads;
};

/// @param field, surface  null: what needs them is not looked at
std::vector<ReadyNote> readyNotes(const Part& part, const Recipe& recipe, const FieldResult* field,
                                  const SurfaceResult* surface);

/// Rigid motions that the supports leave free, judged by the faces' geometry before there is a mesh.
std::vector<std::string> freeMotionsOf(const Part& part, const std::string& set = {});

}  // namespace escultura::stages
