/// @file duty/rebuild_text.hpp
/// The Rebuild part of a recipe as JSON, for project files and for moving features between parts.

#pragma once
#include <nlohmann/json_fwd.hpp>

#include "duty/recipe.hpp"

namespace escultura::duty {

nlohmann::json rebuildJson(const Rebuild& rebuild);
/// Missing members keep their defaults. @throws nlohmann::json::exception for wrong types, InputError for wrong
/// contents
Rebuild rebuildFrom(const nlohmann::json& json);

/// @param whole  with the vertices and faces of a cage by hand; else its digest stands for them
nlohmann::json stepJson(const CageStep& step, bool whole);
/// Its figures in a line, such as "1 mm in a ball of radius 15 mm around 1, 2, 3 mm, edge 8 mm".
std::string describe(const Thickening& thickening);
nlohmann::json thickeningJson(const Thickening& thickening);
Thickening thickeningFrom(const nlohmann::json& json);
nlohmann::json featureJson(const solid::Feature& feature);
solid::Feature featureFrom(const nlohmann::json& json);

}  // namespace escultura::duty
