#include "project/stages.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <set>

#include "base/error.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"
#include "elastic/stress.hpp"

namespace escultura::project {
namespace {

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

field::DensityField loadField(const Part& part, const NamedField& source, Progress& progress) {
    progress.step("Reading the field " + source.name);
    std::optional<Box3> cover;
    if ((part.designSpace.low.array() < part.designSpace.high.array()).all()) cover = part.designSpace;
    return exchange::readField(source.source, cover, progress);
}

field::DensityField chosenField(const FieldChoice& choice, const std::vector<const field::DensityField*>& fields) {
    if (choice.how == FieldChoice::How::one) {
        if (choice.which < 0 || choice.which >= static_cast<int>(fields.size()))
            throw InputError(ErrorDetail{"The variant asks for a field that the part does not have.",
                                         {},
                                         "field",
                                         "one of " + std::to_string(fields.size()),
                                         "number " + std::to_string(choice.which + 1)});
        return *fields[choice.which];
    }
    const auto how = choice.how == FieldChoice::How::maximum ? field::Combination::maximum
                     : choice.how == FieldChoice::How::mean  ? field::Combination::mean
                                                             : field::Combination::weightedSum;
    return field::combine(fields, how, choice.weights);
}

FieldResult prepareField(const Part& part, field::DensityField field, Progress& progress) {
    FieldResult r;
    r.field = std::move(field);
    progress.step("Reading the regions", 0.2);
    r.regions = loadRegions(part, r.field.bounds());
    progress.step("Finding the interfaces' cells", 0.3);
    r.kept = keptCells(part, r.field);
    r.isVoid = voidCells(part, r.regions, r.field);
    progress.step("Connecting the interfaces", 0.6);
    r.pieces = std::make_shared<field::PieceTree>(r.field, r.kept);
    r.keptVolume = std::make_shared<field::KeptVolume>(r.field, r.pieces->order());
    r.designVolume =
        r.field.cellVolume() * static_cast<double>(orderedSum(r.field.count(), std::size_t(0), [&](std::size_t c) {
            const Vec3 p = r.field.centre(c);
            return static_cast<std::size_t>(!r.isVoid[c] && r.regions.designSpace.contains(p) &&
                                            (!r.regions.designBody || r.regions.designBody->value(p) < 0));
        }));
    r.largestConnectingThreshold = r.pieces->largestConnectingThreshold();
    return r;
}

FieldResult prepareField(const Part& part, field::DensityField field) {
    Progress progress;
    return prepareField(part, std::move(field), progress);
}

field::Pieces piecesAt(const FieldResult& field, double threshold) {
    return field::findPieces(field.field, threshold, field.kept);
}

ThresholdFigures thresholdFigures(const Part& part, const FieldResult& field, const Recipe& recipe) {
    ThresholdFigures t;
    const double cell = field.field.cellVolume();
    const field::PieceCounts pieces = field.pieces->at(recipe.threshold);
    if (pieces.cells == 0)
        throw InputError(ErrorDetail{"The threshold keeps nothing.", field.field.source,
                                     "threshold " + formatNumber(recipe.threshold),
                                     "a threshold at or below the highest density", "no cell at or above it"});
    t.threshold = recipe.threshold;
    t.volume = static_cast<double>(pieces.cells) * cell;
    t.share = field.designVolume > 0 ? t.volume / field.designVolume : 0;
    t.mass = t.volume * part.material.density;
    t.grey = field.keptVolume->greyShare(recipe.threshold);
    t.pieces = static_cast<int>(pieces.pieceCells.size());
    t.largestPieceVolume = static_cast<double>(pieces.pieceCells.front()) * cell;
    for (std::size_t p = 0; p < pieces.pieceCells.size(); ++p) {
        const double volume = static_cast<double>(pieces.pieceCells[p]) * cell;
        if (p > 0 && (recipe.largestPieceOnly || volume < recipe.smallestIsland || volume == 0)) break;
        ++t.keptPieces;
        t.keptPiecesVolume += volume;
    }
    for (std::size_t i = 0; i < part.interfaces.size(); ++i)
        (pieces.pieceOfInterface[i] == 0 ? t.connected : t.cutOff).push_back(part.interfaces[i].name);
    return t;
}

double thresholdForVolume(const FieldResult& field, double volume) {
    return std::clamp(field.keptVolume->thresholdFor(volume), 0.005, 0.995);
}

void requireConnected(const Part& part, const FieldResult& field, const Recipe& recipe) {
    const ThresholdFigures t = thresholdFigures(part, field, recipe);
    if (t.cutOff.empty()) return;
    std::string names;
    for (const auto& n : t.cutOff) names += (names.empty() ? "" : ", ") + n;
    throw InputError(ErrorDetail{
        "The threshold cuts interfaces off: the check is refused.", field.field.source,
        "threshold " + formatNumber(recipe.threshold),
        field.largestConnectingThreshold > 0
            ? "at most " + formatNumber(field.largestConnectingThreshold) + ", the largest that connects all interfaces"
            : "a field that connects all interfaces",
        "cut off: " + names});
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
    requireConnected(part, field, recipe);
    if (part.loadCases.empty() || part.supports.empty())
        throw InputError(ErrorDetail{"The part cannot be checked yet.", part.path,
                                     part.loadCases.empty() ? "load_cases" : "supports",
                                     "at least one load case and one support", "none"});
    CheckResult r;
    const PartShape solid = surfaceShape(part, field, recipe, surface.solvedThreshold, progress);
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
    r.factorNonzeros = solution.memory;

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
