/// @file report/check_scene.hpp
/// Scenes of a check: results in colour, vectors, iso-volumes, poor elements, loads and supports.

#pragma once
#include "report/part_scene.hpp"

namespace escultura::report {

/// Adds the results of a check, or their difference to a baseline's.
void addResults(const duty::Part& part, const stages::CheckResult& check, const SceneInputs& inputs,
                const SceneOptions& options, render::Scene& scene);
/// Adds a shape of a further analysis, deformed by a tenth of the part's diagonal at most, and coloured by how far each
/// place moves beside the one that moves most.
void addShape(const stages::CheckResult& check, const stages::AnalysisResult& analysis, const SceneOptions& options,
              render::Scene& scene);
/// Adds the mesh with its worst elements.
void addMeshQuality(const stages::CheckResult& check, const SceneOptions& options, render::Scene& scene);
/// Adds arrows, rings and words of loads and supports. @param names  cases or combinations whose loads are shown
void addDuty(const duty::Part& part, const std::vector<std::string>& names, render::Scene& scene);

}  // namespace escultura::report
