/// From the surface to the fitted cage: the fewest faces within a tolerance or faces of a given size, and the recipe's
/// changes in their order.

#include <algorithm>
#include <chrono>
#include <cmath>
#include <optional>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "cage/fewest.hpp"
#include "stages/cage_cover.hpp"
#include "stages/field_stage.hpp"
#include "stages/rebuild_stage.hpp"
#include "stages/surface_stage.hpp"

namespace escultura::stages {
namespace {

using Clock = std::chrono::steady_clock;

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

/// Moves the limit surface by the amount, along its normals.
void thicken(cage::Cage& cage, const Thickening& t) {
    cage::moveLimit(cage, [&](const Vec3& p) { return t.amount * weightAt(t, p); });
}

}  // namespace

double suggestedFaceSize(const SurfaceResult& surface) {
    const double fromWalls = 0.65 * surface.thickness.low5;
    const double area = surface.measures.area;
    return std::clamp(fromWalls, std::sqrt(area / 6000), std::sqrt(area / 200));
}

double cageTolerance(const FieldResult& field, const Recipe& recipe) {
    return recipe.rebuild.tolerance > 0 ? recipe.rebuild.tolerance : 0.5 * field.field.spacing.minCoeff();
}

namespace {

constexpr double rmsShare = 0.2;  // of the tolerance

struct Fewest {
    CoverBody cover;
    std::shared_ptr<const cage::Target> target;
};

/// Distances over what is allowed, the larger of root mean square and largest.
double largestShare(const cage::CageDeviation& d, const cage::FewestOptions& o) {
    return std::max(std::max(d.rms, d.backRms) / o.rms, std::max(d.largest, d.backLargest) / o.largest);
}

/// The cage with the fewest faces within the tolerance; none: no grid got the handles right.
std::optional<Fewest> fewest(const Part& part, const FieldResult& field, const SurfaceResult& surface,
                             const Recipe& recipe, const std::vector<Member>& members, CageResult& r,
                             Progress& progress) {
    struct Made {
        double size = 0;  ///< of the faces that the cover's margins suit, mm
        Fewest body;
        std::vector<std::string> notes;
    };
    std::vector<Made> made;
    auto bodyOf = [&](double size) {
        Made m;
        m.size = size;
        m.body.cover = coverBody(part, field, surface, recipe, size, progress);
        for (const Member& member : members) addMember(*m.body.cover.shape, member);
        m.body.target = targetOf(m.body.cover, recipe, progress);
        const auto& shape = m.body.cover.shape;
        if (auto text = featherText(m.body.cover, surface, size); !text.empty()) m.notes.push_back(std::move(text));
        cage::WrapBody body{[shape](const Vec3& p) { return shape->surfaceValue(0, p); }, shape->bounds(),
                            m.body.target, keptSymmetry(part, *m.body.target, *shape, size, m.notes)};
        made.push_back(std::move(m));
        return body;
    };
    cage::FewestOptions o;
    o.largest = r.tolerance;
    o.rms = rmsShare * r.tolerance;
    o.firstSize = std::sqrt(surface.measures.area / 40);
    o.leastSize = 0.8 * suggestedFaceSize(surface);
    cage::FewestCage few = cage::fewestFaces(bodyOf, o, progress);
    const auto used =
        std::find_if(made.begin(), made.end(), [&](const Made& m) { return m.body.target == few.body.target; });
    std::optional<Fewest> found;
    auto take = [&](cage::AutomaticCage& c, int tries, Made& body) {
        r.cage = std::move(c.cage);
        r.deviation = std::move(c.deviation);
        r.tries = tries;
        r.faceSize = body.size;  // a cage taken by hand later is compared with the same cover
        r.notes = body.notes;
        found = body.body;
    };
    const bool usable = used != made.end() && few.cage.agrees && few.cage.folded.empty();
    if (usable && few.within) {
        take(few.cage, few.wraps, *used);
        return found;
    }
    // no large faces keep the tolerance: small ones, split where they do not
    double least = usable ? largestShare(few.cage.deviation, o) : 1e300;
    if (usable) take(few.cage, few.wraps, *used);
    for (double times : {2.2, 1.5, 1.0}) {
        const double size = times * suggestedFaceSize(surface);
        const cage::WrapBody body = bodyOf(size);
        cage::AutomaticOptions automatic;
        automatic.faceSize = size;
        automatic.adapt = recipe.rebuild.adapt;
        automatic.largest = o.largest;
        automatic.rms = o.rms;
        automatic.symmetry = body.symmetry;
        cage::AutomaticCage c = cage::automaticCage(body.value, body.bounds, *body.target, automatic, progress);
        const double share = largestShare(c.deviation, o);
        if (!c.agrees || !c.folded.empty() || share >= least) continue;
        least = share;
        take(c, few.wraps + c.tries, made.back());
        if (least <= 1) break;
    }
    return found;
}

/// Takes the limit surface of a cage as the body.
void becomeLimit(const cage::Cage& made, Covered& shape) {
    shape.base = meshShape(cage::LimitMesh(made, 6).at(made.position));
    shape.layers = {};
    shape.members.clear();
    shape.cuts.clear();
    shape.blends.clear();
    shape.opening = {};
    shape.box = {};
    for (const Vec3& p : made.position) shape.box.include(p);
}

/// What comes before the last cage by hand is part of it.
std::size_t firstStep(const Rebuild& how) {
    std::size_t first = 0;
    for (std::size_t i = 0; i < how.steps.size(); ++i)
        if (how.steps[i].on && how.steps[i].kind == CageStep::Kind::byHand) first = i;
    return first;
}

/// Whether the tolerance is kept, and a note where it is not.
void judgeTolerance(CageResult& r) {
    if (r.tolerance > 0) {
        r.within = std::max(r.deviation.largest, r.deviation.backLargest) <= r.tolerance &&
                   std::max(r.deviation.rms, r.deviation.backRms) <= rmsShare * r.tolerance;
        if (!r.within)
            r.notes.push_back(
                "The tolerance of " + formatNumber(r.tolerance, 3) + " mm is not kept: the cage is up to " +
                formatNumber(std::max(r.deviation.largest, r.deviation.backLargest), 3) + " mm off (root mean square " +
                formatNumber(std::max(r.deviation.rms, r.deviation.backRms), 3) + " of " +
                formatNumber(rmsShare * r.tolerance, 3) + " mm), most at " +
                cage::placeText(r.deviation.largest > r.deviation.backLargest ? r.deviation.largestAt
                                                                              : r.deviation.backLargestAt) +
                ".");
    }
}

/// What the cage has otherwise than the surface.
void addFindings(CageResult& r) {
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
}

/// What can be said of a finished cage. @param measured  its deviation is known and the tolerance was aimed at
void inspect(CageResult& r, const std::shared_ptr<const cage::Target>& target, bool measured, Progress& progress) {
    r.report = cage::inspect(r.cage);
    if (!measured) r.deviation = cage::deviationOf(r.cage, *target, cage::fineDivisions(r.cage, *target), progress);
    r.folded = cage::foldedFaces(r.cage);
    r.irregular = cage::irregularVertices(r.cage);
    if (r.byHand || !measured) r.tolerance = 0;  // changed after the fit, on purpose
    judgeTolerance(r);
    r.target = target;
    r.targetPieces = target->measures().parts();
    r.targetGenus = target->measures().genus;
    r.agrees =
        r.report.closed && r.report.manifold && r.report.pieces == r.targetPieces && r.report.genus == r.targetGenus;
    addFindings(r);
}

}  // namespace

CageResult evaluateCage(const Part& part, const FieldResult& field, const SurfaceResult& surface, const Recipe& recipe,
                        Progress& progress) {
    const auto start = Clock::now();
    CageResult r;
    const Rebuild& how = recipe.rebuild;
    r.faceSize = how.faceSize > 0    ? how.faceSize
                 : how.faceCount > 0 ? std::sqrt(surface.measures.area / how.faceCount)
                                     : suggestedFaceSize(surface);
    std::vector<Member> members;     // to be wrapped with the body
    std::optional<CoverBody> cover;  // made when it is known for which size
    std::shared_ptr<const cage::Target> target;
    bool wrapped = false, measured = false, fromLimit = false;
    auto covered = [&]() -> CoverBody& {
        if (!cover) {
            cover = coverBody(part, field, surface, recipe, r.faceSize, progress);
            for (const Member& m : members) addMember(*cover->shape, m);
        }
        return *cover;
    };
    cage::AutomaticOptions options;
    options.faceSize = r.faceSize;
    options.adapt = how.adapt;
    const bool byTolerance = !(how.faceSize > 0) && how.faceCount == 0;
    if (byTolerance) r.tolerance = cageTolerance(field, recipe);
    auto wrap = [&] {
        wrapped = measured = true;
        if (byTolerance && !fromLimit) {
            if (auto few = fewest(part, field, surface, recipe, members, r, progress)) {
                cover = std::move(few->cover);
                target = few->target;
                return;
            }
        }
        const CoverBody& body = covered();
        target = targetOf(body, recipe, progress);
        r.notes.clear();
        if (auto text = featherText(body, surface, r.faceSize); !text.empty()) r.notes.push_back(std::move(text));
        options.symmetry = keptSymmetry(part, *target, *body.shape, r.faceSize, r.notes);
        cage::AutomaticCage a = cage::automaticCage([&](const Vec3& p) { return body.shape->surfaceValue(0, p); },
                                                    body.shape->bounds(), *target, options, progress);
        r.cage = std::move(a.cage);
        r.deviation = std::move(a.deviation);
        r.tries = a.tries;
    };
    for (std::size_t i = firstStep(how); i < how.steps.size(); ++i) {
        const CageStep& s = how.steps[i];
        if (!s.on) continue;
        requireSound(s);
        switch (s.kind) {
            case CageStep::Kind::byHand:
                if (!s.cage) throw InputError("A cage edited by hand is missing from the recipe.");
                r.cage = *s.cage;
                if (s.faceSize > 0) r.faceSize = s.faceSize;
                r.byHand = wrapped = true;
                measured = false;
                break;
            case CageStep::Kind::thickening:
                if (!wrapped) wrap();
                thicken(r.cage, s.thickening);
                measured = false;
                break;
            case CageStep::Kind::member:
                if (wrapped && !measured) {
                    // the body so far is the limit surface
                    becomeLimit(r.cage, *covered().shape);
                    fromLimit = true;
                }
                members.push_back(s.member);
                if (cover) addMember(*cover->shape, s.member);
                wrapped = false;
                break;
        }
    }
    if (!wrapped) wrap();
    if (!target) target = targetOf(covered(), recipe, progress);
    inspect(r, target, measured, progress);
    r.seconds = std::chrono::duration<double>(Clock::now() - start).count();
    return r;
}

}  // namespace escultura::stages
