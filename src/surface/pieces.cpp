#include "surface/pieces.hpp"

#include <map>

namespace escultura::surface {

std::vector<TriMesh> piecesOf(const TriMesh& mesh) {
    std::vector<std::int32_t> root(mesh.position.size());
    for (std::size_t n = 0; n < root.size(); ++n) root[n] = static_cast<std::int32_t>(n);
    auto find = [&](std::int32_t n) {
        while (root[n] != n) n = root[n] = root[root[n]];
        return n;
    };
    for (const Triangle& t : mesh.triangle)
        for (int k = 1; k < 3; ++k) root[find(t[k])] = find(t[0]);
    struct Piece {
        std::vector<std::size_t> triangles;
        double volume = 0;
        Box3 box;
    };
    std::vector<Piece> pieces;
    std::map<std::int32_t, std::size_t> at;
    for (std::size_t t = 0; t < mesh.triangle.size(); ++t) {
        const Triangle& v = mesh.triangle[t];
        const auto [found, isNew] = at.emplace(find(v[0]), pieces.size());
        if (isNew) pieces.emplace_back();
        Piece& p = pieces[found->second];
        p.triangles.push_back(t);
        p.volume += mesh.position[v[0]].dot(mesh.position[v[1]].cross(mesh.position[v[2]])) / 6;
        for (const std::int32_t n : v) p.box.include(mesh.position[n]);
    }
    std::vector<std::vector<std::size_t>> bodies;
    std::vector<std::size_t> bodyOf(pieces.size(), pieces.size());
    for (std::size_t k = 0; k < pieces.size(); ++k)
        if (pieces[k].volume >= 0) {
            bodyOf[k] = bodies.size();
            bodies.push_back({k});
        }
    for (std::size_t k = 0; k < pieces.size(); ++k) {
        if (pieces[k].volume >= 0) continue;
        std::size_t around = pieces.size();  // the smallest that encloses it
        for (std::size_t o = 0; o < pieces.size(); ++o)
            if (pieces[o].volume > -pieces[k].volume &&
                (pieces[o].box.low.array() <= pieces[k].box.low.array()).all() &&
                (pieces[o].box.high.array() >= pieces[k].box.high.array()).all() &&
                (around == pieces.size() || pieces[o].volume < pieces[around].volume))
                around = o;
        if (around < pieces.size())
            bodies[bodyOf[around]].push_back(k);
        else
            bodies.push_back({k});  // turned inside out: told by who uses it
    }
    std::vector<TriMesh> list;
    std::vector<std::int32_t> index(mesh.position.size(), -1);  // every vertex is of one piece
    for (const auto& body : bodies) {
        TriMesh b;
        for (const std::size_t k : body)
            for (const std::size_t t : pieces[k].triangles) {
                Triangle v = mesh.triangle[t];
                for (std::int32_t& n : v) {
                    if (index[n] < 0) {
                        index[n] = static_cast<std::int32_t>(b.position.size());
                        b.position.push_back(mesh.position[n]);
                    }
                    n = index[n];
                }
                b.triangle.push_back(v);
                b.owner.push_back(0);
            }
        list.push_back(std::move(b));
    }
    return list;
}

}  // namespace escultura::surface
