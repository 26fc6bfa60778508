#include "duty/loads/common.hpp"
#include "duty/part_node.hpp"

namespace escultura::duty {

LoadKind bearingLoad() {
    LoadKind k{Load::Kind::bearing, "bearing", "bearing load",
               "A pin's pressure on the half of the bore that it presses on."};
    k.hasFrame = k.canShare = k.inTables = true;
    k.figures = {forceFigure(true)};
    k.apply = [](const Load& l, LoadTarget& t) {
        const Vec3 force = t.share * (t.axes * l.force);
        for (const LoadedFace& f : t.faces) {
            requireRound(f.interface);
            elastic::addBearing(t.mesh, f.faces, f.interface.axis, f.middle, force, t.forces);
            t.meant.add(force, f.middle);
        }
    };
    k.describe = forceAndMomentText;
    k.marks = forceMarks;
    k.require = [](const Load& l, const Part& part, const Node& n) {
        if (l.on.face != "bore" && l.on.face != keptFaceName)
            n.at("face").refuse("bore, or round faces: a bearing load acts on a bore", "'" + l.on.face + "'");
        requireForce(l, part, n);
    };
    k.nominal = [](const Load& l, const Part& part) { return nominalOnFaces(l, part); };
    k.odd = oddStress;
    return k;
}

}  // namespace escultura::duty
