/// @file duty/strict_json.hpp
/// JSON as files from outside are read: what is ambiguous in it is refused.

#pragma once
#include <nlohmann/json.hpp>
#include <string>

namespace escultura::duty {

/// Text of a file. @throws InputError when it cannot be read, or is larger than any such file is (64 MB)
/// @param problem  of the error, such as "The part file cannot be opened."
std::string readWholeText(const std::string& path, const std::string& problem);

/// JSON (RFC 8259) with every name of an object used once, nothing nested deeper than 64 levels and every number one
/// that a double holds.
/// @param problem  of the error, such as "The part file is not valid JSON."
/// @throws InputError that names the line; of a name used twice, both lines
nlohmann::json parseStrictJson(const std::string& text, const std::string& path, const std::string& problem);

}  // namespace escultura::duty
