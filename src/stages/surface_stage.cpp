/// From the field to the measured surface. Long because it holds two ways of keeping the volume side by side: by one
/// threshold, and locally so that members stay, until the second can be the only one.

#include "stages/surface_stage.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <numeric>
#include <unordered_map>

#include "base/disjoint_sets.hpp"
#include "base/error.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"
#include "field/topology.hpp"
#include "shape/drafted_body.hpp"
#include "stages/edited_field.hpp"
#include "stages/field_stage.hpp"
#include "stages/surface_figures.hpp"
#include "stages/thin_members.hpp"
#include "surface/curvature.hpp"
#include "surface/extract.hpp"
#include "surface/mirrored.hpp"
#include "surface/remesh.hpp"

namespace escultura::stages {
namespace {

// Shortest edges that rounded edges ask for, in halves of the usual spacing: fillets of a hair do not fill the memory.
constexpr double shortestChord = 0.5;

PartShape solidAt(const Part& part, const FieldResult& field, const Recipe& recipe,
                  std::shared_ptr<const shape::SmoothDensity> density, double threshold) {
    return buildShape(part, field.regions, std::make_shared<shape::FieldBody>(std::move(density), threshold),
                      recipe.edges);
}

std::shared_ptr<const shape::SmoothDensity> smoothDensity(const Part& part, const FieldResult& field,
                                                          const EditedField& edited, const Recipe& recipe,
                                                          Progress& progress) {
    shape::FieldSmoothing smoothing;
    smoothing.length = recipe.smoothing;
    for (const SymmetryPlane& s : part.symmetry) smoothing.symmetryPlanes.push_back({s.point, s.normal});
    if (recipe.keepMembers && recipe.smoothing > 0) smoothing.local = edited.volume;
    return std::make_shared<shape::SmoothDensity>(edited.cells, field.isVoid, smoothing, progress);
}

/// The design space without what the rounding of its sides' edges trims. @param beside  what else to leave out, mm
Box3 untrimmed(const FieldResult& field, const Recipe& recipe, double beside) {
    Box3 box = field.regions.designSpace.grown(-beside);
    for (int a = 0; a < 3; ++a) {
        box.low[a] += recipe.edges.at(2 * a);
        box.high[a] -= recipe.edges.at(2 * a + 1);
    }
    return box;
}

/// What a threshold of the smoothed density encloses beside the cells that are kept, where the field alone says what
/// the body is and no side of the design space trims it.
class KeptWhereItSpeaks {
  public:
    KeptWhereItSpeaks(const FieldResult& field, const Recipe& recipe, const EditedField& edited,
                      std::shared_ptr<const shape::SmoothDensity> density)
        : field_(edited.cells), density_(std::move(density)), spacing_(edited.cells.spacing) {
        const field::DensityField& cells = edited.cells;
        const Box3 inner = untrimmed(field, recipe, cells.spacing.maxCoeff());
        for (const bool trimmed : {false, true}) {  // a part that lies along its design space has no other cells
            if (kept_ > 0) break;
            cells_.clear();
            keeps_.clear();
            for (std::size_t c = 0; c < cells.count(); ++c) {
                if (!(edited.volume.speaks[c] > 0) || (!trimmed && !inner.contains(cells.centre(c)))) continue;
                cells_.push_back(c);
                keeps_.push_back(edited.volume.target[c]);
                kept_ += keeps_.back();
                boundary_ += keeps_.back() > 0 && keeps_.back() < 1;
            }
        }
    }
    /// mm3
    double asked() const { return kept_ * field_.cellVolume(); }
    /// Volume between the boundary and one that is two ten-thousandths of a cell away, mm3.
    double hair() const { return 2e-4 * static_cast<double>(boundary_) * field_.cellVolume(); }
    double excess(double threshold) const {
        const shape::FieldBody body(density_, threshold);
        const double cell = spacing_.maxCoeff(), far = 0.9 * spacing_.norm();
        constexpr int fine = 3;
        return field_.cellVolume() * orderedSum(cells_.size(), 0.0, [&](std::size_t n) {
                   const Vec3 p = field_.centre(cells_[n]);
                   const double d = body.value(p);
                   double share = d < 0;
                   if (std::abs(d) < far) {
                       share = 0;
                       // a ramp as wide as a sample makes curved bodies larger by its square: small samples
                       for (int s = 0; s < fine * fine * fine; ++s) {
                           const Vec3 at(s % fine, s / fine % fine, s / (fine * fine));
                           const Vec3 q =
                               p + spacing_.cwiseProduct((at + Vec3::Constant(0.5)) / fine - Vec3::Constant(0.5));
                           share += std::clamp(0.5 - body.value(q) * fine / cell, 0.0, 1.0) / (fine * fine * fine);
                       }
                   }
                   return share - keeps_[n];
               });
    }

