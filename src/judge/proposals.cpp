#include "judge/proposals.hpp"

#include <algorithm>
#include <cmath>

#include "base/quantity.hpp"
#include "base/text.hpp"
#include "duty/part_numbers.hpp"
#include "judge/findings.hpp"

namespace escultura::judge {
namespace {

using assess::HotspotClass;

std::string mm(double v) {
    return plainNumber(v, 3) + " mm";
}

/// Wall thickness at the vertex of the surface nearest to a place, mm; 0: not known.
double wallAt(const SurfaceResult& surface, const Vec3& p) {
    if (surface.thickness.value.size() != surface.mesh.position.size()) return 0;
    double best = 1e300, wall = 0;
    for (std::size_t v = 0; v < surface.mesh.position.size(); ++v) {
        const double d = (surface.mesh.position[v] - p).squaredNorm();
        if (d < best) {
            best = d;
            wall = surface.thickness.value[v];
        }
    }
    return wall;
}

/// Free surface within a region, weighted by how much the region moves it, mm2.
double thickenedArea(const surface::TriMesh& mesh, const Thickening& t) {
    double area = 0;
    for (std::size_t f = 0; f < mesh.triangle.size(); ++f) {
        if (mesh.owner[f] != 0) continue;  // machined faces stay where they are
        const auto& v = mesh.triangle[f];
        const Vec3 &a = mesh.position[v[0]], &b = mesh.position[v[1]], &c = mesh.position[v[2]];
        area += 0.5 * (b - a).cross(c - a).norm() * weightAt(t, (a + b + c) / 3);
    }
    return area;
}

/// Safety factor around a place on a check, over all cases.
double factorAround(const Part& part, const CheckResult& check, const Vec3& place, double reach) {
    double highest = 0, nearest = 1e300, atNearest = 0;
    for (const auto& t : check.mesh.boundary)
        for (auto n : t) {
            const double d = (check.mesh.position[n] - place).norm();
            if (d <= reach) highest = std::max(highest, check.envelope.stress[n]);
            if (d < nearest) {
                nearest = d;
                atNearest = check.envelope.stress[n];
            }
        }
    return assess::safetyFactor(elastic::strength(part.material), highest > 0 ? highest : atNearest);
}

double checkedMass(const Part& part, const CheckResult& check) {
    return check.quality.volume * part.material.density;
}

/// Makes the proposals for one finding.
class Proposer {
  public:
    Proposer(const Part& part, const Recipe& recipe, const SurfaceResult& surface, const FieldResult& field,
             const Finding& f)
        : part(part), recipe(recipe), surface(surface), field(field), f(f) {}

    Proposal& propose(Proposal::Kind kind, const std::string& text, const std::string& basis) {
        Proposal p;
        p.kind = kind;
        p.finding = f.id;
        p.text = text;
        p.basis = basis;
        p.recipe = recipe;
        p.position = f.position;
        p.reach = 1.5 * recipe.elementSize;
        p.before = p.low = p.high = f.kind == Finding::Kind::hotspot ? f.safetyFactor : 0;
        list.push_back(std::move(p));
        return list.back();
    }
    /// A larger blend at the interface whose ring ends near by.
    void blend();
    /// @param amount  mm; 0: what suits the wall
    void thicken(double amount);
    void lowerThreshold();
    void refine();

    std::vector<Proposal> list;

