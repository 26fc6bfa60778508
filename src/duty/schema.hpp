/// @file duty/schema.hpp
/// The part file's JSON schema: what loads, supports and requirements may say follows from their descriptions.

#pragma once
#include <string>

namespace escultura::duty {

/// JSON Schema (draft 2020-12) of part files of version 1; docs/part.schema.json holds this text.
std::string partSchema();

}  // namespace escultura::duty
