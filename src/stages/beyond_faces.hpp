/// @file stages/beyond_faces.hpp
/// The design body as the solid of a part is cut from it, where interfaces have flat faces of their own outline.

#pragma once
#include "stages/part_shape.hpp"

namespace escultura::stages {

/// The design body as the trims of a part need it: its own where no interface has an outline.
std::shared_ptr<const shape::FreeBody> designTrim(const Part& part, const Regions& regions);

}  // namespace escultura::stages
