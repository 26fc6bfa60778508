/// @file exchange/step_faces.hpp
/// Faces of bodies in STEP files (ISO 10303-21) with the surfaces that they lie on.

#pragma once
#include "shape/kept_faces.hpp"
#include "surface/tri_mesh.hpp"

namespace escultura::exchange {

/// A face, and triangles of it to draw and to pick.
struct BodyFace {
    shape::FacePatch patch;
    surface::TriMesh mesh;
};

/// Faces of a STEP file in the order of the file, mm. Planes, cylinders, cones, spheres and tori are what they are;
/// other surfaces are the file's own, continued straight beyond their ends. Borders are polygons within 0.001 mm.
/// @param bodies  names of those that are wanted, as readBodies() gives them; none: all
/// @throws InputError naming the body and face that cannot be made triangles of
std::vector<BodyFace> readStepFaces(const std::string& path, const std::vector<std::string>& bodies = {});

/// Whether a file is a STEP file, by its first bytes.
bool isStepFile(const std::string& path);

}  // namespace escultura::exchange
