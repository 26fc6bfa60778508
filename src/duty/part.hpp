/// @file duty/part.hpp
/// A part: what it must carry and satisfy. Read from and written to the part file (docs/part.schema.json).

#pragma once
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "duty/duty.hpp"
#include "duty/optimisation.hpp"
#include "duty/requirement.hpp"
#include "duty/units.hpp"
#include "elastic/material.hpp"
#include "exchange/field_reader.hpp"

namespace escultura::shape {
class KeptFaces;
}

namespace escultura::duty {

/// How an end of an interface is finished.
enum class EndKind {
    flat,     ///< machined flat face, the space beyond kept free
    blind,    ///< the bore stops here with a flat floor
    through,  ///< the bore goes on without end
};

struct InterfaceEnd {
    EndKind kind = EndKind::flat;
    double clearance = 10;     ///< flat: depth of the free space beyond the face, mm
    double clearDiameter = 0;  ///< flat: its diameter, mm; 0: ring plus 6 mm
    double clearMargin = 3;    ///< flat, of an outline: how far the free space reaches beyond it, mm
};

/// A place where the part meets the world. Axis from start to end; the start lies at the origin point.
struct Interface {
    enum class Kind {
        bore,   ///< a bare hole
        boss,   ///< a hole in a ring of kept material
        pad,    ///< a round flat face on kept material
        pin,    ///< a cylinder that stands out, its outside exact; the ring diameter is the pin's
        faces,  ///< faces of the original, exact as they are there, with the material behind them
        edges,  ///< edges of the original: what acts on them is spread over the surface around them
        points  ///< places on the surface, likewise
    } kind = Kind::boss;
    std::string name;
    Vec3 origin = Vec3::Zero();  ///< centre of the start face, mm
    Vec3 axis = Vec3::UnitX();   ///< unit vector into the part
    double length = 0;           ///< mm
    double boreDiameter = 0;     ///< mm; 0 for a pad
    double ringDiameter = 0;     ///< outer diameter of the kept material, mm; 0 for a bare bore
    double blendRadius = 4;      ///< of the kept material into the free body, mm
    /// Pad: closed polygons of its face and of the holes in it, from the origin, mm; none: round. The ring diameter is
    /// that of a circle about the origin that holds them.
    std::vector<std::vector<Vec3>> outline{};
    InterfaceEnd start, end;
    /// Faces: a place on each of them, mm. The length is how deep material is kept behind them; the start's clearance
    /// and margin tell the space before them. Origin and axis are what moments and turning are about.
    std::vector<Vec3> places{};
    /// Faces: what their file says, for all interfaces of the part, once something has read it (stages::withFaces).
    std::shared_ptr<const shape::KeptFaces> kept{};
    int number = 0;  ///< the interface's own in it
    /// Edges and points: what they are in space, edges once something has read their file (stages::withFaces). The
    /// length is how far around them material is kept and what acts on them is spread.
    std::vector<std::vector<Vec3>> lines{};
    /// Whether it is of edges or points.
    bool isOfLines() const { return kind == Kind::edges || kind == Kind::points; }
};

/// Name of the face that an interface of faces has.
constexpr const char* keptFaceName = "face";
/// Names of what an interface of edges or points has in place of a face.
constexpr const char* edgeName = "edge";
constexpr const char* pointName = "point";

/// A closed body from a file (STL, OBJ, PLY, 3MF or STEP).
struct BodySource {
    std::string path;
    std::string lengthUnit = "mm";      ///< of the file's coordinates; a STEP file states its own
    double offset = 0;                  ///< outward, mm: a design space may be shrunk, a keep-out grown
    std::vector<std::string> bodies{};  ///< of the file, by name; none: all of them
};

/// A volume that must stay empty.
struct KeepOut {
    enum class Kind { box, cylinder, body } kind = Kind::box;
    std::string name;
    BodySource body;
    Vec3 low = Vec3::Zero(), high = Vec3::Zero();      ///< box, mm
    Vec3 origin = Vec3::Zero(), axis = Vec3::UnitX();  ///< cylinder
    double length = 0, diameter = 0;                   ///< cylinder, mm
};

struct SymmetryPlane {
    Vec3 point = Vec3::Zero(), normal = Vec3::UnitX();
};

/// One of the part's density fields.
struct NamedField {
    std::string name;
    exchange::FieldSource source;
};

struct Part {
    std::string path;  ///< the file it was read from
    std::string name, description;
    elastic::Material material;
    std::string optimisedWith;                    ///< material that the optimiser used, when it was another
    std::vector<elastic::Material> ownMaterials;  ///< kept with the part to choose from
    std::vector<NamedField> fields;               ///< from files, the first is the main one; none: it is made here
    double threshold = 0.5;                       ///< default threshold
    std::optional<double> volumeFraction;         ///< the optimiser's, of the design space
    Box3 designSpace;                             ///< empty: the field's box
    std::optional<BodySource> designBody;         ///< the free body stays inside
    std::optional<BodySource> original;           ///< the design before the optimisation, to compare with
    std::vector<Interface> interfaces;
    std::vector<KeepOut> keepOuts;
    std::vector<SymmetryPlane> symmetry;
    std::vector<Frame> frames;
    std::vector<Support> supports;
    std::vector<LoadCase> loadCases;
    std::vector<SharedLoad> sharedLoads;
    std::vector<Combination> combinations;
    std::vector<Requirement> requirements;
    Optimisation optimisation;
    std::string text;  ///< the part file as it was read
    Units units;       ///< of bare numbers in the part file
    std::string
        geometryText;      ///< canonical text of all that shapes the part (interfaces, keep-outs ...), without fields
    std::string dutyText;  ///< canonical text of material, supports and load cases
    std::string optimisationText;  ///< canonical text of the optimisation
    /// Why the numbers that a variant has otherwise could not be set; empty: they are, or there are none.
    std::string numberProblem;

