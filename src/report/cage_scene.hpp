/// @file report/cage_scene.hpp
/// Scenes of the control cage and of the rebuilt solid.

#pragma once
#include <memory>

#include "cage/limit.hpp"
#include "render/scene.hpp"
#include "stages/rebuild_stage.hpp"

namespace escultura::report {

/// What is shown of a cage; pointers may be null.
struct CageView {
    const cage::Cage* cage = nullptr;
    const surface::TriMesh* limit = nullptr;            ///< triangles of the limit surface
    const std::vector<std::int32_t>* faceOf = nullptr;  ///< [triangles] cage face
    const std::vector<Vec3>* normal = nullptr;          ///< [vertices of limit]
    const std::vector<float>* deviation = nullptr;      ///< [vertices of limit] mm; coloured by it when there
    std::vector<char> selectedFace;                     ///< [cage faces]; may be empty
    std::vector<std::pair<std::int32_t, std::int32_t>> selectedEdges;
    std::vector<cage::CageProblem> flaws;
    double reach = 0;    ///< of the deviation's colours, mm; 0: from the values
    double opacity = 1;  ///< of the limit surface
    std::string caption, detail;
};
/// The limit surface with the cage over it.
std::shared_ptr<const render::Scene> cageScene(const CageView& view);

/// Cage of a result, by its deviation or plain.
std::shared_ptr<const render::Scene> cageScene(const stages::CageResult& result, bool deviation);

/// The solid's triangles, surfaces of interfaces tinted, edges between surfaces drawn.
std::shared_ptr<const render::Scene> solidScene(const stages::RebuildResult& result,
                                                const std::string& selectedFeature);

}  // namespace escultura::report
