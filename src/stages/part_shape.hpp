/// @file stages/part_shape.hpp
/// A part's geometry: which cells its interfaces keep, which are void by definition, and the solid with named faces.

#pragma once
#include <functional>
#include <memory>

#include "duty/part.hpp"
#include "duty/recipe.hpp"
#include "field/threshold.hpp"
#include "shape/field_body.hpp"
#include "shape/kept_faces.hpp"
#include "shape/lines.hpp"
#include "shape/machined_solid.hpp"
#include "solid/feature.hpp"
#include "surface/mesh_body.hpp"

namespace escultura::stages {
// the stages speak of the part in its own words
using namespace duty;

/// A machined face of an interface on the solid.
struct NamedFace {
    std::string interface;                             ///< name of the interface
    std::string face;                                  ///< "bore", "side", "start", "end", "face"
    int surface = 0;                                   ///< surface id of the solid
    Vec3 origin = Vec3::Zero(), axis = Vec3::UnitX();  ///< start of the interface and its axis
    double low = 0, high = 0;                          ///< along the axis, mm: the face's points lie between
    double radius = 0;                                 ///< largest distance from the axis, mm
    std::vector<std::vector<Vec3>> outline{};          ///< polygons that hold it instead; empty: the radius does
    std::shared_ptr<const shape::KeptFaces> kept{};    ///< of an interface of faces, and its group there
    int group = 0;
    shape::Lines lines{};  ///< of an interface of edges or points, which has no surface of its own: what is around them
    /// Whether a point of a surface belongs to this face. @param owner  of the point
    bool isOn(int owner, const Vec3& p) const { return (!lines.empty() || owner == surface) && holds(p); }
    /// The same where the surface is known to be its own.
    bool holds(const Vec3& p) const {
        if (!lines.empty()) return shape::distanceTo(lines, p) <= radius;
        if (kept) return kept->holds(group, p, 1e-3);
        const Vec3 d = p - origin;
        const double along = d.dot(axis);
        if (along < low || along > high || (d - along * axis).norm() > radius) return false;
        return outline.empty() || shape::Outline(axis, outline).distance(p) <= 1e-3;
    }
};

/// The faces that stand for edges and points.
std::vector<NamedFace> lineFaces(const Part& part);
/// Polygons of a pad's face where they are, mm; empty: it is round.
std::vector<std::vector<Vec3>> outlineOf(const Interface& interface);

/// Faces of a part's own frame at the places of its interfaces. @param part  in the global frame
std::vector<NamedFace> outOf(const Part& part, std::vector<NamedFace> faces);

struct PartShape {
    std::shared_ptr<shape::MachinedSolid> solid;
    std::vector<NamedFace> faces;
    std::vector<shape::RoundBar> bars;  ///< kept material of the interfaces
    /// Spacing of a lattice that holds thin members, infinite elsewhere, mm. Empty: there are none.
    std::function<double(const Vec3&)> latticeSpacing{};
};

/// Where material may be, besides the interfaces' cuts.
struct Regions {
    Box3 designSpace;
    std::shared_ptr<const surface::MeshBody> designBody;                  ///< null: the box alone
    std::vector<std::shared_ptr<const surface::MeshBody>> keepOutBodies;  ///< of the keep-outs of kind body, in order
};

/// A body of a part, read once as long as its file stays as it is.
/// @throws InputError when it cannot be read, or encloses nothing
std::shared_ptr<const surface::MeshBody> bodyOf(const BodySource& source);

/// Design space of the part, or the field's box when the part gives none; reads the bodies that the part names.
/// @throws InputError when a body cannot be read or is not closed
Regions loadRegions(const Part& part, const Box3& fieldBounds);

/// Cells whose centre lies in the material that an interface keeps.
/// @throws InputError when an interface keeps no cell of the field (it lies outside, or is thinner than a cell)
std::vector<field::KeptCells> keptCells(const Part& part, const field::DensityField& field);

/// Cells that are void by definition: bores, clearances, keep-outs. [cells] 0 or 1
std::vector<char> voidCells(const Part& part, const Regions& regions, const field::DensityField& field);

/// The solid: body blended with the interfaces' rings, inside the design space, minus bores, clearances and keep-outs.
/// @param body   null: everything, which gives the design space with its interfaces
/// @param edges  between the body and the sides of the design space
PartShape buildShape(const Part& part, const Regions& regions, std::shared_ptr<const shape::FreeBody> body,
                     const DesignEdges& edges = {});

/// The same body for a control cage: no cuts, and more material where something is machined off, so that the features
/// find material to cut. One smooth surface.
/// @param margin  material beyond machined faces, mm
PartShape buildCover(const Part& part, const Regions& regions, std::shared_ptr<const shape::FreeBody> body,
                     double margin, const DesignEdges& edges = {});

/// Sides of the design space that carry a machined face: a point of each. @param normals  receives their outward
/// normals
std::vector<Vec3> machinedSides(const Part& part, const Regions& regions, std::vector<Vec3>* normals);

/// The machined features that the part's interfaces, keep-outs and machined sides ask for, in order of working.
std::vector<solid::Feature> interfaceFeatures(const Part& part, const Regions& regions);

/// Every volume that is cut from the part: the intersection of the primitives' negative sides.
/// @param leastBore  diameter below which bores in rings are left out, mm
std::vector<std::vector<shape::Primitive>> cutPrimitives(const Part& part, double leastBore = 0);

/// A test whether a place belongs to an interface: on its kept material, or in what its features remove.
/// @param slack  added all around, mm
std::function<bool(const Vec3&)> interfaceZone(const Part& part, const Regions& regions, double slack);

}  // namespace escultura::stages
