#include "stages/rebuild_stage.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <filesystem>

#include "base/digest.hpp"
#include "base/error.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"
#include "exchange/body_files.hpp"
#include "exchange/writers.hpp"
#include "stages/field_stage.hpp"
#include "stages/surface_stage.hpp"
#include "surface/extract.hpp"
#include "surface/opening.hpp"
#include "surface/patched_body.hpp"

namespace escultura::stages {
namespace {

using Clock = std::chrono::steady_clock;

/// Radius of the ball that must fit into what the cage is fitted to, mm: it tells feather edges from walls.
double featherRadius(const SurfaceResult& surface, double faceSize) {
    return std::min(0.35 * faceSize, 0.4 * surface.thickness.least);
}

double secondsSince(Clock::time_point start) {
    return std::chrono::duration<double>(Clock::now() - start).count();
}

/// A conical tube with round ends.
double tubeDistance(const Member& m, const Vec3& p) {
    const Vec3 d = m.to - m.from;
    const double t = std::clamp((p - m.from).dot(d) / std::max(d.squaredNorm(), 1e-12), 0.0, 1.0);
    return (p - m.from - t * d).norm() - (m.radiusFrom + t * (m.radiusTo - m.radiusFrom));
}

void requireSound(const CageStep& s) {
    auto refuse = [&](const std::string& expected, const std::string& found) {
        throw InputError(ErrorDetail{
            "A change of the cage has numbers that cannot be used.", {}, "'" + s.name + "'", expected, found});
    };
    if (s.kind == CageStep::Kind::member) {
        if (!(s.member.radiusFrom > 0) || !(s.member.radiusTo > 0))
            refuse("radii above 0 mm", formatNumber(std::min(s.member.radiusFrom, s.member.radiusTo)) + " mm");
        if (s.member.blend < 0) refuse("a blend of 0 mm or more", formatNumber(s.member.blend) + " mm");
        if ((s.member.to - s.member.from).norm() < 1e-6) refuse("two different ends", "one place");
    }
    if (s.kind == CageStep::Kind::thickening) requireSound(s.thickening, s.name);
}

/// Moves the limit surface at the vertices by the amount, along its normals.
void thicken(cage::Cage& cage, const Thickening& t) {
    const cage::Connectivity c(cage);
    // the limit surface's normal at each vertex
    std::vector<cage::LimitPlace> places;
    std::vector<std::int32_t> of;
    for (std::size_t v = 0; v < cage.position.size(); ++v) {
        if (c.facesOfVertex[v].empty()) continue;
        const auto f = c.facesOfVertex[v].front();
        const double u[4] = {0, 1, 1, 0}, w[4] = {0, 0, 1, 1};
        for (int k = 0; k < 4; ++k)
            if (cage.face[f][k] == static_cast<std::int32_t>(v)) {
                places.push_back({f, u[k], w[k]});
                of.push_back(static_cast<std::int32_t>(v));
                break;
            }
    }
    const auto s = cage::limitStencils(cage, places, true);
    const auto rows = cage::asRows(cage.position);
    const cage::Points at = s.point * rows, du = s.du * rows, dv = s.dv * rows;
    // the limit surface moves less than the cage does: moved on by what is missing (Richardson iteration)
    cage::Points wanted = cage::Points::Zero(at.rows(), 3), moved = cage::Points::Zero(rows.rows(), 3);
    for (Eigen::Index r = 0; r < at.rows(); ++r) {
        const Vec3 normal = Vec3(du.row(r).transpose()).cross(Vec3(dv.row(r).transpose())).normalized();
        wanted.row(r) = t.amount * weightAt(t, at.row(r).transpose()) * normal.transpose();
    }
    for (int round = 0; round < 8; ++round) {
        const cage::Points missing = wanted - s.point * moved;
        for (std::size_t i = 0; i < of.size(); ++i) moved.row(of[i]) += missing.row(static_cast<Eigen::Index>(i));
    }
    for (auto v : of) cage.position[v] += moved.row(v).transpose();
}

double smoothMaximum(double a, double b, double radius) {
    return -shape::smoothMinimum(-a, -b, radius);
}

/// Distance to the body of a feature that is added, a little inside it so that its exact faces stay clear of the cage.
/// @param inset  mm
double insideDistance(const solid::Feature& f, double inset, const Vec3& p) {
    const double half = 0.5 * (f.before + f.length) - 0.5 * inset;  // the foot lies in the body
    const Vec3 d = p - (f.origin + (half - f.before) * f.axis);
    const double along = std::abs(d.dot(f.axis)) - half;
    if (f.kind == solid::Feature::Kind::boss) {
        const double across = (d - d.dot(f.axis) * f.axis).norm() - (0.5 * f.diameter - inset);
        return std::min(std::max(across, along), 0.0) + Vec3(std::max(across, 0.0), std::max(along, 0.0), 0).norm();
    }
    const Vec3 q(std::abs(d.dot(f.along)) - (0.5 * f.longSide - inset),
                 std::abs(d.dot(f.axis.cross(f.along))) - (0.5 * f.shortSide - inset), along);
    return std::min(q.maxCoeff(), 0.0) + q.cwiseMax(0).norm();
}

/// The body that a cage is wrapped around, as steps build it up. What will be cut away is cut here too, but for a
/// margin and with round edges, so that the features find material to cut and no more.
class Covered final : public shape::Shape {
  public:
    std::shared_ptr<const shape::Shape> base;
    std::vector<Member> members;
    std::vector<std::vector<shape::Primitive>> cuts;
    double margin = 0;
    std::vector<solid::Feature> blends;        ///< features that the cage goes over into
    double inset = 0;                          ///< of what the cage holds of them, mm
    surface::BallOpening opening;              ///< feather edges that no cage could follow end where its ball does
    std::vector<std::array<Vec3, 2>> mirrors;  ///< planes (point, unit normal): they end there on both sides
    Box3 box;
    shape::Sample evaluate(const Vec3& p) const override { return {surfaceValue(0, p), 0}; }
    int surfaceCount() const override { return 1; }
    double surfaceValue(int, const Vec3& p) const override {
        bool plain = false;
        return valueAt(p, plain);
    }
    Vec3 surfaceGradient(int, const Vec3& p) const override {
        bool plain = true;
        valueAt(p, plain);
        if (plain) return base->surfaceGradient(0, p);
        constexpr double h = 1e-4;
        Vec3 g;
        for (int a = 0; a < 3; ++a)
            g[a] = (surfaceValue(0, p + h * Vec3::Unit(a)) - surfaceValue(0, p - h * Vec3::Unit(a))) / (2 * h);
        return g;
    }
    Box3 bounds() const override { return box; }

