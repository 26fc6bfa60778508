#include "stages/ready.hpp"

#include <algorithm>
#include <cmath>
#include <set>

#include "base/machine.hpp"
#include "base/quantity.hpp"
#include "duty/load_kind.hpp"
#include "duty/support_kind.hpp"
#include "stages/forecast.hpp"
#include "stages/kept_faces.hpp"
#include "stages/plausible.hpp"

namespace escultura::stages {
namespace {

using Severity = ReadyNote::Severity;
using Place = ReadyNote::Place;

/// Points spread over a face, with its outward normals.
std::vector<std::pair<Vec3, Vec3>> facePoints(const Interface& i, const std::string& face) {
    std::vector<std::pair<Vec3, Vec3>> points;
    if (i.kind == Interface::Kind::faces && i.kept) {
        for (const shape::FacePatch& f : i.kept->patches()) {
            if (f.interface != i.number) continue;
            const std::size_t every = f.places.size() / 12 + 1;
            for (std::size_t k = 0; k < f.places.size(); k += every)
                points.emplace_back(f.places[k], f.surface->gradient(f.places[k]));
            for (std::size_t k = 0; k < f.border.size(); k += f.border.size() / 12 + 1)
                points.emplace_back(f.border[k].a, f.surface->gradient(f.border[k].a));
        }
        return points;
    }
    if (i.isOfLines()) {
        for (const auto& line : i.lines)
            for (std::size_t k = 0; k < line.size(); ++k) points.emplace_back(line[k], i.axis);
        return points;
    }
    const auto [u, v] = perpendicular(i.axis);
    const bool side = face == "bore" || face == "side";
    if (!side && !i.outline.empty()) {
        const double along = face == "end" ? i.length : 0;
        for (const auto& loop : i.outline)
            for (const Vec3& d : loop)
                points.emplace_back(i.origin + d + along * i.axis, face == "end" ? i.axis : Vec3(-i.axis));
        return points;
    }
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

/// Whether the loads of a case add up to something by the part file's numbers; true where only a mesh tells.
bool hasResultant(const Part& part, const LoadCase& c) {
    NominalLoad sum;
    for (const Load& l : part.loadsOf(c)) {
        const auto nominal = loadKind(l.kind).nominal;
        if (!nominal) return true;
        const NominalLoad n = nominal(l, part);
        sum.force += n.force;
        sum.moment += n.moment;
        sum.size += n.size;
        sum.lever += n.lever;
    }
    return c.factor != 0 && (sum.force.norm() > 1e-9 * sum.size || sum.moment.norm() > 1e-9 * sum.lever);
}

}  // namespace

std::vector<std::string> freeMotionsOf(const Part& given, const std::string& set) {
    const Part part = withKnownFaces(given);
    if (!knowsFaces(part)) return {};  // their file tells, and is read with the field: the mesh is looked at anyway
    mesh::TetMesh points;              // points only: the constraints name them
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
        if (!Part::acts(s, set)) continue;
        const Mat3 axes = part.axesOf(s.frame);
        for (const auto& name : s.on.interfaces) {
            const Interface* i = part.findInterface(name);
            if (!i) continue;
            for (const auto& [p, normal] : facePoints(*i, s.on.face)) {
                const auto held = supportKind(s.kind).heldAt(s, {*i, normal, axes});
                if (!held) return {};
                for (const Vec3& direction : *held) hold(p, direction);
            }
        }
    }
    points.cornerCount = points.position.size();
    return elastic::freeMotions(points, supports);
}

namespace {

/// The list as it grows.
struct Notes {
    std::vector<ReadyNote> list;
    void block(Place place, const std::string& text, const std::string& fix) {
        list.push_back({Severity::blocker, text, fix, place});
    }
    void warn(Place place, const std::string& text, const std::string& fix) {
        list.push_back({Severity::warning, text, fix, place});
    }
};

void materialNotes(const elastic::Material& m, Notes& notes) {
    if (!(elastic::strength(m) > 0))
        notes.block(Place::material, "The material has no strength to compare with.",
                    "Enter its yield strength, or choose a material from the library.");
    const double e = m.orthotropic ? m.orthotropic->youngs.maxCoeff() : m.youngsModulus;
    if (e < 300 || e > 1.3e6)
        notes.warn(Place::material,
                   "Young's modulus is " + formatNumber(e) + " MPa: it looks wrong by a factor of 1000.",
                   "Enter it with its unit, such as 71 GPa.");
    if (m.density < 5e-7 || m.density > 2.4e-5)
        notes.warn(Place::material,
                   "The density is " + formatNumber(m.density * 1e9) + " kg/m³: it looks wrong by a factor of 1000.",
                   "Enter it with its unit, such as 2660 kg/m^3.");
    if (elastic::strength(m) > 0 && (elastic::strength(m) > 0.1 * e || elastic::strength(m) < 1e-5 * e))
        notes.warn(Place::material,
                   "The strength is " + formatNumber(elastic::strength(m)) + " MPa beside a modulus of " +
                       formatNumber(e) + " MPa: one of them looks wrong by a factor of 1000.",
                   "Check both units.");
    if (m.yieldSource.find("assumed") != std::string::npos)
        notes.warn(Place::material, "The material is assumed.", "Choose the material that the part is made of.");
}

void supportNotes(const Part& part, Notes& notes) {
    for (const Support& s : part.supports)
        if (!s.frame.empty() && !supportKind(s.kind).hasFrame)
            notes.warn(Place::supports,
                       "The frame '" + s.frame + "' has no effect on the " + words(s.kind) + " support of " +
                           listed(s.on.interfaces) + ".",
                       "Take it away, or use a fixed or remote support.");
    if (part.supports.empty()) {
        notes.block(Place::supports, "Nothing holds the part.", "Add a support to at least one interface.");
    } else {
        std::vector<std::string> sets = part.supportSets();
        if (sets.empty()) sets.emplace_back();
        for (const std::string& set : sets) {
            const auto free = freeMotionsOf(part, set);
            if (free.empty()) continue;
            std::vector<std::string> cases;
            for (const LoadCase& c : part.loadCases)
                if (c.use != LoadCase::Use::off && c.supportSet == set) cases.push_back("'" + c.name + "'");
            const std::string where = sets.size() < 2 && set.empty() ? "" : " in " + listed(cases);
            notes.block(Place::supports, "The supports leave the part free" + where + ": " + listed(free) + ".",
                        "Hold these motions, by another support or another direction.");
        }
        std::set<std::string> idle;
        for (const Support& s : part.supports)
            if (!s.set.empty() && !std::count(sets.begin(), sets.end(), s.set)) idle.insert(s.set);
        for (const std::string& set : idle)
            notes.warn(Place::supports, "No load case is held by the set of supports '" + set + "'.",
                       "Let a load case name it, or take its supports out of the set.");
    }
}

void caseNotes(const Part& part, Notes& notes) {
    if (part.loadCases.empty()) notes.block(Place::cases, "There is no load case.", "Add a load case.");
    bool anyOn = std::any_of(part.combinations.begin(), part.combinations.end(), [](const auto& c) { return c.on; });
    for (const LoadCase& c : part.loadCases) {
        anyOn = anyOn || c.use == LoadCase::Use::check;
        if (c.use == LoadCase::Use::off) continue;
        if (c.factor == 0)
            notes.warn(Place::cases, "Load case '" + c.name + "' has the factor 0.",
                       "Switch it off, or give it a factor.");
        else if (!hasResultant(part, c))
            notes.warn(Place::cases, "The loads of case '" + c.name + "' add up to nothing.",
                       "Check their signs; a self-balanced case is rarely meant.");
    }
    if (!part.loadCases.empty() && !anyOn)
        notes.block(Place::cases, "All load cases are switched off.", "Switch at least one on.");
    for (const Combination& c : part.combinations)
        for (const auto& [name, factor] : c.terms)
            for (const LoadCase& l : part.loadCases)
                if (c.on && l.name == name && l.use == LoadCase::Use::off)
                    notes.block(Place::cases, "Combination '" + c.name + "' uses case '" + name + "', which is off.",
                                "Switch the case on, or to combinations only.");
}

void fieldNotes(const Part& part, const Recipe& recipe, const FieldResult& field, const SurfaceResult* surface,
                const std::set<std::string>& used, Notes& notes) {
    const std::vector<ReadyNote> odd = plausibilityNotes(part, recipe, field);
    notes.list.insert(notes.list.end(), odd.begin(), odd.end());
    // what cannot be meant needs no forecast
    if (std::none_of(odd.begin(), odd.end(), [](const ReadyNote& n) { return n.severity == Severity::blocker; })) {
        const RunForecast f = forecastRun(part, recipe, field, surface);
        for (ReadyNote& n : forecastNotes(f, recipe, machineMemory())) notes.list.push_back(std::move(n));
        if (f.thinWalls > 0.01)
            notes.warn(Place::mesh,
                       formatNumber(100 * f.thinWalls, 2) +
                           " % of the surface has a wall thinner than 1.1 elements: it may be "
                           "lost from the mesh.",
                       "Use elements of at most " + formatNumber(surface->thickness.low5 / 1.1, 2) + " mm.");
    }
    const ThresholdFigures t = thresholdFigures(part, field, recipe);
    for (const auto& name : t.cutOff)
        if (used.count(name))
            notes.block(
                Place::field,
                "The part does not reach interface '" + name + "' at threshold " + formatNumber(recipe.threshold, 3) +
                    ", but something acts on it.",
                field.largestConnectingThreshold > 0
                    ? "Lower the threshold to " + formatNumber(field.largestConnectingThreshold, 3) + " or less."
                    : "No threshold connects it: check the field and the place of the interface.");
}

}  // namespace

std::vector<ReadyNote> readyNotes(const Part& part, const Recipe& recipe, const FieldResult* field,
                                  const SurfaceResult* surface) {
    Notes notes;
    materialNotes(part.material, notes);
    supportNotes(part, notes);
    caseNotes(part, notes);
    std::set<std::string> used;
    auto uses = [&](const FaceReference& on) { used.insert(on.interfaces.begin(), on.interfaces.end()); };
    for (const Support& s : part.supports) uses(s.on);
    for (const LoadCase& c : part.loadCases) {
        if (c.use == LoadCase::Use::off) continue;
        for (const Load& l : part.loadsOf(c)) {
            if (l.onFaces()) uses(l.on);
            if (const auto odd = loadKind(l.kind).odd)
                for (const OddLoad& o : odd(l, part, c.factor))
                    notes.warn(Place::loads, "Case '" + c.name + "'" + o.text, o.fix);
        }
    }
    if (field) fieldNotes(part, recipe, *field, surface, used, notes);
    for (const Interface& i : part.interfaces)
        if (!used.count(i.name) && !part.loadCases.empty())
            notes.warn(Place::interfaces, "Nothing acts on interface '" + i.name + "'.",
                       "Fine when it only keeps material; else add its load or support.");
    std::stable_sort(notes.list.begin(), notes.list.end(),
                     [](const auto& a, const auto& b) { return a.severity < b.severity; });
    return notes.list;
}

}  // namespace escultura::stages
