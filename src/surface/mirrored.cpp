#include "surface/mirrored.hpp"

#include <algorithm>
#include <cmath>
#include <map>

#include "base/parallel.hpp"

namespace escultura::surface {
namespace {

constexpr double mostOff = 0.02;  // of the spacing that a vertex may lie off the solid, where it has a kink

Vec3 mirrored(Vec3 p, const MirrorPlane& plane) {
    p[plane.axis] = 2 * plane.at - p[plane.axis];
    return p;
}

/// The part of a shape on the lower side of some planes; each plane is one more surface.
class LowerPart final : public shape::Shape {
  public:
    LowerPart(const shape::MachinedSolid& whole, std::span<const MirrorPlane> planes)
        : whole_(whole), planes_(planes) {}
    shape::Sample evaluate(const Vec3& p) const override {
        shape::Sample s = whole_.evaluate(p);
        for (std::size_t k = 0; k < planes_.size(); ++k)
            if (const double d = p[planes_[k].axis] - planes_[k].at; d > s.value) s = {d, idOf(k)};
        return s;
    }
    int surfaceCount() const override { return whole_.surfaceCount() + static_cast<int>(planes_.size()); }
    double surfaceValue(int surface, const Vec3& p) const override {
        const int k = surface - whole_.surfaceCount();
        return k < 0 ? whole_.surfaceValue(surface, p) : p[planes_[k].axis] - planes_[k].at;
    }
    Vec3 surfaceGradient(int surface, const Vec3& p) const override {
        const int k = surface - whole_.surfaceCount();
        return k < 0 ? whole_.surfaceGradient(surface, p) : Vec3(Vec3::Unit(planes_[k].axis));
    }
    Box3 bounds() const override {
        Box3 box = whole_.bounds();
        for (const MirrorPlane& m : planes_) box.high[m.axis] = std::min(box.high[m.axis], m.at);
        return box;
    }
    double roughness() const override { return whole_.roughness(); }
    bool ownsExactly(int surface) const override {
        return surface < whole_.surfaceCount() && whole_.ownsExactly(surface);
    }
    int idOf(std::size_t plane) const { return whole_.surfaceCount() + static_cast<int>(plane); }

