/// @file stages/plausible.hpp
/// Sizes of a part's inputs against each other and against the machine, before any long work: a slip of units must be a
/// sentence, not an hour of waiting.

#pragma once
#include <vector>

#include "stages/ready.hpp"

namespace escultura::stages {

/// What cannot be meant (blockers) and what is odd (warnings). Part of readyNotes().
std::vector<ReadyNote> plausibilityNotes(const Part& part, const Recipe& recipe, const FieldResult& field);

/// Looks at what the machine can hold too.
/// @throws InputError with the first blocker
void requirePlausible(const Part& part, const Recipe& recipe, const FieldResult& field);

}  // namespace escultura::stages