  private:
    const Part& part;
    const Recipe& recipe;
    const SurfaceResult& surface;
    const FieldResult& field;
    const Finding& f;
};

void Proposer::blend() {
    const Interface* nearest = part.findInterface(f.nearestInterface);
    const bool onBlend = nearest && nearest->kind != Interface::Kind::bore && nearest->blendRadius > 0 &&
                         f.distance < 3 * nearest->blendRadius + recipe.elementSize;
    if (onBlend) {
        const double radius = nearest->blendRadius, larger = std::ceil(2 * std::max(1.5 * radius, radius + 1)) / 2;
        for (const PartNumberInfo& n : partNumbers(part))
            if (n.label == nearest->name + ": blend radius") {
                Proposal& p = propose(Proposal::Kind::blend,
                                      "Blend radius at " + nearest->name + " from " + mm(radius) + " to " + mm(larger),
                                      "a hollow's peak falls at most with the square root of its radius (Inglis)");
                setNumber(p.recipe.numbers, n.place, larger * n.value / radius);
                p.high = p.before * std::sqrt(larger / radius);
                // ring of the blend's cross-section around the interface
                p.mass = part.material.density * 0.2146 * (larger * larger - radius * radius) * 3.1416 *
                         std::max(nearest->ringDiameter, nearest->boreDiameter);
            }
    }
}

void Proposer::thicken(double amount) {
    double t = wallAt(surface, f.position);
    if (!(t > 0)) t = 3 * recipe.surfaceSpacing;
    double x = amount > 0 ? amount : std::max(t / 6, 0.25 * recipe.surfaceSpacing);
    if (f.kind == Finding::Kind::thinWall && amount <= 0)
        for (const Requirement& r : part.requirements)
            if (r.kind == Requirement::Kind::minimumWall) x = std::max(x, 0.55 * (r.limit - t) + 0.1);
    x = std::round(10 * x) / 10;
    Thickening region;
    region.centre = f.position;
    region.radius = std::max(1.5 * t, 2 * recipe.surfaceSpacing);
    region.edge = std::max(t, 3 * recipe.surfaceSpacing);
    region.amount = x;
    Proposal& p =
        propose(Proposal::Kind::thicken, "Thicken by " + mm(x) + " around " + f.id + " over " + mm(2 * region.radius),
                "both sides of a " + mm(t) + " wall move: stress falls with its thickness (tension) to " +
                    "its square (bending)");
    p.recipe.thickenings.push_back(region);
    const double grown = 1 + 2 * x / t;
    p.low = p.before * grown;
    p.high = p.before * grown * grown;
    p.mass = part.material.density * x * thickenedArea(surface.mesh, region);
}

void Proposer::lowerThreshold() {
    const double lower = std::max(0.05, recipe.threshold - 0.05);
    if (lower < recipe.threshold - 1e-9) {
        Recipe next = recipe;
        next.threshold = lower;
        const double now = thresholdFigures(part, field, recipe).keptPiecesVolume;
        const double then = thresholdFigures(part, field, next).keptPiecesVolume;
        if (then > 1.001 * now) {  // else it keeps nothing more
            Proposal& p = propose(Proposal::Kind::threshold,
                                  "Threshold from " + plainNumber(recipe.threshold, 3) + " to " + plainNumber(lower, 3),
                                  "stress falls with the kept volume (tension) to its square (bending)");
            p.recipe = next;
            p.low = p.before * then / now;
            p.high = p.before * then * then / (now * now);
            p.mass = (then - now) * part.material.density;
        }
    }
}

void Proposer::refine() {
    const double size = std::round(50 * recipe.elementSize) / 100;
    Proposal& p = propose(Proposal::Kind::refine, "Elements of " + mm(size) + " around " + f.id,
                          "the part stays; the answer gets better");
    LocalSize s;
    s.kind = LocalSize::Kind::sphere;
    s.centre = f.position;
    s.radius = 3 * recipe.elementSize;
    s.size = size;
    s.name = f.id;
    p.recipe.check.localSizes.push_back(s);
    p.low = p.high = 0;  // nothing is predicted
}

}  // namespace

const char* name(Proposal::Kind kind) {
    static const char* names[] = {"blend radius", "thicken", "threshold", "refine the mesh", "exclude"};
    return names[static_cast<int>(kind)];
}

std::vector<Proposal> proposalsFor(const Project& project, const Variant& variant, const Finding& f, double amount) {
    const Recipe& recipe = variant.recipe;
    const auto surface = project.surface(recipe);
    const auto field = project.field(recipe);
    if (!surface || !project.check(recipe) || !field) return {};
    Proposer proposer(project.partOf(recipe), recipe, *surface, *field, f);
    const bool hot = f.kind == Finding::Kind::hotspot;
    const HotspotClass verdict = f.evidence.verdict;
    const bool artefact = verdict == HotspotClass::artefact, singular = verdict == HotspotClass::singular;
    if (hot && (artefact || singular))
        proposer.propose(Proposal::Kind::exclude,
                         std::string("Sign ") + f.id + " as " + assess::name(verdict) + ": its zone no longer counts",
                         f.evidence.reason);
    if (hot && !artefact) proposer.blend();
    const bool wall = f.kind == Finding::Kind::thinWall || f.kind == Finding::Kind::memberThinned ||
                      f.kind == Finding::Kind::memberLost || f.kind == Finding::Kind::lostWalls;
    const bool free = !recipe.check.original;
    if (free && (wall || (hot && !artefact))) proposer.thicken(amount);
    if (free && (wall || (hot && !artefact && !singular))) proposer.lowerThreshold();
    if ((hot && (verdict == HotspotClass::untested || verdict == HotspotClass::unresolved)) ||
        f.kind == Finding::Kind::badElements || f.kind == Finding::Kind::lostWalls)
        proposer.refine();
    return proposer.list;
}

Variant& applyProposal(Project& project, std::size_t from, const Proposal& proposal) {
    const std::int64_t id = project.variants.at(from).id;
    Variant& v = addVariant(project, from);
    v.recipe = proposal.recipe;
    v.origin = {id,           proposal.finding, proposal.text, proposal.position, proposal.reach, proposal.before,
                proposal.low, proposal.high,    proposal.mass};
    return v;
}

std::optional<MeasuredEffect> measuredEffect(const Project& project, const Variant& variant) {
    const Origin& o = variant.origin;
    if (o.variant == 0) return std::nullopt;
    MeasuredEffect e{o.before, o.low, o.high, std::nullopt, o.mass, std::nullopt};
    const auto check = project.check(variant.recipe);
    if (!check) return e;
    const Part& part = project.partOf(variant.recipe);
    // thickened surface has moved away from the old place
    double reach = o.reach;
    for (const Thickening& t : variant.recipe.thickenings) reach = std::max(reach, o.reach + std::abs(t.amount));
    e.after = factorAround(part, *check, o.position, reach);
    if (const Variant* from = project.findVariant(o.variant))
        if (const auto before = project.check(from->recipe))
            e.mass = checkedMass(part, *check) - checkedMass(project.partOf(from->recipe), *before);
    return e;
}

}  // namespace escultura::judge
