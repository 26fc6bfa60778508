#include "project/check_model.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "base/error.hpp"
#include "base/quantity.hpp"

namespace escultura::project {
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
                if (l.kind == Load::Kind::remoteForce && l.rigid) connectRigidly(l);
        }
        for (const LoadCase& c : part_.loadCases) {
            if (c.use == LoadCase::Use::off) continue;
            model_.cases.push_back(c.name);
            model_.loads.push_back({elastic::NodalForces(mesh_.position.size(), Vec3::Zero()), {}});
            model_.meant.push_back({});
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
    /// Radial unit vector of a node about an interface's axis.
    Vec3 radial(const Interface& i, std::int32_t node) const {
        const Vec3 d = mesh_.position[node] - i.origin;
        const Vec3 r = d - d.dot(i.axis) * i.axis;
        return r.norm() > 1e-9 ? Vec3(r.normalized()) : perpendicular(i.axis)[0];
    }
    /// The face's nominal outward normal there.
    Vec3 nominalNormal(const Interface& i, const std::string& face, const Vec3& at) const {
        if (face == "start") return -i.axis;
        if (face == "end") return i.axis;
        const Vec3 d = at - i.origin;
        const Vec3 r = (d - d.dot(i.axis) * i.axis).normalized();
        return face == "side" ? r : Vec3(-r);
    }

    void addSupport(const Support& s) {
        const Mat3 axes = part_.axesOf(s.frame);
        for (const Place& p : places(s.on)) {
            const Interface& i = *p.interface;
            const auto nodes = nodesOf(p.faces);
            switch (s.kind) {
                case Support::Kind::fixed:
                    for (auto n : nodes)
                        for (int k = 0; k < 3; ++k)
                            if (s.held[k]) hold(n, axes.col(k), i.name, s.on.face);
                    break;
                case Support::Kind::sliding:
                    for (auto n : nodes)
                        hold(n, s.on.face == "start" || s.on.face == "end" ? i.axis : radial(i, n), i.name, s.on.face);
                    break;
                case Support::Kind::cylindrical:
                    for (auto n : nodes) {
                        const Vec3 r = radial(i, n);
                        const Vec3 directions[3] = {r, i.axis, i.axis.cross(r)};
                        for (int k = 0; k < 3; ++k)
                            if (s.held[k]) hold(n, directions[k], i.name, s.on.face);
                    }
                    break;
                case Support::Kind::bed:
                    model_.supports.beds.push_back({p.faces, s.normalStiffness, s.tangentialStiffness});
                    break;
                case Support::Kind::remote:
                    model_.supports.meanHolds.push_back(
                        {p.faces, s.point.value_or(faceMiddle(i, s.on.face)), s.motions, axes});
                    break;
                case Support::Kind::rigid:
                    model_.supports.rigidGroups.push_back({{nodes.begin(), nodes.end()}, s.motions});
                    break;
            }
        }
    }
    void hold(std::int32_t node, const Vec3& direction, const std::string& interface, const std::string& face) {
        model_.supports.constraints.push_back({node, direction});
        heldBy_.emplace_back(interface, face);
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
        elastic::NodalForces& forces = model_.loads.back().forces;
        MeantLoad& meant = model_.meant.back();
        const Mat3 axes = part_.axesOf(l.frame);
        auto means = [&](const Vec3& force, const Vec3& at, const Vec3& moment = Vec3::Zero()) {
            meant.force += force;
            meant.moment += at.cross(force) + moment;
        };
        if (!l.onFaces()) return addBodyLoad(l, axes, bodyForces_, means);
        const auto list = places(l.on);
        const double share = l.sharedTotal ? 1.0 / static_cast<double>(list.size()) : 1.0;
        const Vec3 force = axes * l.force, moment = axes * l.moment;
        if (l.kind == Load::Kind::remoteForce) {
            // all faces together carry it, as a group of bolts does; 'each' applies it to one after the other
            std::vector<std::vector<std::int32_t>> groups(l.sharedTotal ? 1 : list.size());
            for (std::size_t k = 0; k < list.size(); ++k) {
                auto& to = groups[l.sharedTotal ? 0 : k];
                to.insert(to.end(), list[k].faces.begin(), list[k].faces.end());
            }
            for (const auto& faces : groups) {
                elastic::addSpreadForce(mesh_, faces, force, moment, l.point, forces);
                means(force, l.point, moment);
            }
            return;
        }
        for (const Place& p : list) {
            const Interface& i = *p.interface;
            const Vec3 middle = faceMiddle(i, l.on.face);
            switch (l.kind) {
                case Load::Kind::bearing:
                    elastic::addBearing(mesh_, p.faces, i.axis, middle, share * force, forces);
                    means(share * force, middle);
                    break;
                case Load::Kind::force:
                    elastic::addSpreadForce(mesh_, p.faces, share * force, share * moment, middle, forces);
                    means(share * force, middle, share * moment);
                    break;
                case Load::Kind::torque:
                    elastic::addSpreadForce(mesh_, p.faces, Vec3::Zero(), share * l.torque * i.axis, middle, forces);
                    means(Vec3::Zero(), middle, share * l.torque * i.axis);
                    break;
                case Load::Kind::pressure:
                    elastic::addTraction(
                        mesh_, p.faces, [&](const Vec3&, const Vec3& n) -> Vec3 { return -l.pressure * n; }, forces);
                    for (auto f : p.faces) {
                        const auto& t = mesh_.boundary[f];
                        const Vec3 at = (mesh_.position[t[0]] + mesh_.position[t[1]] + mesh_.position[t[2]]) / 3;
                        means(-l.pressure * elastic::faceArea(mesh_, f) * nominalNormal(i, l.on.face, at), at);
                    }
                    break;
                case Load::Kind::displacement: {
                    auto& given = model_.loads.back().given;
                    given.resize(model_.supports.constraints.size(), 0.0);
                    for (std::size_t c = 0; c < given.size(); ++c)
                        if (heldBy_[c] == std::pair(i.name, l.on.face))
                            given[c] = model_.supports.constraints[c].direction.dot(axes * l.displacement);
                    break;
                }
                default:
                    break;
            }
        }
    }
    template <class Means>
    void addBodyLoad(const Load& l, const Mat3& axes, elastic::NodalForces& forces, const Means& means) {
        const double density = part_.material.density / 1000;  // kg mm/s2 -> N
        if (l.kind == Load::Kind::spin) {
            auto force = [&](const Vec3& p) -> Vec3 {
                const Vec3 d = p - l.point;
                return density * l.speed * l.speed * (d - d.dot(l.axis) * l.axis);
            };
            elastic::addBodyForce(mesh_, force, forces);
            const auto [volume, centre] = massOf();
            means(volume * force(centre), centre);
            // the products of inertia about the centre tilt the axis: their moment has no force
            const Vec3 turn = spinMoment(l, centre);
            means(Vec3::Zero(), centre, turn);
            return;
        }
        const Vec3 a = axes * l.acceleration * (l.kind == Load::Kind::acceleration ? -1 : 1);
        elastic::addBodyForce(
            mesh_, [&](const Vec3&) -> Vec3 { return density * a; }, forces);
        const auto [volume, centre] = massOf();
        means(volume * density * a, centre);
    }
    /// Volume, centroid and second moments, by the elements.
    std::pair<double, Vec3> massOf() {
        if (volume_ > 0) return {volume_, centroid_};
        Vec3 first = Vec3::Zero();
        for (std::size_t e = 0; e < mesh_.tet.size(); ++e) {
            static const double a = 0.585410196624969, b = 0.138196601125011;
            for (const Vec3& xi : {Vec3(b, b, b), Vec3(a, b, b), Vec3(b, a, b), Vec3(b, b, a)}) {
                double n[10];
                mesh::shapeFunctions(xi, n);
                Vec3 p = Vec3::Zero();
                for (int k = 0; k < 10; ++k) p += n[k] * mesh_.position[mesh_.tet[e][k]];
                const double w = mesh::jacobian(mesh_, e, xi).determinant() / 24;
                volume_ += w;
                first += w * p;
                second_ += w * (p - mesh_.position[0]) * (p - mesh_.position[0]).transpose();
            }
        }
        centroid_ = first / volume_;
        return {volume_, centroid_};
    }
    Vec3 spinMoment(const Load& l, const Vec3& centre) {
        const double density = part_.material.density / 1000;
        const Vec3 from = centre - mesh_.position[0];
        const Mat3 spread = second_ - volume_ * from * from.transpose();
        // integral of r x (P r) with P the projection across the axis
        const Mat3 m = spread * (Mat3::Identity() - l.axis * l.axis.transpose());
        return density * l.speed * l.speed * Vec3(m(1, 2) - m(2, 1), m(2, 0) - m(0, 2), m(0, 1) - m(1, 0));
    }

    const Part& part_;
    const std::vector<NamedFace>& faces_;
    const mesh::TetMesh& mesh_;
    CheckModel model_;
    elastic::NodalForces bodyForces_;                          ///< of the case that is built
    std::vector<std::pair<std::string, std::string>> heldBy_;  ///< [constraints]
    double volume_ = 0;
    Vec3 centroid_ = Vec3::Zero();
    Mat3 second_ = Mat3::Zero();  ///< about the first node
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

}  // namespace escultura::project
