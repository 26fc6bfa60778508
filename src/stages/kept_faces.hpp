/// @file stages/kept_faces.hpp
/// Faces of a body that interfaces keep, found in its file.

#pragma once
#include <memory>
#include <vector>

#include "exchange/step_faces.hpp"
#include "stages/own_frame.hpp"

namespace escultura::stages {

/// Faces of a STEP file, read once as long as the file stays as it is. @throws InputError when it cannot be read
std::shared_ptr<const std::vector<exchange::BodyFace>> stepFacesOf(const BodySource& source);

/// The face of a body on which a place lies. Faces of a STEP file are its own; of triangles a plane or a cylinder is
/// recognised, else the triangles themselves are taken as far as they go on smoothly.
/// @param number  receives the face's number in a STEP file, or its first triangle
/// @param slack   how far off the place may be, mm; 0: 0.001 mm and 1/5000 of the body's diagonal
/// @throws InputError when the place lies on no face
exchange::BodyFace faceAt(const BodySource& source, const Vec3& place, int* number = nullptr, double slack = 0);

/// How far a place may lie off a face of a body or an edge, mm. @param box  of the body
double faceSlack(const Box3& box);

/// The edge of a body that is nearest to a place, as far as it goes on smoothly: closed ones end where they begin.
/// @param slack  how far off it may be, mm; 0: as faceAt()
/// @throws InputError when none is
std::vector<Vec3> edgeAt(const BodySource& source, const Vec3& place, double slack = 0);

/// Whether all faces and edges that the part's interfaces keep are there already.
bool knowsFaces(const Part& part);
/// The part with the faces and edges of its interfaces; the part itself when it keeps none, or knows them.
/// @throws InputError naming the interface and the place that lies on no face
Part withFaces(const Part& part);
/// The part with its faces when something has read them already, without reading anything; else as it is.
Part withKnownFaces(const Part& part);
/// The same where the file can be read; else as it is: for drawing.
Part withFacesIfReadable(const Part& part);
/// Ends of the pieces of an interface's edges, or of the borders of its faces, two and two, mm; none as long as they
/// are not known.
std::vector<Vec3> bordersOf(const Interface& interface);
/// Its faces: null when it keeps none. @throws InputError as withFaces()
std::shared_ptr<const shape::KeptFaces> keptFacesOf(const Part& part);

/// The same faces in another frame.
std::shared_ptr<const shape::KeptFaces> into(const OwnFrame& frame, const shape::KeptFaces& faces);

}  // namespace escultura::stages