  private:
    const field::DensityField& field_;
    std::shared_ptr<const shape::SmoothDensity> density_;
    Vec3 spacing_;
    std::vector<std::size_t> cells_;
    std::vector<float> keeps_;
    double kept_ = 0;
    std::size_t boundary_ = 0;
};

/// The threshold at which an excess of volume, which falls with it, is zero: bracketed by growing steps, then by regula
/// falsi. Where it cannot be reached, the end of the range that is nearest.
/// @param excess  of a threshold, mm3
template <class Excess>
double thresholdWithout(const Excess& excess, double start, double firstStep, double tolerance) {
    double low = start, high = start;
    double fl = excess(low), fh = fl;
    if (std::abs(fl) <= tolerance) return start;
    for (double step = firstStep; fl < 0 && low > 0.01; step *= 2) {  // too little: lower the threshold
        high = low;
        fh = fl;
        low = std::max(low - step, 0.01);
        fl = excess(low);
    }
    for (double step = firstStep; fh > 0 && high < 0.99; step *= 2) {
        low = high;
        fl = fh;
        high = std::min(high + step, 0.99);
        fh = excess(high);
    }
    if (fl < 0) return low;
    if (fh > 0) return high;
    for (int i = 0; i < 12; ++i) {
        const double t =
            std::clamp(low + (high - low) * fl / (fl - fh), low + 0.05 * (high - low), high - 0.05 * (high - low));
        const double f = excess(t);
        if (std::abs(f) < tolerance) return t;
        (f > 0 ? low : high) = t;
        (f > 0 ? fl : fh) = f;
    }
    return 0.5 * (low + high);
}

/// The threshold of the smoothed density that encloses as much as the kept cells, within a hair at the
/// boundary and 0.02 %.
double solveKeptThreshold(const KeptWhereItSpeaks& kept, double start, Progress& progress) {
    progress.step("Keeping the volume");
    return thresholdWithout(
        [&](double t) {
            progress.check();
            return kept.excess(t);
        },
        start, 0.02, std::min(2e-4 * kept.asked(), std::max(kept.hair(), 1e-6 * kept.asked())));
}

/// The threshold at which the solid encloses the asked volume within 0.02 % of the sampled volume.
double solveThreshold(const Part& part, const FieldResult& field, const Recipe& recipe,
                      const std::shared_ptr<const shape::SmoothDensity>& density, double start, double asked,
                      double fineness, Progress& progress) {
    const double cell = fineness * field.field.spacing.minCoeff();
    return thresholdWithout(
        [&](double t) {
            return surface::sampledVolume(*solidAt(part, field, recipe, density, t).solid, cell, progress) - asked;
        },
        start, 0.04, 2e-4 * asked);
}

/// Moves the threshold, and the vertices with it, until the surface encloses the asked volume within 0.02 %: the
/// sampled volume is right to about a per cent only.
void keepVolume(const Part& part, const FieldResult& field, const Recipe& recipe,
                const std::shared_ptr<const shape::SmoothDensity>& density,
                const std::vector<lattice::SurfaceSet>& vertexSurfaces, SurfaceResult& r, Progress& progress) {
    double previousThreshold = r.solvedThreshold, previousVolume = r.measures.volume;
    double next = r.solvedThreshold + 0.01 * (previousVolume > r.askedVolume ? 1 : -1);
    for (int i = 0; i < 6 && std::abs(r.measures.volume - r.askedVolume) > 2e-4 * r.askedVolume; ++i) {
        progress.step("Keeping the volume");
        next = std::clamp(next, 0.01, 0.99);
        surface::followShape(*solidAt(part, field, recipe, density, next).solid, vertexSurfaces,
                             0.4 * recipe.surfaceSpacing, r.mesh);
        r.measures = surface::measure(r.mesh);
        r.solvedThreshold = next;
        const double slope = (r.measures.volume - previousVolume) / (next - previousThreshold);
        if (!(slope < 0)) break;
        previousThreshold = next;
        previousVolume = r.measures.volume;
        next += std::clamp((r.askedVolume - r.measures.volume) / slope, -0.05, 0.05);
    }
}

/// A body whose surface is moved outward in regions.
class ThickenedBody final : public shape::FreeBody {
  public:
    ThickenedBody(std::shared_ptr<const shape::FreeBody> body, std::vector<Thickening> regions)
        : body_(std::move(body)), regions_(std::move(regions)) {}
    double value(const Vec3& p) const override {
        double shift = 0;
        for (const Thickening& t : regions_) shift += t.amount * weightAt(t, p);
        if (shift == 0) return body_->value(p);
        // looked up on the old surface, where the distance estimate is exact
        const Vec3 outward = body_->gradient(p);
        const double slope = outward.norm();
        return slope > 1e-9 ? body_->value(p - shift / slope * outward) : body_->value(p) - shift;
    }

