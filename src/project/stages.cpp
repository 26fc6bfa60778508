#include "project/stages.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <set>

#include "base/error.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"
#include "elastic/stress.hpp"
#include "surface/extract.hpp"

namespace escultura::project {
namespace {

PartShape solidAt(const Part& part, const FieldResult& field, std::shared_ptr<const shape::SmoothDensity> density,
                  double threshold) {
    return buildShape(part, field.designSpace, std::make_shared<shape::FieldBody>(std::move(density), threshold));
}

std::shared_ptr<const shape::SmoothDensity> smoothDensity(const Part& part, const FieldResult& field, double length,
                                                          Progress& progress) {
    shape::FieldSmoothing smoothing;
    smoothing.length = length;
    for (const SymmetryPlane& s : part.symmetry) smoothing.symmetryPlanes.push_back({s.point, s.normal});
    return std::make_shared<shape::SmoothDensity>(field.field, field.isVoid, smoothing, progress);
}

/// The threshold at which the solid encloses the asked volume within 0.05 %, by regula falsi on the sampled volume.
double solveThreshold(const Part& part, const FieldResult& field,
                      const std::shared_ptr<const shape::SmoothDensity>& density, double start, double asked,
                      Progress& progress) {
    const double cell = 0.5 * field.field.spacing.minCoeff();
    auto excess = [&](double t) {
        return surface::sampledVolume(*solidAt(part, field, density, t).solid, cell, progress) - asked;
    };
    double low = start, high = start;
    double fl = excess(low), fh = fl;
    const double tolerance = 2e-4 * asked;
    if (std::abs(fl) < tolerance) return start;
    for (double step = 0.04; fl < 0 && low > 0.01; step *= 2) {  // too little: lower the threshold
        high = low, fh = fl;
        low = std::max(low - step, 0.01);
        fl = excess(low);
    }
    for (double step = 0.04; fh > 0 && high < 0.99; step *= 2) {
        low = high, fl = fh;
        high = std::min(high + step, 0.99);
        fh = excess(high);
    }
    if (fl < 0) return low;  // cannot be reached: keep-outs take too much
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

/// The raw field as a body: trilinear between cell centres, empty beyond the grid.
class RawBody final : public shape::Shape {
  public:
    RawBody(const field::DensityField& f, double threshold) : f_(f), t_(threshold) {}
    shape::Sample evaluate(const Vec3& p) const override { return {surfaceValue(0, p), 0}; }
    int surfaceCount() const override { return 1; }
    double surfaceValue(int, const Vec3& p) const override {
        const Vec3 x = (p - f_.origin).cwiseQuotient(f_.spacing) - Vec3::Constant(0.5);
        double value = 0;
        const int i = static_cast<int>(std::floor(x[0])), j = static_cast<int>(std::floor(x[1])),
                  k = static_cast<int>(std::floor(x[2]));
        const Vec3 t = x - Vec3(i, j, k);
        for (int m = 0; m < 8; ++m) {
            const int a = i + (m & 1), b = j + (m >> 1 & 1), c = k + (m >> 2);
            if (a < 0 || b < 0 || c < 0 || a >= f_.cells[0] || b >= f_.cells[1] || c >= f_.cells[2]) continue;
            value += (m & 1 ? t[0] : 1 - t[0]) * (m & 2 ? t[1] : 1 - t[1]) * (m & 4 ? t[2] : 1 - t[2]) *
                     f_.density[f_.index(a, b, c)];
        }
        return (t_ - value) * f_.spacing.minCoeff();
    }
    Vec3 surfaceGradient(int, const Vec3&) const override { return Vec3::UnitX(); }
    Box3 bounds() const override { return f_.bounds().grown(f_.spacing.maxCoeff()); }

  private:
    const field::DensityField& f_;
    double t_;
};

/// Cells within two cells of an interface's material or of a void by definition: there the shape follows the part file,
/// not the field.
std::vector<char> shapedCells(const FieldResult& field, const std::vector<shape::RoundBar>& bars) {
    const auto& f = field.field;
    std::vector<char> shaped(field.isVoid);
    for (int axis = 0; axis < 3; ++axis) {  // a box of two cells around each, one axis at a time
        const std::vector<char> old = shaped;
        const std::size_t stride = axis == 0   ? 1
                                   : axis == 1 ? f.cells[0]
                                               : static_cast<std::size_t>(f.cells[0]) * f.cells[1];
        for (std::size_t c = 0; c < old.size(); ++c) {
            const int at = static_cast<int>(c / stride % f.cells[axis]);
            for (int d = -2; d <= 2; ++d)
                if (at + d >= 0 && at + d < f.cells[axis] && old[c + static_cast<std::ptrdiff_t>(stride) * d])
                    shaped[c] = 1;
        }
    }
    parallelFor(shaped.size(), [&](std::size_t c) {
        for (const shape::RoundBar& bar : bars)
            if (bar.distance(f.centre(c)) < 2 * f.spacing.maxCoeff()) shaped[c] = 1;
    });
    return shaped;
}

void measureDeviation(const FieldResult& field, double threshold, const std::vector<shape::RoundBar>& bars,
                      SurfaceResult& r, Progress& progress) {
    progress.step("Measuring the deviation");
    const RawBody raw(field.field, threshold);
    const surface::TriMesh iso = surface::extractSurface(raw, field.field.spacing.minCoeff(), false, progress);
    const surface::TriangleTree tree(iso);
    r.deviation.resize(r.mesh.position.size());
    parallelFor(r.mesh.position.size(),
                [&](std::size_t v) { r.deviation[v] = static_cast<float>(tree.distance(r.mesh.position[v])); });
    const std::vector<char> shaped = shapedCells(field, bars);
    std::vector<char> isFree(r.mesh.position.size(), 1);
    for (std::size_t v = 0; v < isFree.size(); ++v) {
        const Vec3 x = (r.mesh.position[v] - field.field.origin).cwiseQuotient(field.field.spacing);
        std::array<int, 3> c;
        for (int a = 0; a < 3; ++a) c[a] = std::clamp(static_cast<int>(std::floor(x[a])), 0, field.field.cells[a] - 1);
        isFree[v] = !shaped[field.field.index(c[0], c[1], c[2])];
    }
    for (std::size_t t = 0; t < r.mesh.triangle.size(); ++t)
        if (r.mesh.owner[t] != 0)
            for (auto v : r.mesh.triangle[t]) isFree[v] = 0;
    double sum = 0;
    std::size_t count = 0;
    for (std::size_t v = 0; v < isFree.size(); ++v) {
        if (!isFree[v]) continue;
        sum += static_cast<double>(r.deviation[v]) * r.deviation[v];
        r.deviationMax = std::max<double>(r.deviationMax, r.deviation[v]);
        ++count;
    }
    r.deviationRms = count ? std::sqrt(sum / static_cast<double>(count)) : 0;
}

void measureBores(const Part& part, const std::vector<lattice::SurfaceSet>& vertexSurfaces, SurfaceResult& r) {
    for (const NamedFace& f : r.faces) {
        if (f.face != "bore") continue;
        BoreFigure b{f.interface, part.findInterface(f.interface)->boreDiameter, 0, 0};
        double sum = 0;
        int count = 0;
        for (std::size_t v = 0; v < r.mesh.position.size(); ++v) {
            const Vec3 d = r.mesh.position[v] - f.origin;
            const double along = d.dot(f.axis);
            if (!vertexSurfaces[v].has(f.surface) || along < f.low || along > f.high) continue;
            const double diameter = 2 * (d - along * f.axis).norm();
            sum += diameter;
            ++count;
            b.error = std::max(b.error, std::abs(diameter - b.nominal));
        }
        b.measured = count ? sum / count : 0;
        if (!count) b.error = b.nominal;
        r.bores.push_back(b);
    }
}

const NamedFace& findFace(const std::vector<NamedFace>& faces, const std::string& interface, const std::string& face) {
    for (const NamedFace& f : faces)
        if (f.interface == interface && f.face == face) return f;
    throw InputError(ErrorDetail{
        "An interface has no such face.", {}, "interface '" + interface + "'", "face '" + face + "'", "none"});
}

std::vector<std::int32_t> requireFaces(const mesh::TetMesh& mesh, const std::vector<NamedFace>& faces,
                                       const std::string& interface, const std::string& face) {
    auto found = facesOf(mesh, findFace(faces, interface, face));
    if (found.empty())
        throw InputError(ErrorDetail{"The part does not reach an interface that is loaded or supported.",
                                     {},
                                     "interface '" + interface + "', face '" + face + "'",
                                     "material there at this threshold",
                                     "no face of the mesh"});
    return found;
}

elastic::NodalForces caseForces(const Part& part, const CheckResult& check, const LoadCase& loadCase, Vec3& meant) {
    elastic::NodalForces forces(check.mesh.position.size(), Vec3::Zero());
    meant = Vec3::Zero();
    for (const Load& load : loadCase.loads) {
        const double share = load.sharedTotal ? 1.0 / static_cast<double>(load.on.interfaces.size()) : 1.0;
        for (const std::string& name : load.on.interfaces) {
            const Interface& i = *part.findInterface(name);
            const auto faces = requireFaces(check.mesh, check.faces, name, load.on.face);
            meant += share * load.force;
            if (load.kind == Load::Kind::bearing) {
                elastic::addBearing(check.mesh, faces, i.axis, i.origin + 0.5 * i.length * i.axis, share * load.force,
                                    forces);
            } else {
                const double along = load.on.face == "start" ? 0 : load.on.face == "end" ? i.length : 0.5 * i.length;
                elastic::addSpreadForce(check.mesh, faces, share * load.force, share * load.moment,
                                        i.origin + along * i.axis, forces);
            }
        }
    }
    return forces;
}

void summariseCase(const Part& part, CaseResult& c) {
    for (std::size_t n = 0; n < c.vonMises.size(); ++n) {
        c.vonMises[n] = elastic::vonMises(c.stress[n]);
        if (c.vonMises[n] > c.maxVonMises) c.maxVonMises = c.vonMises[n], c.maxNode = static_cast<std::int32_t>(n);
        const double u = c.displacement[n].norm();
        if (u > c.maxDisplacement) c.maxDisplacement = u, c.maxDisplacementNode = static_cast<std::int32_t>(n);
    }
    c.minSafetyFactor = assess::safetyFactor(part.material.yieldStrength, c.maxVonMises);
}

}  // namespace

Recipe defaultRecipe(const Part& part, const field::DensityField& field) {
    const double cell = field.spacing.minCoeff();
    Recipe r;
    r.threshold = part.threshold;
    r.smoothing = 2 * cell;
    r.surfaceSpacing = 0.8 * cell;
    r.elementSize = 1.45 * cell;
    return r;
}

FieldResult prepareField(const Part& part, field::DensityField field) {
    FieldResult r;
    r.field = std::move(field);
    r.designSpace = designSpaceOf(part, r.field);
    r.kept = keptCells(part, r.field);
    r.isVoid = voidCells(part, r.field);
    r.keptVolume = std::make_shared<field::KeptVolume>(r.field);
    std::size_t open = 0;
    for (std::size_t c = 0; c < r.field.count(); ++c) open += !r.isVoid[c] && r.designSpace.contains(r.field.centre(c));
    r.designVolume = static_cast<double>(open) * r.field.cellVolume();
    r.largestConnectingThreshold = field::largestConnectingThreshold(r.field, r.kept);
    return r;
}

FieldResult evaluateField(const Part& part, Progress& progress) {
    progress.step("Reading the field");
    field::DensityField f = exchange::readField(part.field);
    progress.step("Connecting the interfaces", 0.5);
    return prepareField(part, std::move(f));
}

field::Pieces piecesAt(const FieldResult& field, double threshold) {
    return field::findPieces(field.field, threshold, field.kept);
}

ThresholdFigures thresholdFigures(const Part& part, const FieldResult& field, double threshold) {
    ThresholdFigures t;
    t.threshold = threshold;
    t.volume = field.keptVolume->volume(threshold);
    t.share = field.designVolume > 0 ? t.volume / field.designVolume : 0;
    t.mass = t.volume * part.material.density;
    const field::Pieces pieces = piecesAt(field, threshold);
    t.pieces = static_cast<int>(pieces.pieces());
    for (std::size_t c = 0; c < pieces.label.size(); ++c)
        if (pieces.label[c] == 0 && field.field.density[c] >= threshold)
            t.largestPieceVolume += field.field.cellVolume();
    for (std::size_t i = 0; i < part.interfaces.size(); ++i)
        (pieces.pieceOfInterface[i] == 0 ? t.connected : t.cutOff).push_back(part.interfaces[i].name);
    return t;
}

void requireConnected(const Part& part, const FieldResult& field, double threshold) {
    const ThresholdFigures t = thresholdFigures(part, field, threshold);
    if (t.cutOff.empty()) return;
    std::string names;
    for (const auto& n : t.cutOff) names += (names.empty() ? "" : ", ") + n;
    throw InputError(ErrorDetail{
        "The threshold cuts interfaces off: the check is refused.", field.field.source,
        "threshold " + formatNumber(threshold),
        field.largestConnectingThreshold > 0
            ? "at most " + formatNumber(field.largestConnectingThreshold) + ", the largest that connects all interfaces"
            : "a field that connects all interfaces",
        "cut off: " + names});
}

SurfaceResult evaluateSurface(const Part& part, const FieldResult& field, const Recipe& recipe, Progress& progress) {
    SurfaceResult r;
    r.askedVolume = thresholdFigures(part, field, recipe.threshold).largestPieceVolume;
    const auto density = smoothDensity(part, field, recipe.smoothing, progress);
    r.solvedThreshold = solveThreshold(part, field, density, recipe.threshold, r.askedVolume, progress);
    const PartShape solid = solidAt(part, field, density, r.solvedThreshold);
    r.faces = solid.faces;
    std::vector<lattice::SurfaceSet> vertexSurfaces;
    r.mesh = surface::extractSurface(*solid.solid, recipe.surfaceSpacing, true, progress, &vertexSurfaces);
    r.measures = surface::measure(r.mesh);
    // the sampled volume is right to some tenths of a per cent: the rest is taken from the surface itself, whose
    // vertices follow the threshold
    double previousThreshold = r.solvedThreshold, previousVolume = r.measures.volume;
    double next = r.solvedThreshold + 0.01 * (previousVolume > r.askedVolume ? 1 : -1);
    for (int i = 0; i < 6 && std::abs(r.measures.volume - r.askedVolume) > 2e-4 * r.askedVolume; ++i) {
        progress.step("Keeping the volume");
        next = std::clamp(next, 0.01, 0.99);
        surface::followShape(*solidAt(part, field, density, next).solid, vertexSurfaces, 0.4 * recipe.surfaceSpacing,
                             r.mesh);
        r.measures = surface::measure(r.mesh);
        r.solvedThreshold = next;
        const double slope = (r.measures.volume - previousVolume) / (next - previousThreshold);
        if (!(slope < 0)) break;
        previousThreshold = next;
        previousVolume = r.measures.volume;
        next += std::clamp((r.askedVolume - r.measures.volume) / slope, -0.05, 0.05);
    }
    r.mass = r.measures.volume * part.material.density;
    measureBores(part, vertexSurfaces, r);
    measureDeviation(field, recipe.threshold, solid.bars, r, progress);
    return r;
}

std::vector<std::int32_t> facesOf(const mesh::TetMesh& mesh, const NamedFace& face) {
    std::vector<std::int32_t> found;
    for (std::size_t f = 0; f < mesh.boundary.size(); ++f) {
        if (mesh.owner[f] != face.surface) continue;
        const auto& t = mesh.boundary[f];
        if (face.holds((mesh.position[t[0]] + mesh.position[t[1]] + mesh.position[t[2]]) / 3))
            found.push_back(static_cast<std::int32_t>(f));
    }
    return found;
}

CheckResult evaluateCheck(const Part& part, const FieldResult& field, const SurfaceResult& surface,
                          const Recipe& recipe, Progress& progress) {
    requireConnected(part, field, recipe.threshold);
    CheckResult r;
    const auto density = smoothDensity(part, field, recipe.smoothing, progress);
    const PartShape solid = solidAt(part, field, density, surface.solvedThreshold);
    r.faces = solid.faces;
    r.mesh = mesh::meshShape(*solid.solid, {recipe.elementSize}, progress);
    r.quality = mesh::measureQuality(r.mesh);

    std::vector<elastic::Constraint> constraints;
    std::set<std::pair<std::int32_t, std::int8_t>> held;
    for (const Support& s : part.supports)
        for (const std::string& name : s.on.interfaces)
            for (auto f : requireFaces(r.mesh, r.faces, name, s.on.face))
                for (auto n : r.mesh.boundary[f])
                    for (std::int8_t c = 0; c < 3; ++c)
                        if (s.held[c]) held.insert({n, c});
    for (const auto& [node, component] : held) constraints.push_back({node, component, 0});

    std::vector<elastic::NodalForces> loads;
    std::vector<Vec3> meant(part.loadCases.size());
    for (std::size_t c = 0; c < part.loadCases.size(); ++c)
        loads.push_back(caseForces(part, r, part.loadCases[c], meant[c]));
    elastic::Solution solution = elastic::solve(r.mesh, part.material, constraints, loads, progress);
    r.unknowns = solution.unknowns;
    r.solver = solution.solver;
    r.factorNonzeros = solution.factorNonzeros;

    std::vector<std::vector<double>> vonMises;
    for (std::size_t i = 0; i < solution.cases.size(); ++i) {
        elastic::CaseSolution& s = solution.cases[i];
        CaseResult c;
        c.name = part.loadCases[i].name;
        c.displacement = std::move(s.displacement);
        const auto gauss = elastic::gaussStress(r.mesh, part.material, c.displacement);
        for (const auto& g : gauss) c.maxRawVonMises = std::max(c.maxRawVonMises, elastic::vonMises(g));
        c.stress = elastic::recoverStress(r.mesh, gauss, progress);
        c.energyError = elastic::energyError(r.mesh, part.material, gauss, c.stress);
        c.vonMises.resize(c.stress.size());
        c.applied = s.applied.force;
        c.reaction = s.reactions.force;
        c.meant = meant[i];
        c.equilibriumError = s.equilibriumError;
        c.residual = s.residual;
        c.strainEnergy = s.strainEnergy;
        std::set<std::string> named;
        for (const Support& support : part.supports)
            for (const std::string& name : support.on.interfaces) {
                if (!named.insert(name).second) continue;
                InterfaceReaction reaction{name, Vec3::Zero()};
                std::set<std::int32_t> nodes;
                for (auto f : facesOf(r.mesh, findFace(r.faces, name, support.on.face)))
                    nodes.insert(r.mesh.boundary[f].begin(), r.mesh.boundary[f].end());
                for (auto n : nodes) reaction.force += s.reaction[n];
                c.reactions.push_back(reaction);
            }
        summariseCase(part, c);
        vonMises.push_back(c.vonMises);
        r.cases.push_back(std::move(c));
    }
    r.envelope = assess::envelope(vonMises);
    r.minSafetyFactor = assess::safetyFactor(part.material.yieldStrength, r.envelope.maxVonMises);
    r.governingCase = r.envelope.maxCase >= 0 ? r.cases[r.envelope.maxCase].name : "";
    return r;
}

FindingsResult evaluateFindings(const Part& part, const CheckResult& check, const Recipe& recipe, Progress& progress) {
    progress.step("Finding hotspots");
    double required = 1;
    for (const Requirement& q : part.requirements)
        if (q.kind == Requirement::Kind::safetyFactor) required = std::max(required, q.limit);
    const double allowable = part.material.yieldStrength / required;
    FindingsResult r;
    r.sensitivity = recipe.hotspotShare * allowable;
    const auto spots = assess::findHotspots(check.mesh, check.envelope.vonMises, r.sensitivity, 0.5 * allowable);

    struct Zone {
        std::string interface;
        bool support, load;
        std::set<std::int32_t> nodes;
    };
    std::vector<Zone> zones;
    for (const NamedFace& f : check.faces) {
        Zone z{f.interface, false, false, {}};
        for (const Support& s : part.supports)
            z.support = z.support || (s.on.face == f.face &&
                                      std::count(s.on.interfaces.begin(), s.on.interfaces.end(), f.interface));
        for (const LoadCase& c : part.loadCases)
            for (const Load& l : c.loads)
                z.load = z.load || (l.on.face == f.face &&
                                    std::count(l.on.interfaces.begin(), l.on.interfaces.end(), f.interface));
        for (auto face : facesOf(check.mesh, f))
            z.nodes.insert(check.mesh.boundary[face].begin(), check.mesh.boundary[face].end());
        zones.push_back(std::move(z));
    }
    for (std::size_t i = 0; i < spots.size(); ++i) {
        Finding f;
        f.id = "H" + std::to_string(i + 1);
        f.node = spots[i].node;
        f.position = check.mesh.position[f.node];
        f.peak = spots[i].peak;
        f.persistence = spots[i].persistence;
        f.area = spots[i].area;
        f.safetyFactor = assess::safetyFactor(part.material.yieldStrength, f.peak);
        f.caseName = check.cases[check.envelope.governingCase[f.node]].name;
        f.distance = std::numeric_limits<double>::infinity();
        double toSupport = f.distance, toLoad = f.distance;
        for (const Zone& z : zones)
            for (auto n : z.nodes) {
                const double d = (check.mesh.position[n] - f.position).norm();
                if (d < f.distance) f.distance = d, f.nearestInterface = z.interface;
                if (z.support) toSupport = std::min(toSupport, d);
                if (z.load) toLoad = std::min(toLoad, d);
            }
        const double zone = 2 * recipe.elementSize;  // where the idealised boundary shapes the stress
        f.place = toSupport <= zone && toSupport <= toLoad ? "near support"
                  : toLoad <= zone                         ? "near load"
                                                           : "free body";
        r.findings.push_back(f);
    }
    return r;
}

}  // namespace escultura::project
