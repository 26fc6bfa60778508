#include "report/surface_scene.hpp"

#include <algorithm>
#include <cmath>
#include <map>

#include "base/quantity.hpp"
#include "render/levels.hpp"
#include "report/owner_vertices.hpp"

namespace escultura::report {

using namespace escultura::duty;
using namespace escultura::stages;
using render::Colour;
using render::ColouredMesh;

namespace {

constexpr Colour plaster{0xEA, 0xE3, 0xD5}, tint{0x8F, 0xBD, 0xB5}, teal{0x1F, 0x6F, 0x6B}, clay{0xB4, 0x53, 0x2A},
    limitInk{0x3A, 0x36, 0x30}, levelInk{0x7A, 0x3A, 0x20};
constexpr double degree = M_PI / 180;

/// How much of the interfaces' tint a point of a machined surface gets: 1 on a named face, fading to 0 across the rim
/// of a face that goes on beyond it (the triangles do not follow that circle).
double tintShare(const std::vector<NamedFace>& faces, int owner, const Vec3& p) {
    constexpr double fade = 1.6;  // mm
    double share = 0;
    for (const NamedFace& f : faces) {
        if (!f.lines.empty())
            share = std::max(share, std::clamp(0.5 + (f.radius - shape::distanceTo(f.lines, p)) / fade, 0.0, 1.0));
        if (f.surface != owner) continue;
        const Vec3 d = p - f.origin;
        const double along = d.dot(f.axis);
        if (along < f.low || along > f.high) continue;
        if (f.face == "bore" || f.face == duty::keptFaceName) return 1;
        if (!f.outline.empty()) {
            if (f.holds(p)) return 1;  // its border is an edge, or else the triangles' own
            continue;
        }
        share = std::max(share, std::clamp(0.5 + (f.radius - (d - along * f.axis).norm()) / fade, 0.0, 1.0));
    }
    return share;
}

Colour mixed(const Colour& a, const Colour& b, double t) {
    auto mix = [t](std::uint8_t x, std::uint8_t y) { return static_cast<std::uint8_t>(std::lround(x + t * (y - x))); };
    return {mix(a.r, b.r), mix(a.g, b.g), mix(a.b, b.b)};
}

}  // namespace

render::ColouredMesh plasterMesh(const SurfaceResult& surface, const std::vector<Colour>* perVertex) {
    render::ColouredMesh m;
    const auto normals = surface::cornerNormals(surface.mesh);
    OwnerVertices numbers(surface.mesh.position.size());
    for (std::size_t t = 0; t < surface.mesh.triangle.size(); ++t) {
        const Triangle& v = surface.mesh.triangle[t];
        Triangle out;
        for (int k = 0; k < 3; ++k) {
            const auto [number, isNew] = numbers.number(v[k], surface.mesh.owner[t]);
            if (isNew) {
                const auto owner = surface.mesh.owner[t];
                const double share = owner ? tintShare(surface.faces, owner, surface.mesh.position[v[k]]) : 0;
                m.position.push_back(surface.mesh.position[v[k]]);
                m.normal.push_back(normals[3 * t + k]);
                m.colour.push_back(perVertex ? (*perVertex)[v[k]] : mixed(plaster, tint, share));
                m.source.push_back(v[k]);
            }
            out[k] = number;
        }
        m.triangle.push_back(out);
    }
    return m;
}

namespace {

/// The surface with a value at its vertices.
ColouredMesh valueMesh(const SurfaceResult& surface, const std::vector<float>& value) {
    ColouredMesh mesh = plasterMesh(surface, nullptr);
    for (const auto v : mesh.source) mesh.value.push_back(value[v]);
    return mesh;
}

double areaOf(const ColouredMesh& mesh, std::size_t t) {
    const Triangle& v = mesh.triangle[t];
    return 0.5 * (mesh.position[v[1]] - mesh.position[v[0]]).cross(mesh.position[v[2]] - mesh.position[v[0]]).norm();
}

/// Colours the scene's last mesh by its values and draws lines at limits; the legend shows shares of the area.
void colourByValue(const std::vector<double>& limits, render::Scene& scene) {
    ColouredMesh& mesh = scene.meshes.back();
    auto& legend = scene.legend;
    for (const double limit : limits) scene.lines.push_back({render::cutAtLevel(mesh, limit), limitInk, 1.4});
    legend.shown = true;
    legend.shareOf = "area";
    legend.share.assign(24, 0.0);
    mesh.colour.resize(mesh.value.size());
    for (std::size_t v = 0; v < mesh.value.size(); ++v) mesh.colour[v] = legend.scale.colour(mesh.value[v]);
    double whole = 0;
    for (std::size_t t = 0; t < mesh.triangle.size(); ++t) {
        const Triangle& v = mesh.triangle[t];
        const double mean = (mesh.value[v[0]] + mesh.value[v[1]] + mesh.value[v[2]]) / 3, area = areaOf(mesh, t);
        whole += area;
        legend.share[std::min(static_cast<std::size_t>(24 * legend.scale.position(mean)), std::size_t(23))] += area;
    }
    for (double& share : legend.share) share /= std::max(whole, 1e-300);
}

/// Area-weighted mean of a triangle value at the vertices.
std::vector<float> atVertices(const surface::TriMesh& mesh, const std::vector<float>& value) {
    std::vector<double> sum(mesh.position.size(), 0), weight(mesh.position.size(), 0);
    for (std::size_t t = 0; t < mesh.triangle.size(); ++t) {
        const Triangle& v = mesh.triangle[t];
        const double area =
            (mesh.position[v[1]] - mesh.position[v[0]]).cross(mesh.position[v[2]] - mesh.position[v[0]]).norm();
        for (auto w : v) sum[w] += area * value[t], weight[w] += area;
    }
    std::vector<float> out(sum.size());
    for (std::size_t v = 0; v < out.size(); ++v) out[v] = static_cast<float>(weight[v] > 0 ? sum[v] / weight[v] : 0);
    return out;
}

/// Cuts a mesh in two where a value crosses a level. @return below and above it
std::array<ColouredMesh, 2> cutInTwo(ColouredMesh mesh,
                                     const std::function<double(const ColouredMesh&, std::size_t)>& value, double level,
                                     std::vector<Vec3>* line = nullptr) {
    mesh.value.resize(mesh.position.size());
    for (std::size_t v = 0; v < mesh.value.size(); ++v) mesh.value[v] = value(mesh, v);
    const std::vector<Vec3> cut = render::cutAtLevel(mesh, level);
    if (line) line->insert(line->end(), cut.begin(), cut.end());
    const std::vector<bool> above = render::isAbove(mesh, level);
    std::vector<bool> below = above;
    below.flip();
    return {render::partOf(mesh, below), render::partOf(mesh, above)};
}

void addDirection(const Vec3& direction, render::Scene& scene) {
    scene.arrows.push_back({scene.bounds.centre() + 0.4 * scene.bounds.diagonal() * direction, direction,
                            0.12 * scene.bounds.diagonal(), teal});
}

}  // namespace

void addDeviation(const SurfaceResult& surface, const SceneOptions& o, render::Scene& scene) {
    scene.legend.title = "deviation";
    scene.legend.unit = "mm";
    scene.legend.scale.ramp = render::Ramp::deviation;
    const double reach = std::max(3 * surface.deviationRms, 1e-3);
    scene.legend.scale.low = o.low.value_or(-reach);
    scene.legend.scale.high = o.high.value_or(reach);
    scene.meshes.push_back(valueMesh(surface, surface.deviation));
    colourByValue({}, scene);
    scene.caption = "Deviation";
    scene.captionDetail = "from the raw iso-surface, positive outside it";
}

void addThickness(const Part& part, const SurfaceResult& surface, const SceneOptions& o, render::Scene& scene) {
    scene.legend.title = "wall thickness";
    scene.legend.unit = "mm";
    scene.legend.scale.ramp = render::Ramp::displacement;
    scene.legend.scale.low = o.low.value_or(0);
    scene.legend.scale.high = o.high.value_or(surface::areaQuantile(surface.mesh, surface.thickness.value, 0.95));
    for (const Requirement& r : part.requirements)
        if (r.kind == Requirement::Kind::minimumWall) {
            scene.legend.scale.ramp = render::Ramp::safetyFactor;
            scene.legend.scale.middle = r.limit;
        }
    scene.meshes.push_back(valueMesh(surface, surface.thickness.value));
    std::vector<double> limits;
    if (scene.legend.scale.ramp == render::Ramp::safetyFactor) limits.push_back(scene.legend.scale.middle);
    colourByValue(limits, scene);
    scene.caption = "Wall thickness";
    scene.captionDetail = "largest ball inside that holds the point";
    scene.labels.push_back({render::Label::Role::minimum, surface.thickness.leastAt, "thinnest",
                            formatNumber(surface.thickness.least, 3) + " mm"});
}

void addCurvature(const SurfaceResult& surface, const ProcessResult& process, const SceneOptions& o,
                  render::Scene& scene) {
    std::vector<float> size(process.curvature.size());
    std::transform(process.curvature.begin(), process.curvature.end(), size.begin(),
                   [](float c) { return std::abs(c); });
    const double reach = std::max(surface::areaQuantile(surface.mesh, size, 0.9), 1e-6);
    scene.legend.title = "mean curvature";
    scene.legend.unit = "1/mm";
    scene.legend.scale.ramp = render::Ramp::safetyFactor;
    scene.legend.scale.low = o.low.value_or(-reach);
    scene.legend.scale.high = o.high.value_or(reach);
    scene.legend.scale.middle = std::clamp(0.0, scene.legend.scale.low, scene.legend.scale.high);
    scene.meshes.push_back(valueMesh(surface, process.curvature));
    colourByValue({}, scene);
    scene.caption = "Curvature";
    scene.captionDetail = "positive where it bulges out; ripples show as stripes";
}

void addDraft(const Recipe& recipe, const SurfaceResult& surface, const ProcessResult& process, const SceneOptions& o,
              render::Scene& scene) {
    scene.legend.title = "draft angle";
    scene.legend.unit = "°";
    scene.legend.scale.ramp = render::Ramp::safetyFactor;
    scene.legend.scale.low = o.low.value_or(-30);
    scene.legend.scale.middle = recipe.draft.angle;
    scene.legend.scale.high = o.high.value_or(30);
    const Vec3 pull = recipe.draft.pull.normalized();
    const std::vector<float> undercut =
        atVertices(surface.mesh, std::vector<float>(process.draft.undercut.begin(), process.draft.undercut.end()));
    const double flat = 1e-4 * scene.bounds.diagonal();
    const auto cut = cutInTwo(
        plasterMesh(surface, nullptr), [&](const ColouredMesh& m, std::size_t v) { return undercut[m.source[v]]; },
        0.5);
    ColouredMesh all;
    for (const bool isUndercut : {false, true})
        for (ColouredMesh half : cutInTwo(
                 cut[isUndercut],
                 [&](const ColouredMesh&m, std::size_t v) {
                     // a face in the parting plane leaves to the side that it looks to
                     const double h = m.position[v].dot(pull) - recipe.draft.parting;
                     return std::abs(h) < flat && std::abs(m.normal[v].dot(pull)) > 0.99 ? m.normal[v].dot(pull) : h;
                 },
                 0)) {
            if (half.triangle.empty()) continue;
            double side = 0;
            for (const double h : half.value) side += h;
            for (std::size_t v = 0; v < half.value.size(); ++v) {
                const double angle = std::asin(std::clamp(half.normal[v].dot(pull), -1.0, 1.0)) / degree;
                half.value[v] = side < 0 ? -angle : angle;
                if (isUndercut) half.value[v] = std::min(half.value[v], -15.0);
            }
            render::append(half, all);
        }
    scene.meshes.push_back(std::move(all));
    colourByValue({recipe.draft.angle}, scene);
    scene.caption = "Draft";
    scene.captionDetail = "below the wanted angle (the line) and undercuts in clay";
    addDirection(pull, scene);
}

void addOverhangs(const Recipe& recipe, const SurfaceResult& surface, render::Scene& scene) {
    constexpr double step = 15;  // degrees between lines of equal angle
    const Vec3 up = recipe.printing.up.normalized();
    ColouredMesh plain = plasterMesh(surface, nullptr);
    double plate = 1e300;
    for (const Vec3& p : plain.position) plate = std::min(plate, p.dot(up));
    plate += 0.1;  // what lies on the plate needs no support
    auto [onPlate, free] = cutInTwo(
        std::move(plain), [&](const ColouredMesh& m, std::size_t v) { return m.position[v].dot(up); }, plate);
    auto toPlate = [&](const ColouredMesh& m, std::size_t v) {
        return std::acos(std::clamp(-m.normal[v].dot(up), -1.0, 1.0)) / degree;
    };
    std::vector<Vec3> limit, levels;
    auto [hanging, standing] = cutInTwo(std::move(free), toPlate, recipe.printing.overhang, &limit);
    for (double angle = step; angle < recipe.printing.overhang - 0.1 * step; angle += step) {
        const std::vector<Vec3> line = render::cutAtLevel(hanging, angle);
        levels.insert(levels.end(), line.begin(), line.end());
    }
    hanging.colour.assign(hanging.position.size(), clay);
    for (std::size_t v = 0; v < onPlate.value.size(); ++v) onPlate.value[v] = toPlate(onPlate, v);
    render::append(std::move(hanging), standing);
    render::append(std::move(onPlate), standing);
    scene.meshes.push_back(std::move(standing));
    scene.lines.push_back({std::move(limit), limitInk, 1.4});
    scene.lines.push_back({std::move(levels), levelInk, 0.8});
    scene.caption = "Overhangs";
    scene.captionDetail = "in clay: needs support; lines every 15° to the plate";
    addDirection(up, scene);
}

}  // namespace escultura::report
