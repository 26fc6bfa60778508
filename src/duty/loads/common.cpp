#include "duty/loads/common.hpp"

#include <algorithm>
#include <cmath>

#include "duty/part_node.hpp"
#include "shape/kept_faces.hpp"
#include "shape/lines.hpp"

namespace escultura::duty {

Figure<Load> forceFigure(bool inTables) {
    return {.key = "force",
            .label = "Force",
            .at = &Load::force,
            .dimension = dimension::force,
            .fileUnit = inForce,
            .shownUnit = "N",
            .required = false,
            .orMagnitude = true,
            .column = inTables ? "f" : ""};
}

Figure<Load> momentFigure(bool inTables) {
    return {.key = "moment",
            .label = "Moment",
            .at = &Load::moment,
            .dimension = dimension::moment,
            .fileUnit = inMoment,
            .shownUnit = "N*m",
            .required = false,
            .column = inTables ? "m" : ""};
}

std::string vectorText(const Vec3& v) {
    return "(" + formatNumber(v[0]) + ", " + formatNumber(v[1]) + ", " + formatNumber(v[2]) + ")";
}

std::string forceText(double newtons) {
    return newtons >= 1000 ? formatNumber(newtons / 1000, 3) + " kN" : formatNumber(newtons, 3) + " N";
}

std::string forceAndMomentText(const Load& l) {
    std::string text;
    if (l.force.norm() > 0)
        text = l.force.norm() >= 1000 ? vectorText(l.force / 1000) + " kN" : vectorText(l.force) + " N";
    if (l.moment.norm() > 0)
        text += std::string(text.empty() ? "" : ", ") + "moment " + vectorText(l.moment / 1000) + " N m";
    return text;
}

double outerRadius(const Interface& i) {
    return 0.5 * std::max(i.ringDiameter, i.boreDiameter);
}

double shareOf(const Load& l, double factor) {
    return factor * (l.sharedTotal ? 1.0 / static_cast<double>(l.on.interfaces.size()) : 1.0);
}

NominalLoad nominalOnFaces(const Load& l, const Part& part, bool atPoint) {
    NominalLoad n;
    const double share = shareOf(l, 1);
    const Mat3 axes = part.axesOf(l.frame);
    for (const std::string& name : l.on.interfaces) {
        const Interface& i = *part.findInterface(name);
        const Vec3 at = atPoint ? l.point : faceMiddle(i, l.on.face);
        const Vec3 force = share * (axes * l.force);
        const Vec3 moment = share * (axes * l.moment) + share * l.torque * i.axis;
        n.force += force;
        n.moment += at.cross(force) + moment;
        n.size += force.norm();
        n.lever += at.norm() * force.norm() + moment.norm();
    }
    return n;
}

std::vector<OddLoad> oddStress(const Load& l, const Part& part, double factor) {
    double area = 0;
    for (const std::string& name : l.on.interfaces) {
        const Interface& i = *part.findInterface(name);
        if (i.kind == Interface::Kind::faces) {
            if (!i.kept) return {};  // their file tells the area, and is not read yet
            for (const shape::FacePatch& f : i.kept->patches())
                if (f.interface == i.number) area += f.area;
            continue;
        }
        if (i.isOfLines()) {  // a disc around each point, a strip along each edge
            for (const auto& line : i.lines)
                area += line.size() < 2 ? M_PI * i.length * i.length : 2 * i.length * shape::lengthOf(line);
            if (i.lines.empty()) return {};
            continue;
        }
        const double outer = 2 * outerRadius(i);
        area += l.on.face == "bore"   ? i.boreDiameter * i.length
                : l.on.face == "side" ? outer * i.length
                                      : 0.25 * M_PI * (outer * outer - i.boreDiameter * i.boreDiameter);
    }
    const double strength = elastic::strength(part.material);
    const double force = std::abs(factor) * l.force.norm();
    const double nominal = std::max(std::abs(factor * l.pressure), force / std::max(area, 1e-9));
    const std::string what = ", " + words(l.kind) + " on " + listed(l.on.interfaces) + ": ";
    const std::string fix = "Check the unit of the load.";
    if (strength > 0 && nominal > 10 * strength)
        return {{what + formatNumber(nominal) +
                     " MPa over its faces, more than ten times the strength. It looks wrong by a factor of 1000.",
                 fix}};
    if (strength > 0 && force > 0 && nominal < 1e-6 * strength)
        return {{what + "only " + formatNumber(force) + " N. It looks wrong by a factor of 1000.", fix}};
    return {};
}

std::vector<OddLoad> oddAcceleration(const Load& l, const Part&, double) {
    if (!(l.acceleration.norm() > 1e7)) return {};
    return {{" has an acceleration of " + formatNumber(l.acceleration.norm() / 9810) + " times gravity.",
             "Check its unit, such as m/s^2."}};
}

LoadMark arrowMark(const Vec3& at, const Vec3& along, const std::string& on, const std::string& text) {
    LoadMark m;
    m.at = at;
    m.along = along.normalized();
    m.on = on;
    m.text = text;
    return m;
}

LoadMark ringMark(const Vec3& at, const Vec3& axis, double radius, double turns) {
    LoadMark m;
    m.shape = LoadMark::Shape::ring;
    m.at = at;
    m.along = axis;
    m.radius = radius;
    m.turns = turns;
    return m;
}

std::vector<LoadMark> forceMarks(const Load& l, const Part& part, double factor) {
    std::vector<LoadMark> marks;
    const double share = shareOf(l, factor);
    const Mat3 axes = part.axesOf(l.frame);
    for (const std::string& name : l.on.interfaces) {
        const Interface& i = *part.findInterface(name);
        const Vec3 at = faceMiddle(i, l.on.face);
        if (l.force.norm() > 0) {
            const Vec3 d = (share * (axes * l.force)).normalized();
            marks.push_back(
                arrowMark(at + 1.2 * outerRadius(i) * d, d, name, forceText(std::abs(share) * l.force.norm())));
            continue;
        }
        const Vec3 moment = l.torque != 0 ? Vec3(l.torque * i.axis) : Vec3(axes * l.moment);
        LoadMark ring = ringMark(at, moment.normalized(), 1.15 * outerRadius(i), 0.75);
        ring.on = name;
        ring.text = formatNumber(share * (l.torque != 0 ? l.torque : l.moment.norm()) / 1000, 3) + " N m";
        marks.push_back(ring);
    }
    return marks;
}

void requireForce(const Load& l, const Part&, const Node& n) {
    if (!(l.force.norm() + l.moment.norm() > 0))
        n.refuse("a force (or magnitude and direction) or a moment that is not zero", "zero or nothing");
}

}  // namespace escultura::duty
