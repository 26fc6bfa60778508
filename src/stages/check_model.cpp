#include "stages/check_model.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "base/error.hpp"
#include "duty/load_kind.hpp"
#include "duty/support_kind.hpp"
#include "stages/kept_faces.hpp"

namespace escultura::stages {
namespace {

/// Everything about the faces that one reference names.
struct Place {
    const Interface* interface;
    std::vector<std::int32_t> faces;
};

class Builder {
  public:
    Builder(const Part& part, const std::vector<NamedFace>& faces, const mesh::TetMesh& mesh)
        : part_(withFaces(part)), faces_(keptFacesOf(part_) ? outOf(part_, faces) : faces), mesh_(mesh) {}

    CheckModel build() {
        model_.sets = part_.supportSets();
        model_.supports.resize(model_.sets.size());
        heldBy_.resize(model_.sets.size());
        for (std::size_t k = 0; k < model_.sets.size(); ++k)
            for (const Support& s : part_.supports)
                if (Part::acts(s, model_.sets[k])) addSupport(s, k);
        for (const LoadCase& c : part_.loadCases) {
            if (c.use == LoadCase::Use::off) continue;
            for (const Load& l : part_.loadsOf(c))
                if (l.rigid) connectRigidly(l, model_.supports[indexOf(c.supportSet)]);
        }
        for (const LoadCase& c : part_.loadCases) {
            if (c.use == LoadCase::Use::off) continue;
            model_.setOf.push_back(indexOf(c.supportSet));
            model_.cases.push_back(c.name);
            model_.loads.push_back({elastic::NodalForces(mesh_.position.size(), Vec3::Zero()), {}});
            model_.meant.push_back({});
            model_.facetShare.push_back(0);
            bodyForces_.assign(mesh_.position.size(), Vec3::Zero());
            for (const Load& l : part_.loadsOf(c)) addLoad(l);
            model_.intoSupports.push_back(shareIntoSupports(held(), model_.loads.back().forces));
            for (std::size_t n = 0; n < bodyForces_.size(); ++n) model_.loads.back().forces[n] += bodyForces_[n];
            for (Vec3& f : model_.loads.back().forces) f *= c.factor;
            for (double& g : model_.loads.back().given) g *= c.factor;
            model_.meant.back().force *= c.factor;
            model_.meant.back().moment *= c.factor;
        }
        return std::move(model_);
    }

  private:
    std::size_t indexOf(const std::string& set) const {
        return static_cast<std::size_t>(std::find(model_.sets.begin(), model_.sets.end(), set) - model_.sets.begin());
    }
    /// Supports of the case that is built.
    elastic::Supports& held() { return model_.supports[model_.setOf.back()]; }
    std::vector<Place> places(const FaceReference& on) const {
        std::vector<Place> list;
        for (const std::string& name : on.interfaces) {
            Place p{part_.findInterface(name), facesOf(mesh_, faces_, name, on.face)};
            if (p.faces.empty())
                throw InputError(ErrorDetail{"The part does not reach an interface that is loaded or supported.",
                                             {},
                                             "interface '" + name + "', face '" + on.face + "'",
                                             "material there at this threshold",
                                             "no face of the mesh"});
            list.push_back(std::move(p));
        }
        return list;
    }
    std::set<std::int32_t> nodesOf(const std::vector<std::int32_t>& faces) const {
        std::set<std::int32_t> nodes;
        for (auto f : faces) nodes.insert(mesh_.boundary[f].begin(), mesh_.boundary[f].end());
        return nodes;
    }
    void addSupport(const Support& s, std::size_t set) {
        const Mat3 axes = part_.axesOf(s.frame);
        for (const Place& p : places(s.on)) {
            const auto nodes = nodesOf(p.faces);
            elastic::Supports& into = model_.supports[set];
            if (p.interface->isOfLines() && s.kind == Support::Kind::fixed) {
                holdAlong(*p.interface, p.faces, s.held, axes, into);
                continue;
            }
            supportKind(s.kind).apply(
                s, {mesh_, *p.interface, p.faces, nodes, axes, into, [&](std::int32_t node, const Vec3& direction) {
                        into.constraints.push_back({node, direction});
                        heldBy_[set].emplace_back(p.interface->name, s.on.face);
                    }});
        }
    }
    /// Holds each point, and the middle of each short piece of each edge, by the mean motion of the faces around it:
    /// the part may turn about them, and stresses stay finite.
    void holdAlong(const Interface& i, const std::vector<std::int32_t>& faces, const std::array<bool, 3>& held,
                   const Mat3& axes, elastic::Supports& into) const {
        std::map<std::pair<std::size_t, int>, elastic::MeanHold> pieces;
        for (const std::int32_t f : faces) {
            const auto& t = mesh_.boundary[f];
            std::pair<std::size_t, double> at;
            shape::distanceTo(i.lines, (mesh_.position[t[0]] + mesh_.position[t[1]] + mesh_.position[t[2]]) / 3, &at);
            const double length = shape::lengthOf(i.lines[at.first]);
            const int count = std::max(1, static_cast<int>(std::lround(length / (2 * i.length))));
            const int piece = length > 0 ? std::min(count - 1, static_cast<int>(count * at.second / length)) : 0;
            auto& hold = pieces[{at.first, piece}];
            hold.faces.push_back(f);
            hold.centre = shape::placeAlong(i.lines[at.first], (piece + 0.5) / count * length);
            hold.held = {held[0], held[1], held[2], false, false, false};
            hold.frame = axes;
        }
        for (auto& [place, hold] : pieces) into.meanHolds.push_back(std::move(hold));
    }
    void connectRigidly(const Load& l, elastic::Supports& into) {
        std::set<std::int32_t> nodes;
        for (const Place& p : places(l.on)) nodes.merge(nodesOf(p.faces));
        std::vector<std::int32_t> list(nodes.begin(), nodes.end());
        for (const auto& g : into.rigidGroups)
            if (g.nodes == list) return;  // the same face in several cases
        into.rigidGroups.push_back({std::move(list), {}});
    }

