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

/// Squared relative error in the energy norm of a mode's shape, from the jump of its stresses: a mode's value is too
/// high by about that share (Zienkiewicz and Zhu 1987; Wiberg, Bausys and Hager 1999).
double shapeError(const AnalysisInput& input, const std::vector<Vec3>& shape, Progress& progress);

}  // namespace escultura::stages
