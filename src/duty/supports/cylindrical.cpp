#include "duty/part_node.hpp"
#include "duty/supports/common.hpp"

namespace escultura::duty {

SupportKind cylindricalSupport() {
    SupportKind k{Support::Kind::cylindrical, "cylindrical", "cylindrical", "About the interface's axis."};
    k.canBeMoved = true;
    k.motionsKey = "held";
    k.motions = {"radial", "axial", "tangential"};
    k.apply = [](const Support& s, const SupportTarget& t) {
        requireRound(t.interface);
        for (const std::int32_t n : t.nodes) {
            const Vec3 radial = t.radial(n), axis = t.interface.axis;
            const Vec3 directions[3] = {radial, axis, axis.cross(radial)};
            for (int d = 0; d < 3; ++d)
                if (s.held[d]) t.hold(n, directions[d]);
        }
    };
    k.heldAt = [](const Support& s, const NominalPoint& at) {
        const Vec3 directions[3] = {at.normal, at.interface.axis, at.interface.axis.cross(at.normal)};
        std::vector<Vec3> held;
        for (int d = 0; d < 3; ++d)
            if (s.held[d]) held.push_back(directions[d]);
        return std::optional(held);
    };
    k.require = [](const Support& s, const Node& n) {
        if (s.on.face != "bore" && s.on.face != "side" && s.on.face != keptFaceName)
            n.at("face").refuse("a bore, the side of a pin or round faces", "'" + s.on.face + "'");
    };
    return k;
}

}  // namespace escultura::duty
