#include "duty/loads/common.hpp"

namespace escultura::duty {

LoadKind torqueLoad() {
    LoadKind k{Load::Kind::torque, "torque", "torque",
               "About the interface's axis, right-handed from its start to its end."};
    k.canShare = k.inTables = true;
    k.figures = {{.key = "torque",
                  .label = "Torque",
                  .at = &Load::torque,
                  .dimension = dimension::moment,
                  .fileUnit = inMoment,
                  .shownUnit = "N*m",
                  .rule = Figure<Load>::Rule::notZero,
                  .column = "torque"}};
    k.apply = [](const Load& l, LoadTarget& t) {
        for (const LoadedFace& f : t.faces) {
            const Vec3 moment = t.share * l.torque * f.interface.axis;
            elastic::addSpreadForce(t.mesh, f.faces, Vec3::Zero(), moment, f.middle, t.forces);
            t.meant.add(Vec3::Zero(), f.middle, moment);
        }
    };
    k.describe = [](const Load& l) { return formatNumber(l.torque / 1000) + " N m"; };
    k.marks = forceMarks;
    k.nominal = [](const Load& l, const Part& part) { return nominalOnFaces(l, part); };
    k.odd = oddStress;
    return k;
}

}  // namespace escultura::duty
