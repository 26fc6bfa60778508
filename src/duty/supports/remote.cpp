#include "duty/supports/common.hpp"

namespace escultura::duty {

SupportKind remoteSupport() {
    SupportKind k{Support::Kind::remote, "remote", "remote",
                  "The mean motion of the face is held; the face is free to deform."};
    k.onLines = k.hasFrame = true;
    k.motionsKey = "motions";
    k.motions = rigidMotions;
    k.figures = {{.key = "point",
                  .label = "Turns about",
                  .at = &Support::point,
                  .dimension = dimension::length,
                  .fileUnit = inLength,
                  .shownUnit = "mm",
                  .required = false}};
    k.apply = [](const Support& s, const SupportTarget& t) {
        t.supports.meanHolds.push_back(
            {t.faces, s.point.value_or(faceMiddle(t.interface, s.on.face)), s.motions, t.axes});
    };
    k.heldAt = heldIfAll;
    return k;
}

}  // namespace escultura::duty