    void addLoad(const Load& l) {
        const LoadKind& kind = loadKind(l.kind);
        const std::vector<Place> at = kind.onFaces ? places(l.on) : std::vector<Place>();
        std::vector<LoadedFace> faces;
        for (const Place& p : at) faces.push_back({*p.interface, p.faces, faceMiddle(*p.interface, l.on.face)});
        const double share = l.sharedTotal && !faces.empty() ? 1.0 / static_cast<double>(faces.size()) : 1.0;
        auto move = [&](const Interface& interface, const Vec3& displacement) {
            auto& given = model_.loads.back().given;
            given.resize(held().constraints.size(), 0.0);
            const auto& by = heldBy_[model_.setOf.back()];
            bool any = false;
            for (std::size_t c = 0; c < given.size(); ++c)
                if (by[c] == std::pair(interface.name, l.on.face)) {
                    given[c] = held().constraints[c].direction.dot(displacement);
                    any = true;
                }
            if (!any)
                throw InputError(ErrorDetail{"A face is to be moved that nothing holds in this load case.",
                                             part_.path,
                                             {},
                                             "a support on the face, in the load case's set of supports",
                                             "none that acts"});
        };
        LoadTarget target{part_,       mesh_,
                          faces,       part_.axesOf(l.frame),
                          share,       model_.loads.back().forces,
                          bodyForces_, model_.meant.back(),
                          move,        [this] { return massOf(); }};
        try {
            kind.apply(l, target);
        } catch (const InputError& e) {  // which load it is only this place knows
            ErrorDetail detail = e.detail();
            if (detail.place.empty()) {
                detail.place = "load case '" + model_.cases.back() + "', " + kind.key;
                for (const std::string& name : l.on.interfaces) detail.place += " on '" + name + "'";
                if (kind.onFaces) detail.place += ", face '" + l.on.face + "'";
            }
            throw InputError(detail);
        }
        auto& facets = model_.facetShare.back();
        facets = std::max(facets, kind.facetShare);
    }
    MeshMass massOf() {
        if (mass_.volume > 0) return mass_;
        Vec3 first = Vec3::Zero();
        Mat3 second = Mat3::Zero();  // about the first node
        for (std::size_t e = 0; e < mesh_.tet.size(); ++e) {
            static const double a = 0.585410196624969, b = 0.138196601125011;
            for (const Vec3& xi : {Vec3(b, b, b), Vec3(a, b, b), Vec3(b, a, b), Vec3(b, b, a)}) {
                double n[10];
                mesh::shapeFunctions(xi, n);
                Vec3 p = Vec3::Zero();
                for (int k = 0; k < 10; ++k) p += n[k] * mesh_.position[mesh_.tet[e][k]];
                const double w = mesh::jacobian(mesh_, e, xi).determinant() / 24;
                mass_.volume += w;
                first += w * p;
                second += w * (p - mesh_.position[0]) * (p - mesh_.position[0]).transpose();
            }
        }
        mass_.centre = first / mass_.volume;
        const Vec3 from = mass_.centre - mesh_.position[0];
        mass_.spread = second - mass_.volume * from * from.transpose();
        return mass_;
    }