  private:
    std::shared_ptr<const shape::FreeBody> body_;
    std::vector<Thickening> regions_;
};

/// Whether the recipe adds material on top of the asked volume.
bool addsMaterial(const Recipe& recipe) {
    return recipe.draft.add || !recipe.thickenings.empty();
}

/// The free body: thickened, and with draft when the recipe adds it.
std::shared_ptr<const shape::FreeBody> freeBody(const FieldResult& field, const Recipe& recipe,
                                                std::shared_ptr<const shape::SmoothDensity> density, double threshold,
                                                Progress& progress) {
    std::shared_ptr<const shape::FreeBody> body = std::make_shared<shape::FieldBody>(std::move(density), threshold);
    if (!recipe.thickenings.empty()) {
        for (std::size_t t = 0; t < recipe.thickenings.size(); ++t)
            requireSound(recipe.thickenings[t], "thickening " + std::to_string(t + 1));
        body = std::make_shared<ThickenedBody>(std::move(body), recipe.thickenings);
    }
    if (!recipe.draft.add) return body;
    const shape::DraftOptions draft{recipe.draft.pull.normalized(), recipe.draft.parting, recipe.draft.angle};
    return std::make_shared<shape::DraftedBody>(*body, field.regions.designSpace, draft,
                                                0.5 * field.field.spacing.minCoeff(), progress);
}

/// The solid that is extracted: with draft when the recipe adds it.
PartShape draftedSolid(const Part& part, const FieldResult& field, const Recipe& recipe,
                       std::shared_ptr<const shape::SmoothDensity> density, double threshold, Progress& progress) {
    return buildShape(part, field.regions, freeBody(field, recipe, std::move(density), threshold, progress),
                      recipe.edges);
}

/// Volume between each free triangle of a mesh and the body, positive where the mesh lies inside it, mm3: chords of a
/// curved body do. By the middles of the edges, which is exact for quadratic surfaces.
std::vector<double> chordVolumes(const shape::Shape& body, const surface::TriMesh& mesh) {
    std::vector<double> missing(mesh.triangle.size(), 0);
    parallelFor(missing.size(), [&](std::size_t t) {
        if (mesh.owner[t] != 0) return;
        const Triangle& v = mesh.triangle[t];
        const Vec3 &a = mesh.position[v[0]], &b = mesh.position[v[1]], &c = mesh.position[v[2]];
        missing[t] = -(b - a).cross(c - a).norm() / 6 *
                     (body.surfaceValue(0, 0.5 * (a + b)) + body.surfaceValue(0, 0.5 * (b + c)) +
                      body.surfaceValue(0, 0.5 * (c + a)));
    });
    return missing;
}

double chordVolume(const shape::Shape& body, const surface::TriMesh& mesh) {
    const std::vector<double> missing = chordVolumes(body, mesh);
    return std::accumulate(missing.begin(), missing.end(), 0.0);
}

/// Moves the free vertices a little off the body, outward where it bulges and inward where it is hollow, so that the
/// triangles around each enclose its volume.
void keepBodyVolume(const shape::Shape& body, const Recipe& recipe,
                    const std::vector<lattice::SurfaceSet>& vertexSurfaces, surface::TriMesh& mesh,
                    Progress& progress) {
    progress.step("Keeping the volume");
    std::vector<double> missing(mesh.position.size(), 0), area(mesh.position.size(), 0);
    const std::vector<double> chords = chordVolumes(body, mesh);
    for (std::size_t t = 0; t < chords.size(); ++t) {
        if (mesh.owner[t] != 0) continue;
        const Triangle& v = mesh.triangle[t];
        const Vec3& a = mesh.position[v[0]];
        const double size = 0.5 * (mesh.position[v[1]] - a).cross(mesh.position[v[2]] - a).norm();
        for (const auto k : v) missing[k] += chords[t], area[k] += size;
    }
    parallelFor(mesh.position.size(), [&](std::size_t v) {
        const lattice::SurfaceSet& set = vertexSurfaces[v];
        if (set.id[0] != 0 || !(area[v] > 0)) return;  // exact surfaces stay
        const int ids[3] = {set.id[0], set.id[1], set.id[2]};
        Vec3 p = mesh.position[v];
        if (shape::projectOnto(body, ids, set.count(), p, 0.4 * recipe.surfaceSpacing, missing[v] / area[v]))
            mesh.position[v] = p;
    });
}

/// Lays the triangles out anew as the recipe asks; as extracted they stay.
void layOut(const shape::Shape& body, const Recipe& recipe, surface::TriMesh& mesh,
            std::vector<lattice::SurfaceSet>& vertexSurfaces, Progress& progress) {
    if (recipe.triangles == Triangles::budget) {
        surface::remeshToBudget(body, recipe.triangleBudget, mesh, vertexSurfaces, progress);
    } else if (recipe.triangles == Triangles::even) {
        surface::RemeshOptions o;
        o.edgeLength = recipe.surfaceSpacing;
        o.chordError = 0.04 * recipe.surfaceSpacing;
        surface::remesh(body, o, mesh, vertexSurfaces, progress);
    }
}

/// @param solid  is to outlive the options
surface::ExtractOptions extractionOf(const Recipe& recipe, const shape::MachinedSolid& solid) {
    surface::ExtractOptions o{
        recipe.surfaceSpacing, true, {recipe.largestPieceOnly, 0.5 * recipe.smallestIsland}, {}, Vec3::Zero()};
    if (recipe.edgeError > 0 && recipe.keepMembers)  // one threshold: as versions before did
        o.size = [&solid, error = recipe.edgeError, near = 0.5 * recipe.surfaceSpacing](const Vec3& p) {
            return std::max(solid.chordAt(p, near, error), shortestChord * near);
        };
    return o;
}

/// How the triangles of an extracted surface mirror each other; empty: they do not.
struct Mirrors {
    std::vector<surface::MirrorPlane> planes;
    std::vector<surface::MirrorImage> images;
};

/// The surface as the recipe's lattice sees it; exactly symmetric when the part is, across planes along the cells.
surface::TriMesh extracted(const Part& part, const shape::MachinedSolid& solid, const Recipe& recipe,
                           const surface::ExtractOptions& options, std::vector<lattice::SurfaceSet>& vertexSurfaces,
                           Mirrors& mirrors, Progress& progress) {
    for (const SymmetryPlane& s : part.symmetry)
        for (int axis = 0; axis < 3; ++axis) {
            const bool isNew = std::none_of(mirrors.planes.begin(), mirrors.planes.end(),
                                            [&](const surface::MirrorPlane& m) { return m.axis == axis; });
            if (isNew && std::abs(s.normal[axis]) > 1 - 1e-12) mirrors.planes.push_back({axis, s.point[axis]});
        }
    if (!mirrors.planes.empty() && recipe.triangles == Triangles::asExtracted)
        if (auto mesh =
                surface::extractMirrored(solid, options, mirrors.planes, progress, vertexSurfaces, mirrors.images))
            return std::move(*mesh);
    mirrors = {};
    return surface::extractSurface(solid, options, progress, &vertexSurfaces);
}

/// The surface that keeps the volume of the field locally, and its members. @return the body that it lies on
PartShape buildKeepingMembers(const Part& part, const FieldResult& field, const Recipe& recipe,
                              const EditedField& edited, const std::shared_ptr<const shape::SmoothDensity>& density,
                              SurfaceResult& r, std::vector<lattice::SurfaceSet>& vertexSurfaces, Progress& progress) {
    const KeptWhereItSpeaks kept(field, recipe, edited, density);
    r.solvedThreshold = solveKeptThreshold(kept, recipe.threshold, progress);
    PartShape solid = draftedSolid(part, field, recipe, density, r.solvedThreshold, progress);
    r.faces = solid.faces;
    surface::ExtractOptions extraction = extractionOf(recipe, *solid.solid);
    if (edited.hasThin)
        extraction.size = [&edited, edges = extraction.size](const Vec3& p) {
            return std::min(edited.spacingAt(p), edges ? edges(p) : std::numeric_limits<double>::infinity());
        };
    Mirrors mirrors;
    r.mesh = extracted(part, *solid.solid, recipe, extraction, vertexSurfaces, mirrors, progress);
    if (extraction.size && !surface::measure(r.mesh).watertight) {
        progress.step("Extracting again on an even lattice: the finer one left it open");
        extraction.size = {};
        vertexSurfaces.clear();
        mirrors = {};
        r.mesh = extracted(part, *solid.solid, recipe, extraction, vertexSurfaces, mirrors, progress);
        r.findings.push_back(
            {GeometryFinding::Kind::evenLattice,
             "A lattice finer at rounded edges and thin members left the surface open. An even one was "
             "taken: triangles keep no chord error, and thin members may have pinholes.",
             field.regions.designSpace.centre(), 0, 0});
    }
    layOut(*solid.solid, recipe, r.mesh, vertexSurfaces, progress);
    r.measures = surface::measure(r.mesh);
    if (addsMaterial(recipe)) {  // the samples' error is the same with and without what is added
        const double cell = 0.5 * field.field.spacing.minCoeff();
        r.draftVolume =
            surface::sampledVolume(*solid.solid, cell, progress) -
            surface::sampledVolume(*solidAt(part, field, recipe, density, r.solvedThreshold).solid, cell, progress);
    }
    keepBodyVolume(*solid.solid, recipe, vertexSurfaces, r.mesh, progress);
    r.measures = surface::measure(r.mesh);
    if (!mirrors.images.empty()) {
        surface::mirrorAnew(mirrors.planes, mirrors.images, r.mesh);
        r.measures = surface::measure(r.mesh);
    }
    r.askedVolume =
        r.measures.volume - r.draftVolume + chordVolume(*solid.solid, r.mesh) - kept.excess(r.solvedThreshold);
    return solid;
}

/// The surface with one threshold for all. @return the body that it lies on
PartShape buildWithOneThreshold(const Part& part, const FieldResult& field, const Recipe& recipe,
                                const std::shared_ptr<const shape::SmoothDensity>& density, SurfaceResult& r,
                                std::vector<lattice::SurfaceSet>& vertexSurfaces, Progress& progress) {
    r.askedVolume = thresholdFigures(part, field, recipe).keptPiecesVolume;
    r.solvedThreshold = solveThreshold(part, field, recipe, density, recipe.threshold, r.askedVolume,
                                       recipe.draft.add ? 0.5 : 1.0, progress);
    if (!recipe.thickenings.empty() && !recipe.draft.add) {  // what is not thickened stays as it is without it
        SurfaceResult plain = r;
        const PartShape without = solidAt(part, field, recipe, density, r.solvedThreshold);
        plain.mesh =
            surface::extractSurface(*without.solid, extractionOf(recipe, *without.solid), progress, &vertexSurfaces);
        plain.measures = surface::measure(plain.mesh);
        keepVolume(part, field, recipe, density, vertexSurfaces, plain, progress);
        r.solvedThreshold = plain.solvedThreshold;
        vertexSurfaces.clear();
    }
    const PartShape solid = draftedSolid(part, field, recipe, density, r.solvedThreshold, progress);
    r.faces = solid.faces;
    r.mesh = surface::extractSurface(*solid.solid, extractionOf(recipe, *solid.solid), progress, &vertexSurfaces);
    r.measures = surface::measure(r.mesh);
    if (!addsMaterial(recipe)) keepVolume(part, field, recipe, density, vertexSurfaces, r, progress);
    const PartShape final = addsMaterial(recipe) ? solid : solidAt(part, field, recipe, density, r.solvedThreshold);
    if (recipe.triangles != Triangles::asExtracted) {
        layOut(*final.solid, recipe, r.mesh, vertexSurfaces, progress);
        r.measures = surface::measure(r.mesh);
        if (!addsMaterial(recipe)) keepVolume(part, field, recipe, density, vertexSurfaces, r, progress);
    }
    r.draftVolume = addsMaterial(recipe) ? r.measures.volume - r.askedVolume : 0;
    return final;
}

}  // namespace

const char* name(GeometryFinding::Kind kind) {
    static const char* names[] = {"member lost", "member thinned", "gap closed",  "interface lost",
                                  "pieces",      "handles",        "thin member", "decision without member",
                                  "even lattice"};
    return names[static_cast<int>(kind)];
}

PartShape surfaceShape(const Part& part, const FieldResult& field, const Recipe& recipe, double threshold,
                       Progress& progress) {
    const EditedField edited = followedField(part, field, recipe, progress);
    return draftedSolid(part, field, recipe, smoothDensity(part, field, edited, recipe, progress), threshold, progress);
}

PartShape coverShape(const Part& part, const FieldResult& field, const Recipe& recipe, double threshold, double margin,
                     Progress& progress) {
    const auto edited = std::make_shared<const EditedField>(editedField(part, field, recipe, progress));
    const auto density = smoothDensity(part, field, *edited, recipe, progress);
    PartShape cover =
        buildCover(part, field.regions, freeBody(field, recipe, density, threshold, progress), margin, recipe.edges);
    if (edited->hasThin) cover.latticeSpacing = [edited](const Vec3& p) { return edited->spacingAt(p); };
    return cover;
}

surface::TriMesh rawSurface(const FieldResult& field, double threshold, Progress& progress) {
    return surface::extractSurface(shape::RawBody(field.field, threshold), field.field.spacing.minCoeff(), false,
                                   progress);
}

surface::TriMesh designSpaceSurface(const Part& part, const Regions& regions, double spacing, Progress& progress) {
    return surface::extractSurface(*buildShape(part, regions, nullptr).solid, spacing, true, progress);
}

namespace {

/// A surface with what its measures need.
struct BuiltSurface {
    SurfaceResult r;
    PartShape body;
    std::vector<lattice::SurfaceSet> vertexSurfaces;
};

BuiltSurface build(const Part& part, const FieldResult& field, const Recipe& recipe, const EditedField& edited,
                   const std::shared_ptr<const shape::SmoothDensity>& density, Progress& progress) {
    BuiltSurface b;
    b.body = recipe.keepMembers
                 ? buildKeepingMembers(part, field, recipe, edited, density, b.r, b.vertexSurfaces, progress)
                 : buildWithOneThreshold(part, field, recipe, density, b.r, b.vertexSurfaces, progress);
    const field::Topology meant = meantTopology(edited.cells, recipe.threshold, edited.shaped, *b.body.solid);
    // where cells touch in an edge only, both counts are as good
    b.r.rawGenus = std::clamp(b.r.measures.genus, meant.leastHandles, meant.mostHandles);
    return b;
}

SurfaceResult surfaceInFrame(const Part& part, const FieldResult& field, const Recipe& recipe, Progress& progress) {
    EditedField edited = editedField(part, field, recipe, progress);
    const field::DensityField& cells = edited.cells;
    const auto density = smoothDensity(part, field, edited, recipe, progress);
    BuiltSurface built = build(part, field, recipe, edited, density, progress);
    if (const double fine = 0.48 * cells.spacing.minCoeff();
        recipe.keepMembers && recipe.surfaceSpacing > fine && built.r.rawGenus != built.r.measures.genus) {
        // a lattice about as coarse as the cells leaves pinholes in webs, or closes small holes
        progress.step("Extracting again with shorter edges: handles are missing or too many");
        Recipe finer = recipe;
        finer.surfaceSpacing = fine;
        BuiltSurface better = build(part, field, finer, edited, density, progress);
        if (better.r.rawGenus == better.r.measures.genus) {
            built = std::move(better);
            built.r.finerSpacing = fine;
        }
    }
    SurfaceResult& r = built.r;
    const PartShape& final = built.body;
    surface::disownInexact(*final.solid, r.mesh);
    const std::vector<char>& shaped = edited.shaped;
    r.mass = r.measures.volume * part.material.density;
    measureBores(part, built.vertexSurfaces, r);

    const shape::RawBody raw(cells, recipe.threshold);
    r.rawPieces = thresholdFigures(part, field, recipe).keptPieces;
    const surface::TriangleTree ownTree(r.mesh);
    measureDeviation(cells, raw, edited.iso->tree, shaped, untrimmed(field, recipe, 0), recipe.keepMembers, r,
                     progress);
    r.thickness = surface::wallThickness(r.mesh, ownTree, progress);
    findLosses(part, field, thinnerPlaces(field, recipe, *edited.iso, ownTree, final, shaped, progress), r);
    tellThinMembers(std::move(edited.members), part, recipe, cells, *final.solid, ownTree, r);
    return std::move(built.r);
}

}  // namespace

SurfaceResult evaluateSurface(const Part& part, const FieldResult& field, const Recipe& recipe, Progress& progress) {
    const OwnFrame& frame = field.frame;
    SurfaceResult r = surfaceInFrame(into(frame, part), *field.own, into(frame, recipe), progress);
    r.mesh = outOf(frame, std::move(r.mesh));
    r.faces = outOf(part, r.faces);
    for (Vec3* p : {&r.measures.centroid, &r.deviationMaxAt, &r.thickness.leastAt}) *p = frame.outOf(*p);
    for (GeometryFinding& f : r.findings) f.position = frame.outOf(f.position);
    for (ThinMember& m : r.members) m.at = frame.outOf(m.at);
    const Mat3 own = r.measures.inertia;
    for (int i = 0; i < 3; ++i)
        for (int k = 0; k < 3; ++k)
            r.measures.inertia(frame.axis[i], frame.axis[k]) = frame.sense[i] * frame.sense[k] * own(i, k);
    return r;
}

ProcessResult evaluateProcess(const SurfaceResult& surface, const Recipe& recipe, Progress& progress) {
    ProcessResult r;
    r.curvature = surface::meanCurvature(surface.mesh);
    const surface::TriangleTree tree(surface.mesh);
    r.draft = surface::draftFigures(surface.mesh, tree, recipe.draft.pull.normalized(), recipe.draft.parting,
                                    recipe.draft.angle, progress);
    r.overhang =
        surface::overhangFigures(surface.mesh, tree, recipe.printing.up.normalized(), recipe.printing.overhang);
    r.directions = surface::sweepBuildDirections(surface.mesh, tree, recipe.printing.overhang, progress);
    return r;
}

}  // namespace escultura::stages
