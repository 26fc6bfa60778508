/// @file exchange/step_reader.hpp
/// Tessellated bodies from STEP files (ISO 10303-21).

#pragma once
#include "exchange/body_files.hpp"

namespace escultura::exchange {

/// Reads the solids of a STEP file, shells that belong to none, and faces that belong to neither, as triangles, mm;
/// vertices of neighbouring faces are not shared yet. A body has the name of its item in the file, if it has one.
/// @param deviation  largest distance between the triangles and the true surface, mm
/// @throws InputError naming the body and face that cannot be made triangles of
std::vector<NamedBody> readStep(const std::string& path, double deviation = 0.05);

/// Whether a file is a STEP file, by its first bytes.
bool isStep(const std::string& start);

/// Names that are each used once: "body 1" for a missing one, " (2)" after one that is there already.
std::vector<std::string> ownNames(std::vector<std::string> names);

}  // namespace escultura::exchange
