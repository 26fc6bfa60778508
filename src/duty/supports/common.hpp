/// @file duty/supports/common.hpp
/// What kinds of supports share. Internal to this folder.

#pragma once
#include "duty/support_kind.hpp"

namespace escultura::duty {

inline const std::vector<const char*> rigidMotions = {"x", "y", "z", "turn x", "turn y", "turn z"};

/// All six motions held are as good as fixed; single ones are judged on the mesh.
std::optional<std::vector<Vec3>> heldIfAll(const Support& support, const NominalPoint& at);

}  // namespace escultura::duty
