/// @file report/made_field_files.hpp
/// A field that was made here as files of a release: the field itself, and how it came about.

#pragma once
#include <string>

#include "stages/optimise_stage.hpp"

namespace escultura::report {

/// Writes made-field.vti and made-field.json into a folder.
void writeMadeField(const stages::MadeField& made, const std::string& folder);
/// @throws InputError when they cannot be read
stages::MadeField readMadeField(const std::string& folder, Progress& progress);

}  // namespace escultura::report
