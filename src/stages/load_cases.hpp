/// @file stages/load_cases.hpp
/// The duty solved on one mesh: every case, their combinations, the worst of them. Internal to this folder.

#pragma once
#include "stages/check_stage.hpp"

namespace escultura::stages {

/// Fills everything of a result but the passes of the level 'converged'.
/// @throws InputError when loads act on what is held, or no case is checked; SolveError, Cancelled
void solveOn(const Part& part, const MeshResult& mesh, const Recipe& recipe, CheckResult& result, Progress& progress);

}  // namespace escultura::stages
