#include "duty/loads/common.hpp"

namespace escultura::duty {

LoadKind forceLoad() {
    LoadKind k{Load::Kind::force, "force", "force", ""};
    k.hasFrame = k.canShare = k.inTables = true;
    k.figures = {{.key = "force",
                  .label = "Force",
                  .at = &Load::force,
                  .dimension = dimension::force,
                  .fileUnit = inForce,
                  .shownUnit = "N",
                  .required = false,
                  .orMagnitude = true,
                  .column = "f"},
                 {.key = "moment",
                  .label = "Moment",
                  .at = &Load::moment,
                  .dimension = dimension::moment,
                  .fileUnit = inMoment,
                  .shownUnit = "N*m",
                  .required = false,
                  .column = "m"}};
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
