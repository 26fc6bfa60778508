/// @file store/shelter.hpp
/// Results on disk while a program runs: what the memory has no room for.

#pragma once
#include <memory>
#include <string>

#include "project/results.hpp"

namespace escultura::store {

/// A shelter with files in a folder of its own below this one; they go when it goes, or with the next shelter there
/// when its program ended without. What cannot be written stays in memory; what cannot be read any more is out of date.
std::shared_ptr<project::Shelter> diskShelter(const std::string& folder);

/// Where such files go: the user's cache.
std::string cacheFolder();

/// Memory that results may take together, bytes: 40 % of the machine's, or what the variable ESCULTURA_RESULT_MEMORY
/// says in GB.
double resultBudget();

}  // namespace escultura::store
