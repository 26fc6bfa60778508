#include "cage/limit.hpp"

#include <opensubdiv/far/stencilTable.h>
#include <opensubdiv/far/stencilTableFactory.h>
#include <opensubdiv/far/topologyDescriptor.h>
#include <opensubdiv/far/topologyRefinerFactory.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <memory>

#include "base/error.hpp"
#include "base/parallel.hpp"

namespace escultura::cage {
namespace {

namespace Far = OpenSubdiv::Far;
namespace Sdc = OpenSubdiv::Sdc;

/// The 4 x 4 cage vertices around a face whose corners all have four smooth edges: there the limit surface is a bicubic
/// B-spline. Row j along side 3, column i along side 0.
struct RegularGrid {
    bool regular = false;
    std::array<std::int32_t, 16> vertex{};
};

class RegularFaces {
  public:
    explicit RegularFaces(const Cage& cage) : cage_(cage), c_(cage), plain_(cage.position.size(), 0) {
        for (std::size_t v = 0; v < plain_.size(); ++v)
            plain_[v] = c_.facesOfVertex[v].size() == 4 && c_.edgesOfVertex[v].size() == 4;
        for (const Crease& x : cage.crease)
            if (x.sharpness > 0) plain_[x.a] = plain_[x.b] = 0;
    }
    RegularGrid around(std::int32_t f) const {
        RegularGrid r;
        const Quad& q = cage_.face[f];
        for (auto v : q)
            if (!plain_[v]) return r;
        // places in the grid: corner k, the two beyond side k (next to corner k and to corner k + 1), beyond corner k
        static constexpr int corner[4] = {5, 6, 10, 9}, first[4] = {1, 7, 14, 8}, second[4] = {2, 11, 13, 4},
                             far[4] = {0, 3, 15, 12};
        std::array<std::int32_t, 4> beyond{};
        for (int k = 0; k < 4; ++k) {
            r.vertex[corner[k]] = q[k];
            const auto g = c_.across(c_.edgeOfFace[f][k], f);
            if (g < 0) return r;
            beyond[k] = g;
            const int at = placeOf(g, q[k]);
            r.vertex[first[k]] = cage_.face[g][(at + 1) % 4];
            r.vertex[second[k]] = cage_.face[g][(at + 2) % 4];
        }
        for (int k = 0; k < 4; ++k) {
            std::int32_t diagonal = -1;
            for (auto g : c_.facesOfVertex[q[k]])
                if (g != f && g != beyond[k] && g != beyond[(k + 3) % 4]) diagonal = g;
            if (diagonal < 0) return r;
            r.vertex[far[k]] = cage_.face[diagonal][(placeOf(diagonal, q[k]) + 2) % 4];
        }
        r.regular = true;
        return r;
    }

