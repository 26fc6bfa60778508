#include "duty/supports/common.hpp"

namespace escultura::duty {

SupportKind slidingSupport() {
    SupportKind k{Support::Kind::sliding, "sliding", "sliding", "Held along the face's normal, free in its plane."};
    k.canBeMoved = true;
    k.apply = [](const Support& s, const SupportTarget& t) {
        const bool flat = s.on.face == "start" || s.on.face == "end";
        for (const std::int32_t n : t.nodes) t.hold(n, flat ? t.interface.axis : t.normal(n));
    };
    k.heldAt = [](const Support&, const NominalPoint& at) { return std::optional(std::vector<Vec3>{at.normal}); };
    k.describe = [](const Support&) { return std::string("normal to the face"); };
    return k;
}

}  // namespace escultura::duty
