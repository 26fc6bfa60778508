#include "exchange/vtk_data.hpp"

#include <cmath>
#include <fstream>
#include <sstream>

namespace escultura::exchange {
namespace {

/// Cell type numbers of the VTK file formats.
struct CellType {
    int nodes;
    field::CellShape shape;
};
constexpr int voxel = 11;

/// Number of nodes and shape of a solid type; nodes 0: a surface, line or point; -1: cannot be read.
CellType cellType(std::int64_t type) {
    using enum field::CellShape;
    switch (type) {
        case 10:
            return {4, tetrahedron};
        case 24:
            return {10, tetrahedron};
        case voxel:
        case 12:
            return {8, hexahedron};
        case 25:
            return {20, hexahedron};
        case 29:
            return {27, hexahedron};
        case 13:
            return {6, wedge};
        case 26:
            return {15, wedge};
        case 14:
            return {5, pyramid};
        case 27:
            return {13, pyramid};
        case 1:
        case 2:
        case 3:
        case 4:
        case 5:
        case 6:
        case 7:
        case 8:
        case 9:
        case 21:
        case 22:
        case 23:
            return {0, tetrahedron};
        default:
            return {-1, tetrahedron};
    }
}

void addArrays(const std::vector<VtkArray>& arrays, ArrayInfo::On on, std::size_t wanted, const std::string& path,
               LoadedField& f) {
    for (const VtkArray& from : arrays) {
        LoadedArray a;
        a.info.name = from.name;
        a.info.on = on;
        a.info.components = from.components;
        a.info.count = from.value.size() / static_cast<std::size_t>(from.components);
        if (a.info.count != wanted)
            refuseFile(path, "An array does not fit the grid.", "array '" + a.info.name + "'",
                       std::to_string(wanted) + " values", std::to_string(a.info.count) + " values");
        if (from.components == 1) a.value.assign(from.value.begin(), from.value.end());
        f.arrays.push_back(std::move(a));
    }
}

void loadImage(const VtkGrid& g, const std::string& path, LoadedField& f) {
    f.file.kind = FieldFile::Kind::grid;
    f.file.cells = g.cells;
    f.origin = g.origin;
    f.spacing = g.spacing;
    if (g.cells[0] < 1 || g.cells[1] < 1 || g.cells[2] < 1)
        refuseFile(
            path, "The file holds no grid of cells.", "extent", "at least one cell along x, y and z",
            std::to_string(g.cells[0]) + " x " + std::to_string(g.cells[1]) + " x " + std::to_string(g.cells[2]));
    if (!g.origin.allFinite() || !g.spacing.allFinite() || !(g.spacing.minCoeff() > 0))
        refuseFile(path, "The grid has no size.", "origin and spacing", "finite numbers, spacing above zero",
                   "something else");
    f.file.count = static_cast<std::size_t>(g.cells[0]) * g.cells[1] * g.cells[2];
    f.file.bounds = {f.origin, f.origin + f.spacing.cwiseProduct(Vec3(g.cells[0], g.cells[1], g.cells[2]))};
    addArrays(g.cellArrays, ArrayInfo::On::cells, f.file.count, path, f);
    addArrays(g.pointArrays, ArrayInfo::On::points,
              static_cast<std::size_t>(g.cells[0] + 1) * (g.cells[1] + 1) * (g.cells[2] + 1), path, f);
}

/// Solid elements; surfaces, lines and points are left out together with their cell values.
void loadMesh(const VtkGrid& g, const std::string& path, LoadedField& f) {
    f.file.kind = FieldFile::Kind::mesh;
    const auto nodes = static_cast<std::int64_t>(g.points.size() / 3);
    const std::size_t cells = g.types.size();
    for (std::int64_t n = 0; n < nodes; ++n) {
        f.mesh.position.emplace_back(g.points[3 * n], g.points[3 * n + 1], g.points[3 * n + 2]);
        if (!f.mesh.position.back().allFinite() || f.mesh.position.back().cwiseAbs().maxCoeff() > 1e12)
            refuseFile(path, "A node lies nowhere.", "node " + std::to_string(n), "coordinates of a part",
                       "not a number, or beyond 1e12");
    }
    if (g.offsets.size() != cells)
        refuseFile(path, "The elements cannot be read.", "offsets", std::to_string(cells) + " (as many as types)",
                   std::to_string(g.offsets.size()));
    std::vector<char> isSolid(cells, 0);
    f.mesh.first.push_back(0);
    const auto entries = static_cast<std::int64_t>(g.connectivity.size());
    for (std::size_t e = 0; e < cells; ++e) {
        const std::int64_t begin = e ? g.offsets[e - 1] : 0, end = g.offsets[e];
        const std::string place = "element " + std::to_string(e);
        if (begin < 0 || end < begin || end > entries)
            refuseFile(path, "The elements cannot be read.", place, "offsets that rise and stay in the list",
                       std::to_string(begin) + " to " + std::to_string(end) + " of " + std::to_string(entries));
        const CellType type = cellType(g.types[e]);
        if (type.nodes == 0) continue;
        if (type.nodes < 0)
            refuseFile(path, "An element has a shape that cannot be read.", place,
                       "tetrahedra, hexahedra, wedges or pyramids, linear or quadratic",
                       "cell type " + std::to_string(g.types[e]));
        if (end - begin != type.nodes)
            refuseFile(path, "The elements cannot be read.", place, std::to_string(type.nodes) + " nodes",
                       std::to_string(end - begin));
        isSolid[e] = 1;
        f.mesh.shape.push_back(type.shape);
        for (std::int64_t k = begin; k < end; ++k) {
            const std::int64_t n = g.connectivity[k];
            if (n < 0 || n >= nodes)
                refuseFile(path, "The elements cannot be read.", place, "nodes 0 to " + std::to_string(nodes - 1),
                           std::to_string(n));
            f.mesh.node.push_back(static_cast<std::int32_t>(n));
            f.file.bounds.include(f.mesh.position[n]);
        }
        if (g.types[e] == voxel) {  // x fastest instead of around
            const std::size_t last = f.mesh.node.size();
            std::swap(f.mesh.node[last - 6], f.mesh.node[last - 5]);
            std::swap(f.mesh.node[last - 2], f.mesh.node[last - 1]);
        }
        f.mesh.first.push_back(static_cast<std::int64_t>(f.mesh.node.size()));
    }
    if (f.mesh.count() == 0)
        refuseFile(path, "The mesh has no solid elements.", "cell types", "tetrahedra, hexahedra, wedges or pyramids",
                   std::to_string(cells) + " cells of other kinds");
    f.file.count = f.mesh.count();
    f.file.suggestedCell = field::typicalCell(f.mesh).minCoeff();
    addArrays(g.cellArrays, ArrayInfo::On::cells, cells, path, f);
    for (LoadedArray& a : f.arrays) {
        std::size_t kept = 0;
        for (std::size_t e = 0; e < a.value.size(); ++e)
            if (isSolid[e]) a.value[kept++] = a.value[e];
        a.value.resize(a.value.empty() ? 0 : kept);
        a.info.count = f.mesh.count();
    }
    addArrays(g.pointArrays, ArrayInfo::On::points, static_cast<std::size_t>(nodes), path, f);
}

}  // namespace

LoadedField loadVtkGrid(const VtkGrid& grid, const std::string& path, const std::string& format) {
    LoadedField f;
    f.file.format = format;
    if (grid.isImage)
        loadImage(grid, path, f);
    else
        loadMesh(grid, path, f);
    return f;
}

std::string readBytes(const std::string& path) {
    std::ifstream in(path, std::ios::binary);
    in.seekg(0, std::ios::end);
    const auto size = in.tellg();
    std::string bytes(static_cast<std::size_t>(std::max<std::streamoff>(size, 0)), '\0');
    in.seekg(0);
    in.read(bytes.data(), size);
    if (!in) refuseFile(path, "The file cannot be read.", {}, "a readable file", "a read error");
    return bytes;
}

}  // namespace escultura::exchange
