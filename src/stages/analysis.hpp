/// @file stages/analysis.hpp
/// Further analyses on the mesh of a check: each is a file of stages/analyses and a line of the list in analysis.cpp;
/// its words and figures are described in duty/analysis_kind.hpp. Store, view, summary, requirements, comparison and
/// report know only what is here.

#pragma once
#include <string>
#include <vector>

#include "duty/analysis_kind.hpp"
#include "stages/check_stage.hpp"

namespace escultura::stages {

/// A figure by name and unit.
struct AnalysisFigure {
    std::string key;       ///< of files and requirements, such as "lowest_frequency"
    std::string label;     ///< of the screen
    std::string loadCase;  ///< empty: of the part
    std::string unit;
    double value = 0;   ///< as worked out; infinite: no limit
    double counts = 0;  ///< what a requirement is held against: the value with its doubts taken off
    std::string note;   ///< what it rests on, leaves out or means
};

/// Something to be drawn on the deformed part.
struct AnalysisShape {
    std::string title;               ///< "mode 1, 412 Hz"
    std::string detail;              ///< what else is to be said of it
    std::vector<Vec3> displacement;  ///< [nodes] largest 1
};

/// What an analysis found.
struct AnalysisResult {
    std::string kind;  ///< AnalysisKind::key
    std::vector<AnalysisFigure> figures;
    std::vector<AnalysisShape> shapes;
    std::vector<std::string> notes;  ///< sentences that belong beside every figure
    double seconds = 0;
    /// Null: no such figure. @param loadCase  empty: of the part, or the one that counts least
    const AnalysisFigure* find(const std::string& key, const std::string& loadCase = {}) const;
};

/// What an analysis is made from.
struct AnalysisInput {
    const Part& part;
    const CheckResult& check;
    const CheckChoice& how;        ///< solver and tolerance are those of the check
    const AnalysisChoice& choice;  ///< its numbers
};

/// @throws InputError when a number of the choice is none that the analysis takes, or there is no such analysis;
///         SolveError, Cancelled
AnalysisResult runAnalysis(const AnalysisInput& input, Progress& progress);

/// @throws InputError naming the number that cannot be used
void requireSound(const AnalysisChoice& choice);

}  // namespace escultura::stages
