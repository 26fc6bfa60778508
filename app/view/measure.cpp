#include "view/measure.hpp"

#include <algorithm>
#include <cmath>

#include "base/quantity.hpp"
#include "surface/recognise.hpp"

namespace escultura::app {

QString placeNumber(double v) {
    return QString::fromStdString(formatNumber(std::abs(v) < 5e-4 ? 0 : v, 4));
}

QString Measured::words() const {
    QStringList lines;
    if (radius) lines << "radius " + placeNumber(*radius) + " mm";
    if (angle) lines << "angle " + placeNumber(*angle) + "°";
    if (distance) {
        lines << "distance " + placeNumber(*distance) + " mm";
        lines << QString("x %1, y %2, z %3 mm")
                     .arg(placeNumber(components[0]), placeNumber(components[1]), placeNumber(components[2]));
    }
    if (wall) lines << "wall along the normal " + placeNumber(*wall) + " mm";
    return lines.join("\n");
}

Measured measured(const std::vector<Vec3>& places, std::optional<double> wall) {
    Measured m;
    if (places.size() == 1) m.wall = wall;
    if (places.size() < 2) return m;
    m.components = places[1] - places[0];
    m.distance = m.components.norm();
    if (places.size() < 3) return m;
    const Vec3 a = places[0] - places[1], b = places[2] - places[1];
    if (a.norm() > 0 && b.norm() > 0)
        m.angle = std::acos(std::clamp(a.normalized().dot(b.normalized()), -1.0, 1.0)) * 180 / M_PI;
    if (const auto circle = surface::circleThrough(places[0], places[1], places[2])) m.radius = circle->radius;
    m.distance.reset();
    return m;
}

}  // namespace escultura::app
