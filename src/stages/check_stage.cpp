#include "stages/check_stage.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "elastic/stress.hpp"
#include "lattice/refine.hpp"
#include "stages/field_stage.hpp"
#include "stages/findings_stage.hpp"
#include "stages/kept_faces.hpp"
#include "stages/load_cases.hpp"
#include "stages/rebuild_stage.hpp"
#include "stages/surface_stage.hpp"
#include "surface/patched_body.hpp"
#include "surface/sizing.hpp"

namespace escultura::stages {
namespace {

constexpr double lookFactor = 1.3;  // of the element size at level look

double spacingOf(const Recipe& r) {
    return r.check.level == Level::look ? lookFactor * r.elementSize : r.elementSize;
}

/// Kept faces on an imported body: for each of them the patch with most area that lies on it.
void addKeptFaces(const Part& part, const surface::PatchedBody& body, std::vector<NamedFace>& faces) {
    const auto kept = keptFacesOf(part);
    if (!kept) return;
    const surface::TriMesh& mesh = body.mesh();
    std::vector<std::map<std::int32_t, double>> area(kept->patches().size());
    for (std::size_t t = 0; t < mesh.triangle.size(); ++t) {
        const Triangle& v = mesh.triangle[t];
        const Vec3 &a = mesh.position[v[0]], &b = mesh.position[v[1]], &c = mesh.position[v[2]];
        const Vec3 cross = (b - a).cross(c - a);
        const auto near = kept->nearest((a + b + c) / 3, 0.1 + 1e-3 * body.bounds().diagonal());
        if (near.patch < 0 || near.across > 1e-3 || near.normal.dot(cross.normalized()) < 0.8) continue;
        area[static_cast<std::size_t>(near.patch)][body.patchOf()[t]] += 0.5 * cross.norm();
    }
    for (std::size_t k = 0; k < area.size(); ++k)
        for (const auto& [patch, size] : area[k]) {
            if (size < 0.05 * kept->patches()[k].area) continue;
            const Interface& i = part.interfaces[static_cast<std::size_t>(kept->patches()[k].interface)];
            NamedFace f;
            f.interface = i.name;
            f.face = keptFaceName;
            f.surface = patch;
            f.origin = i.origin;
            f.axis = i.axis;
            f.kept = kept;
            f.group = kept->groups()[k];
            // a patch that goes over several kept faces of one group is listed once
            if (std::none_of(faces.begin(), faces.end(), [&](const NamedFace& known) {
                    return known.surface == f.surface && known.interface == f.interface && known.group == f.group;
                }))
                faces.push_back(f);
        }
}

/// Faces of interfaces on an imported body: of its patches the one with most area where the face should be.
std::vector<NamedFace> facesOn(const Part& part, const surface::PatchedBody& body) {
    const surface::TriMesh& mesh = body.mesh();
    std::vector<NamedFace> faces;
    addKeptFaces(part, body, faces);
    for (NamedFace& f : lineFaces(part)) faces.push_back(std::move(f));
    for (const Interface& i : part.interfaces)
        for (const char* face : {"bore", "side", "start", "end"}) {
            const std::string name = face;
            const bool round = name == "bore" || name == "side";
            const double radius = 0.5 * (name == "bore" ? i.boreDiameter : i.ringDiameter);
            if (i.kind == Interface::Kind::faces || i.isOfLines()) continue;
            if ((name == "bore" && !(i.boreDiameter > 0)) || (name == "side" && i.kind != Interface::Kind::pin))
                continue;
            const double outer = 0.5 * std::max(i.ringDiameter, i.boreDiameter);
            const double slack = 0.03 * outer + 0.02, at = name == "end" ? i.length : 0;
            const shape::Outline outline(i.axis, outlineOf(i));
            std::map<std::int32_t, double> area;
            for (std::size_t t = 0; t < mesh.triangle.size(); ++t) {
                const Triangle& v = mesh.triangle[t];
                const Vec3 p = (mesh.position[v[0]] + mesh.position[v[1]] + mesh.position[v[2]]) / 3 - i.origin;
                const double along = p.dot(i.axis), out = (p - along * i.axis).norm();
                // a triangle of a bore may span its whole length: its corners tell the radius
                double corner = 0;
                for (auto w : v) {
                    const Vec3 q = mesh.position[w] - i.origin;
                    corner = std::max(corner, std::abs((q - q.dot(i.axis) * i.axis).norm() - radius));
                }
                const bool on = round ? corner < slack && along > -slack && along < i.length + slack
                                      : std::abs(along - at) < slack && out < 4 * outer &&
                                            (i.outline.empty() || outline.distance(p + i.origin) < slack);
                if (!on) continue;
                const Vec3 cross =
                    (mesh.position[v[1]] - mesh.position[v[0]]).cross(mesh.position[v[2]] - mesh.position[v[0]]);
                if (!round && std::abs(cross.normalized().dot(i.axis)) < 0.95) continue;
                area[body.patchOf()[t]] += 0.5 * cross.norm();
            }
            std::int32_t best = -1;
            for (const auto& [patch, a] : area)
                if (best < 0 || a > area[best]) best = patch;
            if (best < 0) continue;
            NamedFace f;
            f.interface = i.name;
            f.face = name;
            f.surface = best;
            f.origin = i.origin;
            f.axis = i.axis;
            f.low = round ? -slack : at - slack;
            f.high = round ? i.length + slack : at + slack;
            f.radius = outer + slack;
            if (!round) f.outline = outlineOf(i);
            faces.push_back(f);
        }
    return faces;
}

ConvergencePass passOf(const CheckResult& r, const ConvergencePass* before) {
    ConvergencePass p;
    p.elements = r.mesh.tet.size();
    p.unknowns = r.unknowns;
    for (const CaseResult& c : r.cases) {
        p.minSafetyFactor.push_back(c.minSafetyFactor);
        p.maxDisplacement.push_back(c.maxDisplacement);
        p.energyError = std::max(p.energyError, c.energyError);
    }
    if (before)
        for (std::size_t c = 0; c < p.minSafetyFactor.size(); ++c) {
            auto change = [](double now, double then) {
                return std::isfinite(now) && std::isfinite(then) ? std::abs(now / then - 1) : 0.0;
            };
            p.change = std::max({p.change, change(p.minSafetyFactor[c], before->minSafetyFactor[c]),
                                 change(p.maxDisplacement[c], before->maxDisplacement[c])});
        }
    return p;
}

/// Elements to halve next: those that carry half of the error of some case, and those around each case's peak.
std::vector<char> worthRefining(const CheckResult& r) {
    std::vector<char> marked(r.mesh.tet.size(), 0);
    std::vector<std::int32_t> order(r.mesh.tet.size());
    for (std::size_t e = 0; e < order.size(); ++e) order[e] = static_cast<std::int32_t>(e);
    std::sort(order.begin(), order.end(),
              [&](auto a, auto b) { return std::pair(r.elementError[a], b) > std::pair(r.elementError[b], a); });
    double total = 0, sum = 0;
    for (float e : r.elementError) total += static_cast<double>(e) * e;
    for (auto e : order) {
        if (sum > 0.5 * total) break;
        sum += static_cast<double>(r.elementError[e]) * r.elementError[e];
        marked[e] = 1;
    }
    for (const CaseResult& c : r.cases) {
        if (c.maxNode < 0) continue;
        const Vec3 peak = r.mesh.position[c.maxNode];
        for (std::size_t e = 0; e < r.mesh.tet.size(); ++e) {
            const auto& t = r.mesh.tet[e];
            double longest = 0;
            for (int k = 0; k < 3; ++k)
                longest = std::max(longest, (r.mesh.position[t[k]] - r.mesh.position[t[3]]).norm());
            for (int k = 0; k < 4; ++k)
                if ((r.mesh.position[t[k]] - peak).norm() < 1.5 * longest) marked[e] = 1;
        }
    }
    return marked;
}

}  // namespace

std::string CaseResult::problem() const {
    if (!appliedAsMeant) return "does not apply the load that is meant";
    if (!std::isfinite(maxStress) || !std::isfinite(maxDisplacement)) return "has results that are not numbers";
    if (!(maxStress > 0) || !(maxDisplacement > 0)) return "loads nothing";
    return {};
}

CheckedBody checkedBody(const Part& part, const FieldResult& field, const SurfaceResult& surface, const Recipe& recipe,
                        const surface::TriMesh* original, const RebuildResult* rebuilt, Progress& progress) {
    if (rebuilt && !recipe.check.original) {
        progress.step("Reading the solid");
        return {{}, solidShape(*rebuilt), rebuilt->faces};
    }
    const OwnFrame& frame = field.frame;
    const Part own = into(frame, part);
    if (!recipe.check.original) {
        const PartShape solid = surfaceShape(own, *field.own, into(frame, recipe), surface.solvedThreshold, progress);
        return {frame, solid.solid, outOf(part, solid.faces)};
    }
    if (!part.original) {  // no file: the design space with its interfaces
        const PartShape solid = buildShape(own, field.own->regions, nullptr);
        return {frame, solid.solid, outOf(part, solid.faces)};
    }
    progress.step("Finding the original's edges");
    auto body = std::make_shared<surface::PatchedBody>(into(frame, *original));
    const auto faces = facesOn(own, *body);
    return {frame, body, outOf(part, faces)};
}

elastic::Voigt6 strainOf(const elastic::Stiffness6& compliance, const elastic::Voigt6& stress) {
    return compliance * stress;
}

double ruledStress(const Part& part, const elastic::Voigt6& stress) {
    return part.isBrittle() ? elastic::failureStress(part.material, stress) : elastic::vonMises(stress);
}

std::function<double(const Vec3&)> localSpacing(const Part& part, const Recipe& recipe) {
    const auto& sizes = recipe.check.localSizes;
    const double usual = spacingOf(recipe), factor = spacingOf(recipe) / recipe.elementSize;
    // elements much wider than a bore would lose it, as they would what acts around edges and points
    std::vector<Interface> narrow, lines;
    for (const Interface& i : part.interfaces) {
        if (i.boreDiameter > 0 && 0.75 * i.boreDiameter < usual) narrow.push_back(i);
        if (i.isOfLines() && 0.8 * i.length < usual) lines.push_back(i);
    }
    if (sizes.empty() && narrow.empty() && lines.empty()) return {};
    struct Region {
        LocalSize size;
        Interface interface;
    };
    std::vector<Region> regions;
    for (const LocalSize& s : sizes) {
        const Interface* i = s.kind == LocalSize::Kind::interface ? part.findInterface(s.interface) : nullptr;
        if (s.kind == LocalSize::Kind::interface && !i)
            throw InputError(ErrorDetail{"A local element size names an interface that the part does not have.",
                                         part.path, "local size", "one of the part's interfaces",
                                         "'" + s.interface + "'"});
        regions.push_back({s, i ? *i : Interface{}});
    }
    return [=](const Vec3& p) {
        double size = 1e300;
        for (const Interface& i : lines) {
            const double beyond = std::max(0.0, shape::distanceTo(i.lines, p) - 1.5 * i.length);
            size = std::min(size, 0.8 * i.length + 0.3 * beyond);
        }
        for (const Interface& i : narrow) {
            const Vec3 d = p - i.origin;
            const double along = d.dot(i.axis);
            if (along >= -usual && along <= i.length + usual &&
                (d - along * i.axis).norm() <= 0.5 * i.boreDiameter + usual)
                size = std::min(size, 0.5 * i.boreDiameter);
        }
        for (const Region& r : regions) {
            bool inside = false;
            switch (r.size.kind) {
                case LocalSize::Kind::box:
                    inside = (p.array() >= r.size.low.array()).all() && (p.array() <= r.size.high.array()).all();
                    break;
                case LocalSize::Kind::sphere:
                    inside = (p - r.size.centre).norm() <= r.size.radius;
                    break;
                case LocalSize::Kind::interface: {
                    const Interface& i = r.interface;
                    const Vec3 d = p - i.origin;
                    const double along = d.dot(i.axis), reach = r.size.radius;
                    if (i.isOfLines()) {
                        inside = shape::distanceTo(i.lines, p) <= reach;
                        break;
                    }
                    const double outer = 0.5 * (i.ringDiameter > 0 ? i.ringDiameter : i.boreDiameter);
                    inside =
                        along >= -reach && along <= i.length + reach && (d - along * i.axis).norm() <= outer + reach;
                    break;
                }
            }
            if (inside) size = std::min(size, r.size.size * factor);
        }
        return size;
    };
}

namespace {

/// Elements through a wall with which it comes through the mesher.
constexpr double holdsAWall = 1.4;

surface::Sizing sizingOf(const Recipe& recipe) {
    surface::Sizing sizing;
    sizing.usual = spacingOf(recipe);
    // a look only keeps walls from being lost
    sizing.through = recipe.check.level == Level::look ? std::min<double>(recipe.check.elementsThrough, holdsAWall)
                                                       : recipe.check.elementsThrough;
    sizing.aroundCircle = recipe.check.aroundCircle;
    sizing.chordError = recipe.check.chordError;
    return sizing;
}

}  // namespace

std::function<double(const Vec3&)> wallSpacing(const SurfaceResult& surface, const Recipe& recipe,
                                               const OwnFrame& frame) {
    const surface::Sizing sizing = sizingOf(recipe);
    if (!sizing.asksAnything() || surface.thickness.value.empty()) return {};
    return [spacing = surface::latticeSpacing(surface.mesh, surface.thickness.value, sizing), frame](const Vec3& p) {
        return spacing(frame.outOf(p));
    };
}

MeshForecast forecastMesh(const Part& part, const SurfaceResult& surface, const Recipe& recipe) {
    MeshForecast f;
    const double a = spacingOf(recipe);
    // twelve tetrahedra a lattice cube; the boundary's cut tetrahedra add about half a layer
    const double volume = std::max(surface.measures.volume, 0.0), skin = 0.25 * a * surface.measures.area;
    f.elements = 12 * (volume + skin) / (a * a * a);
    const auto local = localSpacing(part, recipe);
    std::vector<float> wanted;  // by the triangle: quick enough to be asked with every change
    if (const surface::Sizing sizing = sizingOf(recipe); sizing.asksAnything() && !surface.thickness.value.empty())
        wanted = surface::wantedSpacing(surface.mesh, surface.thickness.value, sizing);
    if (local || !wanted.empty()) {
        // sampled at the surface: half of what is finer is near it for slender parts
        double fine = 0, total = 0;
        const std::size_t step = std::max<std::size_t>(1, surface.mesh.triangle.size() / 4000);
        for (std::size_t t = 0; t < surface.mesh.triangle.size(); t += step) {
            const auto& q = surface.mesh.triangle[t];
            const Vec3 p =
                (surface.mesh.position[q[0]] + surface.mesh.position[q[1]] + surface.mesh.position[q[2]]) / 3;
            const double area = 0.5 * (surface.mesh.position[q[1]] - surface.mesh.position[q[0]])
                                          .cross(surface.mesh.position[q[2]] - surface.mesh.position[q[0]])
                                          .norm();
            const double s = std::min({a, local ? local(p) : a, wanted.empty() ? a : wanted[t]});
            // each halving of an edge doubles the elements of a place three times over
            fine += area * std::pow(a / s, 3);
            total += area;
        }
        if (total > 0) f.elements *= std::max(1.0, fine / total);
    }
    f.nodes = 1.55 * f.elements + 0.35 * surface.measures.area / (a * a);
    f.unknowns = 3 * f.nodes;
    const elastic::SolveOptions options;
    const bool direct =
        recipe.check.method == elastic::Method::direct || (recipe.check.method == elastic::Method::automatic &&
                                                           f.unknowns <= static_cast<double>(options.directUnknowns));
    f.solver = direct ? "direct" : "multigrid";
    // the factor of nested dissection in three dimensions grows with the 4/3rd power; constants are measured on the
    // demos at three sizes each, the highest of them
    f.memory = direct ? 2.6e9 * std::pow(f.unknowns / 3e5, 4.0 / 3) : 1.4e3 * f.unknowns;
    if (!surface.thickness.value.empty()) {
        double below = 0, total = 0;
        for (const auto& q : surface.mesh.triangle) {
            const double area = 0.5 * (surface.mesh.position[q[1]] - surface.mesh.position[q[0]])
                                          .cross(surface.mesh.position[q[2]] - surface.mesh.position[q[0]])
                                          .norm();
            total += area;
            if (std::max({surface.thickness.value[q[0]], surface.thickness.value[q[1]],
                          surface.thickness.value[q[2]]}) < 1.1 * a)
                below += area;
        }
        f.thinWalls = total > 0 ? below / total : 0;
    }
    return f;
}

MeshResult evaluateMesh(const Part& part, const FieldResult& field, const SurfaceResult& surface, const Recipe& recipe,
                        Progress& progress, const surface::TriMesh* original, const RebuildResult* rebuilt) {
    const CheckedBody solid = checkedBody(part, field, surface, recipe, original, rebuilt, progress);
    mesh::MeshOptions options;
    options.elementSize = spacingOf(recipe);
    if (!recipe.check.original) {
        options.localSize = localSpacing(into(solid.frame, part), into(solid.frame, recipe));
        options.wallSize = wallSpacing(surface, recipe, solid.frame);
    } else {  // the original's elements are even, but for what acts around edges and points
        Part lines = into(solid.frame, part);
        std::erase_if(lines.interfaces, [](const Interface& i) { return !i.isOfLines(); });
        Recipe even = recipe;
        even.check.localSizes.clear();
        options.localSize = localSpacing(lines, even);
    }
    MeshResult m;
    m.frame = solid.frame;
    // where the lattice meets the shape so that an element is bad, another place of it may have none
    const std::array<Vec3, 3> places{Vec3(0, 0, 0), Vec3(0.5, 0.25, 0.375), Vec3(0.25, 0.625, 0.125)};
    for (std::size_t k = 0; k < places.size(); ++k) {
        options.offset = places[k];
        lattice::CreaseReport creases;
        lattice::TetComplex corners = mesh::cornerMesh(*solid.shape, options, creases, progress);
        mesh::TetMesh made = outOf(m.frame, mesh::curvedMesh(*solid.shape, corners, progress));
        const mesh::Quality quality = mesh::measureQuality(made);
        if (k > 0 && quality.failed >= m.quality.failed) continue;
        made.creases = creases;
        m.corners = std::move(corners);
        m.mesh = std::move(made);
        m.quality = quality;
        if (quality.failed == 0) break;
        if (k == 0) progress.step("Meshing anew, for the sake of bad elements");
    }
    m.faces = solid.faces;
    if (rebuilt && !recipe.check.original)
        m.bodyVolume = rebuilt->solid.solid.volume;
    else if (!recipe.check.original)
        m.bodyVolume = surface.measures.volume;
    else if (part.original && original)
        m.bodyVolume = surface::measure(*original).volume;
    return m;
}

CheckResult evaluateCheck(const Part& part, const FieldResult& field, const SurfaceResult& surface,
                          const MeshResult& mesh, const Recipe& recipe, Progress& progress,
                          const surface::TriMesh* original, const RebuildResult* rebuilt) {
    if (!recipe.check.original) requireConnected(part, field, recipe);
    if (part.loadCases.empty() || part.supports.empty())
        throw InputError(ErrorDetail{"The part cannot be checked yet.", part.path,
                                     part.loadCases.empty() ? "load_cases" : "supports",
                                     "at least one load case and one support", "none"});
    CheckResult r;
    r.level = recipe.check.level;
    solveOn(part, mesh, recipe, r, progress);
    if (recipe.check.level != Level::converged) return r;
    const CheckedBody solid = checkedBody(part, field, surface, recipe, original, rebuilt, progress);
    MeshResult finer = mesh;
    r.passes.push_back(passOf(r, nullptr));
    progress.record("safety factor", static_cast<double>(r.unknowns), r.minSafetyFactor);
    while (static_cast<int>(r.passes.size()) < recipe.check.passes && r.unknowns < 3000000) {
        progress.step("Refining where the error is");
        lattice::refineMarked(*solid.shape, finer.corners, worthRefining(r), progress);
        finer.mesh = outOf(finer.frame, mesh::curvedMesh(*solid.shape, finer.corners, progress));
        finer.mesh.creases = mesh.mesh.creases;
        finer.quality = mesh::measureQuality(finer.mesh);
        CheckResult next;
        next.level = r.level;
        solveOn(part, finer, recipe, next, progress);
        next.passes = std::move(r.passes);
        next.passes.push_back(passOf(next, &next.passes.back()));
        progress.record("safety factor", static_cast<double>(next.unknowns), next.minSafetyFactor);
        r = std::move(next);
        if (r.passes.back().change <= recipe.check.convergence) {
            r.converged = true;
            break;
        }
    }
    return r;
}

}  // namespace escultura::stages
