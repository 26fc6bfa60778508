#include "duty/loads/common.hpp"
#include "duty/names.hpp"

namespace escultura::duty {
namespace {

/// All faces together carry it, as a group of bolts does; 'each' applies it to one after the other.
void apply(const Load& l, LoadTarget& t) {
    const Vec3 force = t.axes * l.force, moment = t.axes * l.moment;
    std::vector<std::vector<std::int32_t>> groups(l.sharedTotal ? 1 : t.faces.size());
    for (std::size_t k = 0; k < t.faces.size(); ++k) {
        auto& to = groups[l.sharedTotal ? 0 : k];
        to.insert(to.end(), t.faces[k].faces.begin(), t.faces[k].faces.end());
    }
    for (const auto& faces : groups) {
        elastic::addSpreadForce(t.mesh, faces, force, moment, l.point, t.forces);
        t.meant.add(force, l.point, moment);
    }
}

std::vector<LoadMark> marks(const Load& l, const Part& part, double factor) {
    std::vector<LoadMark> list;
    const std::string on = togetherText(l.on.interfaces);
    if (l.force.norm() > 0)
        list.push_back(arrowMark(l.point, factor * (part.axesOf(l.frame) * l.force), on,
                                 "remote " + forceText(std::abs(factor) * l.force.norm())));
    for (const std::string& name : l.on.interfaces) {
        LoadMark spoke;
        spoke.shape = LoadMark::Shape::spoke;
        spoke.at = l.point;
        spoke.along = faceMiddle(*part.findInterface(name), l.on.face);
        list.push_back(spoke);
    }
    return list;
}

}  // namespace

LoadKind remoteForceLoad() {
    LoadKind k{Load::Kind::remoteForce, "remote_force", "remote force",
               "Acts at its point; a rigid face stiffens the part in every case."};
    k.onLines = k.hasFrame = k.canShare = true;
    k.figures = {forceFigure(false),
                 momentFigure(false),
                 {.key = "point",
                  .label = "At",
                  .at = &Load::point,
                  .dimension = dimension::length,
                  .fileUnit = inLength,
                  .shownUnit = "mm"},
                 {.key = "rigid", .label = "the face keeps its shape (rigid)", .at = &Load::rigid, .required = false}};
    k.apply = apply;
    k.describe = [](const Load& l) {
        const std::string size = forceAndMomentText(l);
        return size + (size.empty() ? "" : ", ") + "at " + vectorText(l.point) + " mm" + (l.rigid ? ", rigid" : "");
    };
    k.marks = marks;
    k.require = requireForce;
    k.nominal = [](const Load& l, const Part& part) { return nominalOnFaces(l, part, true); };
    k.odd = oddStress;
    return k;
}

}  // namespace escultura::duty
