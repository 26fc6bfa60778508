/// @file cage/edit.hpp
/// Changing a cage by hand. Every operation leaves an all-quad cage, or refuses with its reason and place and changes
/// nothing.

#pragma once
#include <functional>
#include <optional>

#include "cage/cage.hpp"
#include "cage/fit.hpp"

namespace escultura::cage {

using Indices = std::vector<std::int32_t>;

// ---- selecting

/// Edges of the loop through an edge: on across vertices with four edges.
Indices loopOf(const Cage& cage, std::int32_t edge);
/// Edges of the ring through an edge: on across faces to the opposite sides.
Indices ringOf(const Cage& cage, std::int32_t edge);
/// The vertices, and those that share a face with one.
Indices grown(const Cage& cage, const Indices& vertices);
/// Vertices of faces, of edges.
Indices verticesOfFaces(const Cage& cage, const Indices& faces);
Indices verticesOfEdges(const Cage& cage, const Indices& edges);
/// Faces all of whose corners are among the vertices.
Indices facesWithin(const Cage& cage, const Indices& vertices);
/// Edges with both ends among the vertices.
Indices edgesWithin(const Cage& cage, const Indices& vertices);

// ---- moving

/// How far each vertex follows a selection: 1 for the selected, falling smoothly to 0 at the radius (mm) from the
/// nearest of them; radius 0: the selection alone. [vertices]
std::vector<double> softWeights(const Cage& cage, const Indices& selected, double radius);
/// Moves vertices by weight times the change that the transform makes. With mirror planes (point, unit normal) the
/// images move likewise and vertices on a plane stay in it.
void transform(Cage& cage, const std::vector<double>& weights, const Eigen::Affine3d& by,
               const std::vector<std::array<Vec3, 2>>& mirrors);
/// Moves vertices so that the limit surface at them meets the target.
void snapTo(Cage& cage, const Indices& vertices, const Target& target);
/// Evens out the selected vertices along the limit surface: towards the middle of their neighbours, less the part that
/// would shrink the body (Taubin 1995).
void relax(Cage& cage, const Indices& vertices, int passes);

// ---- changing faces. All throw InputError and leave the cage as it was when they cannot be done

/// Moves faces along their mean normal and closes the sides with new faces.
void extrude(Cage& cage, const Indices& faces, double distance);
/// Takes two patches of faces out and joins their rims with a tube of `segments` rows; the rims need the same count of
/// edges. Makes a handle, or joins two pieces.
void bridge(Cage& cage, const Indices& first, const Indices& second, int segments);
/// Cuts all faces of the ring through an edge, at a share (0 to 1) of it. @return edges of the new loop
Indices insertLoop(Cage& cage, std::int32_t edge, double share = 0.5);
/// Splits faces three by three; neighbours get transitions.
void split(Cage& cage, const Indices& faces);
/// Closes a face by joining two opposite corners: `corner` and the one across.
void collapse(Cage& cage, std::int32_t face, int corner);
/// Takes the ring of faces through an edge out: the reverse of insertLoop.
void dissolveRing(Cage& cage, std::int32_t edge);
/// Sets the sharpness of edges: 0 smooth, `sharpest` an edge of the body.
void setCrease(Cage& cage, const Indices& edges, double sharpness);
/// Removes faces; the cage is open until the hole is filled.
void removeFaces(Cage& cage, const Indices& faces);
/// Fills every hole; rims have an even count of edges in an all-quad cage.
/// @return count of holes filled
int fillHoles(Cage& cage);

/// What is wrong after a change, with places: open or torn cage, folds, limit surface through itself.
std::vector<CageProblem> flawsOf(const Cage& cage);

}  // namespace escultura::cage
