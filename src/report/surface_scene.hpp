/// @file report/surface_scene.hpp
/// Scenes of the smooth surface: plain, and coloured by what was measured on it. Borders of areas are drawn through the
/// triangles, with lines of equal value.

#pragma once
#include "report/part_scene.hpp"

namespace escultura::report {

/// The surface with interfaces tinted; vertices are split where the owner changes.
/// @param perVertex  colours; null: by the interfaces
render::ColouredMesh plasterMesh(const stages::SurfaceResult& surface, const std::vector<render::Colour>* perVertex);

void addDeviation(const stages::SurfaceResult& surface, const SceneOptions& o, render::Scene& scene);
void addThickness(const duty::Part& part, const stages::SurfaceResult& surface, const SceneOptions& o,
                  render::Scene& scene);
/// Mean curvature, by which ripples show.
void addCurvature(const stages::SurfaceResult& surface, const stages::ProcessResult& process, const SceneOptions& o,
                  render::Scene& scene);
void addDraft(const duty::Recipe& recipe, const stages::SurfaceResult& surface, const stages::ProcessResult& process,
              const SceneOptions& o, render::Scene& scene);
void addOverhangs(const duty::Recipe& recipe, const stages::SurfaceResult& surface, render::Scene& scene);

}  // namespace escultura::report
