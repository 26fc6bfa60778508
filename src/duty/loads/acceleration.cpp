/// Gravity, and the acceleration of the part: inertia acts against the latter.

#include "duty/loads/common.hpp"

namespace escultura::duty {
namespace {

template <int sign>
Vec3 bodyForce(const Load& l, const Part& part, const Vec3&) {
    const double density = part.material.density / 1000;  // kg mm/s2 -> N
    const Vec3 a = part.axesOf(l.frame) * l.acceleration * sign;
    return density * a;
}

template <int sign>
void apply(const Load& l, LoadTarget& t) {
    const Vec3 force = bodyForce<sign>(l, t.part, Vec3::Zero());
    elastic::addBodyForce(
        t.mesh, [&](const Vec3&) -> Vec3 { return force; }, t.bodyForces);
    const MeshMass mass = t.mass();
    t.meant.add(mass.volume * force, mass.centre);
}

std::vector<LoadMark> marks(const Load& l, const Part& part, double factor) {
    LoadMark m =
        arrowMark(Vec3::Zero(), factor * (part.axesOf(l.frame) * l.acceleration), "whole part",
                  words(l.kind) + " " + formatNumber(std::abs(factor) * l.acceleration.norm() / 1000, 3) + " m/s²");
    m.amidst = true;
    return {m};
}

LoadKind bodyAcceleration(Load::Kind kind, const char* word, const char* hint) {
    LoadKind k{kind, word, word, hint};
    k.onFaces = false;
    k.hasFrame = true;
    k.figures = {{.key = "acceleration",
                  .label = "Acceleration",
                  .at = &Load::acceleration,
                  .dimension = dimension::acceleration,
                  .fileUnit = [](const Units&) { return std::string("m/s^2"); },
                  .shownUnit = "m/s^2",
                  .rule = Figure<Load>::Rule::notZero}};
    k.describe = [](const Load& l) { return vectorText(l.acceleration / 1000) + " m/s²"; };
    k.marks = marks;
    k.odd = oddAcceleration;
    return k;
}

}  // namespace

LoadKind gravityLoad() {
    LoadKind k = bodyAcceleration(Load::Kind::gravity, "gravity",
                                  "The field of gravity: (0, 0, -9.81 m/s^2) pulls down along z.");
    k.apply = apply<1>;
    k.bodyForce = bodyForce<1>;
    return k;
}

LoadKind accelerationLoad() {
    LoadKind k =
        bodyAcceleration(Load::Kind::acceleration, "acceleration", "Of the part; its inertia acts against it.");
    k.apply = apply<-1>;
    k.bodyForce = bodyForce<-1>;
    return k;
}

}  // namespace escultura::duty
