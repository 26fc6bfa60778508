/// @file solid/feature.hpp
/// Exact machined features of a solid: each a few numbers, in a list that is built in order.

#pragma once
#include <string>
#include <vector>

#include "base/geometry.hpp"

namespace escultura::solid {

struct Feature {
    enum class Kind {
        bore,     ///< round hole: through, blind, with a counterbore or countersink
        boss,     ///< round material, exact outside
        pad,      ///< rectangular material
        flat,     ///< milled plane: material beyond it goes
        slot,     ///< hole with two parallel sides and round ends
        pocket,   ///< rectangular recess with rounded corners
        rib,      ///< thin wall with draft
        body,     ///< imported body, added or cut
        keepOut,  ///< box or cylinder that stays empty
        fillet,   ///< rounded edges of another feature
        chamfer,  ///< bevelled edges of another feature
        layer,    ///< the original's own material behind faces of it that an interface keeps
    } kind = Kind::bore;
    enum class Head { none, counterbore, countersink };

    std::string name;
    std::string interface;  ///< that it belongs to; empty: by hand
    std::string face;       ///< of the interface: "bore", "side", "start", "end"
    bool on = true;

    /// Where it starts. The axis points into the material for what is cut and out of it for what is added and for
    /// flats.
    Vec3 origin = Vec3::Zero(), axis = Vec3::UnitZ();
    Vec3 along = Vec3::UnitX();  ///< long side of slots, pockets, pads, ribs, boxes; at right angles to the axis
    double diameter = 10;        ///< bore, boss, round keep-out; flat: of the milled circle, 0: a whole side. mm
    std::vector<std::vector<Vec3>> outline{};  ///< flat: corners of the milled faces instead of a circle, mm
    double margin = 0;                         ///< flat: how far it is milled beyond the outline, mm
    double length = 10;                        ///< along the axis: depth or height, mm
    bool through = false;                      ///< bore: goes on without end at the far side
    double before = 0;                         ///< cut continued against the axis, mm
    double longSide = 20, shortSide = 10;      ///< mm; rib: length and thickness at its foot
    double corner = 2;                         ///< pocket: radius of the corners, mm
    double draft = 2;                          ///< rib: degrees
    Head head = Head::none;
    double headDiameter = 18, headDepth = 5, headAngle = 90;  ///< mm, mm, degrees
    double outer = 0;    ///< boss: turned, material around it is cleared up to this diameter, mm; 0: material is added
    bool round = false;  ///< keep-out: cylinder instead of a box
    bool adds = false;   ///< imported body: added instead of cut
    std::string path;    ///< imported body, layer: STEP, STL, OBJ, PLY or 3MF file
    std::vector<std::string> bodies;  ///< imported body: those of the file, by name; none: all of them
    std::string unit = "mm";          ///< imported body: of the file's coordinates; a STEP file states its own
    double offset = 0;                ///< imported body: outward, mm; its rounded surface is made of triangles then
    double radius = 1;         ///< fillet: radius; chamfer: width; boss, pad, rib: fillet to the body, 0: none. mm
    bool blendInCage = false;  ///< boss, pad, rib: the fillet to the body is a region of the cage, where the kernel
                               ///< does not manage it on the solid
    std::string on1, on2;  ///< fillet, chamfer: features ('name' or 'name: face') whose common edges are meant; empty
                           ///< second: all edges of the first
    bool operator==(const Feature&) const = default;
};

/// "bore", "boss", ... as on the screen and in files.
const char* name(Feature::Kind kind);
const char* name(Feature::Head head);
/// Its figures in a line, such as "12 mm through, counterbore 20 x 6 mm".
std::string describe(const Feature& feature);
/// Whether material is added.
bool addsMaterial(const Feature& feature);
/// What is wrong with its numbers, in one sentence; empty: nothing.
std::string problemOf(const Feature& feature, const std::vector<Feature>& all);

}  // namespace escultura::solid
