/// @file tests/spot_cases.hpp
/// Hotspots with known answers, put through the same meshing, check and tests as a part's: shared by the benchmark
/// program and the tests.

#pragma once
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "shape/machined_solid.hpp"
#include "stages/check_stage.hpp"
#include "verification.hpp"

namespace escultura::verification {

/// A body with named faces, held and loaded, and the place where its hotspot is looked for.
struct SpotCase {
    std::string name{}, source{};
    double exact = 0;  ///< stress of the rule there, MPa; 0: not known, the class is
    std::shared_ptr<shape::MachinedSolid> solid{};
    std::vector<stages::NamedFace> faces{};
    duty::Part part{};
    Vec3 near = Vec3::Zero();
    double radius = 0;                                            ///< the peak is looked for within this of near, mm
    double size = 0, other = 0;                                   ///< element sizes to look at it with, mm
    std::function<double(double size, const Vec3&)> coarsened{};  ///< element size at a point; empty: the size
    bool look = false;                                            ///< level look: the sizes are 1.3 times larger
};

struct TestedSpot {
    stages::CheckResult check;
    assess::Evidence evidence;
    double recovered = 0, judged = 0;  ///< largest near the place, MPa
};
TestedSpot testSpot(const SpotCase& c, double size);

/// The parts' names for the faces: "held", "side", "below" and "pushed", all planes but where a case says otherwise.
stages::NamedFace spotFace(const std::string& interface, int surface, const Vec3& normal);
/// @param supports, loads  JSON as in part files
/// @param brittle          compares the largest principal stress, else von Mises
/// @param middle           of the pushed face: where its force acts, mm
duty::Part spotDuty(const std::string& supports, const std::string& loads, bool brittle, const Vec3& middle);
/// A block from the origin; faces: held x = 0, side y = 0, below z = 0, pushed at the far end along an axis.
SpotCase block(std::shared_ptr<const shape::FreeBody> body, const Vec3& size, int pushedAxis, duty::Part part);
extern const std::string clampedAtX, onThreePlanes;
std::string pushedWith(const Vec3& force, const Vec3& moment = Vec3::Zero());

/// Cavity, deep groove, stepped shaft, curved beam, plate with a hole, thick cylinder, thin strut at level look.
std::vector<SpotCase> exactSpots();
/// Each at its first size; without those of level look.
std::vector<Peak> spotPeaks();

}  // namespace escultura::verification
