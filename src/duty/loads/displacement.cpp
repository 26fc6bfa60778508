#include "duty/loads/common.hpp"
#include "duty/part_node.hpp"
#include "duty/support_kind.hpp"

namespace escultura::duty {
namespace {

void apply(const Load& l, LoadTarget& t) {
    for (const LoadedFace& f : t.faces) t.move(f.interface, t.axes * l.displacement);
}

void require(const Load& l, const Part& part, const Node& n) {
    for (const std::string& name : l.on.interfaces) {
        bool held = false;
        for (const Support& s : part.supports)
            held = held || (s.on.face == l.on.face && supportKind(s.kind).canBeMoved &&
                            std::count(s.on.interfaces.begin(), s.on.interfaces.end(), name));
        if (!held)
            n.refuse("a face that a fixed, sliding or cylindrical support holds: a displacement moves a support",
                     "no such support on the " + l.on.face + " of '" + name + "'");
    }
}

std::vector<LoadMark> marks(const Load& l, const Part& part, double factor) {
    std::vector<LoadMark> list;
    for (const std::string& name : l.on.interfaces)
        list.push_back(arrowMark(faceMiddle(*part.findInterface(name), l.on.face),
                                 factor * (part.axesOf(l.frame) * l.displacement), name,
                                 "moved " + formatNumber(std::abs(factor) * l.displacement.norm(), 3) + " mm"));
    return list;
}

}  // namespace

LoadKind displacementLoad() {
    LoadKind k{Load::Kind::displacement, "displacement", "displacement", "Moves the face of a support."};
    k.hasFrame = true;
    k.figures = {{.key = "displacement",
                  .label = "Moved by",
                  .at = &Load::displacement,
                  .dimension = dimension::length,
                  .fileUnit = inLength,
                  .shownUnit = "mm"}};
    k.apply = apply;
    k.describe = [](const Load& l) { return vectorText(l.displacement) + " mm"; };
    k.marks = marks;
    k.require = require;
    return k;
}

}  // namespace escultura::duty
