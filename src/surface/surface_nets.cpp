#include "surface/surface_nets.hpp"

#include <array>
#include <cstring>

namespace escultura::surface {
namespace {

/// Corner pairs of a cube's edges; corner c lies at (c & 1, c >> 1 & 1, c >> 2).
constexpr int edges[12][2] = {{0, 1}, {2, 3}, {4, 5}, {6, 7}, {0, 2}, {1, 3},
                              {4, 6}, {5, 7}, {0, 4}, {1, 5}, {2, 6}, {3, 7}};

/// Mean of the places where the level crosses a cube's edges, in shares of the cube.
std::array<float, 3> middleOfCrossings(const float* corner, int mask, float level) {
    float x = 0, y = 0, z = 0;
    int crossings = 0;
    for (const auto& e : edges) {
        const int p = e[0], q = e[1];
        if ((mask >> p & 1) == (mask >> q & 1)) continue;
        const float t = (level - corner[p]) / (corner[q] - corner[p]);
        const int axis = q - p;  // 1, 2 or 4
        x += static_cast<float>(p & 1) + (axis == 1 ? t : 0);
        y += static_cast<float>(p >> 1 & 1) + (axis == 2 ? t : 0);
        z += static_cast<float>(p >> 2) + (axis == 4 ? t : 0);
        ++crossings;
    }
    const float scale = 1.0f / static_cast<float>(crossings);
    return {x * scale, y * scale, z * scale};
}

}  // namespace

TriMesh surfaceNets(const SampledGrid& grid, float level) {
    TriMesh mesh;
    const int nx = grid.n[0], ny = grid.n[1], nz = grid.n[2];
    if (nx < 2 || ny < 2 || nz < 2) return mesh;
    const std::size_t layer = static_cast<std::size_t>(nx) * ny;
    const std::size_t row = static_cast<std::size_t>(nx) + 16;  // padded: eight signs are read at once
    // signs of two layers of nodes, vertices of two layers of cubes
    std::vector<std::uint8_t> sign[2] = {std::vector<std::uint8_t>(row * ny), std::vector<std::uint8_t>(row * ny)};
    std::vector<std::int32_t> vertex[2] = {std::vector<std::int32_t>(layer, -1), std::vector<std::int32_t>(layer, -1)};
    auto readSigns = [&](int k, std::vector<std::uint8_t>& out) {
        for (int j = 0; j < ny; ++j) {
            const float* v = &grid.value[layer * k + static_cast<std::size_t>(nx) * j];
            std::uint8_t* s = &out[row * j];
            for (int i = 0; i < nx; ++i) s[i] = v[i] >= level;
            std::memset(s + nx, s[nx - 1], 16);
        }
    };
    auto load = [](const std::uint8_t* p) {
        std::uint64_t v;
        std::memcpy(&v, p, 8);
        return v;
    };
    constexpr std::uint64_t ones = 0x0101010101010101ull;
    auto quad = [&](std::int32_t a, std::int32_t b, std::int32_t c, std::int32_t d, bool turned) {
        if (a < 0 || b < 0 || c < 0 || d < 0) return;
        if (turned) std::swap(b, d);
        mesh.triangle.push_back({a, b, c});
        mesh.triangle.push_back({a, c, d});
    };
    readSigns(0, sign[0]);
    for (int k = 0; k + 1 < nz; ++k) {
        auto &low = sign[k & 1], &high = sign[(k + 1) & 1];
        auto &here = vertex[k & 1], &below = vertex[(k + 1) & 1];
        readSigns(k + 1, high);
        for (int j = 0; j + 1 < ny; ++j) {
            const std::uint8_t *r0 = &low[row * j], *r1 = &low[row * (j + 1)], *r2 = &high[row * j],
                               *r3 = &high[row * (j + 1)];
            std::int32_t* ids = &here[static_cast<std::size_t>(nx) * j];
            for (int i = 0; i + 1 < nx; ++i) {
                // eight cubes at once where all signs agree
                if (i + 9 <= nx) {
                    const std::uint64_t a = load(r0 + i), any = a | load(r1 + i) | load(r2 + i) | load(r3 + i);
                    const std::uint64_t all = a & load(r1 + i) & load(r2 + i) & load(r3 + i);
                    const int next = r0[i + 8] + r1[i + 8] + r2[i + 8] + r3[i + 8];
                    if ((any == 0 && next == 0) || (all == ones && next == 4)) {
                        std::memset(ids + i, 0xff, 8 * sizeof(std::int32_t));
                        i += 7;
                        continue;
                    }
                }
                const int mask = r0[i] | r0[i + 1] << 1 | r1[i] << 2 | r1[i + 1] << 3 | r2[i] << 4 | r2[i + 1] << 5 |
                                 r3[i] << 6 | r3[i + 1] << 7;
                if (mask == 0 || mask == 255) {
                    ids[i] = -1;
                    continue;
                }
                const float* v = &grid.value[layer * k + static_cast<std::size_t>(nx) * j + i];
                const float corner[8] = {v[0],     v[1],         v[nx],         v[nx + 1],
                                         v[layer], v[layer + 1], v[layer + nx], v[layer + nx + 1]};
                const std::array<float, 3> at = middleOfCrossings(corner, mask, level);
                ids[i] = static_cast<std::int32_t>(mesh.position.size());
                mesh.position.push_back(grid.origin + grid.spacing.cwiseProduct(Vec3(i + at[0], j + at[1], k + at[2])));
                // the three edges from this cube's first corner, shared with cubes that are done
                const bool in = mask & 1;
                if (j > 0 && k > 0 && in != static_cast<bool>(mask & 2))
                    quad(ids[i], ids[i - nx], below[static_cast<std::size_t>(nx) * (j - 1) + i],
                         below[static_cast<std::size_t>(nx) * j + i], !in);
                if (i > 0 && k > 0 && in != static_cast<bool>(mask & 4))
                    quad(ids[i], below[static_cast<std::size_t>(nx) * j + i],
                         below[static_cast<std::size_t>(nx) * j + i - 1], ids[i - 1], !in);
                if (i > 0 && j > 0 && in != static_cast<bool>(mask & 16))
                    quad(ids[i], ids[i - 1], ids[i - 1 - nx], ids[i - nx], !in);
            }
        }
    }
    mesh.owner.assign(mesh.triangle.size(), 0);
    return mesh;
}

}  // namespace escultura::surface
