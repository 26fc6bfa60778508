#include "duty/part_node.hpp"
#include "duty/supports/common.hpp"

namespace escultura::duty {
namespace {

constexpr Dimension stiffness{-2, 1, -2};

std::string inStiffness(const Units&) {
    return "N/mm^3";
}

}  // namespace

SupportKind bedSupport() {
    SupportKind k{Support::Kind::bed, "elastic_bed", "elastic bed", "Springs over the face."};
    k.onLines = true;
    k.figures = {{.key = "normal_stiffness",
                  .label = "Along the normal",
                  .at = &Support::normalStiffness,
                  .dimension = stiffness,
                  .fileUnit = inStiffness,
                  .shownUnit = "N/mm^3",
                  .rule = Figure<Support>::Rule::notNegative},
                 {.key = "tangential_stiffness",
                  .label = "Across",
                  .at = &Support::tangentialStiffness,
                  .dimension = stiffness,
                  .fileUnit = inStiffness,
                  .shownUnit = "N/mm^3",
                  .required = false,
                  .rule = Figure<Support>::Rule::notNegative}};
    k.apply = [](const Support& s, const SupportTarget& t) {
        t.supports.beds.push_back({t.faces, s.normalStiffness, s.tangentialStiffness});
    };
    k.heldAt = [](const Support& s, const NominalPoint& at) {
        std::vector<Vec3> held;
        if (s.normalStiffness > 0) held.push_back(at.normal);
        if (s.tangentialStiffness > 0)
            for (const Vec3& across : perpendicular(at.normal)) held.push_back(across);
        return std::optional(held);
    };
    k.require = [](const Support& s, const Node& n) {
        if (!(s.normalStiffness + s.tangentialStiffness > 0))
            n.at("normal_stiffness").refuse("stiffnesses of zero or more, one above zero", "zero");
    };
    k.describe = [](const Support& s) {
        return formatNumber(s.normalStiffness) + " N/mm³ normal, " + formatNumber(s.tangentialStiffness) +
               " N/mm³ across";
    };
    return k;
}

}  // namespace escultura::duty
