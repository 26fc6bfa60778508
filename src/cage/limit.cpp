#include "cage/limit.hpp"

#include <opensubdiv/far/stencilTable.h>
#include <opensubdiv/far/stencilTableFactory.h>
#include <opensubdiv/far/topologyDescriptor.h>
#include <opensubdiv/far/topologyRefinerFactory.h>

#include <cmath>
#include <memory>

#include "base/error.hpp"

namespace escultura::cage {
namespace {

namespace Far = OpenSubdiv::Far;
namespace Sdc = OpenSubdiv::Sdc;

StencilMatrix matrixOf(std::size_t rows, std::size_t columns, const Far::LimitStencilTableReal<double>& table,
                       const std::vector<double>& weights) {
    const auto& sizes = table.GetSizes();
    const auto& offsets = table.GetOffsets();
    const auto& indices = table.GetControlIndices();
    StencilMatrix m(static_cast<Eigen::Index>(rows), static_cast<Eigen::Index>(columns));
    std::vector<Eigen::Triplet<double, std::int32_t>> entries;
    entries.reserve(indices.size());
    for (std::size_t r = 0; r < rows; ++r)
        for (int k = 0; k < sizes[r]; ++k)
            if (weights[offsets[r] + k] != 0)
                entries.emplace_back(static_cast<std::int32_t>(r), indices[offsets[r] + k], weights[offsets[r] + k]);
    m.setFromTriplets(entries.begin(), entries.end());
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

LimitStencils limitStencils(const Cage& cage, const std::vector<LimitPlace>& places, bool derivatives) {
    const CageReport report = inspect(cage);
    if (!report.manifold) {
        for (const CageProblem& p : report.problems)
            throw InputError(ErrorDetail{"The cage has no smooth body.",
                                         {},
                                         placeText(p.at),
                                         "a cage whose edges have one or two faces",
                                         p.text});
    }
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
    Far::TopologyRefiner::AdaptiveOptions levels(6);
    levels.useInfSharpPatch = true;  // exact at sharp creases
    refiner->RefineAdaptive(levels);

    // one array of places a run of equal faces
    using Table = Far::LimitStencilTableFactoryReal<double>;
    Table::LocationArrayVec arrays;
    std::vector<double> u(places.size()), v(places.size());
    for (std::size_t i = 0; i < places.size(); ++i) {
        u[i] = places[i].u;
        v[i] = places[i].v;
        if (arrays.empty() || arrays.back().ptexIdx != places[i].face) {
            Table::LocationArray a;
            a.ptexIdx = places[i].face;
            a.s = &u[i];
            a.t = &v[i];
            arrays.push_back(a);
        }
        ++arrays.back().numLocations;
    }
    Table::Options options;
    options.generate1stDerivatives = derivatives;
    std::unique_ptr<const Far::LimitStencilTableReal<double>> table(
        Table::Create(*refiner, arrays, nullptr, nullptr, options));
    if (!table || table->GetNumStencils() != static_cast<int>(places.size()))
        throw InputError("The limit surface of the cage could not be evaluated everywhere.");
    LimitStencils s;
    s.point = matrixOf(places.size(), cage.position.size(), *table, table->GetWeights());
    if (derivatives) {
        s.du = matrixOf(places.size(), cage.position.size(), *table, table->GetDuWeights());
        s.dv = matrixOf(places.size(), cage.position.size(), *table, table->GetDvWeights());
    }
    return s;
}

LimitMesh::LimitMesh(const Cage& cage, int divisions) {
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
    stencils_ = limitStencils(cage, places, true);
}

surface::TriMesh LimitMesh::at(const std::vector<Vec3>& cagePositions) const {
    surface::TriMesh m;
    m.position = asPoints(stencils_.point * asRows(cagePositions));
    m.triangle = triangle_;
    m.owner.assign(triangle_.size(), 0);
    return m;
}

std::vector<Vec3> LimitMesh::normalsAt(const std::vector<Vec3>& cagePositions) const {
    const Points rows = asRows(cagePositions);
    const Points du = stencils_.du * rows, dv = stencils_.dv * rows;
    std::vector<Vec3> n(static_cast<std::size_t>(du.rows()));
    for (std::size_t i = 0; i < n.size(); ++i) {
        const auto r = static_cast<Eigen::Index>(i);
        n[i] = Vec3(du.row(r)).cross(Vec3(dv.row(r))).normalized();
    }
    return n;
}

std::vector<std::int32_t> foldedFaces(const Cage& cage, int samples) {
    std::vector<LimitPlace> places;
    for (std::size_t f = 0; f < cage.face.size(); ++f)
        for (int j = 0; j < samples; ++j)
            for (int i = 0; i < samples; ++i)
                places.push_back({static_cast<std::int32_t>(f), (i + 0.5) / samples, (j + 0.5) / samples});
    const LimitStencils s = limitStencils(cage, places, true);
    const Points rows = asRows(cage.position), du = s.du * rows, dv = s.dv * rows;
    std::vector<std::int32_t> folded;
    const int per = samples * samples;
    for (std::size_t f = 0; f < cage.face.size(); ++f) {
        std::vector<Vec3> n(per);
        for (int k = 0; k < per; ++k) {
            const auto r = static_cast<Eigen::Index>(f * per + k);
            n[k] = Vec3(du.row(r)).cross(Vec3(dv.row(r)));
        }
        bool bad = false;
        for (int j = 0; j < samples; ++j)
            for (int i = 0; i < samples; ++i) {
                const int k = j * samples + i;
                if (n[k].squaredNorm() < 1e-16) bad = true;
                if (i + 1 < samples && n[k].dot(n[k + 1]) <= 0) bad = true;
                if (j + 1 < samples && n[k].dot(n[k + samples]) <= 0) bad = true;
            }
        if (bad) folded.push_back(static_cast<std::int32_t>(f));
    }
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
    const Points rows = asRows(cage.position), p = s.point * rows, du = s.du * rows, dv = s.dv * rows;
    LimitMeasures m;
    Vec3 moment = Vec3::Zero();
    for (std::size_t i = 0; i < places.size(); ++i) {
        const auto r = static_cast<Eigen::Index>(i);
        const Vec3 x = p.row(r).transpose(), n = Vec3(du.row(r)).cross(Vec3(dv.row(r)));
        m.area += w[i] * n.norm();
        m.volume += w[i] * x.dot(n) / 3;
        moment += 0.5 * w[i] * x.cwiseProduct(x).cwiseProduct(n);
    }
    if (m.volume != 0) m.centroid = moment / m.volume;
    return m;
}

}  // namespace escultura::cage
