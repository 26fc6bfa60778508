#include "stages/spot_test.hpp"

#include <tbb/task_arena.h>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <limits>
#include <map>
#include <optional>

#include "base/error.hpp"
#include "base/parallel.hpp"
#include "elastic/stress.hpp"
#include "elastic/submodel.hpp"
#include "lattice/refine.hpp"
#include "mesh/point_location.hpp"
#include "stages/check_stage.hpp"
#include "surface/tri_mesh.hpp"

namespace escultura::stages {
namespace {

/// Radius of the piece that is solved to test a hotspot at each refinement, in element sizes.
constexpr double pieceReach[] = {2.75, 2.25, 2.25};
constexpr std::size_t mostElements = 3000000;  // of a refined mesh
constexpr std::size_t mostUnknowns = 2500000;  // of a refined model that is solved whole
/// Zone of an idealised boundary, share of the root of its face's area: a stress that a support or load disturbs by
/// itself falls off over a distance that goes with the face, not with the elements.
constexpr double zoneShare = 0.1;

/// Loads of what a check lists: its cases, and its combinations as sums of the cases they name.
std::vector<elastic::LoadVector> loadsOf(const Part& part, const CheckResult& check, const CheckModel& model) {
    auto indexOf = [&](const std::string& name) {
        return static_cast<std::size_t>(std::find(model.cases.begin(), model.cases.end(), name) - model.cases.begin());
    };
    std::vector<elastic::LoadVector> loads;
    for (const CaseResult& c : check.cases) {
        std::vector<std::pair<std::string, double>> terms{{c.name, 1.0}};
        if (c.combination)
            for (const Combination& combination : part.combinations)
                if (combination.name == c.name) terms.assign(combination.terms.begin(), combination.terms.end());
        elastic::LoadVector sum;
        for (const auto& [name, factor] : terms) {
            const elastic::LoadVector& from = model.loads.at(indexOf(name));
            sum.forces.resize(from.forces.size(), Vec3::Zero());
            for (std::size_t n = 0; n < from.forces.size(); ++n) sum.forces[n] += factor * from.forces[n];
            sum.given.resize(std::max(sum.given.size(), from.given.size()), 0.0);
            for (std::size_t g = 0; g < from.given.size(); ++g) sum.given[g] += factor * from.given[g];
        }
        loads.push_back(std::move(sum));
    }
    return loads;
}

/// A solution of the whole body, at whose motion pieces are cut out.
struct WholeSolution {
    std::shared_ptr<const mesh::TetMesh> mesh;
    std::shared_ptr<const mesh::PointLocation> location;
    std::vector<std::vector<Vec3>> displacement;  ///< [cases][nodes] mm

