#include "duty/loads/common.hpp"
#include "shape/kept_faces.hpp"

namespace escultura::duty {
namespace {

/// Outward normal of the nominal face at a place.
Vec3 nominalNormal(const Interface& i, const std::string& face, const Vec3& at) {
    if (face == "start") return -i.axis;
    if (face == "end") return i.axis;
    const Vec3 d = at - i.origin;
    const Vec3 r = (d - d.dot(i.axis) * i.axis).normalized();
    return face == "side" ? r : Vec3(-r);
}

/// A pressure on faces of a body: over the faces of their file. What the mesh has more or less of them at borders, up
/// to a tenth, is spread over what it has, so that force and moment are those of the file; more than that shows as a
/// load that is not applied as meant.
void applyToKept(double pressure, const LoadedFace& f, LoadTarget& t) {
    MeantLoad whole;
    double size = 0;
    for (const shape::FacePatch& patch : f.interface.kept->patches()) {
        if (patch.interface != f.interface.number) continue;
        for (const auto& c : patch.triangles) {
            const Vec3 force = -0.5 * pressure * (c[1] - c[0]).cross(c[2] - c[0]);
            whole.add(force, (c[0] + c[1] + c[2]) / 3);
            size += force.norm();
        }
    }
    elastic::NodalForces own(t.forces.size(), Vec3::Zero());
    elastic::addTraction(
        t.mesh, f.faces, [&](const Vec3&, const Vec3& n) -> Vec3 { return -pressure * n; }, own);
    MeantLoad missing = whole;
    for (std::size_t n = 0; n < own.size(); ++n)
        if (own[n] != Vec3::Zero()) missing.add(-own[n], t.mesh.position[n]);
    if (missing.force.norm() <= 0.1 * size)
        elastic::addSpreadForce(t.mesh, f.faces, missing.force, missing.moment - f.middle.cross(missing.force),
                                f.middle, own);
    for (std::size_t n = 0; n < own.size(); ++n) t.forces[n] += own[n];
    t.meant.force += whole.force;
    t.meant.moment += whole.moment;
}

void apply(const Load& l, LoadTarget& t) {
    for (const LoadedFace& f : t.faces) {
        if (f.interface.kept) {
            applyToKept(l.pressure, f, t);
            continue;
        }
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
