/// @file surface/pieces.hpp
/// A surface taken apart into the bodies that it bounds.

#pragma once
#include <vector>

#include "surface/tri_mesh.hpp"

namespace escultura::surface {

/// Connected pieces of a surface with shared vertices, each with the cavities in it, in the order of their first
/// triangles. Owners are 0. A piece that is turned inside out and lies in no other is one of its own.
std::vector<TriMesh> piecesOf(const TriMesh& mesh);

}  // namespace escultura::surface
