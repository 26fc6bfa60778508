/// @file duty/optimisation.hpp
/// How a density field is made from the part's own duty: aim, limits and rules.

#pragma once
#include <string>
#include <utility>
#include <vector>

#include "base/geometry.hpp"
#include "duty/units.hpp"

namespace escultura::duty {

/// What the way of making asks of the shape.
struct MakingRule {
    enum class Kind {
        overhang,  ///< printed: nothing leans out by more than 45 degrees over the build direction
        draw,      ///< cast or forged: no undercut along the pull direction
    } kind = Kind::overhang;
    Vec3 direction = Vec3::UnitZ();  ///< unit vector along an axis, up or pull
    bool operator==(const MakingRule&) const = default;
};
const char* name(MakingRule::Kind kind);

struct Optimisation {
    enum class Aim {
        stiffest,  ///< least compliance of all load cases at a given mass
        lightest,  ///< least mass within limits
    } aim = Aim::stiffest;
    double cellSize = 0;     ///< mm; 0: about a hundred thousand cells
    double share = 0.3;      ///< stiffest: of the design space
    double mass = 0;         ///< stiffest: kg, instead of the share; 0: by the share
    bool worstCase = false;  ///< stiffest: the worst case counts instead of the weighted sum
    std::vector<std::pair<std::string, double>> weights{};  ///< stiffest: by case or combination; others 1
    double safetyFactor = 0;                                ///< lightest: least, in every case; 0: no limit
    double compliance = 0;    ///< lightest: largest over that of the full design space, in every case; 0: no limit
    double filterRadius = 0;  ///< mm: members end up about as thick; 0: two cells
    bool symmetric = true;    ///< about the part's symmetry planes
    std::vector<MakingRule> rules{};
    int steps = 100;  ///< at most
    bool operator==(const Optimisation&) const = default;
};
const char* name(Optimisation::Aim aim);

/// What it asks for in one sentence, such as "stiffest with 30 % of the design space".
std::string describe(const Optimisation& optimisation);
/// The object of the part file, as JSON, with numbers in these units.
std::string optimisationText(const Optimisation& optimisation, const Units& units);

}  // namespace escultura::duty
