#include "duty/loads/common.hpp"

namespace escultura::duty {
namespace {

/// Outward normal of the nominal face at a place.
Vec3 nominalNormal(const Interface& i, const std::string& face, const Vec3& at) {
    if (face == "start") return -i.axis;
    if (face == "end") return i.axis;
    if (face == keptFaceName) return keptNormal(i, at);
    const Vec3 d = at - i.origin;
    const Vec3 r = (d - d.dot(i.axis) * i.axis).normalized();
    return face == "side" ? r : Vec3(-r);
}

void apply(const Load& l, LoadTarget& t) {
    for (const LoadedFace& f : t.faces) {
        elastic::addTraction(
            t.mesh, f.faces, [&](const Vec3&, const Vec3& n) -> Vec3 { return -l.pressure * n; }, t.forces);
        for (const std::int32_t face : f.faces) {
            const auto& corner = t.mesh.boundary[face];
            const Vec3 at = (t.mesh.position[corner[0]] + t.mesh.position[corner[1]] + t.mesh.position[corner[2]]) / 3;
            t.meant.add(-l.pressure * elastic::faceArea(t.mesh, face) * nominalNormal(f.interface, l.on.face, at), at);
        }
    }
}

std::vector<LoadMark> marks(const Load& l, const Part& part, double factor) {
    std::vector<LoadMark> list;
    for (const std::string& name : l.on.interfaces) {
        const Interface& i = *part.findInterface(name);
        const Vec3 into = l.on.face == "start" || l.on.face == keptFaceName ? i.axis
                          : l.on.face == "end"                              ? Vec3(-i.axis)
                                                                            : perpendicular(i.axis)[0];
        LoadMark m = arrowMark(faceMiddle(i, l.on.face) - outerRadius(i) * into, factor * l.pressure * into, name,
                               formatNumber(factor * l.pressure, 3) + " MPa");
        m.endsAt = true;
        list.push_back(m);
    }
    return list;
}

}  // namespace

LoadKind pressureLoad() {
    LoadKind k{Load::Kind::pressure, "pressure", "pressure", "Along the face's normal, into the part."};
    k.figures = {{.key = "pressure",
                  .label = "Pressure",
                  .at = &Load::pressure,
                  .dimension = dimension::stress,
                  .fileUnit = inStress,
                  .shownUnit = "MPa",
                  .rule = Figure<Load>::Rule::notZero}};
    k.apply = apply;
    k.describe = [](const Load& l) { return formatNumber(l.pressure) + " MPa"; };
    k.marks = marks;
    k.odd = oddStress;
    k.facetShare = 5e-3;  // facets of curved faces and nominal normals differ a little: its lever is not exact
    return k;
}

}  // namespace escultura::duty
