#include "elastic/submodel.hpp"

#include <algorithm>

namespace escultura::elastic {
namespace {

/// Takes the elements that touch a mean-held face of which the piece already has a node, until nothing changes.
void completeHeldFaces(const mesh::TetMesh& mesh, const Supports& supports, std::vector<char>& keep) {
    std::vector<char> taken(supports.meanHolds.size(), 0);
    for (bool grown = true; grown;) {
        grown = false;
        std::vector<char> inside(mesh.position.size(), 0);
        for (std::size_t e = 0; e < mesh.tet.size(); ++e)
            if (keep[e])
                for (auto n : mesh.tet[e]) inside[n] = 1;
        for (std::size_t h = 0; h < taken.size(); ++h) {
            if (taken[h]) continue;
            std::vector<char> ofFace(mesh.position.size(), 0);
            bool reached = false;
            for (auto f : supports.meanHolds[h].faces)
                for (auto n : mesh.boundary[f]) {
                    ofFace[n] = 1;
                    reached = reached || inside[n];
                }
            if (!reached) continue;
            taken[h] = 1;
            grown = true;
            for (std::size_t e = 0; e < mesh.tet.size(); ++e)
                if (std::any_of(mesh.tet[e].begin(), mesh.tet[e].end(), [&](auto n) { return ofFace[n] != 0; }))
                    keep[e] = 1;
        }
    }
}

/// Copies the boundary faces of the elements that are kept. @return [mesh.boundary] index in the piece; -1: not of it
std::vector<std::int32_t> takeBoundary(const mesh::TetMesh& mesh, const std::vector<char>& keep,
                                       const std::vector<std::int32_t>& newIndex, mesh::TetMesh& piece) {
    // a boundary face belongs to the piece with the one element behind it: only then are all its nodes the element's
    std::vector<std::int32_t> newFace(mesh.boundary.size(), -1);
    {
        std::vector<std::int32_t> offset(mesh.position.size() + 1, 0), at;
        auto ofFaces = [&](auto visit) {
            for (std::size_t e = 0; e < mesh.tet.size(); ++e)
                if (keep[e])
                    for (int k = 0; k < 4; ++k) visit(mesh.tet[e][k], static_cast<std::int32_t>(e));
        };
        ofFaces([&](auto n, auto) { ++offset[n + 1]; });
        for (std::size_t n = 0; n < mesh.position.size(); ++n) offset[n + 1] += offset[n];
        at.resize(offset.back());
        std::vector<std::int32_t> next(offset.begin(), offset.end() - 1);
        ofFaces([&](auto n, auto e) { at[next[n]++] = e; });
        for (std::size_t f = 0; f < mesh.boundary.size(); ++f) {
            const auto& face = mesh.boundary[f];
            bool behind = false;
            for (auto k = offset[face[0]]; k < offset[face[0] + 1] && !behind; ++k) {
                const auto& t = mesh.tet[at[k]];
                behind = std::count(t.begin(), t.begin() + 4, face[1]) && std::count(t.begin(), t.begin() + 4, face[2]);
            }
            if (!behind) continue;
            newFace[f] = static_cast<std::int32_t>(piece.boundary.size());
            mesh::Triangle6 own = face;
            for (auto& n : own) n = newIndex[n];
            piece.boundary.push_back(own);
            if (f < mesh.owner.size()) piece.owner.push_back(mesh.owner[f]);
        }
    }
    return newFace;
}

/// Supports that act within the piece. @return constraints of the whole model that it keeps
std::vector<std::size_t> takeSupports(const Supports& supports, const std::vector<char>& used,
                                      const std::vector<char>& moved, const std::vector<std::int32_t>& newIndex,
                                      const std::vector<std::int32_t>& newFace, Supports& piece) {
    std::vector<std::size_t> kept;  // constraints of the whole model
    for (std::size_t c = 0; c < supports.constraints.size(); ++c) {
        Constraint own = supports.constraints[c];
        if (!used[own.node] || moved[own.node]) continue;
        own.node = newIndex[own.node];
        piece.constraints.push_back(own);
        kept.push_back(c);
    }
    for (const ElasticBed& bed : supports.beds) {
        ElasticBed own = bed;
        own.faces.clear();
        for (auto f : bed.faces)
            if (newFace[f] >= 0) own.faces.push_back(newFace[f]);
        if (!own.faces.empty()) piece.beds.push_back(std::move(own));
    }
    for (const MeanHold& hold : supports.meanHolds) {
        MeanHold own = hold;
        for (auto& f : own.faces) f = newFace[f];
        if (std::count(own.faces.begin(), own.faces.end(), -1) == 0) piece.meanHolds.push_back(std::move(own));
    }
    return kept;
}

}  // namespace

void takeHeldFaces(const mesh::TetMesh& mesh, const std::vector<Supports>& sets, std::vector<char>& keep) {
    for (std::ptrdiff_t before = -1, now = 0; before != now;) {
        before = now;
        for (const Supports& s : sets) completeHeldFaces(mesh, s, keep);
        now = std::count(keep.begin(), keep.end(), 1);
    }
}

Submodel cutOut(const mesh::TetMesh& mesh, std::vector<char> keep, const Supports& supports,
                const std::vector<LoadVector>& loads, const CutDisplacement& displacement) {
    completeHeldFaces(mesh, supports, keep);
    Submodel piece;
    const std::size_t nodes = mesh.position.size();
    std::vector<char> used(nodes, 0), moved(nodes, 0);
    for (std::size_t e = 0; e < mesh.tet.size(); ++e)
        if (keep[e])
            for (auto n : mesh.tet[e]) used[n] = 1;
    for (std::size_t e = 0; e < mesh.tet.size(); ++e)
        if (!keep[e])
            for (auto n : mesh.tet[e]) moved[n] = used[n];
    for (const RigidGroup& g : supports.rigidGroups)
        for (auto n : g.nodes) moved[n] = used[n];

    std::vector<std::int32_t> newIndex(nodes, -1);
    for (std::size_t n = 0; n < nodes; ++n) {  // corners stay first
        if (!used[n]) continue;
        newIndex[n] = static_cast<std::int32_t>(piece.node.size());
        piece.node.push_back(static_cast<std::int32_t>(n));
        piece.mesh.position.push_back(mesh.position[n]);
        if (n < mesh.cornerCount) piece.mesh.cornerCount = piece.node.size();
    }
    for (std::size_t e = 0; e < mesh.tet.size(); ++e) {
        if (!keep[e]) continue;
        mesh::Tet10 t = mesh.tet[e];
        for (auto& n : t) n = newIndex[n];
        piece.mesh.tet.push_back(t);
    }
    const std::vector<std::int32_t> newFace = takeBoundary(mesh, keep, newIndex, piece.mesh);
    const std::vector<std::size_t> kept = takeSupports(supports, used, moved, newIndex, newFace, piece.supports);
    std::vector<std::int32_t> cut;
    for (std::size_t n = 0; n < nodes; ++n)
        if (moved[n]) cut.push_back(static_cast<std::int32_t>(n));
    for (auto n : cut)
        for (int k = 0; k < 3; ++k) piece.supports.constraints.emplace_back(newIndex[n], k);

    for (std::size_t c = 0; c < loads.size(); ++c) {
        LoadVector own;
        for (auto n : piece.node) own.forces.push_back(loads[c].forces[n]);
        for (auto k : kept) own.given.push_back(loads[c].given.empty() ? 0.0 : loads[c].given[k]);
        for (auto n : cut) {
            const Vec3 u = displacement(c, n);
            for (int k = 0; k < 3; ++k) own.given.push_back(u[k]);
        }
        piece.loads.push_back(std::move(own));
    }
    return piece;
}

}  // namespace escultura::elastic
