/// @file store/storage.hpp
/// The project file: everything about a project in one SQLite database.

#pragma once
#include <string>

#include "project/project.hpp"

namespace escultura::store {
using namespace project;

/// Saves everything to one SQLite file, in one transaction beside the old file: a failed save leaves the old one.
/// @throws InputError
void saveProject(const Project& project, const std::string& path);
/// @throws InputError when the file is not a project or damaged
Project loadProject(const std::string& path);

}  // namespace escultura::store
