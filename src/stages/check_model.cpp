#include "stages/check_model.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "base/error.hpp"
#include "duty/load_kind.hpp"
#include "duty/support_kind.hpp"

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
        : part_(part), faces_(faces), mesh_(mesh) {}

    CheckModel build() {
        for (const Support& s : part_.supports) addSupport(s);
        for (const LoadCase& c : part_.loadCases) {
            if (c.use == LoadCase::Use::off) continue;
            for (const Load& l : part_.loadsOf(c))
                if (l.rigid) connectRigidly(l);
        }
        for (const LoadCase& c : part_.loadCases) {
            if (c.use == LoadCase::Use::off) continue;
            model_.cases.push_back(c.name);
            model_.loads.push_back({elastic::NodalForces(mesh_.position.size(), Vec3::Zero()), {}});
            model_.meant.push_back({});
            model_.facetShare.push_back(0);
            bodyForces_.assign(mesh_.position.size(), Vec3::Zero());
            for (const Load& l : part_.loadsOf(c)) addLoad(l);
            model_.intoSupports.push_back(shareIntoSupports(model_.supports, model_.loads.back().forces));
            for (std::size_t n = 0; n < bodyForces_.size(); ++n) model_.loads.back().forces[n] += bodyForces_[n];
            for (Vec3& f : model_.loads.back().forces) f *= c.factor;
            for (double& g : model_.loads.back().given) g *= c.factor;
            model_.meant.back().force *= c.factor;
            model_.meant.back().moment *= c.factor;
        }
        return std::move(model_);
    }

  private:
    std::vector<Place> places(const FaceReference& on) const {
        std::vector<Place> list;
        for (const std::string& name : on.interfaces) {
            Place p{part_.findInterface(name), facesOf(mesh_, findFace(faces_, name, on.face))};
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
    void addSupport(const Support& s) {
        const Mat3 axes = part_.axesOf(s.frame);
        for (const Place& p : places(s.on)) {
            const auto nodes = nodesOf(p.faces);
            supportKind(s.kind).apply(s, {mesh_, *p.interface, p.faces, nodes, axes, model_.supports,
                                          [&](std::int32_t node, const Vec3& direction) {
                                              model_.supports.constraints.push_back({node, direction});
                                              heldBy_.emplace_back(p.interface->name, s.on.face);
                                          }});
        }
    }
    void connectRigidly(const Load& l) {
        std::set<std::int32_t> nodes;
        for (const Place& p : places(l.on)) nodes.merge(nodesOf(p.faces));
        std::vector<std::int32_t> list(nodes.begin(), nodes.end());
        for (const auto& g : model_.supports.rigidGroups)
            if (g.nodes == list) return;  // the same face in several cases
        model_.supports.rigidGroups.push_back({std::move(list), {}});
    }

    void addLoad(const Load& l) {
        const LoadKind& kind = loadKind(l.kind);
        const std::vector<Place> at = kind.onFaces ? places(l.on) : std::vector<Place>();
        std::vector<LoadedFace> faces;
        for (const Place& p : at) faces.push_back({*p.interface, p.faces, faceMiddle(*p.interface, l.on.face)});
        const double share = l.sharedTotal && !faces.empty() ? 1.0 / static_cast<double>(faces.size()) : 1.0;
        auto move = [&](const Interface& interface, const Vec3& displacement) {
            auto& given = model_.loads.back().given;
            given.resize(model_.supports.constraints.size(), 0.0);
            for (std::size_t c = 0; c < given.size(); ++c)
                if (heldBy_[c] == std::pair(interface.name, l.on.face))
                    given[c] = model_.supports.constraints[c].direction.dot(displacement);
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

    const Part& part_;
    const std::vector<NamedFace>& faces_;
    const mesh::TetMesh& mesh_;
    CheckModel model_;
    elastic::NodalForces bodyForces_;                          ///< of the case that is built
    std::vector<std::pair<std::string, std::string>> heldBy_;  ///< [constraints]
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
        if (mesh.owner[f] != face.surface) continue;
        const auto& t = mesh.boundary[f];
        if (face.holds((mesh.position[t[0]] + mesh.position[t[1]] + mesh.position[t[2]]) / 3))
            found.push_back(static_cast<std::int32_t>(f));
    }
    return found;
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
