/// @file stages/analyses/analyses.hpp
/// The analyses by name, and what several of them share. Internal to stages.

#pragma once
#include "elastic/modes.hpp"
#include "stages/analysis.hpp"

namespace escultura::stages {

AnalysisResult naturalFrequencies(const AnalysisInput& input, Progress& progress);
AnalysisResult buckling(const AnalysisInput& input, Progress& progress);

/// How the modes of a check's mesh are looked for.
elastic::ModeOptions modeOptions(const AnalysisInput& input);

}  // namespace escultura::stages