    Vec3 at(std::size_t loadCase, const mesh::PointLocation::Place& place) const {
        return location->interpolate(displacement[loadCase], place);
    }
};

/// The same nodes with those elements whose middle lies in a shell around a place, mm.
mesh::TetMesh elementsWithin(const mesh::TetMesh& mesh, const Vec3& place, double inner, double outer) {
    mesh::TetMesh part;
    part.position = mesh.position;
    part.cornerCount = mesh.cornerCount;
    for (const mesh::Tet10& t : mesh.tet) {
        const Vec3 middle = (mesh.position[t[0]] + mesh.position[t[1]] + mesh.position[t[2]] + mesh.position[t[3]]) / 4;
        const double far = (middle - place).norm();
        if (far >= inner && far <= outer) part.tet.push_back(t);
    }
    return part;
}

/// The duty on a refined mesh of the whole body.
struct RefinedModel {
    std::shared_ptr<const mesh::TetMesh> mesh;
    CheckModel model;
    std::vector<elastic::LoadVector> loads;  ///< of what the check lists
    std::vector<std::size_t> setOf;          ///< [loads] set of supports
};

/// Radii of a piece around its place, mm.
struct PieceSize {
    double reach = 0;  ///< what is solved
    double outer = 0;  ///< up to here it is held against the whole's solution
    double inner = 0;  ///< within this it is refined
};

/// How much less (or more) a piece carries than the whole did there: by how much the amplitude of the whole's stresses
/// differs, in the energy product, over the elements of the piece that are not refined,
/// | 1 - a(whole, piece) / a(whole, whole) |. The whole's section forces are in equilibrium with the loads even where
/// its mesh is too stiff; a piece that is softer inside, at the cut moved by the whole's motion, carries too little by
/// just this share. What changes around the place only, as it is refined, hardly takes part in the product; a larger
/// piece is compared over the same elements.
/// @param shell  the elements that are compared
double amplitudeChange(const mesh::TetMesh& shell, const elastic::Material& material, const std::vector<Vec3>& whole,
                       const std::vector<Vec3>& piece) {
    const elastic::Stiffness6 compliance = elastic::elasticity(material).inverse();
    const auto a = elastic::gaussStress(shell, material, whole), b = elastic::gaussStress(shell, material, piece);
    double mixed = 0, own = 0;
    for (std::size_t e = 0; e < shell.tet.size(); ++e) {
        const mesh::Tet10& t = shell.tet[e];
        const double volume =
            tetVolume(shell.position[t[0]], shell.position[t[1]], shell.position[t[2]], shell.position[t[3]]);
        for (int g = 0; g < 4; ++g) {
            const elastic::Voigt6 strain = compliance * a[4 * e + g];
            mixed += volume * strain.dot(b[4 * e + g]);
            own += volume * strain.dot(a[4 * e + g]);
        }
    }
    return own > 0 ? std::abs(1 - mixed / own) : 0;
}

/// A piece of the refined model and its solution.
struct SolvedPiece {
    elastic::Submodel piece;
    std::vector<elastic::CaseSolution> cases;
};

/// Cuts a piece out and solves it, with the supports of each case's set: the piece is the same for all of them.
SolvedPiece solveCut(const Part& part, const RefinedModel& finer, std::vector<char> keep,
                     const elastic::CutDisplacement& moved, Progress& progress) {
    elastic::SolveOptions options;
    options.directUnknowns = 1000000;  // the memory decides: pieces of one model are cheap to factorise
    options.tolerance = 1e-6;
    elastic::takeHeldFaces(*finer.mesh, finer.model.supports, keep);
    SolvedPiece solved;
    solved.cases.resize(finer.loads.size());
    for (std::size_t k = 0; k < finer.model.supports.size(); ++k) {
        const std::vector<std::size_t> cases = casesOf(finer.setOf, k);
        if (cases.empty()) continue;
        std::vector<elastic::LoadVector> loads;
        for (const std::size_t c : cases) loads.push_back(finer.loads[c]);
        solved.piece = elastic::cutOut(*finer.mesh, keep, finer.model.supports[k], loads,
                                       [&](std::size_t c, std::int32_t node) { return moved(cases[c], node); });
        elastic::Solution s = elastic::solve(solved.piece.mesh, part.material, solved.piece.supports,
                                             solved.piece.loads, options, progress);
        for (std::size_t c = 0; c < cases.size(); ++c) solved.cases[cases[c]] = std::move(s.cases[c]);
    }
    return solved;
}

/// Solves only what lies within reach of a suspect; where that is cut out it moves as the whole solution does. A piece
/// that would be more than a third of the body is not solved: no stresses.
assess::Refined solvePiece(const Part& part, const RefinedModel& finer, const WholeSolution& whole, const Vec3& place,
                           const PieceSize& size, Progress& progress) {
    const mesh::TetMesh& all = *finer.mesh;
    std::vector<char> keep(all.tet.size(), 0);
    parallelFor(keep.size(), [&](std::size_t e) {
        for (int k = 0; k < 4 && !keep[e]; ++k) keep[e] = (all.position[all.tet[e][k]] - place).norm() <= size.reach;
    });
    if (size.reach > size.outer &&
        std::count(keep.begin(), keep.end(), 1) > static_cast<std::ptrdiff_t>(keep.size() / 3))
        return {};
    std::map<std::int32_t, mesh::PointLocation::Place> places;
    auto moved = [&](std::size_t loadCase, std::int32_t node) {
        auto at = places.find(node);
        if (at == places.end()) at = places.emplace(node, whole.location->at(all.position[node])).first;
        return whole.at(loadCase, at->second);
    };
    const SolvedPiece solution = solveCut(part, finer, std::move(keep), moved, progress);
    const elastic::Submodel& piece = solution.piece;
    assess::Refined result;
    // stresses are looked at around the place only, and the cut is judged where nothing is refined
    const mesh::TetMesh near = elementsWithin(piece.mesh, place, 0, 0.8 * size.outer),
                        shell = elementsWithin(piece.mesh, place, size.inner, size.outer);
    std::vector<double> peak;
    for (const auto& ofCase : solution.cases) {
        std::vector<double> ruled;
        for (const elastic::Voigt6& s : elastic::averagedStress(near, part.material, ofCase.displacement))
            ruled.push_back(ruledStress(part, s));
        peak.push_back(*std::max_element(ruled.begin(), ruled.end()));
        result.stress.push_back(std::move(ruled));
    }
    // cases that hardly load the place say nothing about it
    const double highest = *std::max_element(peak.begin(), peak.end());
    for (std::size_t k = 0; k < peak.size(); ++k) {
        if (peak[k] < 0.5 * highest) continue;
        const std::vector<Vec3>& u = solution.cases[k].displacement;
        std::vector<Vec3> before(u.size());
        for (std::size_t n = 0; n < u.size(); ++n) before[n] = moved(k, piece.node[n]);
        result.cutError = std::max(result.cutError, amplitudeChange(shell, part.material, before, u));
    }
    result.mesh = piece.mesh;
    result.elements = static_cast<std::int64_t>(all.tet.size());
    return result;
}

/// Highest stress at boundary nodes within a distance of a place, case by case, MPa.
std::vector<double> highestNear(const mesh::TetMesh& mesh, const std::vector<std::vector<double>>& stress,
                                const Vec3& place, double reach) {
    std::vector<double> highest(stress.size(), 0.0);
    for (const auto& t : mesh.boundary)
        for (auto n : t)
            if ((mesh.position[n] - place).norm() <= reach)
                for (std::size_t c = 0; c < stress.size(); ++c) highest[c] = std::max(highest[c], stress[c][n]);
    return highest;
}

/// Largest change of the cases that load a place at least half as much as the highest, share.
double changeOf(const std::vector<double>& before, const std::vector<double>& after) {
    const double highest = *std::max_element(after.begin(), after.end());
    double change = 0;
    for (std::size_t c = 0; c < after.size(); ++c)
        if (after[c] >= 0.5 * highest && after[c] > 0) change = std::max(change, std::abs(before[c] / after[c] - 1));
    return change;
}

/// Solves the whole refined body. Empty when it is too large or the solver gives up.
std::optional<WholeSolution> solveWhole(const Part& part, const RefinedModel& finer, Progress& progress) {
    if (3 * finer.mesh->position.size() > mostUnknowns) return {};
    progress.step("Solving the whole refined model: pieces of it are not enough");
    elastic::SolveOptions options;
    options.tolerance = 1e-6;
    options.iterationLimit = 400;
    WholeSolution whole;
    try {
        auto solution = solveSets(*finer.mesh, part.material, finer.model.supports, finer.model.sets, finer.loads,
                                  finer.setOf, options, progress);
        for (auto& c : solution.cases) whole.displacement.push_back(std::move(c.displacement));
    } catch (const SolveError&) {
        return {};  // the pieces stay as they are, with their error beside them
    }
    whole.mesh = finer.mesh;
    whole.location = std::make_shared<mesh::PointLocation>(*finer.mesh);
    return whole;
}

/// One held or loaded face.
struct ActingFace {
    bool support = false, load = false;
    std::shared_ptr<surface::TriMesh> mesh = std::make_shared<surface::TriMesh>();
    std::shared_ptr<surface::TriangleTree> tree;
    double zone = 0;
};

std::vector<ActingFace> actingFaces(const Part& part, const CheckResult& check) {
    static constexpr int corners[4][3] = {{0, 3, 5}, {3, 1, 4}, {5, 4, 2}, {3, 4, 5}};
    std::vector<ActingFace> faces;
    auto acts = [](const FaceReference& on, const NamedFace& f) {
        return on.face == f.face && std::count(on.interfaces.begin(), on.interfaces.end(), f.interface);
    };
    for (const NamedFace& f : check.faces) {
        ActingFace a;
        for (const Support& s : part.supports) a.support = a.support || acts(s.on, f);
        for (const LoadCase& c : part.loadCases)
            for (const Load& l : part.loadsOf(c)) a.load = a.load || acts(l.on, f);
        if (!a.support && !a.load) continue;
        a.mesh->position = check.mesh.position;
        double area = 0;
        for (auto index : facesOf(check.mesh, f)) {
            const auto& t = check.mesh.boundary[index];
            for (const auto& k : corners) a.mesh->triangle.push_back({t[k[0]], t[k[1]], t[k[2]]});
            area += elastic::faceArea(check.mesh, index);
        }
        if (a.mesh->triangle.empty()) continue;
        a.zone = zoneShare * std::sqrt(area);
        a.tree = std::make_shared<surface::TriangleTree>(*a.mesh);
        faces.push_back(std::move(a));
    }
    return faces;
}

assess::NearBoundary nearBoundary(const std::vector<ActingFace>& faces, const Vec3& place) {
    assess::NearBoundary near;
    double nearest = std::numeric_limits<double>::infinity();
    for (const ActingFace& f : faces) {
        const double d = f.tree->distance(place);
        if (f.support) near.toSupport = std::min(near.toSupport, d);
        if (f.load) near.toLoad = std::min(near.toLoad, d);
        if (d < nearest) {
            nearest = d;
            near.zone = f.zone;
        }
    }
    return near;
}

/// Refines around places and solves pieces of the refined model, for the tests of hotspots.
class Resolver {
  public:
    /// @param corners  of the check's mesh; refined further and further
    Resolver(const Part& part, const CheckedBody& body, lattice::TetComplex corners, const CheckResult& check,
             const std::vector<Vec3>& places, const std::vector<std::vector<double>>& stress, Progress& progress)
        : part_(part), body_(body), corners_(std::move(corners)), check_(check), places_(places), progress_(progress) {
        whole_.mesh = std::shared_ptr<const mesh::TetMesh>(&check.mesh, [](const mesh::TetMesh*) {});
        whole_.location = std::make_shared<mesh::PointLocation>(check.mesh);
        for (const CaseResult& c : check.cases) whole_.displacement.push_back(c.displacement);
        for (const Vec3& p : places) {
            size_.push_back(assess::elementSizeAt(check.mesh, p));
            ball_.push_back(assess::testReach(check.mesh, p));
            const std::vector<double> peaks = highestNear(check.mesh, stress, p, ball_.back());
            lastPeak_.push_back(*std::max_element(peaks.begin(), peaks.end()));
        }
    }

