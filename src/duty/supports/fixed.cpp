#include "duty/supports/common.hpp"

namespace escultura::duty {

SupportKind fixedSupport() {
    SupportKind k{Support::Kind::fixed, "fixed", "fixed", ""};
    k.onLines = k.hasFrame = k.canBeMoved = true;
    k.motionsKey = "directions";
    k.motions = {"x", "y", "z"};
    k.motionsWrittenIfAll = false;
    k.apply = [](const Support& s, const SupportTarget& t) {
        for (const std::int32_t n : t.nodes)
            for (int d = 0; d < 3; ++d)
                if (s.held[d]) t.hold(n, t.axes.col(d));
    };
    k.heldAt = [](const Support& s, const NominalPoint& at) {
        std::vector<Vec3> held;
        for (int d = 0; d < 3; ++d)
            if (s.held[d]) held.emplace_back(at.axes.col(d));
        return std::optional(held);
    };
    return k;
}

}  // namespace escultura::duty