    const Part part_;
    const std::vector<NamedFace> faces_;
    const mesh::TetMesh& mesh_;
    CheckModel model_;
    elastic::NodalForces bodyForces_;  ///< of the case that is built
    /// [sets][constraints] interface and face
    std::vector<std::vector<std::pair<std::string, std::string>>> heldBy_;
    MeshMass mass_;
};

}  // namespace

const NamedFace& findFace(const std::vector<NamedFace>& faces, const std::string& interface, const std::string& face) {
    for (const NamedFace& f : faces)
        if (f.interface == interface && f.face == face) return f;
    throw InputError(ErrorDetail{
        "An interface has no such face.", {}, "interface '" + interface + "'", "face '" + face + "'", "none"});
}

std::vector<std::int32_t> facesOf(const mesh::TetMesh& mesh, const NamedFace& face) {
    std::vector<std::int32_t> found;
    for (std::size_t f = 0; f < mesh.boundary.size(); ++f) {
        if (face.lines.empty() && mesh.owner[f] != face.surface) continue;
        const auto& t = mesh.boundary[f];
        if (face.holds((mesh.position[t[0]] + mesh.position[t[1]] + mesh.position[t[2]]) / 3))
            found.push_back(static_cast<std::int32_t>(f));
    }
    return found;
}

std::vector<std::int32_t> facesOf(const mesh::TetMesh& mesh, const std::vector<NamedFace>& faces,
                                  const std::string& interface, const std::string& face) {
    const NamedFace& first = findFace(faces, interface, face);
    if (!first.kept) return facesOf(mesh, first);
    std::vector<std::int32_t> all;
    for (const NamedFace& f : faces)
        if (f.interface == interface && f.face == face)
            for (const std::int32_t triangle : facesOf(mesh, f)) all.push_back(triangle);
    return all;
}

std::vector<std::size_t> casesOf(const std::vector<std::size_t>& setOf, std::size_t set) {
    std::vector<std::size_t> cases;
    for (std::size_t c = 0; c < setOf.size(); ++c)
        if (setOf[c] == set) cases.push_back(c);
    return cases;
}

elastic::Solution solveSets(const mesh::TetMesh& mesh, const elastic::Material& material,
                            const std::vector<elastic::Supports>& supports, const std::vector<std::string>& sets,
                            const std::vector<elastic::LoadVector>& loads, const std::vector<std::size_t>& setOf,
                            const elastic::SolveOptions& options, Progress& progress) {
    if (supports.size() == 1) return elastic::solve(mesh, material, supports[0], loads, options, progress);
    elastic::Solution all;
    all.cases.resize(loads.size());
    for (std::size_t k = 0; k < supports.size(); ++k) {
        const std::vector<std::size_t> cases = casesOf(setOf, k);
        if (cases.empty()) continue;
        std::vector<elastic::LoadVector> own;
        for (const std::size_t c : cases) own.push_back(loads[c]);
        elastic::Solution s;
        try {
            s = elastic::solve(mesh, material, supports[k], own, options, progress);
        } catch (const InputError& e) {
            ErrorDetail detail = e.detail();
            detail.place += sets[k].empty() ? ", those without a set" : ", set '" + sets[k] + "'";
            throw InputError(detail);
        }
        all.unknowns = std::max(all.unknowns, s.unknowns);
        all.memory = std::max(all.memory, s.memory);
        all.setupSeconds += s.setupSeconds;
        all.solveSeconds += s.solveSeconds;
        if (all.solver.empty()) all.solver = s.solver;
        // one history: what has converged keeps its last value
        const std::size_t rows = std::max(all.residual.size(), s.residual.size());
        const std::size_t before = all.residual.size();
        all.residual.resize(rows, before ? all.residual.back() : std::vector<float>(loads.size(), 0.F));
        for (std::size_t row = 0; row < rows && !s.residual.empty(); ++row)
            for (std::size_t c = 0; c < cases.size(); ++c)
                all.residual[row][cases[c]] = s.residual[std::min(row, s.residual.size() - 1)][c];
        for (std::size_t c = 0; c < cases.size(); ++c) all.cases[cases[c]] = std::move(s.cases[c]);
    }
    return all;
}

double shareIntoSupports(const elastic::Supports& supports, const elastic::NodalForces& forces) {
    std::map<std::int32_t, std::vector<Vec3>> held;  // orthonormal directions of each node
    auto hold = [&](std::int32_t node, Vec3 direction) {
        auto& known = held[node];
        for (const Vec3& k : known) direction -= direction.dot(k) * k;
        if (direction.norm() > 1e-6) known.push_back(direction.normalized());
    };
    for (const auto& c : supports.constraints) hold(c.node, c.direction);
    for (const auto& g : supports.rigidGroups)
        if (std::all_of(g.held.begin(), g.held.end(), [](bool h) { return h; }))
            for (auto n : g.nodes)
                for (int k = 0; k < 3; ++k) hold(n, Vec3::Unit(k));
    double all = 0, into = 0;
    for (std::size_t n = 0; n < forces.size(); ++n) {
        all += forces[n].norm();
        const auto at = held.find(static_cast<std::int32_t>(n));
        if (at == held.end()) continue;
        Vec3 taken = Vec3::Zero();
        for (const Vec3& k : at->second) taken += forces[n].dot(k) * k;
        into += taken.norm();
    }
    return all > 0 ? into / all : 0;
}

CheckModel checkModel(const Part& part, const std::vector<NamedFace>& faces, const mesh::TetMesh& mesh) {
    return Builder(part, faces, mesh).build();
}

}  // namespace escultura::stages
