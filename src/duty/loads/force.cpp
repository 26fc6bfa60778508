#include "duty/loads/common.hpp"

namespace escultura::duty {

LoadKind forceLoad() {
    LoadKind k{Load::Kind::force, "force", "force", ""};
    k.onLines = k.hasFrame = k.canShare = k.inTables = true;
    k.figures = {forceFigure(true), momentFigure(true)};
    k.apply = [](const Load& l, LoadTarget& t) {
        const Vec3 force = t.share * (t.axes * l.force), moment = t.share * (t.axes * l.moment);
        for (const LoadedFace& f : t.faces) {
            elastic::addSpreadForce(t.mesh, f.faces, force, moment, f.middle, t.forces);
            t.meant.add(force, f.middle, moment);
        }
    };
    k.describe = forceAndMomentText;
    k.marks = forceMarks;
    k.require = requireForce;
    k.nominal = [](const Load& l, const Part& part) { return nominalOnFaces(l, part); };
    k.odd = oddStress;
    return k;
}

}  // namespace escultura::duty
