/// @file duty/duty_edit.hpp
/// Changes to the duty in a part file's text: material, frames, supports, loads, cases, combinations. Everything else
/// in the file stays as it is; values are written in the file's units.

#pragma once
#include <string>

#include "duty/part.hpp"

namespace escultura::duty {

std::string withMaterial(const Part& part, const elastic::Material& material);
/// Keeps a material with the part, to choose from; one of the same name is replaced.
std::string withOwnMaterial(const Part& part, const elastic::Material& material);
/// Replaces all requirements.
std::string withRequirements(const Part& part, const std::vector<Requirement>& requirements);
/// @param index  of the one that is replaced; -1: added
std::string withSupport(const Part& part, int index, const Support& support);
std::string withoutSupport(const Part& part, int index);
/// @param loadCase  name of the case; empty: a shared load. @param index as above
std::string withLoad(const Part& part, const std::string& loadCase, int index, const Load& load);
std::string withoutLoad(const Part& part, const std::string& loadCase, int index);
/// Which cases a shared load belongs to; empty: all.
std::string withSharedCases(const Part& part, int index, const std::vector<std::string>& cases);
/// Adds a case (with the loads given), or changes name, use and factor of the one named `replaced`; combinations and
/// shared loads follow a new name.
std::string withCase(const Part& part, const std::string& replaced, const LoadCase& loadCase);
/// @throws InputError when a combination uses it
std::string withoutCase(const Part& part, const std::string& name);
/// @param replaced  empty: add
std::string withCombination(const Part& part, const std::string& replaced, const Combination& combination);
std::string withoutCombination(const Part& part, const std::string& name);
/// @param replaced  empty: add
std::string withFrame(const Part& part, const std::string& replaced, const Frame& frame);

}  // namespace escultura::duty
