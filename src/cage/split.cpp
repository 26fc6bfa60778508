#include "cage/split.hpp"

#include "cage/wrap.hpp"

namespace escultura::cage {

void splitAround(Cage& cage, std::vector<char> marked, const Target& target,
                 const std::vector<std::array<Vec3, 2>>& symmetry) {
    const double edge = meanEdge(cage);
    for (const auto& plane : symmetry) {
        const auto mirror = mirrorVertices(cage, plane, 0.02 * edge);
        for (std::size_t v = 0; v < marked.size(); ++v)
            if (marked[v] && mirror[v] >= 0) marked[mirror[v]] = 1;
    }
    refineAround(cage, std::move(marked));
    std::vector<std::vector<std::int32_t>> mirror;
    for (const auto& plane : symmetry) mirror.push_back(mirrorVertices(cage, plane, 1e-6));
    relaxOn(cage, target.tree(), 8);
    // the target's triangles are not as symmetric as the body
    for (std::size_t m = 0; m < mirror.size(); ++m) {
        const auto& [at, n] = symmetry[m];
        const std::vector<Vec3> old = cage.position;
        for (std::size_t v = 0; v < old.size(); ++v) {
            if (mirror[m][v] < 0) continue;
            const Vec3& q = old[mirror[m][v]];
            cage.position[v] = 0.5 * (old[v] + q - 2 * (q - at).dot(n) * n);
        }
    }
}

}  // namespace escultura::cage
