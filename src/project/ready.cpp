#include "project/ready.hpp"

#include <algorithm>
#include <cmath>
#include <set>

#include "base/quantity.hpp"
#include "project/plausible.hpp"

namespace escultura::project {
namespace {

using Severity = ReadyNote::Severity;
using Place = ReadyNote::Place;

/// Points spread over a face, with its outward normals.
std::vector<std::pair<Vec3, Vec3>> facePoints(const Interface& i, const std::string& face) {
    std::vector<std::pair<Vec3, Vec3>> points;
    const auto [u, v] = perpendicular(i.axis);
    const bool side = face == "bore" || face == "side";
    const double radius = 0.5 * (face == "bore" ? i.boreDiameter : std::max(i.ringDiameter, i.boreDiameter));
    for (const double along : side ? std::vector<double>{0.1, 0.9} : std::vector<double>{face == "end" ? 1.0 : 0.0})
        for (int k = 0; k < 12; ++k) {
            const double a = 2 * M_PI * k / 12;
            const Vec3 r = std::cos(a) * u + std::sin(a) * v;
            points.emplace_back(i.origin + along * i.length * i.axis + radius * r,
                                side ? r : Vec3(face == "end" ? i.axis : Vec3(-i.axis)));
        }
    return points;
}

/// Resultant of a case by the part file's numbers; body loads count as a force of unknown size.
bool hasResultant(const Part& part, const LoadCase& c) {
    Vec3 force = Vec3::Zero(), moment = Vec3::Zero();
    double size = 0, lever = 0;
    for (const Load& l : part.loadsOf(c)) {
        if (!l.onFaces() || l.kind == Load::Kind::pressure || l.kind == Load::Kind::displacement) return true;
        const double share = l.sharedTotal ? 1.0 / static_cast<double>(l.on.interfaces.size()) : 1.0;
        const Mat3 axes = part.axesOf(l.frame);
        for (const auto& name : l.on.interfaces) {
            const Interface& i = *part.findInterface(name);
            const Vec3 at = l.kind == Load::Kind::remoteForce ? l.point : faceMiddle(i, l.on.face);
            const Vec3 f = share * (axes * l.force);
            const Vec3 m = share * (axes * l.moment) +
                           (l.kind == Load::Kind::torque ? Vec3(share * l.torque * i.axis) : Vec3(Vec3::Zero()));
            force += f;
            moment += at.cross(f) + m;
            size += f.norm();
            lever += at.norm() * f.norm() + m.norm();
        }
    }
    return c.factor != 0 && (force.norm() > 1e-9 * size || moment.norm() > 1e-9 * lever);
}

}  // namespace

std::vector<std::string> freeMotionsOf(const Part& part) {
    mesh::TetMesh points;  // points only: the constraints name them
    elastic::Supports supports;
    for (const Interface& i : part.interfaces) {
        points.position.push_back(i.origin);
        points.position.push_back(i.origin + i.length * i.axis + i.boreDiameter * perpendicular(i.axis)[0]);
    }
    auto hold = [&](const Vec3& p, const Vec3& direction) {
        supports.constraints.push_back({static_cast<std::int32_t>(points.position.size()), direction});
        points.position.push_back(p);
    };
    for (const Support& s : part.supports) {
        const Mat3 axes = part.axesOf(s.frame);
        for (const auto& name : s.on.interfaces) {
            const Interface* i = part.findInterface(name);
            if (!i) continue;
            for (const auto& [p, normal] : facePoints(*i, s.on.face)) switch (s.kind) {
                    case Support::Kind::fixed:
                        for (int k = 0; k < 3; ++k)
                            if (s.held[k]) hold(p, axes.col(k));
                        break;
                    case Support::Kind::sliding:
                        hold(p, normal);
                        break;
                    case Support::Kind::cylindrical: {
                        const Vec3 directions[3] = {normal, i->axis, i->axis.cross(normal)};
                        for (int k = 0; k < 3; ++k)
                            if (s.held[k]) hold(p, directions[k]);
                        break;
                    }
                    case Support::Kind::bed:
                        if (s.normalStiffness > 0) hold(p, normal);
                        if (s.tangentialStiffness > 0)
                            for (const Vec3& t : perpendicular(normal)) hold(p, t);
                        break;
                    case Support::Kind::remote:
                    case Support::Kind::rigid:
                        // all motions held: as good as fixed; single ones are judged on the mesh
                        if (std::all_of(s.motions.begin(), s.motions.end(), [](bool m) { return m; }))
                            for (int k = 0; k < 3; ++k) hold(p, Vec3::Unit(k));
                        else
                            return {};
                        break;
                }
        }
    }
    points.cornerCount = points.position.size();
    return elastic::freeMotions(points, supports);
}

std::vector<ReadyNote> readyNotes(const Part& part, const Recipe& recipe, const FieldResult* field,
                                  const SurfaceResult* surface) {
    std::vector<ReadyNote> notes;
    auto block = [&](Place place, const std::string& text, const std::string& fix) {
        notes.push_back({Severity::blocker, text, fix, place});
    };
    auto warn = [&](Place place, const std::string& text, const std::string& fix) {
        notes.push_back({Severity::warning, text, fix, place});
    };
    const elastic::Material& m = part.material;
    if (!(elastic::strength(m) > 0))
        block(Place::material, "The material has no strength to compare with.",
              "Enter its yield strength, or choose a material from the library.");
    const double e = m.orthotropic ? m.orthotropic->youngs.maxCoeff() : m.youngsModulus;
    if (e < 300 || e > 1.3e6)
        warn(Place::material, "Young's modulus is " + formatNumber(e) + " MPa: it looks wrong by a factor of 1000.",
             "Enter it with its unit, such as 71 GPa.");
    if (m.density < 5e-7 || m.density > 2.4e-5)
        warn(Place::material,
             "The density is " + formatNumber(m.density * 1e9) + " kg/m³: it looks wrong by a factor of 1000.",
             "Enter it with its unit, such as 2660 kg/m^3.");
    if (elastic::strength(m) > 0 && (elastic::strength(m) > 0.1 * e || elastic::strength(m) < 1e-5 * e))
        warn(Place::material,
             "The strength is " + formatNumber(elastic::strength(m)) + " MPa beside a modulus of " + formatNumber(e) +
                 " MPa: one of them looks wrong by a factor of 1000.",
             "Check both units.");
    if (m.yieldSource.find("assumed") != std::string::npos)
        warn(Place::material, "The material is assumed.", "Choose the material that the part is made of.");
    if (part.supports.empty()) {
        block(Place::supports, "Nothing holds the part.", "Add a support to at least one interface.");
    } else {
        const auto free = freeMotionsOf(part);
        if (!free.empty())
            block(Place::supports, "The supports leave the part free: " + listed(free) + ".",
                  "Hold these motions, by another support or another direction.");
    }
    if (part.loadCases.empty()) block(Place::cases, "There is no load case.", "Add a load case.");
    bool anyOn = std::any_of(part.combinations.begin(), part.combinations.end(), [](const auto& c) { return c.on; });
    for (const LoadCase& c : part.loadCases) {
        anyOn = anyOn || c.use == LoadCase::Use::check;
        if (c.use == LoadCase::Use::off) continue;
        if (c.factor == 0)
            warn(Place::cases, "Load case '" + c.name + "' has the factor 0.", "Switch it off, or give it a factor.");
        else if (!hasResultant(part, c))
            warn(Place::cases, "The loads of case '" + c.name + "' add up to nothing.",
                 "Check their signs; a self-balanced case is rarely meant.");
    }
    if (!part.loadCases.empty() && !anyOn)
        block(Place::cases, "All load cases are switched off.", "Switch at least one on.");
    for (const Combination& c : part.combinations)
        for (const auto& [name, factor] : c.terms)
            for (const LoadCase& l : part.loadCases)
                if (c.on && l.name == name && l.use == LoadCase::Use::off)
                    block(Place::cases, "Combination '" + c.name + "' uses case '" + name + "', which is off.",
                          "Switch the case on, or to combinations only.");
    // nominal pressure of each load on its faces against the strength
    std::set<std::string> used;
    auto uses = [&](const FaceReference& on) { used.insert(on.interfaces.begin(), on.interfaces.end()); };
    for (const Support& s : part.supports) uses(s.on);
    for (const LoadCase& c : part.loadCases) {
        if (c.use == LoadCase::Use::off) continue;
        for (const Load& l : part.loadsOf(c)) {
            if (!l.onFaces()) {
                if (l.acceleration.norm() > 1e7)
                    warn(Place::loads,
                         "Case '" + c.name + "' has an acceleration of " + formatNumber(l.acceleration.norm() / 9810) +
                             " times gravity.",
                         "Check its unit, such as m/s^2.");
                continue;
            }
            uses(l.on);
            double area = 0;
            for (const auto& name : l.on.interfaces) {
                const Interface& i = *part.findInterface(name);
                const double outer = std::max(i.ringDiameter, i.boreDiameter);
                area += l.on.face == "bore"   ? i.boreDiameter * i.length
                        : l.on.face == "side" ? outer * i.length
                                              : 0.25 * M_PI * (outer * outer - i.boreDiameter * i.boreDiameter);
            }
            const double force = std::abs(c.factor) * l.force.norm();
            const double nominal = l.kind == Load::Kind::pressure ? std::abs(l.pressure) : force / std::max(area, 1e-9);
            if (elastic::strength(m) > 0 && nominal > 10 * elastic::strength(m))
                warn(Place::loads,
                     "Case '" + c.name + "', " + words(l.kind) + " on " + listed(l.on.interfaces) + ": " +
                         formatNumber(nominal) +
                         " MPa over its faces, more than ten times the strength. It looks "
                         "wrong by a factor of 1000.",
                     "Check the unit of the load.");
            else if (elastic::strength(m) > 0 && force > 0 && nominal < 1e-6 * elastic::strength(m))
                warn(Place::loads,
                     "Case '" + c.name + "', " + words(l.kind) + " on " + listed(l.on.interfaces) + ": only " +
                         formatNumber(force) + " N. It looks wrong by a factor of 1000.",
                     "Check the unit of the load.");
        }
    }
    if (field) {
        for (ReadyNote& n : plausibilityNotes(part, recipe, *field)) notes.push_back(std::move(n));
        const ThresholdFigures t = thresholdFigures(part, *field, recipe);
        for (const auto& name : t.cutOff)
            if (used.count(name))
                block(Place::field,
                      "The part does not reach interface '" + name + "' at threshold " +
                          formatNumber(recipe.threshold, 3) + ", but something acts on it.",
                      field->largestConnectingThreshold > 0
                          ? "Lower the threshold to " + formatNumber(field->largestConnectingThreshold, 3) + " or less."
                          : "No threshold connects it: check the field and the place of the interface.");
    }
    for (const Interface& i : part.interfaces)
        if (!used.count(i.name) && !part.loadCases.empty())
            warn(Place::interfaces, "Nothing acts on interface '" + i.name + "'.",
                 "Fine when it only keeps material; else add its load or support.");
    if (surface && !surface->thickness.value.empty()) {
        const MeshForecast f = forecastMesh(part, *surface, recipe);
        if (f.thinWalls > 0.01)
            warn(Place::mesh,
                 formatNumber(100 * f.thinWalls, 2) +
                     " % of the surface has a wall thinner than 1.1 elements: it may be "
                     "lost from the mesh.",
                 "Use elements of at most " + formatNumber(surface->thickness.low5 / 1.1, 2) + " mm.");
    }
    std::stable_sort(notes.begin(), notes.end(), [](const auto& a, const auto& b) { return a.severity < b.severity; });
    return notes;
}

}  // namespace escultura::project
