#include "stages/rebuild_stage.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <filesystem>
#include <map>

#include "base/digest.hpp"
#include "base/error.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"
#include "cage/fewest.hpp"
#include "exchange/body_files.hpp"
#include "exchange/writers.hpp"
#include "stages/cage_cover.hpp"
#include "stages/field_stage.hpp"
#include "stages/kept_faces.hpp"
#include "stages/surface_stage.hpp"
#include "surface/extract.hpp"
#include "surface/opening.hpp"
#include "surface/patched_body.hpp"

namespace escultura::stages {
namespace {

using Clock = std::chrono::steady_clock;

double secondsSince(Clock::time_point start) {
    return std::chrono::duration<double>(Clock::now() - start).count();
}

/// Triangles of an imported body; with its offset laid on anew.
surface::TriMesh featureBody(const solid::Feature& f, Progress& progress) {
    surface::TriMesh mesh = exchange::readBody(f.path, f.unit, f.bodies);
    if (f.offset == 0) return mesh;
    const double spacing = std::sqrt(surface::measure(mesh).area / 2500);
    const auto grown = meshShape(std::move(mesh), f.offset);
    return surface::extractSurface(*grown, spacing, false, progress);
}

}  // namespace

bool isBlendedInCage(const solid::Feature& f) {
    using K = solid::Feature::Kind;
    return f.on && f.blendInCage && f.radius > 0 && f.interface.empty() && solid::addsMaterial(f) &&
           (f.kind == K::boss || f.kind == K::pad || f.kind == K::rib);
}

std::vector<solid::Feature> effectiveFeatures(const Part& part, const Regions& regions, const Rebuild& rebuild) {
    const std::vector<solid::Feature> own = interfaceFeatures(part, regions);
    if (!rebuild.ownFeatures) return own;
    const std::filesystem::path folder = std::filesystem::path(part.path).parent_path();
    std::vector<solid::Feature> list;
    auto ofPart = [&](const std::string& name) {
        return std::find_if(own.begin(), own.end(), [&](const solid::Feature& f) { return f.name == name; });
    };
    for (const solid::Feature& f : rebuild.features) {
        if (f.interface.empty()) {
            list.push_back(f);
            if (!f.path.empty()) list.back().path = (folder / f.path).string();  // an absolute one stays as it is
            continue;
        }
        const auto at = ofPart(f.name);
        if (at == own.end()) continue;  // its interface is gone
        solid::Feature merged = *at;    // geometry from the part; what only the list knows from the list
        merged.on = f.on;
        merged.head = f.head;
        merged.headDiameter = f.headDiameter;
        merged.headDepth = f.headDepth;
        merged.headAngle = f.headAngle;
        list.push_back(merged);
    }
    for (const solid::Feature& f : own)
        if (std::none_of(list.begin(), list.end(), [&](const solid::Feature& g) { return g.name == f.name; }))
            list.push_back(f);
    return list;
}

namespace {

/// The solid's surface that is a face of an interface; -1: none. A face in a machined side of the design space is that
/// side's.
int surfaceOf(const NamedFace& f, const std::vector<solid::SolidSurface>& surfaces) {
    int best = -1;
    for (std::size_t s = 0; s < surfaces.size(); ++s)
        if (surfaces[s].interface == f.interface && surfaces[s].face == f.face) best = static_cast<int>(s);
    for (std::size_t s = 0; s < surfaces.size() && best < 0; ++s) {
        const auto& x = surfaces[s];
        if (x.kind != solid::SolidSurface::Kind::plane || std::abs(std::abs(x.axis.dot(f.axis)) - 1) > 1e-9) continue;
        const double along = (x.point - f.origin).dot(f.axis);
        if ((f.face == "start" || f.face == "end") && along >= f.low && along <= f.high) best = static_cast<int>(s);
    }
    return best;
}

/// Faces of interfaces, where the implicit solid has them, on the solid's surfaces.
void nameFaces(const SurfaceResult& surface, RebuildResult& r) {
    for (NamedFace f : surface.faces) {
        const auto count = r.faces.size();
        if (!f.lines.empty()) {
            r.faces.push_back(f);
        } else if (f.kept) {
            // of several faces that go on smoothly into each other each is a surface of its own
            std::map<std::size_t, Vec3> seen;  // a corner of each
            for (std::size_t t = 0; t < r.solid.mesh.triangle.size(); ++t) {
                const auto s = static_cast<std::size_t>(r.solid.mesh.owner[t]);
                if (r.solid.surfaces[s].interface != f.interface || r.solid.surfaces[s].face != f.face) continue;
                Vec3 middle = Vec3::Zero();
                for (const auto v : r.solid.mesh.triangle[t]) middle += r.solid.mesh.position[v] / 3;
                if (f.kept->holds(f.group, middle, 0.1)) seen.emplace(s, middle);
            }
            for (const auto& [s, at] : seen) {
                f.surface = static_cast<int>(s);
                r.faces.push_back(f);
            }
        } else if (const int s = surfaceOf(f, r.solid.surfaces); s >= 0) {
            f.surface = s;
            r.faces.push_back(f);
        }
        if (r.faces.size() == count)
            r.problems.push_back("The solid lacks the face '" + f.face + "' of " + f.interface + ".");
    }
}

/// Says which kept faces the solid has less of than the original.
void compareKeptFaces(const shape::KeptFaces& kept, const std::vector<std::string>& interfaces, RebuildResult& r) {
    const auto& m = r.solid.mesh;
    std::vector<double> area(kept.patches().size(), 0);
    for (std::size_t t = 0; t < m.triangle.size(); ++t) {
        const auto& s = r.solid.surfaces[static_cast<std::size_t>(m.owner[t])];
        if (s.face != keptFaceName) continue;
        const Vec3 &a = m.position[m.triangle[t][0]], &b = m.position[m.triangle[t][1]],
                   &c = m.position[m.triangle[t][2]];
        const auto n = kept.nearest((a + b + c) / 3, 1);
        if (n.patch >= 0) area[static_cast<std::size_t>(n.patch)] += 0.5 * (b - a).cross(c - a).norm();
    }
    for (std::size_t k = 0; k < area.size(); ++k) {
        const auto& patch = kept.patches()[k];
        const double share = area[k] / patch.area;
        const auto n = static_cast<std::size_t>(patch.interface);
        if (share < 0.9 && share > 0)  // those that are not there at all are named already
            r.problems.push_back("Of a face of " + (n < interfaces.size() ? interfaces[n] : "an interface") + " only " +
                                 formatNumber(100 * share, 2) + " % is left free, about " +
                                 cage::placeText(patch.places.front()) + ".");
    }
}

}  // namespace

RebuildResult evaluateRebuild(const Part& part, const FieldResult& field, const SurfaceResult& surface,
                              const CageResult& cage, const Recipe& recipe, Progress& progress) {
    const auto start = Clock::now();
    RebuildResult r;
    r.features = effectiveFeatures(part, field.regions, recipe.rebuild);
    progress.step("Making patches");
    const cage::PatchSet patches = cage::makePatches(cage.cage);
    r.regularJump = patches.regularJump;
    r.irregularJump = patches.irregularJump;
    r.jump95 = patches.jump95;
    r.jumpAt = patches.jumpAt;
    r.limit = cage::measureLimit(cage.cage);
    solid::SolidOptions options;
    options.trianglesOf = [&](const solid::Feature& f) { return featureBody(f, progress); };
    options.keptFaces = keptFacesOf(part);
    for (const Interface& i : part.interfaces) options.interfaces.push_back(i.name);
    r.solid = solid::buildSolid(cage.cage, patches, r.features, options, progress);
    r.mass = r.solid.solid.volume * part.material.density;
    const surface::Measures m = surface::measure(r.solid.mesh);
    r.genus = m.genus;
    r.pieces = m.pieces;
    r.surfaceGenus = surface.measures.genus;
    nameFaces(surface, r);
    if (options.keptFaces) compareKeptFaces(*options.keptFaces, options.interfaces, r);
    if (!cage.within) r.problems.push_back("The cage does not keep its tolerance: see its figures.");
    if (!cage.folded.empty())
        r.problems.push_back("The limit surface folds over in " + std::to_string(cage.folded.size()) +
                             " faces of the cage.");
    if (!r.solid.solid.closed) r.problems.push_back("The solid is not closed.");
    if (!r.solid.solid.valid) r.problems.push_back("The kernel's check finds the solid not valid.");
    if (!m.watertight) r.problems.push_back("The solid's triangles are not closed.");
    // where layers of the original make most of the part it is the part's share that counts
    const double off = std::abs(r.solid.free.volume - r.limit.volume) / std::max(r.limit.volume, r.solid.solid.volume);
    if (off > 1e-3)
        r.problems.push_back("The patches enclose " + formatNumber(100 * off, 2) +
                             " % of the part more or less than the limit surface.");
    if (r.irregularJump > 5)
        r.problems.push_back("Two patches meet with a kink of " + formatNumber(r.irregularJump, 3) + " degrees at " +
                             cage::placeText(r.jumpAt) + ": split or move the cage there.");
    for (const auto& f : r.solid.features)
        if (!f.built) r.problems.push_back("Feature '" + f.name + "' is missing: " + f.problem);
    if (r.pieces != surface.measures.pieces)
        r.problems.push_back("The solid has " + std::to_string(r.pieces) + " pieces, the surface " +
                             std::to_string(surface.measures.pieces) + ".");
    r.seconds = secondsSince(start);
    return r;
}

std::shared_ptr<const shape::Shape> solidShape(const RebuildResult& rebuild) {
    std::vector<std::optional<shape::Primitive>> exact(rebuild.solid.surfaces.size());
    for (std::size_t s = 0; s < exact.size(); ++s) {
        const auto& x = rebuild.solid.surfaces[s];
        if (x.kind == solid::SolidSurface::Kind::plane)
            exact[s] = shape::Primitive{shape::Primitive::Kind::plane, x.point, x.axis, 0, false};
        if (x.kind == solid::SolidSurface::Kind::cylinder)
            exact[s] = shape::Primitive{shape::Primitive::Kind::cylinder, x.point, x.axis, x.radius, x.hollow};
    }
    return std::make_shared<surface::PatchedBody>(rebuild.solid.mesh, exact);
}

namespace {

std::string percent(double share) {
    return formatNumber(100 * share, 3) + " %";
}

/// What a solid read back has otherwise than the one written.
std::vector<std::string> differences(const solid::SolidFigures& a, const solid::SolidFigures& b) {
    std::vector<std::string> differ;
    auto compare = [&](const char* what, double off, double limit) {
        if (!(off <= limit)) differ.push_back(std::string(what) + " differs by " + percent(off) + ".");
    };
    // what is checked is what leaves: 0.05 %. Where features cut faces the kernel trims them anew when it reads
    compare("The volume", std::abs(b.volume / a.volume - 1), 5e-4);
    compare("The area", std::abs(b.area / a.area - 1), 5e-4);
    compare("The centre of gravity", (b.centroid - a.centroid).norm() / std::cbrt(a.volume), 1e-4);
    if (b.solids != a.solids)
        differ.push_back("The file holds " + std::to_string(b.solids) + " solids instead of " +
                         std::to_string(a.solids) + ".");
    if (!b.valid || !b.closed) differ.push_back("What was read back is not a valid closed solid.");
    return differ;
}

}  // namespace

std::vector<std::string> writeCheckedStep(const std::string& path, const Part& part, const RebuildResult& rebuild) {
    solid::writeStep(path, rebuild.solid, part.name);
    return differences(rebuild.solid.solid, solid::readStepFigures(path).figures);
}

std::vector<std::string> writeCheckedIges(const std::string& path, const Part& part, const RebuildResult& rebuild) {
    solid::writeIges(path, rebuild.solid, part.name);
    return differences(rebuild.solid.solid, solid::readIgesFigures(path));
}

std::vector<std::string> writeCheckedBody(const std::string& path, const Part& part, const RebuildResult& rebuild) {
    exchange::BodyText text;
    text.title = part.name;
    for (const auto& s : rebuild.solid.surfaces)
        text.owners.push_back(s.face.empty() ? s.feature : s.feature + ": " + s.face);
    exchange::writeBody(path, rebuild.solid.mesh, text);
    std::vector<std::string> differ;
    const surface::Measures a = surface::measure(rebuild.solid.mesh),
                            b = surface::measure(surface::weld(exchange::readBody(path)));
    auto compare = [&](const char* what, double off) {
        if (!(off <= 1e-5)) differ.push_back(std::string(what) + " differs by " + percent(off) + ".");
    };
    compare("The volume", std::abs(b.volume / a.volume - 1));
    compare("The area", std::abs(b.area / a.area - 1));
    compare("The centre of gravity", (b.centroid - a.centroid).norm() / std::cbrt(a.volume));
    if (b.pieces != a.pieces || b.cavities != a.cavities || !b.watertight)
        differ.push_back("What was read back is not the same closed body.");
    return differ;
}

}  // namespace escultura::stages
