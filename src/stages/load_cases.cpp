#include "stages/load_cases.hpp"

#include <algorithm>
#include <cmath>
#include <set>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "base/text.hpp"
#include "elastic/stress.hpp"

namespace escultura::stages {
namespace {

constexpr double mostIntoSupports = 0.01;  // share of the forces on faces that may act on what is held

/// Fills the stresses of a case, what is said of them and its energy, from its displacements.
/// @return squared energy norm of the error, element by element, N mm
std::vector<double> fillStresses(const Part& part, const mesh::TetMesh& mesh, CaseResult& c, Progress& progress) {
    for (const Vec3& u : c.displacement)
        if (!u.allFinite())
            throw SolveError(ErrorDetail{"A load case has no result.", part.path, "load case '" + c.name + "'",
                                         "displacements that are numbers", "one that is not"});
    auto rule = [&](const elastic::Voigt6& s) { return ruledStress(part, s); };
    const auto gauss = elastic::gaussStress(mesh, part.material, c.displacement);
    for (const auto& g : gauss) {
        c.maxRawVonMises = std::max(c.maxRawVonMises, elastic::vonMises(g));
        c.maxRawStress = std::max(c.maxRawStress, rule(g));
    }
    const auto recovered = elastic::recoverStress(mesh, gauss, progress);
    c.recovered.clear();
    for (const auto& s : recovered) {
        c.recovered.push_back(rule(s));
        c.maxRecoveredStress = std::max(c.maxRecoveredStress, c.recovered.back());
    }
    progress.step("Judging the stresses");
    auto judged = elastic::judgedStress(mesh, part.material, c.displacement, recovered, rule);
    c.stress = std::move(judged.value);
    c.counts = std::move(judged.counts);
    c.strainEnergy = elastic::strainEnergy(mesh, part.material, gauss);
    const auto estimate = elastic::errorEstimate(mesh, part.material, gauss, recovered);
    c.energyError = estimate.relative;
    c.vonMises.resize(c.stress.size());
    for (std::size_t n = 0; n < c.stress.size(); ++n) {
        c.vonMises[n] = elastic::vonMises(c.stress[n]);
        c.maxVonMises = std::max(c.maxVonMises, c.vonMises[n]);
        const double s = rule(c.stress[n]);
        if (!std::isfinite(s) || !std::isfinite(c.counts[n]))
            throw SolveError(ErrorDetail{"A load case has no result.", part.path, "load case '" + c.name + "'",
                                         "stresses that are numbers", "one that is not"});
        if (s > c.maxStress || c.maxNode < 0) {
            c.maxStress = s;
            c.maxNode = static_cast<std::int32_t>(n);
        }
        c.maxCounts = std::max(c.maxCounts, c.counts[n]);
        const double u = c.displacement[n].norm();
        if (u > c.maxDisplacement) {
            c.maxDisplacement = u;
            c.maxDisplacementNode = static_cast<std::int32_t>(n);
        }
    }
    c.minSafetyFactor = assess::safetyFactor(elastic::strength(part.material), c.maxStress);
    return estimate.element;
}

/// A case whose loads go straight into the supports is refused, unless it says that this is meant.
void requireThatLoadsLoad(const Part& part, const CheckModel& model) {
    for (std::size_t i = 0; i < model.cases.size(); ++i)
        for (const LoadCase& c : part.loadCases)
            if (c.name == model.cases[i] && !c.onSupports && !(model.intoSupports[i] <= mostIntoSupports))
                throw InputError(ErrorDetail{
                    "A load acts where the part is held: it goes straight into the supports and loads nothing.",
                    part.path, "load case '" + c.name + "'",
                    "at most " + plainNumber(100 * mostIntoSupports) +
                        " % of its forces on held faces, or \"on_supports\": true in the case",
                    formatNumber(100 * model.intoSupports[i], 3) + " %"});
}

/// Faces of interfaces that the supports of a set act on, each once, with their nodes.
struct HeldFace {
    std::string interface;
    std::vector<std::int32_t> nodes;
};
std::vector<HeldFace> heldFaces(const Part& part, const std::string& set, const CheckResult& r) {
    std::vector<HeldFace> held;
    std::set<std::pair<std::string, std::string>> named;
    for (const Support& support : part.supports)
        for (const std::string& name : support.on.interfaces) {
            if (!Part::acts(support, set) || !named.insert({name, support.on.face}).second) continue;
            std::set<std::int32_t> nodes;
            for (auto f : facesOf(r.mesh, r.faces, name, support.on.face))
                nodes.insert(r.mesh.boundary[f].begin(), r.mesh.boundary[f].end());
            held.push_back({name, {nodes.begin(), nodes.end()}});
        }
    return held;
}

std::vector<InterfaceReaction> reactionsOf(const Part& part, const mesh::TetMesh& mesh,
                                           const std::vector<HeldFace>& held, const std::vector<Vec3>& reaction) {
    std::vector<InterfaceReaction> list;
    for (const HeldFace& h : held) {
        InterfaceReaction x{h.interface};
        Vec3 middle = Vec3::Zero();
        if (const Interface* face = part.findInterface(h.interface)) middle = faceMiddle(*face, "");
        for (const std::int32_t n : h.nodes) {
            x.force += reaction[n];
            x.moment += (mesh.position[n] - middle).cross(reaction[n]);
        }
        list.push_back(x);
    }
    return list;
}

/// Whether a case's applied resultant is the meant one. @param size  of the part, mm: the lever of moments
bool isAppliedAsMeant(const CaseResult& c, const elastic::NodalForces& forces, double facetShare, double size) {
    double forceSize = 0;
    for (const Vec3& f : forces) forceSize += f.norm();
    const bool faceted = facetShare > 1e-5;  // then even a small resultant is the sum of large inexact forces
    const double resultant = std::max(c.meant.norm(), faceted ? forceSize : 1e-3 * forceSize);
    return std::isfinite(forceSize) && std::isfinite(c.meant.norm()) && std::isfinite(c.meantMoment.norm()) &&
           (c.applied - c.meant).norm() <= facetShare * resultant &&
           (c.appliedMoment - c.meantMoment).norm() <= facetShare * forceSize * size;
}

/// Results of one case that was solved, without its reactions on interfaces. Raises the mesh's element errors.
CaseResult caseOf(const Part& part, const CheckModel& model, std::size_t index, elastic::CaseSolution& s,
                  CheckResult& r, double size, Progress& progress) {
    CaseResult c;
    c.name = model.cases[index];
    c.displacement = std::move(s.displacement);
    const std::vector<double> errors = fillStresses(part, r.mesh, c, progress);
    double total = 0;
    for (double e : errors) total += e;
    if (total > 0)
        for (std::size_t e = 0; e < errors.size(); ++e)
            r.elementError[e] =
                std::max(r.elementError[e],
                         static_cast<float>(std::sqrt(errors[e] * static_cast<double>(errors.size()) / total)));
    c.applied = s.applied.force;
    c.reaction = s.reactions.force;
    c.meant = model.meant[index].force;
    c.appliedMoment = s.applied.moment;
    c.reactionMoment = s.reactions.moment;
    c.meantMoment = model.meant[index].moment;
    c.equilibriumError = s.equilibriumError;
    c.residual = s.residual;
    c.intoSupports = model.intoSupports[index];
    c.iterations = s.iterations;
    c.appliedAsMeant = isAppliedAsMeant(c, model.loads[index].forces, model.facetShare[index], size);
    return c;
}

/// Adds a multiple of a solved case to a combination: the model is linear.
void addTerm(CaseResult& c, const CaseResult& term, double factor) {
    for (std::size_t n = 0; n < c.displacement.size(); ++n) c.displacement[n] += factor * term.displacement[n];
    c.applied += factor * term.applied;
    c.reaction += factor * term.reaction;
    c.meant += factor * term.meant;
    c.appliedMoment += factor * term.appliedMoment;
    c.reactionMoment += factor * term.reactionMoment;
    c.meantMoment += factor * term.meantMoment;
    c.equilibriumError = std::max(c.equilibriumError, term.equilibriumError);
    c.residual = std::max(c.residual, term.residual);
    c.intoSupports = std::max(c.intoSupports, term.intoSupports);
    c.appliedAsMeant = c.appliedAsMeant && term.appliedAsMeant;
    if (c.reactions.empty()) {
        c.reactions = term.reactions;
        for (InterfaceReaction& x : c.reactions) {
            x.force *= factor;
            x.moment *= factor;
        }
    } else {
        for (std::size_t k = 0; k < c.reactions.size(); ++k) {
            c.reactions[k].force += factor * term.reactions[k].force;
            c.reactions[k].moment += factor * term.reactions[k].moment;
        }
    }
}

std::vector<CaseResult> combinationsOf(const Part& part, const mesh::TetMesh& mesh,
                                       const std::vector<CaseResult>& solved, Progress& progress) {
    std::vector<CaseResult> combined;
    for (const Combination& combination : part.combinations) {
        if (!combination.on) continue;
        CaseResult c;
        c.name = combination.name;
        c.combination = true;
        c.displacement.assign(mesh.position.size(), Vec3::Zero());
        for (const auto& [name, factor] : combination.terms) {
            const auto at = std::find_if(solved.begin(), solved.end(), [&](const auto& s) { return s.name == name; });
            if (at == solved.end())
                throw InputError(ErrorDetail{"A combination uses a load case that is switched off.", part.path,
                                             "combination '" + combination.name + "'", "cases that are on",
                                             "'" + name + "'"});
            addTerm(c, *at, factor);
        }
        fillStresses(part, mesh, c, progress);
        combined.push_back(std::move(c));
    }
    return combined;
}

/// Envelope of the cases and the figures that follow from it.
void fillWorst(const Part& part, CheckResult& r) {
    std::vector<std::vector<double>> stresses;
    r.counts.assign(r.mesh.position.size(), 0.0);
    r.maxCounts = r.maxRecoveredStress = r.maxRawStress = 0;
    r.recovered.assign(r.mesh.position.size(), 0.0);
    for (CaseResult& c : r.cases) {
        for (std::size_t n = 0; n < r.recovered.size(); ++n) r.recovered[n] = std::max(r.recovered[n], c.recovered[n]);
        c.recovered = {};
        stresses.emplace_back(c.stress.size());
        for (std::size_t n = 0; n < c.stress.size(); ++n) {
            stresses.back()[n] = ruledStress(part, c.stress[n]);
            r.counts[n] = std::max(r.counts[n], c.counts[n]);
        }
        r.maxCounts = std::max(r.maxCounts, c.maxCounts);
        r.maxRecoveredStress = std::max(r.maxRecoveredStress, c.maxRecoveredStress);
        r.maxRawStress = std::max(r.maxRawStress, c.maxRawStress);
    }
    r.envelope = assess::envelope(stresses);
    const double strength = elastic::strength(part.material);
    r.minSafetyFactor = assess::safetyFactor(strength, r.envelope.maxStress);
    r.factorBand = {assess::safetyFactor(strength, r.maxCounts),
                    assess::safetyFactor(strength, std::min(r.maxRecoveredStress, r.envelope.maxStress))};
    r.governingCase = r.envelope.maxCase >= 0 ? r.cases[r.envelope.maxCase].name : "";
}

}  // namespace

void solveOn(const Part& part, const MeshResult& m, const Recipe& recipe, CheckResult& r, Progress& progress) {
    r.mesh = m.mesh;
    r.quality = m.quality;
    r.faces = m.faces;
    r.bodyVolume = m.bodyVolume;
    r.droppedPieces = m.corners.droppedPieces;
    r.droppedVolume = m.corners.droppedVolume;
    const CheckModel model = checkModel(part, r.faces, r.mesh);
    requireThatLoadsLoad(part, model);
    elastic::SolveOptions options;
    options.method = recipe.check.method;
    options.tolerance =
        recipe.check.level == Level::look ? std::max(recipe.check.tolerance, 1e-6) : recipe.check.tolerance;
    elastic::Solution solution =
        solveSets(r.mesh, part.material, model.supports, model.sets, model.loads, model.setOf, options, progress);
    r.unknowns = solution.unknowns;
    r.solver = solution.solver;
    r.solverMemory = solution.memory;
    r.setupSeconds = solution.setupSeconds;
    r.solveSeconds = solution.solveSeconds;
    r.residual = std::move(solution.residual);
    Box3 box;
    for (const Vec3& p : r.mesh.position) box.include(p);
    std::vector<std::vector<HeldFace>> held;  // [sets]
    for (const std::string& set : model.sets) held.push_back(heldFaces(part, set, r));
    std::vector<CaseResult> solved;
    r.elementError.assign(r.mesh.tet.size(), 0);
    for (std::size_t i = 0; i < solution.cases.size(); ++i) {
        CaseResult c = caseOf(part, model, i, solution.cases[i], r, box.diagonal(), progress);
        c.reactions = reactionsOf(part, r.mesh, held[model.setOf[i]], solution.cases[i].reaction);
        solved.push_back(std::move(c));
    }
    std::vector<CaseResult> combined = combinationsOf(part, r.mesh, solved, progress);
    r.cases.clear();
    for (CaseResult& c : solved) {
        const bool checked = std::any_of(part.loadCases.begin(), part.loadCases.end(), [&](const LoadCase& l) {
            return l.name == c.name && l.use == LoadCase::Use::check;
        });
        if (checked) r.cases.push_back(std::move(c));
    }
    for (CaseResult& c : combined) r.cases.push_back(std::move(c));
    if (r.cases.empty())
        throw InputError(ErrorDetail{"No load case is checked.", part.path, "load_cases",
                                     "at least one case that is on, or a combination", "all are off"});
    fillWorst(part, r);
}

}  // namespace escultura::stages
