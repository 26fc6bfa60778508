/// @file exchange/body_files.hpp
/// Surfaces and bodies from and to files: STL, OBJ, PLY and 3MF in and out, STEP in. Formats are found by content.

#pragma once
#include <string>
#include <vector>

#include "base/progress.hpp"
#include "surface/tri_mesh.hpp"

namespace escultura::exchange {

/// Reads a surface with shared vertices, in mm.
/// STL (ascii, binary), OBJ (polygons are fanned), PLY (ascii, both binary orders), 3MF and STEP (tessellated to
/// 0.05 mm), which state their own unit.
/// @param lengthUnit  of the coordinates in STL, OBJ and PLY
/// @param bodies      names of those that are wanted, as readBodies() gives them; none: everything in the file
/// @throws InputError naming file, place, expected and found
surface::TriMesh readBody(const std::string& path, const std::string& lengthUnit = "mm",
                          const std::vector<std::string>& bodies = {});

/// One of the bodies in a file.
struct NamedBody {
    std::string name;
    surface::TriMesh mesh;
};
/// The bodies of a file one by one, in mm, under names of their own: solids of a STEP file and items of a 3MF file by
/// the names that the file gives, connected pieces of other files ("body 1"). Cavities stay with what encloses them.
/// @throws InputError as readBody()
std::vector<NamedBody> readBodies(const std::string& path, const std::string& lengthUnit = "mm");

/// Whether a file of that ending states its unit of length.
bool statesUnit(const std::string& path);

/// What goes beside the triangles.
struct BodyText {
    std::string title;
    std::vector<std::string> owners;  ///< name of each owner (index: TriMesh::owner); may be shorter
};

/// Wavefront OBJ, mm, one group an owner.
void writeObj(const std::string& path, const surface::TriMesh& mesh, const BodyText& text);
/// Binary little-endian PLY, mm, coordinates in double precision, owner as a face property.
void writePly(const std::string& path, const surface::TriMesh& mesh, const BodyText& text);
/// 3MF core specification 1.3: one object in millimetres with title and application as metadata.
void write3mf(const std::string& path, const surface::TriMesh& mesh, const BodyText& text);
/// The format by the path's ending: .stl, .obj, .ply or .3mf. @throws InputError for another ending
void writeBody(const std::string& path, const surface::TriMesh& mesh, const BodyText& text);

}  // namespace escultura::exchange