  private:
    double reachedAt(const Vec3& p) const {
        if (opening.empty()) return -std::numeric_limits<double>::infinity();
        double reached = opening.value(p);
        for (std::size_t images = 1; images < (std::size_t{1} << mirrors.size()); ++images) {
            Vec3 q = p;
            for (std::size_t m = 0; m < mirrors.size(); ++m)
                if (images >> m & 1) q -= 2 * (q - mirrors[m][0]).dot(mirrors[m][1]) * mirrors[m][1];
            reached = std::max(reached, opening.value(q));
        }
        return reached;
    }
    /// @param plain  true afterwards when the base alone counts here
    double valueAt(const Vec3& p, bool& plain) const {
        double v = base->surfaceValue(0, p);
        plain = true;
        if (const double reached = reachedAt(p); reached > v) v = reached, plain = false;
        for (const auto& cut : cuts) {
            double d = -1e300;
            for (const shape::Primitive& q : cut) {
                d = smoothMaximum(d, q.distance(p), margin);
                if (d > margin) break;  // far outside of it
            }
            const double next = smoothMaximum(v, -(d + margin), margin);
            if (next != v) plain = false;
            v = next;
        }
        for (const Member& m : members) {
            const double next = shape::smoothMinimum(v, tubeDistance(m, p), m.blend);
            if (next != v) plain = false;
            v = next;
        }
        for (const solid::Feature& f : blends) {
            // wide enough to meet the exact face, beyond the inset, at the height of the radius
            const double in = std::max(inset, 0.1 * f.radius), root = std::sqrt(in) + std::sqrt(f.radius);
            const double next = shape::smoothMinimum(v, insideDistance(f, in, p), root * root);
            if (next != v) plain = false;
            v = next;
        }
        return v;
    }
};

/// A limit surface as a Shape.
class MeshShape final : public shape::Shape {
  public:
    /// @param offset  outward, mm
    explicit MeshShape(surface::TriMesh mesh, double offset = 0) : body_(surface::weld(mesh), offset) {}
    shape::Sample evaluate(const Vec3& p) const override { return {body_.value(p), 0}; }
    int surfaceCount() const override { return 1; }
    double surfaceValue(int, const Vec3& p) const override { return body_.value(p); }
    Vec3 surfaceGradient(int, const Vec3& p) const override { return body_.gradient(p); }
    Box3 bounds() const override { return body_.bounds(); }

