/// Everything that is drawn of a check. Long because all of it shares boundary, colours and deformed places.

#include "report/check_scene.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <set>

#include "base/quantity.hpp"
#include "duty/load_kind.hpp"
#include "duty/names.hpp"
#include "stages/kept_faces.hpp"
#include "stages/part_shape.hpp"

namespace escultura::report {
namespace {

using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using render::Colour;

constexpr Colour teal{0x1F, 0x6F, 0x6B}, clay{0xB4, 0x53, 0x2A}, plaster{0xEA, 0xE3, 0xD5};

/// Nodes of the boundary as they are drawn: deformed or not.
class Places {
  public:
    Places(const CheckResult& check, int loadCase, double deformation)
        : check_(check),
          displacement_(deformation != 0 && loadCase >= 0 ? &check.cases[loadCase].displacement : nullptr),
          factor_(deformation) {}
    Places(const CheckResult& check, const std::vector<Vec3>& displacement, double factor)
        : check_(check), displacement_(&displacement), factor_(factor) {}
    Vec3 of(std::size_t n) const {
        return displacement_ ? Vec3(check_.mesh.position[n] + factor_ * (*displacement_)[n]) : check_.mesh.position[n];
    }

  private:
    const CheckResult& check_;
    const std::vector<Vec3>* displacement_;
    double factor_;
};

constexpr int faceParts[4][3] = {{0, 3, 5}, {3, 1, 4}, {5, 4, 2}, {3, 4, 5}};

/// Boundary of the mesh as linear triangles on the curved faces' six nodes.
render::ColouredMesh boundaryMesh(const CheckResult& check, const std::vector<double>& value,
                                  const render::ColourScale& scale, const Places& places) {
    render::ColouredMesh m;
    std::vector<std::int32_t> renumber(check.mesh.position.size(), -1);
    for (const auto& f : check.mesh.boundary)
        for (const auto& part : faceParts) {
            Triangle t;
            for (int k = 0; k < 3; ++k) {
                const auto n = f[part[k]];
                if (renumber[n] < 0) {
                    renumber[n] = static_cast<std::int32_t>(m.position.size());
                    m.position.push_back(places.of(n));
                    m.value.push_back(value[n]);
                    m.colour.push_back(scale.colour(value[n]));
                    m.source.push_back(n);
                }
                t[k] = renumber[n];
            }
            m.triangle.push_back(t);
        }
    return m;
}

/// The part of the volume where the value is on the wanted side of a limit: the boundary cut there, closed by the
/// iso-surface inside (marching tetrahedra on the corner nodes).
render::ColouredMesh isoVolume(const CheckResult& check, const std::vector<double>& value, double limit, bool below,
                               const render::ColourScale& scale, const Places& places) {
    render::ColouredMesh m;
    struct Corner {
        Vec3 p;
        double v;
    };
    auto in = [&](double v) { return below ? v <= limit : v >= limit; };
    auto at = [&](std::size_t n) { return Corner{places.of(n), value[n]}; };
    auto cut = [&](const Corner& a, const Corner& b) {
        const double t = std::clamp((limit - a.v) / (b.v - a.v), 0.0, 1.0);
        return Corner{a.p + t * (b.p - a.p), limit};
    };
    auto add = [&](const std::vector<Corner>& polygon) {
        for (std::size_t k = 2; k < polygon.size(); ++k) {
            const auto first = static_cast<std::int32_t>(m.position.size());
            for (const Corner* c : {&polygon[0], &polygon[k - 1], &polygon[k]}) {
                m.position.push_back(c->p);
                m.value.push_back(c->v);
                m.colour.push_back(scale.colour(c->v));
            }
            m.triangle.push_back({first, first + 1, first + 2});
        }
    };
    std::vector<Corner> polygon;
    for (const auto& f : check.mesh.boundary)
        for (const auto& part : faceParts) {
            const Corner c[3] = {at(f[part[0]]), at(f[part[1]]), at(f[part[2]])};
            polygon.clear();
            for (int k = 0; k < 3; ++k) {
                const Corner &a = c[k], &b = c[(k + 1) % 3];
                if (in(a.v)) polygon.push_back(a);
                if (in(a.v) != in(b.v)) polygon.push_back(cut(a, b));
            }
            add(polygon);
        }
    for (const auto& t : check.mesh.tet) {
        std::vector<Corner> inside, outside;
        for (int k = 0; k < 4; ++k) (in(value[t[k]]) ? inside : outside).push_back(at(t[k]));
        if (inside.empty() || outside.empty()) continue;
        polygon.clear();
        if (inside.size() == 1 || outside.size() == 1) {
            const bool one = inside.size() == 1;
            for (const Corner& c : one ? outside : inside) polygon.push_back(cut(one ? inside[0] : outside[0], c));
        } else {
            polygon = {cut(inside[0], outside[0]), cut(inside[0], outside[1]), cut(inside[1], outside[1]),
                       cut(inside[1], outside[0])};
        }
        // seen from the empty side
        const Vec3 normal = (polygon[1].p - polygon[0].p).cross(polygon[2].p - polygon[0].p);
        if (normal.dot(outside[0].p - inside[0].p) < 0) std::reverse(polygon.begin(), polygon.end());
        add(polygon);
    }
    return m;
}

std::vector<double> volumeShares(const CheckResult& check, const std::vector<double>& value,
                                 const render::ColourScale& scale, int bins) {
    std::vector<double> share(bins, 0);
    double total = 0;
    for (const auto& t : check.mesh.tet) {
        const auto& p = check.mesh.position;
        const double v = tetVolume(p[t[0]], p[t[1]], p[t[2]], p[t[3]]);
        total += v;
        for (int k = 0; k < 10; ++k)
            share[std::clamp(static_cast<int>(scale.position(value[t[k]]) * bins), 0, bins - 1)] += v / 10;
    }
    for (double& s : share) s /= total;
    return share;
}

/// A slim arrow as triangles, so that hundreds of them are one mesh.
void addNeedle(const Vec3& from, const Vec3& to, Colour colour, render::ColouredMesh& m) {
    const Vec3 d = to - from;
    const double length = d.norm();
    if (!(length > 0)) return;
    const Vec3 axis = d / length;
    const auto sides = perpendicular(axis);
    const double radius = 0.05 * length, head = 0.15 * length;
    constexpr int n = 6;
    const auto first = static_cast<std::int32_t>(m.position.size());
    auto ring = [&](double along, double r) {
        for (int k = 0; k < n; ++k) {
            const double a = 2 * M_PI * k / n;
            m.position.push_back(from + along * axis + r * (std::cos(a) * sides[0] + std::sin(a) * sides[1]));
            m.colour.push_back(colour);
        }
    };
    ring(0, radius);
    ring(0.68 * length, radius);
    ring(0.68 * length, head);
    ring(length, 0.1 * radius);
    for (int level = 0; level < 3; ++level)
        for (int k = 0; k < n; ++k) {
            const std::int32_t a = first + level * n + k, b = first + level * n + (k + 1) % n;
            m.triangle.push_back({a, b, b + n});
            m.triangle.push_back({a, b + n, a + n});
        }
}

/// Boundary nodes spread evenly: one in each box of a grid.
std::vector<std::int32_t> spreadNodes(const CheckResult& check, double spacing) {
    std::map<std::array<int, 3>, std::int32_t> chosen;
    for (const auto& f : check.mesh.boundary)
        for (int k = 0; k < 3; ++k) {
            const Vec3& p = check.mesh.position[f[k]];
            chosen.try_emplace(
                {static_cast<int>(std::floor(p[0] / spacing)), static_cast<int>(std::floor(p[1] / spacing)),
                 static_cast<int>(std::floor(p[2] / spacing))},
                f[k]);
        }
    std::vector<std::int32_t> nodes;
    for (const auto& [cell, n] : chosen) nodes.push_back(n);
    return nodes;
}

void addVectors(const CheckResult& check, const SceneOptions& o, const Places& places, render::Scene& scene) {
    if (o.vectors == SceneOptions::Vectors::none || o.loadCase < 0) return;
    const CaseResult& c = check.cases[o.loadCase];
    const double reach = 0.1 * scene.bounds.diagonal();
    render::ColouredMesh m;
    const auto nodes = spreadNodes(check, 0.055 * scene.bounds.diagonal());
    if (o.vectors == SceneOptions::Vectors::displacement) {
        for (auto n : nodes) {
            const Vec3 u = c.displacement[n] / std::max(c.maxDisplacement, 1e-30) * reach;
            if (u.norm() > 0.05 * reach) addNeedle(places.of(n), places.of(n) + u, teal, m);
        }
    } else {
        double largest = 1e-30;
        for (auto n : nodes) largest = std::max(largest, elastic::principal(c.stress[n]).cwiseAbs().maxCoeff());
        for (auto n : nodes) {
            const auto p = elastic::principal(c.stress[n]);
            const Mat3 d = elastic::principalDirections(c.stress[n]);
            for (int k = 0; k < 3; ++k) {
                const double length = 0.5 * reach * std::abs(p[k]) / largest;
                if (length < 0.06 * reach) continue;
                const Vec3 at = places.of(n), way = length * d.col(k);
                // pulled: arrows point outward; pressed: inward
                for (const double side : {-1.0, 1.0}) {
                    if (p[k] > 0)
                        addNeedle(at, at + side * way, teal, m);
                    else
                        addNeedle(at + side * way, at, clay, m);
                }
            }
        }
    }
    m.isWhole = false;
    scene.meshes.push_back(std::move(m));
}

/// Edges of the boundary's faces.
/// @param ball  only edges of faces within it; none: all
void addMeshLines(const CheckResult& check, const Places& places, render::Scene& scene,
                  const std::optional<std::pair<Vec3, double>>& ball = std::nullopt) {
    render::Lines lines;
    lines.colour = {0x8A, 0x80, 0x70};
    lines.width = 0.7;
    const double lift = 5e-4 * scene.bounds.diagonal();  // just above the faces, so that they are not hidden by them
    for (const auto& f : check.mesh.boundary)
        for (int k = 0; k < 3; ++k) {
            const auto a = f[k], b = f[(k + 1) % 3], middle = f[3 + k];
            if (ball ? (check.mesh.position[middle] - ball->first).norm() > ball->second
                     : a > b)  // the neighbour draws it
                continue;
            const Vec3 up =
                lift * (places.of(f[1]) - places.of(f[0])).cross(places.of(f[2]) - places.of(f[0])).normalized();
            const Vec3 m = places.of(middle) + up;
            lines.position.insert(lines.position.end(), {places.of(a) + up, m, m, places.of(b) + up});
        }
    scene.lines.push_back(std::move(lines));
}

void addElement(const CheckResult& check, std::int32_t e, Colour colour, render::Scene& scene) {
    static constexpr int faces[4][3] = {{0, 2, 1}, {0, 1, 3}, {1, 2, 3}, {0, 3, 2}};
    render::ColouredMesh m;
    for (const auto& f : faces) {
        const auto first = static_cast<std::int32_t>(m.position.size());
        for (int k : f) m.position.push_back(check.mesh.position[check.mesh.tet[e][k]]);
        m.triangle.push_back({first, first + 1, first + 2});
    }
    m.colour = {colour};
    m.isWhole = true;
    m.flat = true;
    scene.meshes.push_back(std::move(m));
}

void addRing(const Vec3& centre, const Vec3& axis, double radius, double turns, render::Scene& scene) {
    const auto [u, v] = perpendicular(axis);
    render::Lines ring;
    ring.colour = teal;
    ring.width = 2.4;
    for (int k = 0; k < static_cast<int>(64 * turns); ++k)
        for (int e = 0; e < 2; ++e) {
            const double a = 2 * M_PI * (k + e) / 64;
            ring.position.push_back(centre + radius * (std::cos(a) * u + std::sin(a) * v));
        }
    scene.lines.push_back(std::move(ring));
}

double outerRadius(const Interface& i) {
    return 0.5 * std::max(i.ringDiameter, i.boreDiameter);
}

/// The polygons of a face. @param by  moved, mm
void addOutline(const Interface& i, const Vec3& by, render::Scene& scene) {
    render::Lines lines;
    lines.colour = teal;
    lines.width = 2;
    lines.position = stages::bordersOf(i);
    for (const auto& loop : outlineOf(i))
        for (std::size_t k = 0; k < loop.size(); ++k) {
            lines.position.push_back(loop[k] + by);
            lines.position.push_back(loop[(k + 1) % loop.size()] + by);
        }
    scene.lines.push_back(std::move(lines));
}

void addMark(const LoadMark& m, render::Scene& scene) {
    using Shape = LoadMark::Shape;
    const double length = 0.14 * scene.bounds.diagonal();
    const Vec3 at = m.amidst ? scene.bounds.centre() : m.at;
    Vec3 said = at;
    if (m.shape == Shape::arrow) {
        const Vec3 tip = m.endsAt ? at : Vec3(at + length * m.along);
        scene.arrows.push_back({tip, m.along, length, teal});
        said = tip - 0.5 * length * m.along;
    } else if (m.shape == Shape::ring) {
        addRing(at, m.along, m.radius > 0 ? m.radius : 0.25 * scene.bounds.diagonal(), m.turns, scene);
    } else {
        render::Lines spoke;
        spoke.colour = teal;
        spoke.width = 1.2;
        spoke.position = {at, m.along};
        scene.lines.push_back(std::move(spoke));
    }
    if (!m.text.empty()) scene.labels.push_back({render::Label::Role::load, said, m.on, m.text});
}

void addLoad(const Part& part, const Load& l, double factor, render::Scene& scene) {
    for (const LoadMark& m : loadKind(l.kind).marks(l, part, factor)) addMark(m, scene);
}

}  // namespace

void addDuty(const Part& given, const std::vector<std::string>& names, render::Scene& scene) {
    const Part part = stages::withFacesIfReadable(given);
    for (const std::string& name : names) {
        std::vector<std::pair<std::string, double>> terms{{name, 1.0}};
        for (const Combination& c : part.combinations)
            if (c.name == name) terms = c.terms;
        for (const auto& [loadCase, factor] : terms)
            for (const LoadCase& c : part.loadCases)
                if (c.name == loadCase)
                    for (const Load& l : part.loadsOf(c)) addLoad(part, l, factor * c.factor, scene);
    }
    std::map<std::string, const Support*> said;  // one word a kind: rings show the rest
    std::set<std::string> sets;
    for (const std::string& name : names) sets.insert(part.supportSetOf(name));
    for (const Support& s : part.supports) {
        const bool acts =
            names.empty() || std::any_of(sets.begin(), sets.end(), [&](const auto& set) { return Part::acts(s, set); });
        if (!acts) continue;  // not in what is shown
        for (const std::string& name : s.on.interfaces) {
            const Interface& i = *part.findInterface(name);
            if (i.outline.empty() && i.kind != Interface::Kind::faces && !i.isOfLines())
                addRing(faceMiddle(i, s.on.face), i.axis, 1.08 * outerRadius(i), 1, scene);
            else
                addOutline(i, faceMiddle(i, s.on.face) - i.origin, scene);
            const std::string word = duty::words(s.kind);
            if (said.emplace(word, &s).second)
                scene.labels.push_back({render::Label::Role::support, faceMiddle(i, s.on.face),
                                        duty::togetherText(s.on.interfaces), word});
        }
    }
}

void addMeshQuality(const CheckResult& check, const SceneOptions& o, render::Scene& scene) {
    const Places places(check, -1, 0);
    std::vector<double> value(check.mesh.position.size(), 0);
    render::ColourScale scale;
    auto mesh = boundaryMesh(check, value, scale, places);
    mesh.colour = {plaster};
    mesh.value.clear();
    mesh.opacity = o.poorElement >= 0 ? 0.35 : 1;  // the one that is looked for may lie inside
    scene.meshes.push_back(std::move(mesh));
    if (o.poorElement < 0) addMeshLines(check, places, scene);
    const std::size_t shown = std::min<std::size_t>(12, check.quality.worst.size());
    for (std::size_t k = 0; k < shown; ++k)
        addElement(check, check.quality.worst[k].element,
                   static_cast<int>(k) == o.poorElement ? clay : Colour{0xC5, 0x8B, 0x1B}, scene);
    if (o.poorElement >= 0 && o.poorElement < static_cast<int>(check.quality.worst.size())) {
        const auto& w = check.quality.worst[o.poorElement];
        if (o.poorElement >= static_cast<int>(shown)) addElement(check, w.element, clay, scene);
        scene.labels.push_back({render::Label::Role::finding, w.middle,
                                formatNumber(w.dihedral, 3) + "°, aspect " + formatNumber(w.aspect, 3) + ", Jacobian " +
                                    formatNumber(w.jacobian, 2),
                                "element " + std::to_string(w.element + 1)});
    }
    scene.caption = "Mesh";
    scene.captionDetail =
        std::to_string(check.mesh.tet.size()) + " elements, the " + std::to_string(shown) + " worst in ochre";
}

namespace {

/// The triangles of a mesh whose middles lie within a ball, or the others.
render::ColouredMesh within(const render::ColouredMesh& m, const Vec3& place, double radius, bool inside) {
    render::ColouredMesh part = m;
    part.triangle.clear();
    for (const Triangle& t : m.triangle) {
        const Vec3 middle = (m.position[t[0]] + m.position[t[1]] + m.position[t[2]]) / 3;
        if (((middle - place).norm() <= radius) == inside) part.triangle.push_back(t);
    }
    return part;
}

/// Faces whose nodes are all marked, drawn a little above the surface.
render::ColouredMesh markedFaces(const CheckResult& check, const std::vector<char>& marked, const Places& places) {
    render::ColouredMesh m;
    m.colour = {Colour{0x1F, 0x6F, 0x6B}};
    m.opacity = 0.75;
    std::map<std::int32_t, std::int32_t> number;
    std::vector<Vec3> normal;
    Box3 box;
    for (const Vec3& p : check.mesh.position) box.include(p);
    for (const auto& f : check.mesh.boundary)
        for (const auto& part : faceParts) {
            if (!marked[f[part[0]]] || !marked[f[part[1]]] || !marked[f[part[2]]]) continue;
            Triangle t{};
            for (int k = 0; k < 3; ++k) {
                const auto n = f[part[k]];
                const auto [at, isNew] = number.try_emplace(n, static_cast<std::int32_t>(m.position.size()));
                if (isNew) {
                    m.position.push_back(places.of(static_cast<std::size_t>(n)));
                    normal.push_back(Vec3::Zero());
                }
                t[k] = at->second;
            }
            const Vec3 across = (m.position[t[1]] - m.position[t[0]]).cross(m.position[t[2]] - m.position[t[0]]);
            for (auto v : t) normal[v] += across;
            m.triangle.push_back(t);
        }
    for (std::size_t v = 0; v < m.position.size(); ++v)
        m.position[v] += 0.0015 * box.diagonal() * normal[v].stableNormalized();
    return m;
}

/// Title, unit and range of the colours. @param low, high  of the values, in the shown unit
void fillLegend(const Part& part, const CheckResult& check, const SceneOptions& o, Measure kind,
                const std::string& unit, bool isDifference, double low, double high, render::Legend& legend) {
    legend.shown = true;
    legend.title = title(o.quantity);
    legend.unit = unit == "um" ? "µm" : unit == "1e-6" ? "× 10⁻⁶" : unit;
    legend.scale.bands = o.bands;
    legend.dataLow = low;
    legend.dataHigh = high;
    legend.scale.ramp = kind == Measure::length ? render::Ramp::displacement : render::Ramp::stress;
    legend.scale.low = o.low.value_or(isSigned(o.quantity) ? low : 0);
    legend.scale.high = o.high.value_or(high);
    if (isDifference) {
        const double reach = std::max({std::abs(low), std::abs(high), 1e-12});
        legend.title = std::string("Δ ") + title(o.quantity);
        legend.scale.ramp = render::Ramp::deviation;
        legend.scale.low = o.low.value_or(-reach);
        legend.scale.high = o.high.value_or(reach);
    } else if (o.quantity == Quantity::safetyFactor) {
        legend.scale.ramp = render::Ramp::safetyFactor;
        double required = 1;
        for (const Requirement& r : part.requirements)
            if (r.kind == Requirement::Kind::safetyFactor) required = r.limit;
        legend.scale.low = o.low.value_or(0);
        legend.scale.middle = required;
        legend.scale.high = o.high.value_or(4 * required);
    } else if (isSigned(o.quantity)) {
        const double reach = std::max({std::abs(low), std::abs(high), 1e-12});
        legend.scale.ramp = render::Ramp::deviation;  // two-sided about zero
        legend.scale.low = o.low.value_or(-reach);
        legend.scale.high = o.high.value_or(reach);
    } else if (o.quantity == Quantity::governingCase) {
        legend.scale.low = 0.5;
        legend.scale.high = static_cast<double>(check.cases.size()) + 0.5;
        legend.scale.bands = static_cast<int>(check.cases.size());
    }
    if (!(legend.scale.high > legend.scale.low)) legend.scale.high = legend.scale.low + 1e-9;
}

/// The body in the colours of the values: whole, around the selected finding, or where they are worse than a limit.
void addBody(const CheckResult& check, const std::vector<double>& value, const SceneOptions& o, const Finding* selected,
             const Places& places, render::Scene& scene) {
    if (o.isolate && selected) {
        const auto whole = boundaryMesh(check, value, scene.legend.scale, places);
        const double radius = std::max(1.5 * selected->reach, 4.0);
        scene.meshes.push_back(within(whole, selected->position, radius, true));
        auto ghost = within(whole, selected->position, radius, false);
        ghost.colour = {Colour{0x8A, 0x9A, 0x98}};
        ghost.value.clear();
        ghost.opacity = 0.15;
        scene.meshes.push_back(std::move(ghost));
        addMeshLines(check, places, scene, std::pair(selected->position, radius));
    } else if (o.only) {
        scene.meshes.push_back(isoVolume(check, value, *o.only, worstIsLow(o.quantity), scene.legend.scale, places));
        auto ghost = boundaryMesh(check, value, scene.legend.scale, places);
        ghost.colour = {Colour{0x8A, 0x9A, 0x98}};
        ghost.value.clear();
        ghost.opacity = 0.15;
        scene.meshes.push_back(std::move(ghost));
    } else {
        scene.meshes.push_back(boundaryMesh(check, value, scene.legend.scale, places));
    }
}

/// The undeformed body, pale, whatever the section cuts.
render::ColouredMesh undeformedGhost(const CheckResult& check, const std::vector<double>& value,
                                     const render::ColourScale& scale) {
    auto ghost = boundaryMesh(check, value, scale, Places(check, -1, 0));
    ghost.colour = {Colour{0x8A, 0x9A, 0x98}};
    ghost.value.clear();
    ghost.opacity = 0.16;
    ghost.isWhole = true;
    return ghost;
}

/// What the picture shows, in words.
void fillCaption(const CheckResult& check, const SceneInputs& inputs, const SceneOptions& o, bool isDifference,
                 bool hasZone, const Finding* selected, render::Scene& scene) {
    scene.caption = title(o.quantity);
    scene.captionDetail = o.loadCase < 0 ? "worst of all cases" : check.cases[o.loadCase].name;
    if (isDifference) {
        scene.captionDetail += " · this variant minus " + inputs.baselineName;
    } else if (o.quantity == Quantity::governingCase) {
        scene.captionDetail.clear();
        for (std::size_t c = 0; c < check.cases.size(); ++c)
            scene.captionDetail += (c ? " · " : "") + std::to_string(c + 1) + " " + check.cases[c].name;
    } else {
        if (usesFrame(o.quantity) && !o.frame.empty()) scene.captionDetail += " · frame " + o.frame;
        if (o.only)
            scene.captionDetail += std::string(" · only ") + (worstIsLow(o.quantity) ? "below " : "above ") +
                                   formatNumber(*o.only, 3) +
                                   (scene.legend.unit.empty() ? "" : " " + scene.legend.unit);
        scene.captionDetail += o.deformation > 0 && o.loadCase >= 0
                                   ? " · shape deformed × " + (o.deformation == std::round(o.deformation)
                                                                   ? std::to_string(static_cast<int>(o.deformation))
                                                                   : formatNumber(o.deformation, 3))
                                   : " · true shape";
        if (hasZone) scene.captionDetail += " · green: left out when " + selected->id + " is accepted";
    }
}

}  // namespace

void addResults(const Part& part, const CheckResult& check, const SceneInputs& inputs, const SceneOptions& o,
                render::Scene& scene) {
    const FindingsResult* findings = inputs.findings;
    const Mat3 axes = part.axesOf(o.frame);
    const Measure kind = measure(o.quantity);
    const std::string unit = o.unit.empty() ? unitsOf(kind).front() : o.unit;
    std::vector<double> value = quantityField(part, check, o.quantity, o.loadCase, axes);
    const bool isDifference = inputs.baseline && inputs.baseline->size() == value.size();
    if (isDifference)
        for (std::size_t n = 0; n < value.size(); ++n) {
            // far from the other surface there is nothing to compare with
            const double other = (*inputs.baseline)[n];
            value[n] = std::isfinite(other) && std::isfinite(value[n]) ? value[n] - other : 0;
        }
    for (double& v : value) v = inUnit(v, kind, unit);
    std::vector<char> onBoundary(value.size(), 0);
    for (const auto& f : check.mesh.boundary)
        for (auto n : f) onBoundary[n] = 1;
    std::size_t lowest = 0, highest = 0;
    bool any = false;
    double low = std::numeric_limits<double>::infinity(), high = -low;
    for (std::size_t n = 0; n < value.size(); ++n) {
        low = std::min(low, value[n]);
        high = std::max(high, value[n]);
        if (!onBoundary[n]) continue;
        if (!any || value[n] < value[lowest]) lowest = n;
        if (!any || value[n] > value[highest]) highest = n;
        any = true;
    }
    auto& legend = scene.legend;
    fillLegend(part, check, o, kind, unit, isDifference, low, high, legend);
    legend.share = volumeShares(check, value, legend.scale, 24);
    const Places places(check, o.loadCase, o.deformation * o.phase);
    const Finding* selected = nullptr;
    if (findings)
        for (const Finding& f : findings->findings)
            if (f.id == o.selectedFinding) selected = &f;
    addBody(check, value, o, selected, places, scene);
    if (o.undeformed && o.deformation != 0 && o.loadCase >= 0) {
        scene.meshes.push_back(undeformedGhost(check, value, legend.scale));
    }
    bool hasZone = false;
    if (selected && inputs.zone && inputs.zone->size() == check.mesh.position.size()) {
        auto zone = markedFaces(check, *inputs.zone, places);
        hasZone = !zone.triangle.empty();
        if (hasZone) scene.meshes.push_back(std::move(zone));
    }
    if (o.meshLines && !(o.isolate && selected)) addMeshLines(check, places, scene);
    addVectors(check, o, places, scene);
    auto flag = [&](std::size_t n, bool isLow) {
        scene.labels.push_back({isLow ? render::Label::Role::minimum : render::Label::Role::maximum, places.of(n),
                                isLow ? "lowest" : "highest",
                                formatNumber(value[n], 3) + (legend.unit.empty() ? "" : " " + legend.unit)});
    };
    if (o.quantity != Quantity::governingCase) {
        if (!worstIsLow(o.quantity) || isSigned(o.quantity)) flag(highest, false);
        if (worstIsLow(o.quantity) || isSigned(o.quantity) || o.bothFlags) flag(lowest, true);
        if (worstIsLow(o.quantity) && !isSigned(o.quantity) && o.bothFlags) flag(highest, false);
    }
    if (selected)
        scene.labels.push_back({render::Label::Role::finding, selected->position,
                                selected->kind == Finding::Kind::hotspot
                                    ? formatNumber(selected->peak, 3) + " MPa, " + classOf(*selected)
                                    : classOf(*selected),
                                selected->id});
    fillCaption(check, inputs, o, isDifference, hasZone, selected, scene);
}

void addShape(const CheckResult& check, const AnalysisResult& analysis, const SceneOptions& o, render::Scene& scene) {
    if (o.shapeIndex < 0 || o.shapeIndex >= static_cast<int>(analysis.shapes.size())) return;
    const AnalysisShape& shape = analysis.shapes[static_cast<std::size_t>(o.shapeIndex)];
    if (shape.displacement.size() != check.mesh.position.size()) return;
    std::vector<double> value(shape.displacement.size());
    for (std::size_t n = 0; n < value.size(); ++n) value[n] = 100 * shape.displacement[n].norm();
    Box3 box;
    for (const Vec3& p : check.mesh.position) box.include(p);
    auto& legend = scene.legend;
    legend.shown = true;
    legend.title = "movement";
    legend.unit = "%";
    legend.scale.ramp = render::Ramp::displacement;
    legend.scale.low = legend.dataLow = 0;
    legend.scale.high = legend.dataHigh = 100;
    legend.scale.bands = o.bands;
    const Places places(check, shape.displacement, 0.1 * box.diagonal() * o.phase);
    scene.meshes.push_back(boundaryMesh(check, value, legend.scale, places));
    scene.meshes.push_back(undeformedGhost(check, value, legend.scale));
    if (o.meshLines) addMeshLines(check, places, scene);
    scene.caption = shape.title;
    scene.captionDetail = shape.detail + " · movement in % of the largest, whose size is free";
}

}  // namespace escultura::report
