#include "duty/requirement.hpp"

#include "duty/analysis_kind.hpp"

namespace escultura::duty {
namespace {

std::vector<RequirementKind> ownKinds() {
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

}  // namespace

const std::vector<RequirementKind>& requirementKinds() {
    static const std::vector<RequirementKind> all = [] {
        std::vector<RequirementKind> kinds = ownKinds();
        for (const AnalysisKind& a : analysisKinds())
            for (const RequirementKind& figure : a.figures) kinds.push_back(figure);
        return kinds;
    }();
    return all;
}

const RequirementKind& requirementKind(Requirement::Kind kind) {
    return requirementKinds().at(static_cast<std::size_t>(kind));
}

std::size_t indexOf(const Requirement& r) {
    if (r.kind != Requirement::Kind::figure) return static_cast<std::size_t>(r.kind);
    const auto& all = requirementKinds();
    for (std::size_t i = 0; i < all.size(); ++i)
        if (all[i].kind == Requirement::Kind::figure && all[i].key == r.figure) return i;
    return all.size();
}

const RequirementKind& requirementKind(const Requirement& r) {
    return requirementKinds().at(indexOf(r));
}

std::string name(const Requirement& r) {
    return requirementKind(r).words;
}

}  // namespace escultura::duty
