/// @file stages/analyses/mode_parts.hpp
/// What analyses that look for modes share. Internal to this folder.

#pragma once
#include "elastic/modes.hpp"
#include "stages/analysis.hpp"

namespace escultura::stages {

/// How the modes of a check's mesh are looked for.
elastic::ModeOptions modeOptions(const AnalysisInput& input);

}  // namespace escultura::stages
