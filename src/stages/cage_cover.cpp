#include "stages/cage_cover.hpp"

#include <algorithm>
#include <cmath>

#include "base/parallel.hpp"
#include "base/quantity.hpp"
#include "stages/field_stage.hpp"
#include "stages/kept_faces.hpp"
#include "stages/rebuild_stage.hpp"
#include "stages/surface_stage.hpp"
#include "surface/extract.hpp"
#include "surface/patched_body.hpp"

namespace escultura::stages {
namespace {

/// Radius of the ball that must fit into what the cage is fitted to, mm: it tells feather edges from walls.
double featherRadius(const SurfaceResult& surface, double faceSize) {
    return std::min(0.35 * faceSize, 0.4 * surface.thickness.least);
}

/// A conical tube with round ends.
double tubeDistance(const Member& m, const Vec3& p) {
    const Vec3 d = m.to - m.from;
    const double t = std::clamp((p - m.from).dot(d) / std::max(d.squaredNorm(), 1e-12), 0.0, 1.0);
    return (p - m.from - t * d).norm() - (m.radiusFrom + t * (m.radiusTo - m.radiusFrom));
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

}  // namespace

double LayerEnds::value(const shape::Shape& body, const Vec3& p, bool& plain) const {
    plain = true;
    if (!faces) return body.surfaceValue(0, p);
    const double deepest = *std::max_element(depth.begin(), depth.end());
    const auto n = faces->nearest(p, 2 * deepest + 3 * cell);
    if (n.patch < 0) return body.surfaceValue(0, p);
    const double own = depth[static_cast<std::size_t>(faces->patches()[static_cast<std::size_t>(n.patch)].interface)];
    // from here on a member keeps its section: the field's own layer, of two cells at least, ends before
    const double level = std::max(own + 0.7 * cell, 2.5 * cell);
    if (n.across >= 0 ? n.front >= 0 || n.height < 0 : n.height <= -level) return body.surfaceValue(0, p);
    plain = false;
    const double overlap = std::min(cell, 0.5 * own), inset = std::min(0.5 * cell, own / 3);
    // less and less towards edges where the body rises before the face
    const double share = std::clamp(-n.front / cell, 0.0, 1.0);
    const double end = n.height + own - overlap - (1 - share) * (n.height + level);
    double v = std::max(body.surfaceValue(0, p - share * std::max(0.0, n.height + level) * n.normal), end);
    // away from outer edges, where the layer's sides are exact
    if (-n.front > -n.across + 1e-9) v = std::max(v, n.across + inset - std::max(0.0, -n.height - own));
    return v;
}

double Covered::surfaceValue(int, const Vec3& p) const {
    bool plain = false;
    return valueAt(p, plain);
}

Vec3 Covered::surfaceGradient(int, const Vec3& p) const {
    bool plain = true;
    valueAt(p, plain);
    if (plain) return base->surfaceGradient(0, p);
    constexpr double h = 1e-4;
    Vec3 g;
    for (int a = 0; a < 3; ++a)
        g[a] = (surfaceValue(0, p + h * Vec3::Unit(a)) - surfaceValue(0, p - h * Vec3::Unit(a))) / (2 * h);
    return g;
}

double Covered::reachedAt(const Vec3& p) const {
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

double Covered::valueAt(const Vec3& p, bool& plain) const {
    double v = layers.value(*base, p, plain);
    if (const double reached = reachedAt(p); reached > v) {
        v = reached;
        plain = false;
    }
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

CoverBody coverBody(const Part& part, const FieldResult& field, const SurfaceResult& surface, const Recipe& recipe,
                    double faceSize, Progress& progress) {
    CoverBody r;
    const double margin = 0.6 * faceSize;
    const auto cover = coverShape(part, field, recipe, surface.solvedThreshold, margin, progress);
    r.shape = std::make_shared<Covered>();
    r.shape->base = cover.solid;
    r.latticeSpacing = cover.latticeSpacing;
    r.shape->layers.faces = keptFacesOf(part);
    for (const Interface& i : part.interfaces)
        r.shape->layers.depth.push_back(i.kind == Interface::Kind::faces ? i.length : 0);
    r.shape->layers.cell = field.field.spacing.minCoeff();
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

std::string featherText(const CoverBody& cover, const SurfaceResult& surface, double faceSize) {
    if (cover.shape->opening.empty()) return {};
    const auto& places = cover.shape->opening.places();
    const double radius = featherRadius(surface, faceSize);
    return std::to_string(places.size()) + (places.size() == 1 ? " place" : " places") + " thinner than " +
           formatNumber(2 * radius, 2) +
           (places.size() == 1 ? " mm (a feather edge or the tip of a tongue) ends"
                               : " mm (feather edges, tips of tongues) end") +
           " up to " + formatNumber(places.front().depth, 2) + " mm early, most at " +
           cage::placeText(places.front().at) + ".";
}

std::shared_ptr<const cage::Target> targetOf(const CoverBody& cover, const Recipe& recipe, Progress& progress) {
    surface::ExtractOptions o{recipe.surfaceSpacing,
                              false,
                              {recipe.largestPieceOnly, 0.5 * recipe.smallestIsland},
                              cover.latticeSpacing,
                              Vec3::Zero()};
    if (const LayerEnds& layers = cover.shape->layers; layers.faces) {
        // layers join what is left between them; what is smaller than a few cells was cut off at their edges
        o.pieces = {false, std::max(o.pieces.smallest, 8 * std::pow(layers.cell, 3))};
    }
    return std::make_shared<const cage::Target>(surface::extractSurface(*cover.shape, o, progress), cover.shape,
                                                cover.zone);
}

void addMember(Covered& cover, const Member& m) {
    cover.members.push_back(m);
    const double reach = std::max(m.radiusFrom, m.radiusTo) + m.blend;
    for (const Vec3& p : {m.from, m.to}) {
        cover.box.include(p + Vec3::Constant(reach));
        cover.box.include(p - Vec3::Constant(reach));
    }
}

std::shared_ptr<const shape::Shape> meshShape(surface::TriMesh mesh, double offset) {
    return std::make_shared<MeshShape>(std::move(mesh), offset);
}

}  // namespace escultura::stages
