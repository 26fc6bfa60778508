/// @file store/state_text.hpp
/// Variants, studies, releases and history as JSON: for project files, releases, undo across sessions and recovery.

#pragma once
#include <nlohmann/json_fwd.hpp>
#include <string>
#include <vector>

#include "project/project.hpp"

namespace escultura::store {
using namespace project;

nlohmann::json recipeJson(const Recipe& recipe);
Recipe recipeFrom(const nlohmann::json& json);

/// All of a project but its part, history and results.
nlohmann::json projectJson(const Project& project);
/// @throws nlohmann::json::exception, InputError when it is no such description
void applyProjectJson(Project& project, const nlohmann::json& json);

nlohmann::json historyJson(const HistoryEntry& entry);
HistoryEntry historyFrom(const nlohmann::json& json);

/// What undo restores: the part's text, variants, views, which one is open, the baseline, studies and releases. JSON
std::string stateText(const Project& project);
/// The part file that a state holds. @throws InputError when it is no state
std::string partTextOf(const std::string& state);
/// Puts such a state back; studies and releases only grow. @throws nlohmann::json::exception, InputError
void applyState(Project& project, const std::string& state);

/// A line of two recipes that differs.
struct Difference {
    std::string what;           ///< such as "threshold", "pin L: bore diameter"
    std::string before, after;  ///< with units; empty: not there
};
/// @param part  names the numbers of the part file
std::vector<Difference> differences(const Part& part, const Recipe& before, const Recipe& after);
/// Entries of two part files that differ, such as "load_cases / 1 / factor".
std::vector<Difference> partDifferences(const std::string& before, const std::string& after);

}  // namespace escultura::store