  private:
    surface::MeshBody body_;
};

/// Planes of the part about which the target is symmetric too.
std::vector<std::array<Vec3, 2>> keptSymmetry(const Part& part, const cage::Target& target, const shape::Shape& body,
                                              double faceSize, std::vector<std::string>& notes) {
    std::vector<std::array<Vec3, 2>> planes;
    for (const SymmetryPlane& s : part.symmetry) {
        const auto& mesh = target.mesh();
        const std::size_t stride = std::max<std::size_t>(1, mesh.position.size() / 4000),
                          count = mesh.position.size() / stride;
        std::vector<double> off(count, 0);
        parallelFor(count, [&](std::size_t i) {
            const Vec3& p = mesh.position[i * stride];
            off[i] = std::abs(body.surfaceValue(0, p - 2 * (p - s.point).dot(s.normal) * s.normal) -
                              body.surfaceValue(0, p));
        });
        const double largest = *std::max_element(off.begin(), off.end());
        int axis = 0;
        s.normal.cwiseAbs().maxCoeff(&axis);
        if (std::abs(std::abs(s.normal[axis]) - 1) > 1e-9)
            notes.push_back("A symmetry plane that is not square to an axis is left out of the cage.");
        else if (largest > 0.1 * faceSize)
            notes.push_back("The surface is not symmetric about a plane of the part (by up to " +
                            formatNumber(largest) + " mm), so the cage is not either.");
        else
            planes.push_back({s.point, s.normal});
    }
    return planes;
}

/// Triangles of an imported body; with its offset laid on anew.
surface::TriMesh featureBody(const solid::Feature& f, Progress& progress) {
    surface::TriMesh mesh = exchange::readBody(f.path, f.unit);
    if (f.offset == 0) return mesh;
    const double spacing = std::sqrt(surface::measure(mesh).area / 2500);
    const MeshShape grown(std::move(mesh), f.offset);
    return surface::extractSurface(grown, spacing, false, progress);
}

struct CoverBody {
    std::shared_ptr<Covered> shape;
    std::function<bool(const Vec3&)> zone;
};

CoverBody coverBody(const Part& part, const FieldResult& field, const SurfaceResult& surface, const Recipe& recipe,
                    double faceSize, Progress& progress) {
    CoverBody r;
    const double margin = 0.6 * faceSize;
    const auto cover = coverShape(part, field, recipe, surface.solvedThreshold, margin, progress);
    r.shape = std::make_shared<Covered>();
    r.shape->base = cover.solid;
    r.shape->box = cover.solid->bounds();
    // what a bore leaves open inside the margin must be a face wide, or the cage goes straight across it
    r.shape->cuts = cutPrimitives(part, 2 * margin + faceSize);
    r.shape->margin = margin;
    r.zone = interfaceZone(part, field.regions, 0.5 * margin);
    if (surface.thickness.value.size() == surface.mesh.position.size())
        r.shape->opening =
            surface::BallOpening(surface.mesh, surface::TriangleTree(surface.mesh), surface.thickness.value,
                                 featherRadius(surface, faceSize), r.zone, progress);
    for (const SymmetryPlane& s : part.symmetry) r.shape->mirrors.push_back({s.point, s.normal});
    r.shape->inset = 0.12 * faceSize;
    for (const solid::Feature& f : recipe.rebuild.features) {
        if (!isBlendedInCage(f)) continue;
        r.shape->blends.push_back(f);
        const double reach = std::max({f.diameter, f.longSide, f.shortSide}) + 3 * f.radius;
        for (const Vec3& end : {Vec3(f.origin - f.before * f.axis), Vec3(f.origin + f.length * f.axis)}) {
            r.shape->box.include(end + Vec3::Constant(reach));
            r.shape->box.include(end - Vec3::Constant(reach));
        }
    }
    return r;
}

std::string featherText(const surface::BallOpening& opening, double radius) {
    const auto& places = opening.places();
    return std::to_string(places.size()) + (places.size() == 1 ? " place" : " places") + " thinner than " +
           formatNumber(2 * radius, 2) +
           (places.size() == 1 ? " mm (a feather edge or the tip of a tongue) ends"
                               : " mm (feather edges, tips of tongues) end") +
           " up to " + formatNumber(places.front().depth, 2) + " mm early, most at " +
           cage::placeText(places.front().at) + ".";
}

std::shared_ptr<const cage::Target> targetOf(const CoverBody& cover, const Recipe& recipe, Progress& progress) {
    return std::make_shared<const cage::Target>(
        surface::extractSurface(*cover.shape, recipe.surfaceSpacing, false,
                                surface::PieceRule{recipe.largestPieceOnly, 0.5 * recipe.smallestIsland}, progress,
                                nullptr),
        cover.shape, cover.zone);
}

}  // namespace

bool isBlendedInCage(const solid::Feature& f) {
    using K = solid::Feature::Kind;
    return f.on && f.blendInCage && f.radius > 0 && f.interface.empty() && solid::addsMaterial(f) &&
           (f.kind == K::boss || f.kind == K::pad || f.kind == K::rib);
}

double suggestedFaceSize(const SurfaceResult& surface) {
    const double fromWalls = 0.65 * surface.thickness.low5;
    const double area = surface.measures.area;
    return std::clamp(fromWalls, std::sqrt(area / 6000), std::sqrt(area / 200));
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

CageResult evaluateCage(const Part& part, const FieldResult& field, const SurfaceResult& surface, const Recipe& recipe,
                        Progress& progress) {
    const auto start = Clock::now();
    CageResult r;
    const Rebuild& how = recipe.rebuild;
    r.faceSize = how.faceSize > 0    ? how.faceSize
                 : how.faceCount > 0 ? std::sqrt(surface.measures.area / how.faceCount)
                                     : suggestedFaceSize(surface);
    CoverBody cover = coverBody(part, field, surface, recipe, r.faceSize, progress);
    std::shared_ptr<const cage::Target> target;
    bool wrapped = false, measured = false;
    cage::AutomaticOptions options;
    options.faceSize = r.faceSize;
    options.adapt = how.adapt;
    auto wrap = [&] {
        target = targetOf(cover, recipe, progress);
        r.notes.clear();
        if (!cover.shape->opening.empty())
            r.notes.push_back(featherText(cover.shape->opening, featherRadius(surface, r.faceSize)));
        options.symmetry = keptSymmetry(part, *target, *cover.shape, r.faceSize, r.notes);
        cage::AutomaticCage a = cage::automaticCage([&](const Vec3& p) { return cover.shape->surfaceValue(0, p); },
                                                    cover.shape->bounds(), *target, options, progress);
        r.cage = std::move(a.cage);
        r.deviation = std::move(a.deviation);
        r.tries = a.tries;
        wrapped = measured = true;
    };
    // what comes before the last cage by hand is part of it
    std::size_t first = 0;
    for (std::size_t i = 0; i < how.steps.size(); ++i)
        if (how.steps[i].on && how.steps[i].kind == CageStep::Kind::byHand) first = i;
    for (std::size_t i = first; i < how.steps.size(); ++i) {
        const CageStep& s = how.steps[i];
        if (!s.on) continue;
        requireSound(s);
        switch (s.kind) {
            case CageStep::Kind::byHand:
                if (!s.cage) throw InputError("A cage edited by hand is missing from the recipe.");
                r.cage = *s.cage;
                r.byHand = wrapped = true;
                measured = false;
                break;
            case CageStep::Kind::thickening:
                if (!wrapped) wrap();
                thicken(r.cage, s.thickening);
                measured = false;
                break;
            case CageStep::Kind::member: {
                if (wrapped && !measured) {
                    // the body so far is the limit surface
                    cover.shape->base = std::make_shared<MeshShape>(cage::LimitMesh(r.cage, 6).at(r.cage.position));
                    cover.shape->members.clear();
                    cover.shape->cuts.clear();
                    cover.shape->blends.clear();
                    cover.shape->opening = {};
                    Box3 box;
                    for (const Vec3& p : r.cage.position) box.include(p);
                    cover.shape->box = box;
                }
                cover.shape->members.push_back(s.member);
                const double reach = std::max(s.member.radiusFrom, s.member.radiusTo) + s.member.blend;
                for (const Vec3& p : {s.member.from, s.member.to}) {
                    cover.shape->box.include(p + Vec3::Constant(reach));
                    cover.shape->box.include(p - Vec3::Constant(reach));
                }
                wrapped = false;
                break;
            }
        }
    }
    if (!wrapped) wrap();
    if (!target) target = targetOf(cover, recipe, progress);
    r.report = cage::inspect(r.cage);
    if (!measured) r.deviation = cage::deviationOf(r.cage, *target, 5, progress);
    r.folded = cage::foldedFaces(r.cage);
    r.target = target;
    r.targetPieces = target->measures().pieces;
    r.targetGenus = target->measures().genus;
    r.agrees =
        r.report.closed && r.report.manifold && r.report.pieces == r.targetPieces && r.report.genus == r.targetGenus;
    auto finding = [&](GeometryFinding::Kind kind, const std::string& text, const Vec3& at, double before,
                       double after) {
        r.findings.push_back({kind, text, at, before, after});
    };
    if (r.report.closed && r.report.pieces != r.targetPieces)
        finding(GeometryFinding::Kind::pieces,
                "The cage has " + std::to_string(r.report.pieces) + " pieces, the surface without its bores " +
                    std::to_string(r.targetPieces) + ".",
                r.deviation.backLargestAt, r.targetPieces, r.report.pieces);
    if (r.report.closed && r.report.genus != r.targetGenus)
        finding(GeometryFinding::Kind::handles,
                "The cage has " + std::to_string(r.report.genus) + " handles, the surface without its bores " +
                    std::to_string(r.targetGenus) + ".",
                r.deviation.backLargestAt, r.targetGenus, r.report.genus);
    for (auto f : r.folded) {
        Vec3 at = Vec3::Zero();
        for (auto v : r.cage.face[f]) at += 0.25 * r.cage.position[v];
        finding(GeometryFinding::Kind::handles, "The limit surface folds over at " + cage::placeText(at) + ".", at, 0,
                1);
    }
    r.seconds = secondsSince(start);
    return r;
}

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
    r.solid = solid::buildSolid(cage.cage, patches, r.features, options, progress);
    r.mass = r.solid.solid.volume * part.material.density;
    const surface::Measures m = surface::measure(r.solid.mesh);
    r.genus = m.genus;
    r.pieces = m.pieces;
    r.surfaceGenus = surface.measures.genus;
    // faces of interfaces, where the implicit solid has them, on the solid's surfaces
    for (NamedFace f : surface.faces) {
        int best = -1;
        for (std::size_t s = 0; s < r.solid.surfaces.size(); ++s) {
            const auto& x = r.solid.surfaces[s];
            if (x.interface == f.interface && x.face == f.face) best = static_cast<int>(s);
        }
        // a face in a machined side of the design space is that side's
        if (best < 0)
            for (std::size_t s = 0; s < r.solid.surfaces.size(); ++s) {
                const auto& x = r.solid.surfaces[s];
                if (x.kind != solid::SolidSurface::Kind::plane || std::abs(std::abs(x.axis.dot(f.axis)) - 1) > 1e-9)
                    continue;
                const double along = (x.point - f.origin).dot(f.axis);
                if ((f.face == "start" || f.face == "end") && along >= f.low && along <= f.high)
                    best = static_cast<int>(s);
            }
        if (best < 0) {
            r.problems.push_back("The solid lacks the face '" + f.face + "' of " + f.interface + ".");
            continue;
        }
        f.surface = best;
        r.faces.push_back(f);
    }
    if (!cage.folded.empty())
        r.problems.push_back("The limit surface folds over in " + std::to_string(cage.folded.size()) +
                             " faces of the cage.");
    if (!r.solid.solid.closed) r.problems.push_back("The solid is not closed.");
    if (!r.solid.solid.valid) r.problems.push_back("The kernel's check finds the solid not valid.");
    if (!m.watertight) r.problems.push_back("The solid's triangles are not closed.");
    const double off = std::abs(r.solid.free.volume / r.limit.volume - 1);
    if (off > 1e-3)
        r.problems.push_back("The patches enclose " + formatNumber(100 * off, 2) +
                             " % more or less than the limit surface.");
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
    return formatNumber(100 * share, 2) + " %";
}

/// What a solid read back has otherwise than the one written.
std::vector<std::string> differences(const solid::SolidFigures& a, const solid::SolidFigures& b) {
    std::vector<std::string> differ;
    auto compare = [&](const char* what, double off, double limit) {
        if (!(off <= limit)) differ.push_back(std::string(what) + " differs by " + percent(off) + ".");
    };
    compare("The volume", std::abs(b.volume / a.volume - 1), 1e-4);
    compare("The area", std::abs(b.area / a.area - 1), 1e-4);
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
    if (path.ends_with(".3mf")) return differ;  // not read by this program
    const surface::Measures a = surface::measure(rebuild.solid.mesh),
                            b = surface::measure(surface::weld(exchange::readBody(path)));
    auto compare = [&](const char* what, double off) {
        if (!(off <= 1e-5)) differ.push_back(std::string(what) + " differs by " + percent(off) + ".");
    };
    compare("The volume", std::abs(b.volume / a.volume - 1));
    compare("The area", std::abs(b.area / a.area - 1));
    compare("The centre of gravity", (b.centroid - a.centroid).norm() / std::cbrt(a.volume));
    if (b.pieces != a.pieces || !b.watertight) differ.push_back("What was read back is not the same closed body.");
    return differ;
}

}  // namespace escultura::stages
