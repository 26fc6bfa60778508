/// @file judge/releases.hpp
/// Numbered releases that never change, and what has changed since.

#pragma once
#include <string>
#include <vector>

#include "store/state_text.hpp"

namespace escultura::judge {
using namespace project;
using namespace store;

/// Who signs.
struct SignOff {
    std::string name, role, date, remark;
};

/// Adds a release of a variant, numbered one above the last.
/// @throws InputError when something stands in its way, or name or date are missing
const Release& addRelease(Project& project, const Variant& variant, const SignOff& signOff);

/// What differs between a release and a variant as it is now; empty: nothing.
std::vector<Difference> changesSince(const Project& project, const Release& release, const Variant& variant);

/// Of the variant's own releases the last; null: none.
const Release* lastRelease(const Project& project, const Variant& variant);

}  // namespace escultura::judge
