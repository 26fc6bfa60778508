#include "render/levels.hpp"

#include <map>

namespace escultura::render {
namespace {

std::uint8_t between(std::uint8_t a, std::uint8_t b, double t) {
    return static_cast<std::uint8_t>(a + t * (b - a) + 0.5);
}

}  // namespace

std::vector<Vec3> cutAtLevel(ColouredMesh& mesh, double level) {
    std::vector<Vec3> line;
    std::map<std::array<std::int32_t, 2>, std::int32_t> cutOf;
    auto cut = [&](std::int32_t a, std::int32_t b) {
        if (a > b) std::swap(a, b);
        const auto [at, isNew] = cutOf.try_emplace({a, b}, static_cast<std::int32_t>(mesh.position.size()));
        if (isNew) {
            const double t = (level - mesh.value[a]) / (mesh.value[b] - mesh.value[a]);
            mesh.position.push_back(mesh.position[a] + t * (mesh.position[b] - mesh.position[a]));
            mesh.value.push_back(level);
            if (!mesh.normal.empty())
                mesh.normal.push_back((mesh.normal[a] + t * (mesh.normal[b] - mesh.normal[a])).normalized());
            if (mesh.colour.size() > 1) {
                const Colour p = mesh.colour[a], q = mesh.colour[b];
                mesh.colour.push_back({between(p.r, q.r, t), between(p.g, q.g, t), between(p.b, q.b, t)});
            }
            if (!mesh.source.empty()) mesh.source.push_back(mesh.source[t < 0.5 ? a : b]);
        }
        return at->second;
    };
    const std::size_t count = mesh.triangle.size();
    for (std::size_t t = 0; t < count; ++t) {
        const Triangle v = mesh.triangle[t];
        std::array<int, 3> side;
        for (int k = 0; k < 3; ++k) side[k] = mesh.value[v[k]] < level ? -1 : mesh.value[v[k]] > level ? 1 : 0;
        const auto has = [&](int s) { return side[0] == s || side[1] == s || side[2] == s; };
        for (int k = 0; k < 3; ++k)  // an edge that lies on the line, drawn by the triangle below it
            if (side[k] == 0 && side[(k + 1) % 3] == 0 && side[(k + 2) % 3] < 0) {
                line.push_back(mesh.position[v[k]]);
                line.push_back(mesh.position[v[(k + 1) % 3]]);
            }
        if (!has(-1) || !has(1)) continue;
        // the corner that is alone on its side; with a corner on the line, the one after it
        int k = 0;
        while (!(side[k] != 0 && side[(k + 1) % 3] != side[k] && side[(k + 2) % 3] != side[k])) ++k;
        if (side[(k + 1) % 3] == 0) k = (k + 2) % 3;  // the corner on the line comes last
        const auto a = v[k], b = v[(k + 1) % 3], c = v[(k + 2) % 3];
        const auto ab = cut(a, b);
        if (side[(k + 2) % 3] == 0) {
            mesh.triangle[t] = {a, ab, c};
            mesh.triangle.push_back({ab, b, c});
            line.push_back(mesh.position[ab]);
            line.push_back(mesh.position[c]);
            continue;
        }
        const auto ac = cut(a, c);
        mesh.triangle[t] = {a, ab, ac};
        mesh.triangle.push_back({ab, b, c});
        mesh.triangle.push_back({ab, c, ac});
        line.push_back(mesh.position[ab]);
        line.push_back(mesh.position[ac]);
    }
    return line;
}

std::vector<bool> isAbove(const ColouredMesh& mesh, double level) {
    std::vector<bool> above(mesh.triangle.size());
    for (std::size_t t = 0; t < above.size(); ++t) {
        double sum = 0;
        for (const auto v : mesh.triangle[t]) sum += mesh.value[v] - level;
        above[t] = sum >= 0;
    }
    return above;
}

ColouredMesh partOf(const ColouredMesh& mesh, const std::vector<bool>& chosen) {
    ColouredMesh out;
    out.opacity = mesh.opacity;
    out.isWhole = mesh.isWhole;
    out.flat = mesh.flat;
    if (mesh.colour.size() == 1) out.colour = mesh.colour;
    std::vector<std::int32_t> renumber(mesh.position.size(), -1);
    for (std::size_t t = 0; t < mesh.triangle.size(); ++t) {
        if (!chosen[t]) continue;
        Triangle v = mesh.triangle[t];
        for (auto& i : v) {
            if (renumber[i] < 0) {
                renumber[i] = static_cast<std::int32_t>(out.position.size());
                out.position.push_back(mesh.position[i]);
                if (!mesh.normal.empty()) out.normal.push_back(mesh.normal[i]);
                if (mesh.colour.size() > 1) out.colour.push_back(mesh.colour[i]);
                if (!mesh.value.empty()) out.value.push_back(mesh.value[i]);
                if (!mesh.source.empty()) out.source.push_back(mesh.source[i]);
            }
            i = renumber[i];
        }
        out.triangle.push_back(v);
    }
    return out;
}

void append(ColouredMesh mesh, ColouredMesh& to) {
    const auto first = static_cast<std::int32_t>(to.position.size());
    for (Triangle t : mesh.triangle) to.triangle.push_back({t[0] + first, t[1] + first, t[2] + first});
    auto add = [](auto& into, const auto& from) { into.insert(into.end(), from.begin(), from.end()); };
    add(to.position, mesh.position);
    add(to.normal, mesh.normal);
    add(to.colour, mesh.colour);
    add(to.value, mesh.value);
    add(to.source, mesh.source);
}

}  // namespace escultura::render