    /// Pieces around the active places on a mesh that has the wanted sizes.
    std::vector<assess::Refined> resolve(const std::function<double(const Vec3&)>& wanted,
                                         std::span<const std::size_t> active) {
        const int level = std::min(refinement_++, 2);
        auto wantedHere = [&](const Vec3& p) { return wanted(body_.frame.outOf(p)); };
        lattice::refine(*body_.shape, corners_, wantedHere, mostElements, progress_);
        RefinedModel finer;
        finer.mesh = std::make_shared<const mesh::TetMesh>(
            outOf(body_.frame, mesh::curvedMesh(*body_.shape, corners_, progress_)));
        finer.model = checkModel(part_, check_.faces, *finer.mesh);
        finer.loads = loadsOf(part_, check_, finer.model);
        const auto& sets = finer.model.sets;
        for (const CaseResult& c : check_.cases)
            finer.setOf.push_back(static_cast<std::size_t>(
                std::find(sets.begin(), sets.end(), part_.supportSetOf(c.name)) - sets.begin()));
        std::vector<assess::Refined> pieces(active.size());
        const std::vector<std::size_t> open = grow(finer, level, active, pieces);
        if (!open.empty())
            if (auto better = solveWhole(part_, finer, progress_)) {
                whole_ = std::move(*better);
                solvePieces(finer, level, active, open, 1, pieces);
            }
        for (std::size_t a = 0; a < active.size(); ++a) {
            const std::vector<double> peaks = peaksOf(pieces[a], active[a]);
            lastPeak_[active[a]] = *std::max_element(peaks.begin(), peaks.end());
        }
        return pieces;
    }

