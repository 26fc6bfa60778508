/// @file duty/duty.hpp
/// What the part must carry: local frames, supports, loads, load cases and their combinations.

#pragma once
#include <array>
#include <optional>
#include <string>
#include <vector>

#include "base/geometry.hpp"

namespace escultura::duty {

/// A named local frame.
struct Frame {
    std::string name;
    Vec3 origin = Vec3::Zero();    ///< mm
    Mat3 axes = Mat3::Identity();  ///< columns: its x, y, z in global coordinates
};
/// Axes from turns about the global x, then y, then z axis, degrees.
Mat3 axesFromAngles(const Vec3& degrees);
/// Axes from an origin, a point on x and a point in the plane of x and y. @throws InputError when they lie on a line
Mat3 axesFromPoints(const Vec3& origin, const Vec3& onX, const Vec3& inXY);

/// Which faces of interfaces something acts on.
struct FaceReference {
    std::vector<std::string> interfaces;
    std::string face;  ///< "bore", "side", "start", "end"
};

struct Support {
    enum class Kind {
        fixed,        ///< held along chosen directions of the frame
        sliding,      ///< held along the face's normal, free in its plane
        cylindrical,  ///< radial, axial and tangential motion about the interface's axis, each held or free
        bed,          ///< springs over the face
        remote,       ///< the mean motion is held, the face is free to deform
        rigid,        ///< the face keeps its shape, its motion is held
    } kind = Kind::fixed;
    FaceReference on;
    std::string set;    ///< acts only in load cases that name this set of supports; empty: in every load case
    std::string frame;  ///< empty: global
    std::array<bool, 3> held{true, true, true};  ///< fixed: x, y, z; cylindrical: radial, axial, tangential
    std::array<bool, 6> motions{true, true, true, true, true, true};  ///< remote, rigid: translations, rotations
    std::optional<Vec3> point;       ///< remote: what rotations are about; else the middle of the interface, mm
    double normalStiffness = 0;      ///< bed: N/mm3
    double tangentialStiffness = 0;  ///< bed: N/mm3
};

struct Load {
    enum class Kind {
        force,         ///< force and moment spread over the face without stiffening it
        bearing,       ///< a pin's pressure on half a bore
        pressure,      ///< along the face's normal, into the part
        torque,        ///< moment about the interface's axis
        remoteForce,   ///< force and moment at a point away from the part
        gravity,       ///< field of gravity, acts on the whole part
        acceleration,  ///< of the whole part; inertia acts against it
        spin,          ///< centrifugal load of a rotation
        displacement,  ///< a supported face is moved
    } kind = Kind::force;
    FaceReference on;            ///< empty for loads on the whole part
    std::string frame;           ///< of vectors; empty: global
    Vec3 force = Vec3::Zero();   ///< N
    Vec3 moment = Vec3::Zero();  ///< N mm; of a force about the middle of the face
    bool sharedTotal = true;     ///< force, moment and torque are split evenly over the interfaces; else each gets all
    double pressure = 0;         ///< MPa
    double torque = 0;           ///< N mm, right-handed about the interface's axis
    Vec3 point = Vec3::Zero();   ///< remote force: where it acts; spin: a point of the axis, mm
    bool rigid = false;          ///< remote force: the face keeps its shape
    Vec3 acceleration = Vec3::Zero();  ///< gravity, acceleration: mm/s2
    Vec3 axis = Vec3::UnitZ();         ///< spin: unit vector
    double speed = 0;                  ///< spin: rad/s
    Vec3 displacement = Vec3::Zero();  ///< mm
    /// Whether the load acts on faces of interfaces, or on the whole part.
    bool onFaces() const;
};

/// A load that belongs to several cases.
struct SharedLoad {
    Load load;
    std::vector<std::string> cases;  ///< empty: all
};

struct LoadCase {
    enum class Use { check, combinationsOnly, off };
    std::string name;
    std::vector<Load> loads;
    Use use = Use::check;
    double factor = 1;  ///< on all its loads
    /// Some of its loads may act on what supports hold: they then go straight into the supports, and are told.
    bool onSupports = false;
    std::string supportSet;  ///< supports of this set hold beside those without a set; empty: only the latter
};

/// What a load case is meant to apply, by the part file's numbers.
struct MeantLoad {
    Vec3 force = Vec3::Zero();   ///< N
    Vec3 moment = Vec3::Zero();  ///< about the global origin, N mm
    void add(const Vec3& moreForce, const Vec3& at, const Vec3& moreMoment = Vec3::Zero()) {
        force += moreForce;
        moment += at.cross(moreForce) + moreMoment;
    }
};

/// A weighted sum of load cases, such as 1.35 steady + 1.5 storm.
struct Combination {
    std::string name;
    std::vector<std::pair<std::string, double>> terms;
    bool on = true;
};

const char* name(Support::Kind kind);  ///< "fixed", "sliding", ... as in the part file
const char* name(Load::Kind kind);     ///< "force", "bearing", ...
const char* name(LoadCase::Use use);
/// In words of the screen, such as "remote force", "elastic bed".
std::string words(Load::Kind kind);
std::string words(Support::Kind kind);

/// Its figures with units, such as "(0, -3, 0) kN, about the middle (0, 0, 12) N m".
std::string describe(const Load& load);
/// What it holds, such as "x, y, z" or "radial".
std::string describe(const Support& support);
/// Names with commas between.
std::string listed(const std::vector<std::string>& names);

/// Reads '1.35 steady + 1.5 storm - wind'; names that hold spaces may be quoted.
/// @param known  names of cases; the longest that fits is taken
/// @throws InputError naming the place
std::vector<std::pair<std::string, double>> parseCombination(const std::string& text,
                                                             const std::vector<std::string>& known);
/// The same back as text.
std::string combinationText(const Combination& combination);

}  // namespace escultura::duty
