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

/// Safety factors that a trade commonly asks for, to start from where a specification is silent.
struct FactorByUse {
    const char* use;
    double low, high;  ///< the usual range
    bool ofBreaking;   ///< meant against breaking; held against yield it asks for more
    const char* source;
    /// The upper end as a requirement; its source says that it is a proposal, the range and where it comes from.
    Requirement proposal() const;
    /// "1.5 to 2 against yield".
    std::string range() const;
};
const std::vector<FactorByUse>& factorsByUse();

}  // namespace escultura::duty
