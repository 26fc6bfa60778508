/// What the view shows of a project. Long because there are many things to show: one function for each.

#include "report/part_scene.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "report/cage_scene.hpp"
#include "report/check_scene.hpp"
#include "report/surface_scene.hpp"
#include "stages/kept_faces.hpp"
#include "stages/part_shape.hpp"

namespace escultura::report {
namespace {

using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using render::Colour;

constexpr Colour plaster{0xEA, 0xE3, 0xD5}, tint{0x8F, 0xBD, 0xB5}, ochre{0xD9, 0x9E, 0x2F}, teal{0x1F, 0x6F, 0x6B},
    edgeInk{0x6B, 0x63, 0x55}, boxInk{0xC9, 0xBE, 0xAA};

void addBox(const Box3& b, render::Scene& scene) {
    render::Lines lines;
    lines.colour = boxInk;
    for (int a = 0; a < 3; ++a)
        for (int m = 0; m < 4; ++m) {
            Vec3 p = b.low, q;
            p[(a + 1) % 3] = (m & 1 ? b.high : b.low)[(a + 1) % 3];
            p[(a + 2) % 3] = (m & 2 ? b.high : b.low)[(a + 2) % 3];
            q = p;
            q[a] = b.high[a];
            lines.position.push_back(p);
            lines.position.push_back(q);
        }
    scene.lines.push_back(std::move(lines));
}

/// Edges whose two triangles are told apart by `isEdge(first, second, cosine between their normals)`.
template <class IsEdge>
void addEdges(const surface::TriMesh& mesh, render::Lines lines, const IsEdge& isEdge, render::Scene& scene) {
    // the edges of each vertex to vertices with a higher number, in one array
    std::vector<std::int32_t> begin(mesh.position.size() + 1, 0);
    for (const Triangle& v : mesh.triangle)
        for (int k = 0; k < 3; ++k) ++begin[static_cast<std::size_t>(std::min(v[k], v[(k + 1) % 3])) + 1];
    for (std::size_t v = 1; v < begin.size(); ++v) begin[v] += begin[v - 1];
    struct Edge {
        std::int32_t other, triangle;
    };
    std::vector<Edge> edges(static_cast<std::size_t>(begin.back()));
    std::vector<std::int32_t> end(begin.begin(), begin.end() - 1);
    auto normal = [&](std::size_t t) {
        const Triangle& v = mesh.triangle[t];
        return Vec3(
            (mesh.position[v[1]] - mesh.position[v[0]]).cross(mesh.position[v[2]] - mesh.position[v[0]]).normalized());
    };
    for (std::size_t t = 0; t < mesh.triangle.size(); ++t)
        for (int k = 0; k < 3; ++k) {
            const auto a = mesh.triangle[t][k], b = mesh.triangle[t][(k + 1) % 3];
            const auto low = static_cast<std::size_t>(std::min(a, b));
            const std::int32_t high = std::max(a, b);
            const auto first = edges.begin() + begin[low], last = edges.begin() + end[low];
            const auto at = std::find_if(first, last, [&](const Edge& e) { return e.other == high; });
            if (at == last) {
                *last = {high, static_cast<std::int32_t>(t)};
                ++end[low];
                continue;
            }
            const auto before = static_cast<std::size_t>(at->triangle);
            if (!isEdge(before, t, normal(before).dot(normal(t)))) continue;
            lines.position.push_back(mesh.position[a]);
            lines.position.push_back(mesh.position[b]);
        }
    scene.lines.push_back(std::move(lines));
}

/// Edges at which the owner changes and the faces meet at an angle.
void addMachinedEdges(const surface::TriMesh& mesh, render::Scene& scene) {
    addEdges(
        mesh, {{}, edgeInk, 1.3},
        [&](std::size_t s, std::size_t t, double cosine) { return mesh.owner[s] != mesh.owner[t] && cosine <= 0.87; },
        scene);
}

/// Which of the pieces at the threshold the recipe keeps; empty when nothing is kept.
std::vector<char> keptPieces(const FieldResult& field, const Recipe& recipe, field::Pieces& pieces) {
    try {
        pieces = piecesAt(field, recipe.threshold);
    } catch (const std::exception&) {
        return {};
    }
    std::vector<std::size_t> cells(pieces.pieces(), 0);
    for (std::size_t c = 0; c < field.field.count(); ++c)
        if (pieces.label[c] >= 0 && field.field.density[c] >= recipe.threshold) ++cells[pieces.label[c]];
    const auto largest = std::max_element(cells.begin(), cells.end()) - cells.begin();
    std::vector<char> kept(cells.size());
    for (std::size_t p = 0; p < kept.size(); ++p)
        kept[p] = static_cast<std::ptrdiff_t>(p) == largest ||
                  (!recipe.largestPieceOnly &&
                   static_cast<double>(cells[p]) * field.field.cellVolume() >= recipe.smallestIsland);
    return kept;
}

/// Cells as a shell of squares. @param colourOf  of a cell; nothing: not shown
template <class ColourOf>
render::ColouredMesh cellShell(const field::DensityField& f, const ColourOf& colourOf) {
    render::ColouredMesh m;
    m.flat = true;
    auto shown = [&](int i, int j, int k) {
        if (i < 0 || j < 0 || k < 0 || i >= f.cells[0] || j >= f.cells[1] || k >= f.cells[2]) return false;
        return colourOf(f.index(i, j, k)).has_value();
    };
    for (int k = 0; k < f.cells[2]; ++k)
        for (int j = 0; j < f.cells[1]; ++j)
            for (int i = 0; i < f.cells[0]; ++i) {
                if (!shown(i, j, k)) continue;
                const Colour colour = *colourOf(f.index(i, j, k));
                const Vec3 low = f.origin + f.spacing.cwiseProduct(Vec3(i, j, k));
                for (int a = 0; a < 3; ++a)
                    for (int side = 0; side < 2; ++side) {
                        std::array<int, 3> n{i, j, k};
                        n[a] += side ? 1 : -1;
                        if (shown(n[0], n[1], n[2])) continue;
                        const int u = (a + 1) % 3, v = (a + 2) % 3;
                        const auto first = static_cast<std::int32_t>(m.position.size());
                        for (int corner = 0; corner < 4; ++corner) {
                            Vec3 p = low;
                            if (side) p[a] += f.spacing[a];
                            if (corner == 1 || corner == 2) p[u] += f.spacing[u];
                            if (corner >= 2) p[v] += f.spacing[v];
                            m.position.push_back(p);
                            m.normal.push_back((side ? 1.0 : -1.0) * Vec3::Unit(a));
                            m.colour.push_back(colour);
                        }
                        if (side) {
                            m.triangle.push_back({first, first + 1, first + 2});
                            m.triangle.push_back({first, first + 2, first + 3});
                        } else {
                            m.triangle.push_back({first, first + 2, first + 1});
                            m.triangle.push_back({first, first + 3, first + 2});
                        }
                    }
            }
    return m;
}

/// The raw cells that the threshold keeps; pieces that would fall off in ochre.
render::ColouredMesh cellMesh(const FieldResult& field, const Recipe& recipe) {
    field::Pieces pieces;
    const auto kept = keptPieces(field, recipe, pieces);
    if (kept.empty()) return {};
    std::vector<char> isInterface(field.field.count(), 0);
    for (const auto& k : field.kept)
        for (auto c : k.cells) isInterface[c] = 1;
    return cellShell(field.field, [&](std::size_t c) -> std::optional<Colour> {
        if (pieces.label[c] < 0 || field.field.density[c] < recipe.threshold) return std::nullopt;
        return !kept[pieces.label[c]] ? ochre : isInterface[c] ? tint : plaster;
    });
}

/// The raw iso-surface at the threshold; pieces that would fall off in ochre.
render::ColouredMesh isoMesh(const FieldResult& field, const Recipe& recipe) {
    const auto& f = field.field;
    const surface::TriMesh iso = rawSurface(f, recipe.threshold);
    field::Pieces pieces;
    const auto kept = keptPieces(field, recipe, pieces);
    render::ColouredMesh m;
    m.position = iso.position;
    m.normal = surface::vertexNormals(iso);
    m.triangle = iso.triangle;
    for (const Vec3& p : iso.position) {
        Colour colour = plaster;
        const Vec3 x = (p - f.origin).cwiseQuotient(f.spacing) - Vec3::Constant(0.5);
        for (int n = 0; n < 8 && !kept.empty(); ++n) {
            std::array<int, 3> c;
            bool in = true;
            for (int a = 0; a < 3; ++a) {
                c[a] = static_cast<int>(std::floor(x[a])) + (n >> a & 1);
                in &= c[a] >= 0 && c[a] < f.cells[a];
            }
            if (!in) continue;
            const auto cell = f.index(c[0], c[1], c[2]);
            if (f.density[cell] < recipe.threshold || pieces.label[cell] < 0) continue;
            colour = kept[pieces.label[cell]] ? plaster : ochre;
            break;
        }
        m.colour.push_back(colour);
    }
    return m;
}

/// A body drawn beside the part: see-through, or its sharp edges only.
void addBeside(const surface::TriMesh& mesh, SceneOptions::Beside how, render::Scene& scene) {
    if (how == SceneOptions::Beside::ghost) {
        render::ColouredMesh m;
        m.position = mesh.position;
        m.triangle = mesh.triangle;
        m.colour = {Colour{0x8A, 0x9A, 0x98}};
        m.opacity = 0.18;
        m.isWhole = true;
        scene.meshes.push_back(std::move(m));
    }
    if (how == SceneOptions::Beside::nothing) return;
    addEdges(
        mesh, {{}, {0x7C, 0x8A, 0x88}, 1}, [](std::size_t, std::size_t, double cosine) { return cosine <= 0.8; },
        scene);
}

}  // namespace

double automaticDeformation(const CheckResult& check, int loadCase) {
    if (loadCase < 0 || loadCase >= static_cast<int>(check.cases.size()) ||
        !(check.cases[loadCase].maxDisplacement > 0))
        return 0;
    Box3 box;
    for (const Vec3& p : check.mesh.position) box.include(p);
    const double wanted = 0.05 * box.diagonal() / check.cases[loadCase].maxDisplacement;
    const double power = std::pow(10, std::floor(std::log10(wanted)));
    const double lead = wanted / power;
    return power * (lead < 2 ? 1 : lead < 5 ? 2 : 5);
}

namespace {

/// Axis, end circles and handles of an interface that is edited.
/// @param part  that the interface is of
void addHandle(const Part& part, const Interface& i, render::Scene& scene) {
    render::Lines lines;
    lines.colour = {0xB4, 0x53, 0x2A};
    lines.width = 2.2;
    const auto [u, v] = perpendicular(i.axis);
    const bool faces = i.kind == Interface::Kind::faces || i.isOfLines();
    const Vec3 end = faces ? i.origin : Vec3(i.origin + i.length * i.axis);
    if (faces) {
        const Part known = stages::withFacesIfReadable(part);
        lines.position = stages::bordersOf(*known.findInterface(i.name));
    }
    for (const auto& loop : outlineOf(i))
        for (const double along : {0.0, i.length})
            for (std::size_t k = 0; k < loop.size(); ++k) {
                lines.position.push_back(loop[k] + along * i.axis);
                lines.position.push_back(loop[(k + 1) % loop.size()] + along * i.axis);
            }
    for (const Vec3& centre : {i.origin, end})
        for (const double diameter : {i.boreDiameter, i.ringDiameter}) {
            if (diameter <= 0 || !i.outline.empty() || faces) continue;
            for (int k = 0; k < 64; ++k)
                for (int e = 0; e < 2; ++e) {
                    const double a = 2 * M_PI * (k + e) / 64;
                    lines.position.push_back(centre + 0.5 * diameter * (std::cos(a) * u + std::sin(a) * v));
                }
        }
    lines.position.push_back(i.origin - 0.3 * i.length * i.axis);
    lines.position.push_back(end + 0.3 * i.length * i.axis);
    scene.lines.push_back(std::move(lines));
    if (!faces) scene.labels.push_back({render::Label::Role::handle, i.origin, "drag to move", i.name});
}

}  // namespace

field::Comparison compareFields(const Project& project, const Recipe& first, const Recipe& second) {
    const auto a = project.field(first), b = project.field(second);
    if (!a || !b) throw InputError("A field of the comparison is not loaded yet.");
    return field::compare(a->field, first.threshold, b->field, second.threshold);
}

namespace {

void addComparison(const Project& project, const Recipe& recipe, int compareWith, render::Scene& scene) {
    const field::Comparison c = compareFields(project, recipe, project.variants[compareWith].recipe);
    scene.meshes.push_back(cellShell(c.grid, [&](std::size_t cell) -> std::optional<Colour> {
        if (c.where[cell] == 0) return std::nullopt;
        return c.where[cell] == 3 ? plaster : c.where[cell] == 1 ? teal : Colour{0xB4, 0x53, 0x2A};
    }));
    scene.caption = "Comparison of fields";
    scene.captionDetail = "pale: both · teal: only this variant · clay: only " + project.variants[compareWith].name;
}

void addOriginal(const Part& part, const surface::TriMesh& original, render::Scene& scene) {
    render::ColouredMesh m;
    m.position = original.position;
    m.triangle = original.triangle;
    m.colour.assign(m.position.size(), plaster);
    scene.meshes.push_back(std::move(m));
    for (const Vec3& p : original.position) scene.bounds.include(p);
    addBeside(original, SceneOptions::Beside::outline, scene);
    scene.caption = "Original";
    scene.captionDetail = part.original ? "body from file" : "design space with its interfaces";
}

/// What stays clear of the part: neighbours and volumes, with their names.
void addKeptClear(const Part& part, render::Scene& scene) {
    const Colour colour{0xB0, 0x7A, 0x62};
    auto add = [&](const surface::TriMesh& mesh, const std::string& name, double opacity) {
        render::ColouredMesh m;
        m.position = mesh.position;
        m.triangle = mesh.triangle;
        m.colour = {colour};
        m.opacity = opacity;
        m.isWhole = true;
        scene.meshes.push_back(std::move(m));
        Box3 box;
        for (const Vec3& p : mesh.position) box.include(p);
        addEdges(
            mesh, {{}, colour, 1}, [](std::size_t, std::size_t, double cosine) { return cosine <= 0.8; }, scene);
        scene.labels.push_back({render::Label::Role::support, 0.5 * (box.low + box.high), name, "kept clear"});
    };
    for (const KeepOut& k : part.keepOuts) {
        if (k.kind == KeepOut::Kind::body) {
            BodySource own = k.body;
            own.offset = 0;  // the body itself; the clearance is around it
            try {
                add(bodyOf(own)->mesh(), k.name, 0.25);
            } catch (const InputError&) {
                // who makes the field or the surface of it tells why
            }
            continue;
        }
        surface::TriMesh m;
        if (k.kind == KeepOut::Kind::box) {
            for (int c = 0; c < 8; ++c)
                m.position.emplace_back((c & 1 ? k.high : k.low)[0], (c & 2 ? k.high : k.low)[1],
                                        (c & 4 ? k.high : k.low)[2]);
            m.triangle = {{0, 4, 2}, {2, 4, 6}, {1, 3, 5}, {3, 7, 5}, {0, 1, 4}, {1, 5, 4},
                          {2, 6, 3}, {3, 6, 7}, {0, 2, 1}, {1, 2, 3}, {4, 5, 6}, {5, 7, 6}};
        } else {
            constexpr std::int32_t sides = 48;
            const auto [u, v] = perpendicular(k.axis);
            for (std::int32_t s = 0; s < sides; ++s) {
                const double a = 2 * M_PI * s / sides;
                const Vec3 rim = k.origin + 0.5 * k.diameter * (std::cos(a) * u + std::sin(a) * v);
                m.position.push_back(rim);
                m.position.push_back(rim + k.length * k.axis);
            }
            for (std::int32_t s = 0; s < sides; ++s) {
                const std::int32_t a = 2 * s, b = 2 * ((s + 1) % sides);
                m.triangle.push_back({a, b, a + 1});
                m.triangle.push_back({b, b + 1, a + 1});
                if (s > 0 && s + 1 < sides) {
                    m.triangle.push_back({0, b, a});
                    m.triangle.push_back({1, a + 1, b + 1});
                }
            }
        }
        add(m, k.name, 0.06);  // often larger than what it cuts: the part stays in front
    }
}

/// What is drawn beside what is shown: other bodies, a handle, a mark.
void addBesides(const Part& part, const Recipe& recipe, const FieldResult* field, const SceneOptions& o,
                const SceneInputs& inputs, render::Scene& scene) {
    if (inputs.beside) addBeside(*inputs.beside, SceneOptions::Beside::ghost, scene);
    if (inputs.original && o.show != Show::original) addBeside(*inputs.original, o.original, scene);
    if (o.fieldGhost && field && o.show != Show::field) {
        auto m = isoMesh(inputs.drawn ? *inputs.drawn : *field, recipe);
        m.colour = {Colour{0xC5, 0x8B, 0x1B}};
        m.opacity = 0.25;
        m.isWhole = true;
        scene.meshes.push_back(std::move(m));
    }
    if (const Interface* i = part.findInterface(o.handle)) addHandle(part, *i, scene);
    if (o.mark) scene.labels.push_back({render::Label::Role::finding, o.mark->first, o.mark->second, ""});
}

/// What is shown of field, surface or original.
void addBody(const Project& project, const Recipe& recipe, const FieldResult* field, const SceneOptions& o,
             const SceneInputs& inputs, render::Scene& scene) {
    const Part& part = project.partOf(recipe);
    const SurfaceResult* surface = inputs.surface;
    if (o.show == Show::deviation && surface && surface->deviation.size() == surface->mesh.position.size()) {
        addDeviation(*surface, o, scene);
    } else if (o.show == Show::thickness && surface && !surface->thickness.value.empty()) {
        addThickness(part, *surface, o, scene);
    } else if (o.show == Show::curvature && surface && inputs.process &&
               inputs.process->curvature.size() == surface->mesh.position.size()) {
        addCurvature(*surface, *inputs.process, o, scene);
    } else if (o.show == Show::draft && surface && inputs.process &&
               inputs.process->draft.angle.size() == surface->mesh.triangle.size()) {
        addDraft(recipe, *surface, *inputs.process, o, scene);
    } else if (o.show == Show::overhang && surface && inputs.process &&
               inputs.process->overhang.overhanging.size() == surface->mesh.triangle.size()) {
        addOverhangs(recipe, *surface, scene);
    } else if (o.show == Show::comparison && o.compareWith >= 0 &&
               o.compareWith < static_cast<int>(project.variants.size()) && field &&
               project.field(project.variants[o.compareWith].recipe)) {
        addComparison(project, recipe, o.compareWith, scene);
    } else if (o.show == Show::original && inputs.original) {
        addOriginal(part, *inputs.original, scene);
    } else if ((o.show == Show::field || !surface) && field) {
        const FieldResult& drawn = inputs.drawn ? *inputs.drawn : *field;
        scene.meshes.push_back(o.fieldAsSurface ? isoMesh(drawn, recipe) : cellMesh(drawn, recipe));
        scene.caption = "Density field";
        scene.captionDetail =
            (o.fieldAsSurface ? "raw iso-surface at " : "cells at or above ") + formatNumber(recipe.threshold, 3);
        if (inputs.drawn)
            scene.captionDetail += " · drawn in cells of " + formatNumber(drawn.field.spacing.minCoeff(), 3) + " mm";
    } else if (surface) {
        scene.meshes.push_back(plasterMesh(*surface, nullptr));
        addMachinedEdges(surface->mesh, scene);
        scene.caption = "Surface";
        scene.captionDetail = "interfaces tinted";
    }
}

}  // namespace

std::shared_ptr<const render::Scene> makeScene(const Project& project, const Recipe& recipe, const SceneOptions& asked,
                                               const SceneInputs& inputs) {
    SceneOptions o = asked;
    const Part& part = project.partOf(recipe);
    const CheckResult* check = inputs.check;
    // results of an earlier part file may have fewer cases
    if (check && o.loadCase >= static_cast<int>(check->cases.size())) o.loadCase = -1;
    auto scene = std::make_shared<render::Scene>();
    const auto field = project.field(recipe);
    scene->bounds = field ? field->regions.designSpace : part.designSpace;
    scene->section = o.section;
    auto finish = [&] { addBesides(part, recipe, field.get(), o, inputs, *scene); };
    if (o.show == Show::check && check) {
        addResults(part, *check, inputs, o, *scene);
        if (o.loads)
            addDuty(
                part,
                o.loadCase >= 0 ? std::vector<std::string>{check->cases[o.loadCase].name} : std::vector<std::string>{},
                *scene);
        finish();
        return scene;
    }
    if (o.show == Show::analysis && check && inputs.analysis) {
        addShape(*check, *inputs.analysis, o, *scene);
        finish();
        return scene;
    }
    if (o.show == Show::mesh && check) {
        addMeshQuality(*check, o, *scene);
        finish();
        return scene;
    }
    if (((o.show == Show::cage || o.show == Show::cageDeviation) && inputs.cage) ||
        (o.show == Show::solid && inputs.rebuild)) {
        auto made = std::make_shared<render::Scene>(o.show == Show::solid
                                                        ? *solidScene(*inputs.rebuild, o.selectedFeature)
                                                        : *cageScene(*inputs.cage, o.show == Show::cageDeviation));
        made->section = o.section;
        made->legend.scale.bands = o.bands;
        scene = std::move(made);
        finish();
        return scene;
    }
    auto& legend = scene->legend;
    legend.scale.bands = o.bands;
    addBody(project, recipe, field.get(), o, inputs, *scene);
    if (legend.shown) {
        finish();
        return scene;
    }
    if (o.outline) addBox(scene->bounds, *scene);
    if (o.show == Show::duty || o.show == Show::original) addKeptClear(part, *scene);
    if (o.show == Show::duty && o.loads) {
        std::vector<std::string> names;
        for (std::size_t c = 0; c < part.loadCases.size(); ++c)
            if (o.loadCase < 0 || o.loadCase == static_cast<int>(c)) names.push_back(part.loadCases[c].name);
        addDuty(part, names, *scene);
        scene->caption = "Duty";
        scene->captionDetail = names.size() == 1 ? names.front() : "all load cases";
    }
    finish();
    return scene;
}

std::shared_ptr<const render::Scene> growingScene(const Part& part, const field::DensityField& field,
                                                  double threshold) {
    auto scene = std::make_shared<render::Scene>();
    scene->meshes.push_back(cellShell(field, [&](std::size_t c) -> std::optional<Colour> {
        return field.density[c] >= threshold ? std::optional(plaster) : std::nullopt;
    }));
    scene->bounds = field.bounds();
    addBox(scene->bounds, *scene);
    scene->caption = "Being optimised";
    scene->captionDetail = part.name + ", cells at or above " + formatNumber(threshold, 3);
    return scene;
}

}  // namespace escultura::report
