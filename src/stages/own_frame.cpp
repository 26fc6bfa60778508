#include "stages/own_frame.hpp"

#include <algorithm>
#include <cmath>

#include "base/parallel.hpp"
#include "stages/kept_faces.hpp"

namespace escultura::stages {
namespace {

/// Cells and strides of a field as a frame sees them.
struct Order {
    std::array<int, 3> cells;
    std::array<std::ptrdiff_t, 3> stride;  ///< in the field's own array, along the frame's axes
    std::ptrdiff_t first = 0;

    Order(const OwnFrame& frame, const field::DensityField& f) {
        const std::ptrdiff_t strides[3] = {1, f.cells[0], static_cast<std::ptrdiff_t>(f.cells[0]) * f.cells[1]};
        for (int k = 0; k < 3; ++k) {
            cells[k] = f.cells[frame.axis[k]];
            stride[k] = frame.sense[k] * strides[frame.axis[k]];
            if (frame.sense[k] < 0) first += (cells[k] - 1) * strides[frame.axis[k]];
        }
    }
    std::ptrdiff_t row(int j, int k) const { return first + j * stride[1] + k * stride[2]; }
    /// Index in the frame's array of a cell of the field.
    std::size_t indexOf(const OwnFrame& frame, const field::DensityField& f, std::size_t cell) const {
        const std::size_t nx = f.cells[0], ny = f.cells[1];
        const std::size_t at[3] = {cell % nx, cell / nx % ny, cell / (nx * ny)};
        std::size_t own[3];
        for (int k = 0; k < 3; ++k) own[k] = frame.sense[k] > 0 ? at[frame.axis[k]] : cells[k] - 1 - at[frame.axis[k]];
        return own[0] + static_cast<std::size_t>(cells[0]) * (own[1] + static_cast<std::size_t>(cells[1]) * own[2]);
    }
};

/// @return negative when `a` comes first, positive when `b` does, 0 when they are alike
int compareFields(const OwnFrame& a, const OwnFrame& b, const field::DensityField& f) {
    const Order p(a, f), q(b, f);
    for (int k = 0; k < 3; ++k) {
        if (p.cells[k] != q.cells[k]) return p.cells[k] > q.cells[k] ? -1 : 1;
        const double u = f.spacing[a.axis[k]], v = f.spacing[b.axis[k]];
        if (u != v) return u > v ? -1 : 1;
    }
    for (int k = 0; k < p.cells[2]; ++k)
        for (int j = 0; j < p.cells[1]; ++j) {
            const float *x = &f.density[p.row(j, k)], *y = &f.density[q.row(j, k)];
            for (int i = 0; i < p.cells[0]; ++i, x += p.stride[0], y += q.stride[0])
                if (*x != *y) return *x > *y ? -1 : 1;
        }
    return 0;
}

int compareInterfaces(const OwnFrame& a, const OwnFrame& b, const Part& part) {
    for (const Interface& i : part.interfaces)
        for (const auto& [u, v] : {std::pair<Vec3, Vec3>(a.given(i.origin), b.given(i.origin)),
                                   std::pair<Vec3, Vec3>(a.directionInto(i.axis), b.directionInto(i.axis))})
            for (int k = 0; k < 3; ++k)
                if (u[k] != v[k]) return u[k] > v[k] ? -1 : 1;
    return 0;
}

}  // namespace

Vec3 OwnFrame::directionInto(const Vec3& g) const {
    return Vec3(sense[0] * g[axis[0]], sense[1] * g[axis[1]], sense[2] * g[axis[2]]);
}

Vec3 OwnFrame::directionOutOf(const Vec3& own) const {
    Vec3 g;
    for (int k = 0; k < 3; ++k) g[axis[k]] = sense[k] * own[k];
    return g;
}

Vec3 OwnFrame::into(const Vec3& global) const {
    return directionInto(global - centre);
}

Vec3 OwnFrame::outOf(const Vec3& own) const {
    return directionOutOf(own) + centre;
}

Vec3 OwnFrame::given(const Vec3& global) const {
    Vec3 own = into(global);
    if (grid > 0)
        for (double& x : own) x = grid * std::nearbyint(x / grid);
    return own;
}

bool OwnFrame::mirrors() const {
    Mat3 m;
    for (int k = 0; k < 3; ++k) m.col(k) = directionInto(Vec3::Unit(k));
    return m.determinant() < 0;
}

OwnFrame ownFrame(const Part& part, const field::DensityField& field) {
    const Box3 box = field.bounds();
    OwnFrame best;
    // a part of 200 mm has a grid of 6e-8 mm
    best.grid = std::exp2(std::ceil(std::log2(box.size().maxCoeff())) - 32);
    for (int k = 0; k < 3; ++k) best.centre[k] = best.grid * std::nearbyint(box.centre()[k] / best.grid);
    OwnFrame f = best;
    std::array<int, 3> order{0, 1, 2};
    do {
        for (int signs = 0; signs < 8; ++signs) {
            f.axis = order;
            for (int k = 0; k < 3; ++k) f.sense[k] = signs >> k & 1 ? -1 : 1;
            int c = compareFields(f, best, field);
            if (c == 0) c = compareInterfaces(f, best, part);
            if (c < 0) best = f;
        }
    } while (std::next_permutation(order.begin(), order.end()));
    return best;
}

Part into(const OwnFrame& frame, const Part& part) {
    Part p = withFaces(part);
    if (const auto faces = keptFacesOf(p)) {
        const auto own = into(frame, *faces);
        for (Interface& i : p.interfaces)
            if (i.kept) i.kept = own;
    }
    p.designSpace = into(frame, part.designSpace);
    for (Interface& i : p.interfaces) {
        i.origin = frame.given(i.origin);
        i.axis = frame.directionInto(i.axis);
        for (auto& loop : i.outline)
            for (Vec3& d : loop) d = frame.directionInto(d);
        for (Vec3& place : i.places) place = frame.given(place);
        for (auto& line : i.lines)
            for (Vec3& p : line) p = frame.given(p);
    }
    for (KeepOut& k : p.keepOuts) {
        const Box3 box = into(frame, Box3{k.low, k.high});
        k.low = box.low;
        k.high = box.high;
        k.origin = frame.given(k.origin);
        k.axis = frame.directionInto(k.axis);
    }
    for (SymmetryPlane& s : p.symmetry) {
        s.point = frame.given(s.point);
        s.normal = frame.directionInto(s.normal);
    }
    return p;
}

Recipe into(const OwnFrame& frame, const Recipe& recipe) {
    Recipe r = recipe;
    r.draft.pull = frame.directionInto(recipe.draft.pull);
    r.draft.parting = recipe.draft.parting - recipe.draft.pull.normalized().dot(frame.centre);
    if (frame.grid > 0) r.draft.parting = frame.grid * std::nearbyint(r.draft.parting / frame.grid);
    for (Thickening& t : r.thickenings) {
        const Box3 box = into(frame, Box3{t.low, t.high});
        t.low = box.low;
        t.high = box.high;
        t.centre = frame.given(t.centre);
        for (Vec3& p : t.painted) p = frame.given(p);
    }
    for (int k = 0; k < 3; ++k)
        for (const bool high : {false, true})
            r.edges.side[static_cast<std::size_t>(2 * k + high)] =
                recipe.edges.side[static_cast<std::size_t>(2 * frame.axis[k] + (frame.sense[k] > 0 ? high : !high))];
    for (MemberDecision& d : r.thin.decisions) d.at = frame.given(d.at);
    for (LocalSize& s : r.check.localSizes) {
        const Box3 box = into(frame, Box3{s.low, s.high});
        s.low = box.low;
        s.high = box.high;
        s.centre = frame.given(s.centre);
    }
    return r;
}

field::DensityField into(const OwnFrame& frame, const field::DensityField& f) {
    const Order order(frame, f);
    field::DensityField own;
    own.source = f.source;
    own.cells = order.cells;
    for (int k = 0; k < 3; ++k) {
        own.spacing[k] = f.spacing[frame.axis[k]];
        own.origin[k] = -0.5 * own.cells[k] * own.spacing[k];
    }
    own.density.resize(f.count());
    parallelFor(static_cast<std::size_t>(own.cells[1]) * own.cells[2], [&](std::size_t row) {
        const float* from =
            &f.density[order.row(static_cast<int>(row % own.cells[1]), static_cast<int>(row / own.cells[1]))];
        float* to = &own.density[row * own.cells[0]];
        for (int i = 0; i < own.cells[0]; ++i, from += order.stride[0]) to[i] = *from;
    });
    return own;
}

std::vector<char> into(const OwnFrame& frame, const field::DensityField& f, const std::vector<char>& cells) {
    const Order order(frame, f);
    std::vector<char> own(cells.size());
    parallelFor(cells.size(), [&](std::size_t c) { own[order.indexOf(frame, f, c)] = cells[c]; });
    return own;
}

std::size_t into(const OwnFrame& frame, const field::DensityField& f, std::size_t cell) {
    return Order(frame, f).indexOf(frame, f, cell);
}

Box3 into(const OwnFrame& frame, const Box3& box) {
    if (!(box.low.array() <= box.high.array()).all()) return box;  // none
    const Vec3 a = frame.given(box.low), b = frame.given(box.high);
    return {a.cwiseMin(b), a.cwiseMax(b)};
}

surface::TriMesh into(const OwnFrame& frame, const surface::TriMesh& mesh) {
    surface::TriMesh own = mesh;
    for (Vec3& p : own.position) p = frame.given(p);
    if (frame.mirrors())
        for (Triangle& t : own.triangle) std::swap(t[1], t[2]);
    return own;
}

surface::TriMesh outOf(const OwnFrame& frame, surface::TriMesh mesh) {
    for (Vec3& p : mesh.position) p = frame.outOf(p);
    if (frame.mirrors())
        for (Triangle& t : mesh.triangle) std::swap(t[1], t[2]);
    return mesh;
}

mesh::TetMesh outOf(const OwnFrame& frame, mesh::TetMesh m) {
    for (Vec3& p : m.position) p = frame.outOf(p);
    if (!frame.mirrors()) return m;
    // corners 0 and 1 change places, and with them the middles of 12 and 02, and of 03 and 13
    for (mesh::Tet10& t : m.tet) {
        std::swap(t[0], t[1]);
        std::swap(t[5], t[6]);
        std::swap(t[7], t[8]);
    }
    for (mesh::Triangle6& t : m.boundary) {
        std::swap(t[1], t[2]);
        std::swap(t[3], t[5]);
    }
    return m;
}

}  // namespace escultura::stages
