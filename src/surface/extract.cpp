#include "surface/extract.hpp"

#include <algorithm>
#include <cmath>

#include "base/parallel.hpp"
#include "lattice/improve.hpp"
#include "lattice/stuffing.hpp"

namespace escultura::surface {
namespace {

constexpr std::size_t mostSkinTetrahedra = 20000000;  // of a graded lattice

/// The surface that a boundary triangle lies on: the id its vertices share; where that is not unique, the candidate
/// that is nearest to the middle and faces the same way.
std::int16_t ownerOf(const shape::Shape& shape, const lattice::TetComplex& c, const Triangle& t) {
    const lattice::SurfaceSet common = c.surfaces[t[0]].common(c.surfaces[t[1]]).common(c.surfaces[t[2]]);
    if (common.count() == 1) return common.id[0];
    std::vector<std::int16_t> candidates;
    for (auto v : t)
        for (auto id : c.surfaces[v].id)
            if (id >= 0 && (common.count() == 0 || common.has(id))) candidates.push_back(id);
    const Vec3 middle = (c.position[t[0]] + c.position[t[1]] + c.position[t[2]]) / 3;
    const Vec3 across = (c.position[t[1]] - c.position[t[0]]).cross(c.position[t[2]] - c.position[t[0]]);
    const Vec3 normal = across.normalized();
    const double size = std::sqrt(across.norm());
    std::int16_t best = candidates.front();
    double bestCost = 1e300;
    for (auto id : candidates) {
        const double cost = std::abs(shape.surfaceValue(id, middle)) / size +
                            0.5 * (1 - normal.dot(shape.surfaceGradient(id, middle).normalized()));
        if (cost < bestCost) {
            bestCost = cost;
            best = id;
        }
    }
    return best;
}

}  // namespace

TriMesh boundaryOf(const shape::Shape& shape, const lattice::TetComplex& complex,
                   std::vector<std::int32_t>* tetOfTriangle, std::vector<std::int32_t>* vertexOfMesh) {
    lattice::BoundaryFaces faces = lattice::boundaryFaces(complex);
    TriMesh mesh;
    mesh.triangle = faces.triangle;
    mesh.owner.resize(mesh.triangle.size());
    parallelFor(mesh.triangle.size(),
                [&](std::size_t f) { mesh.owner[f] = ownerOf(shape, complex, mesh.triangle[f]); });
    std::vector<std::int32_t> renumber(complex.position.size(), -1), original;
    for (Triangle& t : mesh.triangle)
        for (auto& v : t) {
            if (renumber[v] < 0) {
                renumber[v] = static_cast<std::int32_t>(original.size());
                original.push_back(v);
                mesh.position.push_back(complex.position[v]);
            }
            v = renumber[v];
        }
    if (tetOfTriangle) *tetOfTriangle = std::move(faces.tet);
    if (vertexOfMesh) *vertexOfMesh = std::move(original);
    return mesh;
}

TriMesh extractSurface(const shape::Shape& shape, double spacing, bool sharpEdges, Progress& progress,
                       std::vector<lattice::SurfaceSet>* vertexSurfaces) {
    return extractSurface(shape, ExtractOptions{spacing, sharpEdges, {sharpEdges, 0}, {}, Vec3::Zero()}, progress,
                          vertexSurfaces);
}

TriMesh extractSurface(const shape::Shape& shape, const ExtractOptions& o, Progress& progress,
                       std::vector<lattice::SurfaceSet>* vertexSurfaces) {
    lattice::StuffingOptions options;
    options.spacing = o.spacing;
    options.largestPieceOnly = o.pieces.largestOnly;
    options.smallestPiece = o.pieces.smallest;
    options.skinOnly = true;
    options.size = o.size;
    options.offset = o.offset;
    options.limit = mostSkinTetrahedra;
    lattice::TetComplex complex = lattice::stuff(shape, options, progress);
    if (o.sharpEdges) lattice::repairCreases(shape, complex, o.spacing, progress);
    std::vector<std::int32_t> vertexOf;
    TriMesh mesh = boundaryOf(shape, complex, nullptr, &vertexOf);
    if (vertexSurfaces) {
        vertexSurfaces->clear();
        for (auto v : vertexOf) vertexSurfaces->push_back(complex.surfaces[v]);
    }
    return mesh;
}

void followShape(const shape::Shape& shape, const std::vector<lattice::SurfaceSet>& vertexSurfaces, double reach,
                 TriMesh& mesh) {
    parallelFor(mesh.position.size(), [&](std::size_t v) {
        const lattice::SurfaceSet& set = vertexSurfaces[v];
        if (set.id[0] != 0) return;  // exact surfaces have not moved
        const int ids[3] = {set.id[0], set.id[1], set.id[2]};
        Vec3 p = mesh.position[v];
        if (projectOnto(shape, ids, set.count(), p, reach)) mesh.position[v] = p;
    });
}

void disownInexact(const shape::Shape& shape, TriMesh& mesh) {
    constexpr double off = 2e-7;  // mm
    parallelFor(mesh.triangle.size(), [&](std::size_t t) {
        if (!shape.ownsExactly(mesh.owner[t])) return;
        for (auto v : mesh.triangle[t])
            if (std::abs(shape.surfaceValue(mesh.owner[t], mesh.position[v])) > off) {
                mesh.owner[t] = 0;
                return;
            }
    });
}

double sampledVolume(const shape::Shape& shape, double cell, Progress& progress) {
    const Box3 box = shape.bounds();
    std::array<std::size_t, 3> n;
    for (int a = 0; a < 3; ++a) n[a] = static_cast<std::size_t>(std::ceil(box.size()[a] / cell));
    progress.step("Measuring the volume");
    const Vec3 step = box.size().cwiseQuotient(Vec3(n[0], n[1], n[2]));
    std::vector<double> slab(n[2]);
    parallelFor(
        n[2],
        [&](std::size_t k) {
            double sum = 0;
            for (std::size_t j = 0; j < n[1]; ++j)
                for (std::size_t i = 0; i < n[0]; ++i) {
                    const double d = shape.evaluate(box.low + step.cwiseProduct(Vec3(i + 0.5, j + 0.5, k + 0.5))).value;
                    sum += std::clamp(0.5 - d / cell, 0.0, 1.0);
                }
            slab[k] = sum;
        },
        1);
    double total = 0;
    for (double s : slab) total += s;
    progress.check();
    return total * step.prod();
}

}  // namespace escultura::surface