  private:
    const shape::MachinedSolid& whole_;
    std::span<const MirrorPlane> planes_;
};

/// The surface that each surface becomes; nothing when one has no image.
std::optional<std::vector<int>> imagesOf(const shape::MachinedSolid& solid, const MirrorPlane& plane) {
    if (solid.keepsFaces()) return std::nullopt;  // faces of a body have no images that are known
    std::vector<int> image{0};
    const double near = 1e-7 * std::max(1.0, solid.bounds().diagonal());
    for (int i = 1; i < solid.surfaceCount(); ++i) {
        const shape::Primitive& a = solid.primitive(i);
        const Vec3 point = mirrored(a.point, plane);
        Vec3 axis = a.axis;
        axis[plane.axis] = -axis[plane.axis];
        int found = -1;
        for (int j = 1; j < solid.surfaceCount() && found < 0; ++j) {
            const shape::Primitive& b = solid.primitive(j);
            if (b.kind != a.kind || b.inverted != a.inverted || std::abs(b.radius - a.radius) > near) continue;
            if (std::abs(b.axis.dot(axis)) < 1 - 1e-12) continue;
            const Vec3 d = point - b.point;
            double off =
                b.kind == shape::Primitive::Kind::plane ? std::abs(d.dot(b.axis)) : (d - d.dot(b.axis) * b.axis).norm();
            if (b.kind == shape::Primitive::Kind::prism) {  // corner by corner
                off = std::abs(a.outline->area() - b.outline->area());
                for (const auto& loop : a.outline->loops())
                    for (const Vec3& corner : loop)
                        off = std::max(off, std::abs(b.outline->distance(mirrored(corner, plane))));
            }
            if (off > near) continue;
            // both grow out of the solid to the same side
            const Vec3 p = point + Vec3(0.31, 0.17, 0.23) * solid.bounds().diagonal();
            const double u = solid.surfaceValue(i, mirrored(p, plane)), v = solid.surfaceValue(j, p);
            if (std::abs(u - v) <= 1e-6 * std::max(1.0, std::abs(u))) found = j;
        }
        if (found < 0) return std::nullopt;
        image.push_back(found);
    }
    return image;
}

/// By samples in the box, more of them near the boundary: where the values are small they must agree.
bool isSymmetric(const shape::Shape& shape, const MirrorPlane& plane, double spacing) {
    const Box3 box = shape.bounds();
    constexpr std::size_t samples = 20000;
    std::vector<char> differs(samples, 0);
    parallelFor(samples, [&](std::size_t n) {
        // a lattice of low discrepancy (Roberts 2018: powers of the generalised golden ratio)
        const Vec3 u(std::fmod(0.5 + 0.8191725133961645 * static_cast<double>(n), 1),
                     std::fmod(0.5 + 0.6710436067037893 * static_cast<double>(n), 1),
                     std::fmod(0.5 + 0.5497004779019703 * static_cast<double>(n), 1));
        const Vec3 p = box.low + box.size().cwiseProduct(u);
        const double a = shape.evaluate(p).value, b = shape.evaluate(mirrored(p, plane)).value;
        if (std::min(std::abs(a), std::abs(b)) < 2 * spacing) differs[n] = std::abs(a - b) > 1e-3 * spacing;
    });
    return std::none_of(differs.begin(), differs.end(), [](char d) { return d != 0; });
}

/// Takes the triangles on the planes away, and puts what borders on them there.
/// @param first  id of the first plane
/// @return       false when something could not be put there
bool openAtPlanes(const LowerPart& part, std::span<const MirrorPlane> planes, int first, double spacing,
                  const TriMesh& mesh, std::vector<lattice::SurfaceSet>& sets, TriMesh& open) {
    open.position = mesh.position;
    auto setOf = [&](std::int32_t v) -> lattice::SurfaceSet& { return sets[static_cast<std::size_t>(v)]; };
    // moves a vertex onto one more surface; where the body has a kink it is enough to be close
    auto putOn = [&](int surface, std::int32_t v) {
        lattice::SurfaceSet& set = setOf(v);
        if (!set.add(surface)) return false;
        const int ids[3] = {set.id[0], set.id[1], set.id[2]};
        Vec3& place = open.position[static_cast<std::size_t>(v)];
        Vec3 p = place;
        if (!shape::projectOnto(part, ids, set.count(), p, 0.6 * spacing)) {
            p = place;
            for (const auto id : set.id)
                if (id >= first)
                    p[planes[static_cast<std::size_t>(id - first)].axis] =
                        planes[static_cast<std::size_t>(id - first)].at;
            if (std::abs(part.evaluate(p).value) > mostOff * spacing) return false;
        }
        place = p;
        return true;
    };
    for (bool changed = true; changed;) {
        changed = false;
        open.triangle.clear();
        open.owner.clear();
        std::map<std::array<std::int32_t, 2>, int> border;  // edges of triangles on a plane, which it is
        for (std::size_t t = 0; t < mesh.triangle.size(); ++t) {
            const Triangle& v = mesh.triangle[t];
            int plane = mesh.owner[t] >= first ? mesh.owner[t] : -1;
            for (const auto id : setOf(v[0]).id)  // flat in a plane: the free surface's are not
                if (id >= first && setOf(v[1]).has(id) && setOf(v[2]).has(id)) plane = id;
            if (plane < 0) {
                open.triangle.push_back(v);
                open.owner.push_back(mesh.owner[t]);
                continue;
            }
            for (int k = 0; k < 3; ++k)
                border[{std::min(v[k], v[(k + 1) % 3]), std::max(v[k], v[(k + 1) % 3])}] = plane;
        }
        for (const Triangle& v : open.triangle)
            for (int k = 0; k < 3; ++k) {
                const auto at = border.find({std::min(v[k], v[(k + 1) % 3]), std::max(v[k], v[(k + 1) % 3])});
                if (at == border.end()) continue;
                for (const auto w : at->first) {
                    if (setOf(w).has(at->second)) continue;
                    changed = true;
                    if (!putOn(at->second, w)) return false;  // a small chamfer: its corner moves onto the plane
                }
            }
    }
    // a vertex inside a plane's face that ended at its border
    for (std::size_t t = 0; t < open.triangle.size(); ++t)
        for (const auto w : open.triangle[t])
            if (setOf(w).id[0] >= first && !putOn(open.owner[t], w)) return false;
    return true;
}

/// Adds the image of what is there by each plane in turn; what lies on a plane is its own image.
/// @param imageOf  [planes][surfaces]
void unfold(std::span<const MirrorPlane> planes, const std::vector<std::vector<int>>& imageOf, TriMesh& open,
            std::vector<lattice::SurfaceSet>& sets, std::vector<MirrorImage>& image) {
    for (std::size_t k = 0; k < planes.size(); ++k) {
        const std::size_t vertices = open.position.size(), triangles = open.triangle.size();
        std::vector<std::int32_t> other(vertices);
        for (std::size_t v = 0; v < vertices; ++v) {
            if (image[v].on >> k & 1) {
                other[v] = static_cast<std::int32_t>(v);
                continue;
            }
            other[v] = static_cast<std::int32_t>(open.position.size());
            open.position.push_back(mirrored(open.position[v], planes[k]));
            MirrorImage m = image[v];
            m.flips |= static_cast<std::uint8_t>(1u << k);
            image.push_back(m);
            lattice::SurfaceSet set;
            for (const auto id : sets[v].id)
                if (id >= 0) set.add(imageOf[k][static_cast<std::size_t>(id)]);
            sets.push_back(set);
        }
        for (std::size_t t = 0; t < triangles; ++t) {
            const Triangle v = open.triangle[t];
            open.triangle.push_back({other[static_cast<std::size_t>(v[0])], other[static_cast<std::size_t>(v[2])],
                                     other[static_cast<std::size_t>(v[1])]});
            open.owner.push_back(static_cast<std::int16_t>(imageOf[k][static_cast<std::size_t>(open.owner[t])]));
        }
    }
}

/// Without the vertices that only the triangles on the planes had.
void dropUnused(TriMesh& open, std::vector<lattice::SurfaceSet>& sets, std::vector<MirrorImage>& image) {
    std::vector<std::int32_t> renumber(open.position.size(), -1);
    for (const Triangle& t : open.triangle)
        for (const auto v : t) renumber[static_cast<std::size_t>(v)] = 0;
    std::size_t count = 0;
    for (std::size_t v = 0; v < renumber.size(); ++v) {
        if (renumber[v] < 0) continue;
        renumber[v] = static_cast<std::int32_t>(count);
        open.position[count] = open.position[v];
        sets[count] = sets[v];
        image[count++] = image[v];
    }
    open.position.resize(count);
    sets.resize(count);
    image.resize(count);
    for (Triangle& t : open.triangle)
        for (auto& v : t) v = renumber[static_cast<std::size_t>(v)];
    for (MirrorImage& m : image) m.source = renumber[static_cast<std::size_t>(m.source)];
}

}  // namespace

std::optional<TriMesh> extractMirrored(const shape::MachinedSolid& solid, const ExtractOptions& options,
                                       std::span<const MirrorPlane> planes, Progress& progress,
                                       std::vector<lattice::SurfaceSet>& vertexSurfaces,
                                       std::vector<MirrorImage>& images) {
    std::vector<std::vector<int>> imageOf;
    for (const MirrorPlane& m : planes) {
        auto ids = imagesOf(solid, m);
        if (!ids || !isSymmetric(solid, m, options.spacing)) return std::nullopt;
        imageOf.push_back(std::move(*ids));
    }
    const LowerPart part(solid, planes);
    ExtractOptions half = options;
    half.pieces.smallest /= static_cast<double>(1u << planes.size());
    for (const MirrorPlane& m : planes) {  // planes of the lattice: its vertices lie on them
        const double low = part.bounds().low[m.axis] - 1.6 * options.spacing - 0.5 * options.spacing;
        half.offset[m.axis] = std::fmod((m.at - low) / options.spacing, 1.0);
    }
    std::vector<lattice::SurfaceSet> sets;
    const TriMesh mesh = extractSurface(part, half, progress, &sets);

    TriMesh open;
    if (!openAtPlanes(part, planes, solid.surfaceCount(), options.spacing, mesh, sets, open)) return std::nullopt;
    const int first = solid.surfaceCount();
    std::vector<MirrorImage> image(open.position.size());
    for (std::size_t v = 0; v < image.size(); ++v) {
        image[v].source = static_cast<std::int32_t>(v);
        lattice::SurfaceSet kept;
        for (const auto id : sets[v].id) {
            if (id < 0) continue;
            if (id < first) {
                kept.add(id);
            } else {
                image[v].on |= static_cast<std::uint8_t>(1u << (id - first));
                open.position[v][planes[static_cast<std::size_t>(id - first)].axis] =
                    planes[static_cast<std::size_t>(id - first)].at;
            }
        }
        sets[v] = kept;
    }
    unfold(planes, imageOf, open, sets, image);
    dropUnused(open, sets, image);
    if (!measure(open).watertight) return std::nullopt;
    // samples in the box may miss what is small, such as a region that was thickened on one side only
    std::vector<char> off(open.position.size(), 0);
    parallelFor(off.size(), [&](std::size_t v) {
        off[v] = std::abs(solid.evaluate(open.position[v]).value) > mostOff * options.spacing;
    });
    if (std::any_of(off.begin(), off.end(), [](char o) { return o != 0; })) return std::nullopt;
    vertexSurfaces = std::move(sets);
    images = std::move(image);
    return open;
}

void mirrorAnew(std::span<const MirrorPlane> planes, std::span<const MirrorImage> images, TriMesh& mesh) {
    for (std::size_t v = 0; v < images.size(); ++v) {
        Vec3 p = mesh.position[static_cast<std::size_t>(images[v].source)];
        for (std::size_t k = 0; k < planes.size(); ++k) {
            if (images[v].on >> k & 1) p[planes[k].axis] = planes[k].at;
            if (images[v].flips >> k & 1) p = mirrored(p, planes[k]);
        }
        mesh.position[v] = p;  // sources come first: theirs is final
    }
}

}  // namespace escultura::surface
