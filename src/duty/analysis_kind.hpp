/// @file duty/analysis_kind.hpp
/// What can be worked out on a part beside its static check: the words, numbers and figures of each analysis. How it is
/// worked out is one file of stages/analyses.

#pragma once
#include <map>
#include <string>
#include <vector>

#include "duty/requirement.hpp"

namespace escultura::duty {

struct Part;
struct Recipe;

/// A number that an analysis asks for.
struct AnalysisNumber {
    const char *key, *label, *unit;
    double standard, least, most;
    bool whole = true;  ///< only whole numbers
};

struct AnalysisKind {
    const char *key, *words, *hint;  ///< of files; of the screen; one sentence
    int version;                     ///< of what it works out: raise it when that changes
    std::vector<AnalysisNumber> numbers;
    std::vector<RequirementKind> figures;  ///< what a requirement may limit
};

/// All of them, in the order they are shown.
const std::vector<AnalysisKind>& analysisKinds();
/// Null: there is none of that key.
const AnalysisKind* findAnalysis(const std::string& key);
/// The analysis that a requirement's figure comes from. Null: it limits no such figure.
const AnalysisKind* analysisOf(const Requirement& requirement);

/// An analysis that a variant asks for, with its numbers.
struct AnalysisChoice {
    std::string kind;
    std::map<std::string, double> numbers{};  ///< by AnalysisNumber::key; others are standard
    /// The number as it is used: standard where it is not given.
    double number(const std::string& key) const;
    bool operator==(const AnalysisChoice&) const = default;
};

/// What a recipe asks for, and what the part's requirements need; each once, in the order of analysisKinds().
std::vector<AnalysisChoice> askedAnalyses(const Part& part, const Recipe& recipe);
/// Of the recipe, else the standard one. @param kind  AnalysisKind::key
AnalysisChoice choiceOf(const Recipe& recipe, const std::string& kind);

}  // namespace escultura::duty