  private:
    std::vector<double> peaksOf(const assess::Refined& piece, std::size_t place) const {
        return highestNear(piece.mesh, piece.stress, places_[place], ball_[place]);
    }
    /// Solves pieces side by side. @param which  of the active ones @param larger  factor on their radii
    void solvePieces(const RefinedModel& finer, int level, std::span<const std::size_t> active,
                     const std::vector<std::size_t>& which, double larger, std::vector<assess::Refined>& pieces) {
        const double reach = pieceReach[level], inner = assess::refinedBall[level];
        progress_.step("Solving around " + std::to_string(which.size()) +
                       (which.size() == 1 ? " hotspot" : " hotspots"));
        std::atomic<std::size_t> done = 0;
        const elastic::OneThreadEach oneThreadEach;
        parallelFor(
            which.size(),
            [&](std::size_t k) {
                const std::size_t a = which[k];
                // steps of pieces that are solved side by side would flicker; cancelling reaches them
                Progress own(&progress_);
                tbb::this_task_arena::isolate([&] {  // while it waits a thread must not begin another piece
                    const double unit = size_[active[a]];
                    const PieceSize radii{larger * reach * unit, reach * unit, inner * unit};
                    auto piece = solvePiece(part_, finer, whole_, places_[active[a]], radii, own);
                    if (!piece.stress.empty()) pieces[a] = std::move(piece);
                });
                progress_.step("Solving around the hotspots",
                               static_cast<double>(++done) / static_cast<double>(which.size()));
            },
            1);
    }
    /// Where the cut matters the piece grows, at last to the whole body; a second, larger piece tells by how much the
    /// first one's peak depends on where it is cut, and what is left of that is less.
    /// @return the active ones for which even the largest piece is not enough
    std::vector<std::size_t> grow(const RefinedModel& finer, int level, std::span<const std::size_t> active,
                                  std::vector<assess::Refined>& pieces) {
        std::vector<std::size_t> open(active.size());
        for (std::size_t a = 0; a < open.size(); ++a) open[a] = a;
        for (const double larger : {1.0, 2.0, 4.0}) {
            if (open.empty()) break;
            const std::vector<assess::Refined> smaller = larger > 1 ? pieces : std::vector<assess::Refined>{};
            solvePieces(finer, level, active, open, larger, pieces);
            std::erase_if(open, [&](std::size_t a) {
                const std::vector<double> peaks = peaksOf(pieces[a], active[a]);
                if (larger > 1 && pieces[a].mesh.tet.size() > smaller[a].mesh.tet.size())
                    pieces[a].cutError = changeOf(peaksOf(smaller[a], active[a]), peaks);
                const double before = lastPeak_[active[a]], now = *std::max_element(peaks.begin(), peaks.end());
                return !assess::cutMatters(pieces[a].cutError, 1 - before / std::max(now, 1e-300));
            });
        }
        return open;
    }

