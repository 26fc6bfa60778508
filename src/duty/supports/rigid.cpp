#include "duty/supports/common.hpp"

namespace escultura::duty {

SupportKind rigidSupport() {
    SupportKind k{Support::Kind::rigid, "rigid", "rigid", "The face keeps its shape; along the global axes."};
    k.motionsKey = "motions";
    k.motions = rigidMotions;
    k.apply = [](const Support& s, const SupportTarget& t) {
        t.supports.rigidGroups.push_back({{t.nodes.begin(), t.nodes.end()}, s.motions});
    };
    k.heldAt = heldIfAll;
    return k;
}

}  // namespace escultura::duty
