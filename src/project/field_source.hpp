/// @file project/field_source.hpp
/// Where a variant's field comes from: its key, and how it comes about. Internal to this folder.

#pragma once
#include "base/digest.hpp"
#include "project/project.hpp"

namespace escultura::project {

/// Part of every key: raise it when a stage computes something else.
inline constexpr std::int64_t methodVersion = 7;

/// The contents of bodies, not only their names: another program may have written them anew.
void addBodies(Digest& digest, const Part& part);

/// Empty when a field is not loaded that the recipe is made from.
std::string fieldKey(const Project& project, const Part& part, const Recipe& recipe);

/// Reads, combines or takes the field of a recipe and prepares it; nothing when it is still to be made.
void evaluateField(const Project& project, const Recipe& recipe, Progress& progress);

std::string digestOf(const field::DensityField& field);
LoadedSource withDigest(field::DensityField field);

}  // namespace escultura::project
