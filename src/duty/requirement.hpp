/// @file duty/requirement.hpp
/// What a part must satisfy. A new kind of requirement is its name here and its line in the list of requirement.cpp,
/// and how it is measured in judge/requirement_measures.cpp. A figure of a further analysis is a line of that analysis.

#pragma once
#include <optional>
#include <string>
#include <vector>

#include "base/geometry.hpp"
#include "base/quantity.hpp"
#include "duty/units.hpp"

namespace escultura::duty {

struct Requirement {
    enum class Kind {
        safetyFactor,      ///< at least, in one case or in all
        displacement,      ///< at most, mm: anywhere or at an interface, its size or along a direction
        mass,              ///< at most, kg
        minimumWall,       ///< at least, mm
        reaction,          ///< at most, N: force on an interface, or on each
        deviation,         ///< at most, mm: of the smooth surface from the raw field
        draft,             ///< at most, % of the free surface whose draft is too small
        overhang,          ///< at most, % of the surface that needs supports
        convergence,       ///< at most, % by which the last pass of the level 'converged' changed a figure
        equilibrium,       ///< at most, share of the load that reactions do not balance
        validGeometry,     ///< closed, one piece, every machined face there
        findingsDisposed,  ///< every finding has its disposition
        figure,            ///< a figure of a further analysis, such as its lowest natural frequency
    } kind = Kind::safetyFactor;
    double limit = 0;               ///< in the unit of its kind (shares in per cent); none where the kind has no limit
    std::string source;             ///< where the limit comes from
    std::string loadCase;           ///< empty: every one
    std::string interface;          ///< empty: anywhere, or each
    std::optional<Vec3> direction;  ///< displacement: along it, unit vector; else its size
    std::string figure{};           ///< Kind::figure: RequirementKind::key of the figure
    bool operator==(const Requirement&) const = default;
};

struct RequirementKind {
    Requirement::Kind kind;
    const char *key, *words, *unit;  ///< of the part file; of the screen, with the unit shown there
    bool isMinimum = false;          ///< else the limit is a maximum
    bool hasLimit = true;            ///< else it is met or not
    Dimension dimension = dimension::none;
    std::string (*fileUnit)(const Units&) = withoutUnit;             ///< of a bare limit in the part file
    bool ofCase = false, ofInterface = false, hasDirection = false;  ///< what it can be narrowed to
    /// Internal value of one unit of Requirement::limit; 1 for what has no dimension: shares are kept in per cent.
    double unitOfLimit() const { return dimension == dimension::none ? 1 : unitScale(unit); }
};

/// Those of Requirement::Kind in its order, but figures.
inline std::vector<RequirementKind> ownRequirementKinds() {
    using Kind = Requirement::Kind;
    return {
        {.kind = Kind::safetyFactor,
         .key = "safety_factor",
         .words = "safety factor",
         .unit = "",
         .isMinimum = true,
         .ofCase = true},
        {.kind = Kind::displacement,
         .key = "displacement",
         .words = "displacement",
         .unit = "mm",
         .dimension = dimension::length,
         .fileUnit = inLength,
         .ofCase = true,
         .ofInterface = true,
         .hasDirection = true},
        {.kind = Kind::mass,
         .key = "mass",
         .words = "mass",
         .unit = "kg",
         .dimension = dimension::mass,
         .fileUnit = inMass},
        {.kind = Kind::minimumWall,
         .key = "minimum_wall",
         .words = "thinnest wall",
         .unit = "mm",
         .isMinimum = true,
         .dimension = dimension::length,
         .fileUnit = inLength},
        {.kind = Kind::reaction,
         .key = "reaction",
         .words = "reaction",
         .unit = "N",
         .dimension = dimension::force,
         .fileUnit = inForce,
         .ofCase = true,
         .ofInterface = true},
        {.kind = Kind::deviation,
         .key = "deviation",
         .words = "deviation",
         .unit = "mm",
         .dimension = dimension::length,
         .fileUnit = inLength},
        {.kind = Kind::draft, .key = "draft", .words = "surface with too little draft", .unit = "%"},
        {.kind = Kind::overhang, .key = "overhang", .words = "surface that needs supports", .unit = "%"},
        {.kind = Kind::convergence, .key = "convergence", .words = "change of the last refinement", .unit = "%"},
        {.kind = Kind::equilibrium, .key = "equilibrium", .words = "equilibrium error", .unit = ""},
        {.kind = Kind::validGeometry,
         .key = "valid_geometry",
         .words = "geometry valid",
         .unit = "",
         .hasLimit = false},
        {.kind = Kind::findingsDisposed,
         .key = "findings_disposed",
         .words = "findings signed",
         .unit = "",
         .hasLimit = false},
    };
}
/// All kinds: those of Requirement::Kind in its order, then the figures of further analyses (Kind::figure).
const std::vector<RequirementKind>& requirementKinds();
/// Of a kind other than figure.
const RequirementKind& requirementKind(Requirement::Kind kind);
const RequirementKind& requirementKind(const Requirement& requirement);
/// Index in requirementKinds().
std::size_t indexOf(const Requirement& requirement);

/// "safety factor", "displacement" ...
std::string name(const Requirement& requirement);

}  // namespace escultura::duty
