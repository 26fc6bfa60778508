/// @file exchange/step_reader.hpp
/// Tessellated bodies from STEP files (ISO 10303-21).

#pragma once
#include <string>

#include "surface/tri_mesh.hpp"

namespace escultura::exchange {

/// Reads all solids and shells of a STEP file as triangles, mm; vertices of neighbouring faces are not shared yet.
/// @param deviation  largest distance between the triangles and the true surface, mm
/// @throws InputError
surface::TriMesh readStep(const std::string& path, double deviation = 0.05);

}  // namespace escultura::exchange
