#include <cmath>

#include "duty/loads/common.hpp"

namespace escultura::duty {
namespace {

Vec3 bodyForce(const Load& l, const Part& part, const Vec3& p) {
    const double density = part.material.density / 1000;  // kg mm/s2 -> N
    const Vec3 d = p - l.point;
    return density * l.speed * l.speed * (d - d.dot(l.axis) * l.axis);
}

void apply(const Load& l, LoadTarget& t) {
    const double density = t.part.material.density / 1000;
    auto force = [&](const Vec3& p) { return bodyForce(l, t.part, p); };
    elastic::addBodyForce(t.mesh, force, t.bodyForces);
    const MeshMass mass = t.mass();
    t.meant.add(mass.volume * force(mass.centre), mass.centre);
    // products of inertia about the centre tilt the axis: their moment has no force. It is the integral of r x (P r)
    // with P the projection across the axis
    const Mat3 m = mass.spread * (Mat3::Identity() - l.axis * l.axis.transpose());
    const Vec3 moment = density * l.speed * l.speed * Vec3(m(1, 2) - m(2, 1), m(2, 0) - m(0, 2), m(0, 1) - m(1, 0));
    t.meant.add(Vec3::Zero(), mass.centre, moment);
}

double perMinute(const Load& l) {
    return l.speed * 60 / (2 * M_PI);
}

}  // namespace

LoadKind spinLoad() {
    LoadKind k{Load::Kind::spin, "spin", "rotation",
               "Centrifugal load of the whole part; the axis runs through the point."};
    k.onFaces = false;
    k.figures = {{.key = "speed",
                  .label = "Speed",
                  .at = &Load::speed,
                  .dimension = {0, 0, -1},
                  .fileUnit = [](const Units&) { return std::string("1/s"); },
                  .shownUnit = "rpm",
                  .rule = Figure<Load>::Rule::notZero},
                 {.key = "axis", .label = "Axis", .at = &Load::axis, .rule = Figure<Load>::Rule::direction},
                 {.key = "point",
                  .label = "Through",
                  .at = &Load::point,
                  .dimension = dimension::length,
                  .fileUnit = inLength,
                  .shownUnit = "mm"}};
    k.apply = apply;
    k.bodyForce = bodyForce;
    k.describe = [](const Load& l) {
        return formatNumber(perMinute(l)) + " rpm about " + vectorText(l.axis) + " through " + vectorText(l.point) +
               " mm";
    };
    k.marks = [](const Load& l, const Part&, double factor) {
        return std::vector<LoadMark>{
            ringMark(l.point, l.axis, 0, 0.8),
            arrowMark(l.point, l.axis, "whole part", formatNumber(factor * perMinute(l), 3) + " rpm")};
    };
    return k;
}

}  // namespace escultura::duty