  private:
    int placeOf(std::int32_t face, std::int32_t v) const {
        const Quad& q = cage_.face[face];
        return static_cast<int>(std::find(q.begin(), q.end(), v) - q.begin());
    }
    const Cage& cage_;
    const Connectivity c_;
    std::vector<char> plain_;
};

/// Uniform cubic B-spline weights and their derivatives.
void splineWeights(double t, double* w, double* d) {
    const double s = 1 - t;
    w[0] = s * s * s / 6;
    w[1] = (3 * t * t * t - 6 * t * t + 4) / 6;
    w[2] = (3 * s * s * s - 6 * s * s + 4) / 6;
    w[3] = t * t * t / 6;
    d[0] = -s * s / 2;
    d[1] = (9 * t * t - 12 * t) / 6;
    d[2] = (12 * s - 9 * s * s) / 6;
    d[3] = t * t / 2;
}

using Entry = std::pair<std::int32_t, double>;

/// A matrix from its rows. @param sizes  entries of each row @param fill  writes a row's entries, in any order
template <class F>
StencilMatrix matrixOf(const std::vector<std::int32_t>& sizes, std::size_t columns, const F& fill) {
    StencilMatrix m(static_cast<Eigen::Index>(sizes.size()), static_cast<Eigen::Index>(columns));
    std::int32_t* start = m.outerIndexPtr();
    start[0] = 0;
    for (std::size_t r = 0; r < sizes.size(); ++r) start[r + 1] = start[r] + sizes[r];
    m.resizeNonZeros(start[sizes.size()]);
    constexpr std::size_t block = 512;  // each with a row of its own
    parallelFor((sizes.size() + block - 1) / block,
                [&](std::size_t b) {
                    std::vector<Entry> row;
                    for (std::size_t r = b * block; r < std::min(sizes.size(), (b + 1) * block); ++r) {
                        row.resize(static_cast<std::size_t>(sizes[r]));
                        fill(r, row.data());
                        std::sort(row.begin(), row.end());
                        for (std::size_t k = 0; k < row.size(); ++k) {
                            m.innerIndexPtr()[start[r] + static_cast<std::int32_t>(k)] = row[k].first;
                            m.valuePtr()[start[r] + static_cast<std::int32_t>(k)] = row[k].second;
                        }
                    }
                },
                1);
    return m;
}

}  // namespace

Points asRows(const std::vector<Vec3>& points) {
    Points rows(static_cast<Eigen::Index>(points.size()), 3);
    for (std::size_t i = 0; i < points.size(); ++i) rows.row(static_cast<Eigen::Index>(i)) = points[i].transpose();
    return rows;
}

std::vector<Vec3> asPoints(const Points& rows) {
    std::vector<Vec3> points(static_cast<std::size_t>(rows.rows()));
    for (std::size_t i = 0; i < points.size(); ++i) points[i] = rows.row(static_cast<Eigen::Index>(i)).transpose();
    return points;
}

Points product(const StencilMatrix& matrix, const Points& points) {
    Points out(matrix.rows(), 3);
    parallelFor(
        static_cast<std::size_t>(matrix.rows()),
        [&](std::size_t r) {
            Eigen::RowVector3d sum = Eigen::RowVector3d::Zero();
            for (auto k = matrix.outerIndexPtr()[r]; k < matrix.outerIndexPtr()[r + 1]; ++k)
                sum += matrix.valuePtr()[k] * points.row(matrix.innerIndexPtr()[k]);
            out.row(static_cast<Eigen::Index>(r)) = sum;
        },
        1024);
    return out;
}

/// The cage refined around its irregular places.
static std::unique_ptr<Far::TopologyRefiner> refinerOf(const Cage& cage, int levels) {
    std::vector<int> counts(cage.face.size(), 4), corners;
    corners.reserve(4 * cage.face.size());
    for (const Quad& q : cage.face) corners.insert(corners.end(), q.begin(), q.end());
    std::vector<int> creaseCorners;
    std::vector<float> creaseWeights;
    for (const Crease& c : cage.crease)
        if (c.sharpness > 0) {
            creaseCorners.push_back(c.a);
            creaseCorners.push_back(c.b);
            creaseWeights.push_back(static_cast<float>(std::min(c.sharpness, sharpest)));
        }
    Far::TopologyDescriptor d;
    d.numVertices = static_cast<int>(cage.position.size());
    d.numFaces = static_cast<int>(cage.face.size());
    d.numVertsPerFace = counts.data();
    d.vertIndicesPerFace = corners.data();
    d.numCreases = static_cast<int>(creaseWeights.size());
    d.creaseVertexIndexPairs = creaseCorners.data();
    d.creaseWeights = creaseWeights.data();
    Sdc::Options rules;
    rules.SetVtxBoundaryInterpolation(Sdc::Options::VTX_BOUNDARY_EDGE_ONLY);
    using Factory = Far::TopologyRefinerFactory<Far::TopologyDescriptor>;
    std::unique_ptr<Far::TopologyRefiner> refiner(Factory::Create(d, Factory::Options(Sdc::SCHEME_CATMARK, rules)));
    if (!refiner) throw InputError("The cage has no smooth body: its faces do not fit together.");
    Far::TopologyRefiner::AdaptiveOptions adaptive(levels);
    adaptive.useInfSharpPatch = true;  // exact at sharp creases
    refiner->RefineAdaptive(adaptive);
    return refiner;
}

LimitStencils limitStencils(const Cage& cage, const std::vector<LimitPlace>& places, bool derivatives, int levels) {
    const CageReport report = inspect(cage);
    if (!report.manifold) {
        for (const CageProblem& p : report.problems)
            throw InputError(ErrorDetail{"The cage has no smooth body.",
                                         {},
                                         placeText(p.at),
                                         "a cage whose edges have one or two faces",
                                         p.text});
    }
    const RegularFaces regular(cage);
    std::vector<RegularGrid> grids(cage.face.size());
    parallelFor(grids.size(), [&](std::size_t f) { grids[f] = regular.around(static_cast<std::int32_t>(f)); });
    const std::unique_ptr<Far::TopologyRefiner> refiner = refinerOf(cage, levels);
    // one array of places a run of equal faces that are not regular
    using Table = Far::LimitStencilTableFactoryReal<double>;
    Table::LocationArrayVec arrays;
    std::vector<double> u(places.size()), v(places.size());
    std::vector<std::int32_t> rowOf(places.size(), -1);
    std::int32_t rows = 0;
    for (std::size_t i = 0; i < places.size(); ++i) {
        u[i] = places[i].u;
        v[i] = places[i].v;
        if (grids[places[i].face].regular) continue;
        if (arrays.empty() || arrays.back().ptexIdx != places[i].face ||
            arrays.back().s + arrays.back().numLocations != &u[i]) {
            Table::LocationArray a;
            a.ptexIdx = places[i].face;
            a.s = &u[i];
            a.t = &v[i];
            arrays.push_back(a);
        }
        ++arrays.back().numLocations;
        rowOf[i] = rows++;
    }
    std::unique_ptr<const Far::LimitStencilTableReal<double>> table;
    if (rows > 0) {
        Table::Options options;
        options.generate1stDerivatives = derivatives;
        table.reset(Table::Create(*refiner, arrays, nullptr, nullptr, options));
        if (!table || table->GetNumStencils() != rows)
            throw InputError("The limit surface of the cage could not be evaluated everywhere.");
    }
    std::vector<std::int32_t> sizes(places.size(), 16);
    for (std::size_t i = 0; i < places.size(); ++i)
        if (rowOf[i] >= 0) sizes[i] = table->GetSizes()[rowOf[i]];
    auto matrix = [&](const std::vector<double>* weights, int alongU, int alongV) {
        return matrixOf(sizes, cage.position.size(), [&, weights, alongU, alongV](std::size_t i, Entry* row) {
            if (rowOf[i] < 0) {
                double w[2][2][4];
                splineWeights(u[i], w[0][0], w[0][1]);
                splineWeights(v[i], w[1][0], w[1][1]);
                for (int j = 0; j < 4; ++j)
                    for (int k = 0; k < 4; ++k)
                        row[4 * j + k] = {grids[places[i].face].vertex[4 * j + k], w[0][alongU][k] * w[1][alongV][j]};
                return;
            }
            const int offset = table->GetOffsets()[rowOf[i]];
            for (int k = 0; k < sizes[i]; ++k)
                row[k] = {table->GetControlIndices()[offset + k], (*weights)[offset + k]};
        });
    };
    LimitStencils s;
    s.point = matrix(table ? &table->GetWeights() : nullptr, 0, 0);
    if (derivatives) {
        s.du = matrix(table ? &table->GetDuWeights() : nullptr, 1, 0);
        s.dv = matrix(table ? &table->GetDvWeights() : nullptr, 0, 1);
    }
    return s;
}

LimitMesh::LimitMesh(const Cage& cage, int divisions, bool normals, int levels) {
    std::vector<LimitPlace> places;
    const Connectivity c(cage);
    const int n = divisions;
    // ids of shared vertices: corners, sides, insides
    std::vector<std::int32_t> ofVertex(cage.position.size(), -1), ofEdge(c.edge.size(), -1);
    std::vector<std::int32_t> grid(static_cast<std::size_t>((n + 1) * (n + 1)));
    for (std::size_t f = 0; f < cage.face.size(); ++f) {
        const Quad& q = cage.face[f];
        auto add = [&](int i, int j) {
            places.push_back({static_cast<std::int32_t>(f), static_cast<double>(i) / n, static_cast<double>(j) / n});
            return static_cast<std::int32_t>(places.size() - 1);
        };
        const int ci[4] = {0, n, n, 0}, cj[4] = {0, 0, n, n};
        for (int k = 0; k < 4; ++k) {
            auto& id = ofVertex[q[k]];
            if (id < 0) id = add(ci[k], cj[k]);
            grid[cj[k] * (n + 1) + ci[k]] = id;
        }
        for (int k = 0; k < 4; ++k) {
            const auto e = c.edgeOfFace[f][k];
            const int di = (ci[(k + 1) % 4] - ci[k]) / n, dj = (cj[(k + 1) % 4] - cj[k]) / n;
            const bool along = c.edge[e].a == q[k];
            const bool isNew = ofEdge[e] < 0;
            if (isNew) ofEdge[e] = static_cast<std::int32_t>(places.size());
            if (isNew)
                for (int s = 1; s < n; ++s) {  // stored from vertex a to b
                    const int t = along ? s : n - s;
                    add(ci[k] + t * di, cj[k] + t * dj);
                }
            for (int t = 1; t < n; ++t) {
                const int s = along ? t : n - t;
                grid[(cj[k] + t * dj) * (n + 1) + ci[k] + t * di] = ofEdge[e] + s - 1;
            }
        }
        for (int j = 1; j < n; ++j)
            for (int i = 1; i < n; ++i) grid[j * (n + 1) + i] = add(i, j);
        for (int j = 0; j < n; ++j)
            for (int i = 0; i < n; ++i) {
                const auto p = grid[j * (n + 1) + i], r = grid[j * (n + 1) + i + 1],
                           s = grid[(j + 1) * (n + 1) + i + 1], t = grid[(j + 1) * (n + 1) + i];
                triangle_.push_back({p, r, s});
                triangle_.push_back({p, s, t});
                faceOf_.push_back(static_cast<std::int32_t>(f));
                faceOf_.push_back(static_cast<std::int32_t>(f));
            }
    }
    stencils_ = limitStencils(cage, places, normals, levels);
}

surface::TriMesh LimitMesh::at(const std::vector<Vec3>& cagePositions) const {
    surface::TriMesh m;
    m.position = asPoints(product(stencils_.point, asRows(cagePositions)));
    m.triangle = triangle_;
    m.owner.assign(triangle_.size(), 0);
    return m;
}

std::vector<Vec3> LimitMesh::normalsAt(const std::vector<Vec3>& cagePositions) const {
    const Points rows = asRows(cagePositions);
    const Points du = product(stencils_.du, rows), dv = product(stencils_.dv, rows);
    std::vector<Vec3> n(static_cast<std::size_t>(du.rows()));
    for (std::size_t i = 0; i < n.size(); ++i) {
        const auto r = static_cast<Eigen::Index>(i);
        n[i] = Vec3(du.row(r)).cross(Vec3(dv.row(r))).normalized();
    }
    return n;
}

std::vector<std::int32_t> foldedFaces(const Cage& cage, int samples, int levels) {
    constexpr double close = 0.02;  // to the corners, where folds of vertices with few edges hide
    const int inner = samples * samples, per = inner + 4;
    std::vector<LimitPlace> places;
    places.reserve(cage.face.size() * per);
    for (std::size_t face = 0; face < cage.face.size(); ++face) {
        const auto f = static_cast<std::int32_t>(face);
        for (int j = 0; j < samples; ++j)
            for (int i = 0; i < samples; ++i) places.push_back({f, (i + 0.5) / samples, (j + 0.5) / samples});
        for (int k = 0; k < 4; ++k) places.push_back({f, k & 1 ? 1 - close : close, k & 2 ? 1 - close : close});
    }
    const LimitStencils s = limitStencils(cage, places, true, levels);
    const Points rows = asRows(cage.position), du = product(s.du, rows), dv = product(s.dv, rows);
    std::vector<char> bad(cage.face.size(), 0);
    parallelFor(cage.face.size(), [&](std::size_t f) {
        auto normal = [&](int k) {
            const auto r = static_cast<Eigen::Index>(f * per + k);
            return Vec3(Vec3(du.row(r)).cross(Vec3(dv.row(r))));
        };
        for (int j = 0; j < samples; ++j)
            for (int i = 0; i < samples; ++i) {
                const int k = j * samples + i;
                const Vec3 n = normal(k);
                if (n.squaredNorm() < 1e-16) bad[f] = 1;
                if (i + 1 < samples && n.dot(normal(k + 1)) <= 0) bad[f] = 1;
                if (j + 1 < samples && n.dot(normal(k + samples)) <= 0) bad[f] = 1;
            }
        for (int k = 0; k < 4; ++k)
            if (normal(inner + k).dot(normal((k & 2 ? samples - 1 : 0) * samples + (k & 1 ? samples - 1 : 0))) <= 0)
                bad[f] = 1;
    });
    std::vector<std::int32_t> folded;
    for (std::size_t f = 0; f < bad.size(); ++f)
        if (bad[f]) folded.push_back(static_cast<std::int32_t>(f));
    return folded;
}

std::pair<double, double> gaussPlace(int i) {
    static const double at[5] = {0.046910077030668, 0.230765344947158, 0.5, 0.769234655052842, 0.953089922969332};
    static const double weight[5] = {0.118463442528095, 0.239314335249683, 0.284444444444444, 0.239314335249683,
                                     0.118463442528095};
    return {0.5 * (i / 5 + at[i % 5]), 0.5 * weight[i % 5]};
}

LimitMeasures measureLimit(const Cage& cage) {
    std::vector<LimitPlace> places;
    std::vector<double> w;
    for (std::size_t f = 0; f < cage.face.size(); ++f)
        for (int j = 0; j < 10; ++j)
            for (int i = 0; i < 10; ++i) {
                const auto [u, wu] = gaussPlace(i);
                const auto [v, wv] = gaussPlace(j);
                places.push_back({static_cast<std::int32_t>(f), u, v});
                w.push_back(wu * wv);
            }
    const LimitStencils s = limitStencils(cage, places, true);
    const Points rows = asRows(cage.position), p = product(s.point, rows), du = product(s.du, rows),
                 dv = product(s.dv, rows);
    LimitMeasures m;
    const Vec3 origin = cage.position.empty() ? Vec3(Vec3::Zero()) : cage.position[0];  // far from the global one
    Vec3 moment = Vec3::Zero();
    for (std::size_t i = 0; i < places.size(); ++i) {
        const auto r = static_cast<Eigen::Index>(i);
        const Vec3 x = Vec3(p.row(r).transpose()) - origin, n = Vec3(du.row(r)).cross(Vec3(dv.row(r)));
        m.area += w[i] * n.norm();
        m.volume += w[i] * x.dot(n) / 3;
        moment += 0.5 * w[i] * x.cwiseProduct(x).cwiseProduct(n);
    }
    if (m.volume != 0) m.centroid = moment / m.volume + origin;
    return m;
}

}  // namespace escultura::cage