    const Part& part_;
    const CheckedBody& body_;
    lattice::TetComplex corners_;
    const CheckResult& check_;
    const std::vector<Vec3>& places_;
    Progress& progress_;
    WholeSolution whole_;
    std::vector<double> size_, ball_, lastPeak_;  // [places]
    int refinement_ = 0;
};

}  // namespace

std::function<assess::NearBoundary(const Vec3&)> boundaryFinder(const Part& part, const CheckResult& check) {
    return [faces = actingFaces(part, check)](const Vec3& place) { return nearBoundary(faces, place); };
}

std::vector<assess::Evidence> testSpots(const Part& part, const CheckedBody& body, lattice::TetComplex corners,
                                        const CheckResult& check, const std::vector<Vec3>& places, Progress& progress) {
    std::vector<std::vector<double>> stress;
    for (const CaseResult& c : check.cases) {
        stress.emplace_back(c.stress.size());
        for (std::size_t n = 0; n < c.stress.size(); ++n) stress.back()[n] = ruledStress(part, c.stress[n]);
    }
    const auto near = boundaryFinder(part, check);
    std::vector<assess::Suspect> suspects;
    for (const Vec3& p : places) suspects.push_back({p, near});
    Resolver resolver(part, body, std::move(corners), check, places, stress, progress);
    auto resolve = [&](const std::function<double(const Vec3&)>& wanted, std::span<const std::size_t> active) {
        return resolver.resolve(wanted, active);
    };
    return assess::testHotspots(check.mesh, stress, suspects, resolve, progress);
}

}  // namespace escultura::stages
