/// @file duty/requirement_text.hpp
/// Requirements in words, and sets of them to start from.

#pragma once
#include <string>
#include <vector>

#include "duty/part.hpp"

namespace escultura::duty {

/// One line such as "safety factor in 'Storm' ≥ 1.5" or "geometry is valid".
std::string words(const Requirement& requirement);
/// The same without the limit.
std::string subject(const Requirement& requirement);

/// Requirements that a kind of use commonly has; limits are first proposals, and their source says so.
struct RequirementTemplate {
    std::string name;  ///< such as "Casting, static load"
    std::vector<Requirement> requirements;
};
std::vector<RequirementTemplate> requirementTemplates();

}  // namespace escultura::duty
