#include "report/cage_scene.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "base/quantity.hpp"
#include "report/owner_vertices.hpp"

namespace escultura::report {
namespace {

using render::Colour;
constexpr Colour plaster{0xE4, 0xDC, 0xCB}, teal{0x1F, 0x6F, 0x6B}, clay{0xB4, 0x53, 0x2A}, ink{0x6E, 0x69, 0x5F};

std::string mm(double v) {
    return formatNumber(v, 3) + " mm";
}

/// Colours by deviation, with their legend.
void colourDeviation(const CageView& view, render::ColouredMesh& m, render::Legend& legend) {
    const surface::TriMesh& limit = *view.limit;
    legend.shown = true;
    legend.title = "deviation";
    legend.unit = "mm";
    legend.shareOf = "area";
    legend.scale.ramp = render::Ramp::deviation;
    double reach = view.reach;
    if (!(reach > 0)) {
        double squares = 0;
        for (float d : *view.deviation) squares += static_cast<double>(d) * d;
        reach =
            std::max(3 * std::sqrt(squares / std::max<double>(1, static_cast<double>(view.deviation->size()))), 1e-3);
    }
    legend.scale.low = -reach;
    legend.scale.high = reach;
    legend.dataLow = *std::min_element(view.deviation->begin(), view.deviation->end());
    legend.dataHigh = *std::max_element(view.deviation->begin(), view.deviation->end());
    legend.share.assign(24, 0.0);
    double total = 0;
    for (const Triangle& t : limit.triangle) {
        const double area =
            (limit.position[t[1]] - limit.position[t[0]]).cross(limit.position[t[2]] - limit.position[t[0]]).norm();
        const double mean = ((*view.deviation)[t[0]] + (*view.deviation)[t[1]] + (*view.deviation)[t[2]]) / 3.0;
        legend.share[std::min(static_cast<std::size_t>(24 * std::clamp(legend.scale.position(mean), 0.0, 1.0)),
                              std::size_t(23))] += area;
        total += area;
    }
    for (double& s : legend.share) s /= std::max(total, 1e-300);
    for (float d : *view.deviation) {
        m.colour.push_back(legend.scale.colour(d));
        m.value.push_back(d);
    }
}

/// Corners of selected faces take the colour on: split off so that neighbours keep theirs.
void colourSelected(const CageView& view, render::ColouredMesh& m) {
    // corners of selected faces take the colour on: split off so that neighbours keep theirs
    if (!view.selectedFace.empty() && view.faceOf) {
        std::map<std::int32_t, std::int32_t> copy;
        for (std::size_t t = 0; t < m.triangle.size(); ++t) {
            if (!view.selectedFace[(*view.faceOf)[t]]) continue;
            for (auto& v : m.triangle[t]) {
                const auto [at, isNew] = copy.try_emplace(v, static_cast<std::int32_t>(m.position.size()));
                if (isNew) {
                    const Vec3 p = m.position[v];
                    m.position.push_back(p);
                    if (!m.normal.empty()) {
                        const Vec3 n = m.normal[v];
                        m.normal.push_back(n);
                    }
                    m.colour.push_back({0x63, 0xAA, 0xA4});
                    if (!m.value.empty()) {
                        const double d = m.value[v];
                        m.value.push_back(d);
                    }
                }
                v = at->second;
            }
        }
    }
}

}  // namespace

std::shared_ptr<const render::Scene> cageScene(const CageView& view) {
    auto scene = std::make_shared<render::Scene>();
    const surface::TriMesh& limit = *view.limit;
    render::ColouredMesh m;
    m.position = limit.position;
    m.triangle = limit.triangle;
    if (view.normal) m.normal = *view.normal;
    m.opacity = view.opacity;
    if (view.deviation && view.deviation->size() == limit.position.size()) {
        colourDeviation(view, m, scene->legend);
    } else {
        m.colour.assign(m.position.size(), plaster);
    }
    colourSelected(view, m);
    for (const Vec3& p : m.position) scene->bounds.include(p);
    scene->meshes.push_back(std::move(m));
    const cage::Connectivity c(*view.cage);
    std::set<std::pair<std::int32_t, std::int32_t>> creased;
    for (const auto& x : view.cage->crease) creased.insert({x.a, x.b});
    render::Lines thin{{}, ink, 1}, sharp{{}, {0x2B, 0x2A, 0x27}, 2.5}, open{{}, clay, 3}, chosen{{}, teal, 4};
    const std::set<std::pair<std::int32_t, std::int32_t>> selected(view.selectedEdges.begin(),
                                                                   view.selectedEdges.end());
    for (const auto& e : c.edge) {
        auto& lines = selected.contains({e.a, e.b})  ? chosen
                      : e.faces == 1                 ? open
                      : creased.contains({e.a, e.b}) ? sharp
                                                     : thin;
        lines.position.push_back(view.cage->position[e.a]);
        lines.position.push_back(view.cage->position[e.b]);
    }
    for (auto& lines : {thin, sharp, open, chosen})
        if (!lines.position.empty()) scene->lines.push_back(lines);
    int flags = 0;
    for (const auto& f : view.flaws) {
        if (++flags > 12) break;
        scene->labels.push_back({render::Label::Role::finding, f.at, f.text, ""});
    }
    scene->caption = view.caption;
    scene->captionDetail = view.detail;
    return scene;
}

std::shared_ptr<const render::Scene> cageScene(const stages::CageResult& result, bool deviation) {
    CageView v;
    v.cage = &result.cage;
    v.limit = &result.deviation.surface;
    v.faceOf = &result.deviation.faceOf;
    if (deviation) v.deviation = &result.deviation.atVertex;
    for (auto f : result.folded) {
        Vec3 at = Vec3::Zero();
        for (auto k : result.cage.face[f]) at += 0.25 * result.cage.position[k];
        v.flaws.push_back({"folds over", at});
    }
    v.caption = deviation ? "Deviation of the limit surface" : "Control cage";
    v.detail =
        std::to_string(result.cage.face.size()) + " faces, " +
        (deviation ? "from the smooth surface without its bores, positive outside it" : "over its limit surface");
    auto scene = std::make_shared<render::Scene>(*cageScene(v));
    if (deviation) {
        const auto& d = result.deviation;
        scene->labels.push_back({render::Label::Role::maximum, d.largestAt, "largest", mm(d.largest)});
        scene->labels.push_back(
            {render::Label::Role::reading, d.backLargestAt, "farthest from the surface's side", mm(d.backLargest)});
    }
    return scene;
}

std::shared_ptr<const render::Scene> solidScene(const stages::RebuildResult& result,
                                                const std::string& selectedFeature) {
    auto scene = std::make_shared<render::Scene>();
    const surface::TriMesh& mesh = result.solid.mesh;
    const auto normals = surface::cornerNormals(mesh);
    render::ColouredMesh m;
    OwnerVertices numbers(mesh.position.size());
    for (std::size_t t = 0; t < mesh.triangle.size(); ++t) {
        Triangle out;
        for (int k = 0; k < 3; ++k) {
            const auto [number, isNew] = numbers.number(mesh.triangle[t][k], mesh.owner[t]);
            if (isNew) {
                const auto& s = result.solid.surfaces[mesh.owner[t]];
                m.position.push_back(mesh.position[mesh.triangle[t][k]]);
                m.normal.push_back(normals[3 * t + k]);
                const bool chosen = !selectedFeature.empty() && s.feature == selectedFeature;
                m.colour.push_back(mesh.owner[t] == 0    ? plaster
                                   : chosen              ? Colour{0xD9, 0x8A, 0x5B}
                                   : s.interface.empty() ? Colour{0xD8, 0xC2, 0x8E}
                                                         : Colour{0x9F, 0xC2, 0xBC});
            }
            out[k] = number;
        }
        m.triangle.push_back(out);
    }
    for (const Vec3& p : m.position) scene->bounds.include(p);
    scene->meshes.push_back(std::move(m));
    // edges between surfaces
    std::map<std::pair<std::int32_t, std::int32_t>, std::int16_t> first;
    render::Lines lines{{}, {0x2B, 0x2A, 0x27}, 1.5};
    for (std::size_t t = 0; t < mesh.triangle.size(); ++t)
        for (int k = 0; k < 3; ++k) {
            const auto a = mesh.triangle[t][k], b = mesh.triangle[t][(k + 1) % 3];
            const auto [at, isNew] = first.try_emplace({std::min(a, b), std::max(a, b)}, mesh.owner[t]);
            if (isNew || at->second == mesh.owner[t]) continue;
            lines.position.push_back(mesh.position[a]);
            lines.position.push_back(mesh.position[b]);
        }
    scene->lines.push_back(std::move(lines));
    for (const auto& f : result.solid.features)
        if (!f.built) scene->labels.push_back({render::Label::Role::finding, f.at, "not built", f.name});
    scene->caption = "Rebuilt solid";
    scene->captionDetail =
        std::to_string(result.solid.solid.faces) + " faces; surfaces of interfaces teal, own features ochre";
    return scene;
}

}  // namespace escultura::report