    /// The body that interfaces of faces speak of: the original, else the design space's; null: there is none.
    const BodySource* bodyOfFaces() const { return original ? &*original : designBody ? &*designBody : nullptr; }
    const Interface* findInterface(const std::string& name) const;
    /// Null: none of that name; an empty name is the global frame, which is none either.
    const Frame* findFrame(const std::string& name) const;
    /// Axes of a frame as columns; the identity for the global one.
    Mat3 axesOf(const std::string& frame) const;
    /// Own loads of a case and the shared ones that belong to it.
    std::vector<Load> loadsOf(const LoadCase& loadCase) const;
    /// Sets of supports that the load cases which are not off name, in their order; an empty name: no set.
    std::vector<std::string> supportSets() const;
    /// Whether a support acts in load cases of a set.
    static bool acts(const Support& support, const std::string& set) {
        return support.set.empty() || support.set == set;
    }
    /// Set of a load case's supports, or of a combination's, whose cases all have the same.
    std::string supportSetOf(const std::string& caseOrCombination) const;
    bool isBrittle() const { return material.rule == elastic::FailureRule::brittle; }
};

/// Reads a part file. Numbers are in the file's units; strings may carry their own ("2*450 lbf").
/// @throws InputError naming the key path, what was expected and what was found
Part readPart(const std::string& path);
/// The same from text; relative field paths are taken from the folder of `path`.
Part parsePart(const std::string& text, const std::string& path);

/// Middle of an interface's face: where its loads act and its moments are about, mm.
Vec3 faceMiddle(const Interface& interface, const std::string& face);

/// Outward normal of the kept face that is nearest to a place; the axis against its sense as long as none is known.
Vec3 keptNormal(const Interface& interface, const Vec3& at);
/// Whether the faces of an interface are known, and round about its axis. Other kinds are.
bool isRound(const Interface& interface);
/// @throws InputError when the interface's faces are not round about its axis
void requireRound(const Interface& interface);

/// Text that is the same for sources that give the same field, and no others.
std::string canonical(const exchange::FieldSource& source);

const char* name(Interface::Kind kind);

}  // namespace escultura::duty
