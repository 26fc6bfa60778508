#include "stages/kept_faces.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <mutex>
#include <set>

#include "base/digest.hpp"
#include "base/error.hpp"
#include "base/quantity.hpp"
#include "shape/lines.hpp"
#include "stages/part_shape.hpp"
#include "surface/recognise.hpp"

namespace escultura::stages {
namespace {

using exchange::BodyFace;
using shape::FacePatch;
using shape::SurfaceForm;

/// The triangles of a body as the surface of one of its faces.
class TriangleSurface final : public shape::ExactSurface {
  public:
    explicit TriangleSurface(std::shared_ptr<const surface::MeshBody> body) : body_(std::move(body)) {}
    double distance(const Vec3& p, Vec3& gradient) const override {
        gradient = body_->gradient(p).normalized();
        return body_->value(p);
    }

  private:
    std::shared_ptr<const surface::MeshBody> body_;
};

/// A surface as another frame sees it.
class MovedSurface final : public shape::ExactSurface {
  public:
    MovedSurface(std::shared_ptr<const ExactSurface> surface, const OwnFrame& frame)
        : surface_(std::move(surface)), frame_(frame) {}
    double distance(const Vec3& p, Vec3& gradient) const override {
        const double d = surface_->distance(frame_.outOf(p), gradient);
        gradient = frame_.directionInto(gradient);
        return d;
    }
    SurfaceForm form() const override {
        SurfaceForm f = surface_->form();
        f.point = frame_.into(f.point);
        f.axis = frame_.directionInto(f.axis);
        return f;
    }

  private:
    std::shared_ptr<const ExactSurface> surface_;
    OwnFrame frame_;
};

Vec3 normalOf(const surface::TriMesh& m, std::int32_t t) {
    const Triangle& v = m.triangle[t];
    return (m.position[v[1]] - m.position[v[0]]).cross(m.position[v[2]] - m.position[v[0]]);
}

using Edges = std::map<std::pair<std::int32_t, std::int32_t>, std::int32_t>;  // directed edge to its triangle

Edges edgesOf(const surface::TriMesh& m) {
    Edges edges;
    for (std::size_t t = 0; t < m.triangle.size(); ++t)
        for (int k = 0; k < 3; ++k)
            edges[{m.triangle[t][k], m.triangle[t][(k + 1) % 3]}] = static_cast<std::int32_t>(t);
    return edges;
}

/// Triangles that go on smoothly from one.
std::vector<std::int32_t> smoothFrom(const surface::TriMesh& m, const Edges& edges, std::int32_t seed) {
    const double least = std::cos(20 * M_PI / 180);
    std::set<std::int32_t> found{seed};
    std::vector<std::int32_t> open{seed};
    while (!open.empty()) {
        const std::int32_t t = open.back();
        open.pop_back();
        for (int k = 0; k < 3; ++k) {
            const auto other = edges.find({m.triangle[t][(k + 1) % 3], m.triangle[t][k]});
            if (other == edges.end() || found.count(other->second)) continue;
            if (normalOf(m, t).normalized().dot(normalOf(m, other->second).normalized()) < least) continue;
            found.insert(other->second);
            open.push_back(other->second);
        }
    }
    return {found.begin(), found.end()};
}

/// Marks the borders around the face: the longest one, and those that run around an axis.
void markOuter(const SurfaceForm& form, FacePatch& patch) {
    std::vector<int> loop(patch.border.size(), -1);
    struct Loop {
        double length = 0, turn = 0;
    };
    std::vector<Loop> loops;
    const auto [u, v] = perpendicular(form.axis);
    for (std::size_t s = 0; s < patch.border.size(); ++s) {
        if (loop[s] >= 0) continue;
        loops.emplace_back();
        for (int at = static_cast<int>(s); at >= 0 && loop[static_cast<std::size_t>(at)] < 0;
             at = patch.border[static_cast<std::size_t>(at)].next) {
            const auto& piece = patch.border[static_cast<std::size_t>(at)];
            loop[static_cast<std::size_t>(at)] = static_cast<int>(loops.size()) - 1;
            loops.back().length += (piece.b - piece.a).norm();
            if (form.kind != SurfaceForm::Kind::cylinder) continue;
            const Vec3 a = piece.a - form.point, b = piece.b - form.point;
            loops.back().turn +=
                std::remainder(std::atan2(b.dot(v), b.dot(u)) - std::atan2(a.dot(v), a.dot(u)), 2 * M_PI);
        }
    }
    std::size_t longest = 0;
    for (std::size_t l = 0; l < loops.size(); ++l)
        if (loops[l].length > loops[longest].length) longest = l;
    for (std::size_t s = 0; s < patch.border.size(); ++s) {
        const auto l = static_cast<std::size_t>(loop[s]);
        patch.border[s].outer = l == longest || std::abs(loops[l].turn) > M_PI;
    }
}

/// The face that a triangle of a body belongs to.
BodyFace recognised(const std::shared_ptr<const surface::MeshBody>& body, std::int32_t seed) {
    const surface::TriMesh& m = body->mesh();
    const Edges edges = edgesOf(m);
    const auto fitted = surface::recogniseFace(m, seed);
    BodyFace f;
    SurfaceForm form;
    std::vector<std::int32_t> triangles;
    if (fitted) {
        using K = surface::FittedFace::Kind;
        form.kind = fitted->kind == K::plane ? SurfaceForm::Kind::plane : SurfaceForm::Kind::cylinder;
        form.point = fitted->point;
        form.axis = fitted->axis;
        form.radius = fitted->radius;
        form.sense = fitted->kind == K::bore ? -1 : 1;
        f.patch.surface = shape::exactSurface(form);
        triangles = fitted->triangles;
    } else {
        triangles = smoothFrom(m, edges, seed);
        f.patch.surface = std::make_shared<const TriangleSurface>(body);
    }
    std::set<std::int32_t> mine(triangles.begin(), triangles.end());
    std::map<std::int32_t, std::int32_t> number;
    for (const std::int32_t t : mine) {
        const Vec3 n = normalOf(m, t);
        Triangle own;
        for (int k = 0; k < 3; ++k) {
            const std::int32_t v = m.triangle[t][k];
            const auto [at, isNew] = number.try_emplace(v, static_cast<std::int32_t>(f.mesh.position.size()));
            if (isNew) f.mesh.position.push_back(m.position[v]);
            own[k] = at->second;
            const std::int32_t w = m.triangle[t][(k + 1) % 3];
            const auto other = edges.find({w, v});
            if (other != edges.end() && mine.count(other->second)) continue;
            FacePatch::Segment s;
            s.a = m.position[v];
            s.b = m.position[w];
            s.inward = n.cross(s.b - s.a).normalized();
            if (other != edges.end()) {
                const Vec3 there = normalOf(m, other->second).normalized();
                s.beyond = n.normalized().dot(there) > std::cos(12 * M_PI / 180) ? FacePatch::Beyond::smooth
                           : there.dot(s.inward) < 0                             ? FacePatch::Beyond::edge
                                                                                 : FacePatch::Beyond::concave;
            }
            f.patch.border.push_back(s);
        }
        f.mesh.triangle.push_back(own);
        f.mesh.owner.push_back(0);
        f.patch.area += 0.5 * n.norm();
        f.patch.triangles.push_back(
            {m.position[m.triangle[t][0]], m.position[m.triangle[t][1]], m.position[m.triangle[t][2]]});
        f.patch.places.push_back(
            (m.position[m.triangle[t][0]] + m.position[m.triangle[t][1]] + m.position[m.triangle[t][2]]) / 3);
    }
    for (const Vec3& p : f.mesh.position) f.patch.box.include(p);
    shape::linkBorder(f.patch, 1e-9 * f.patch.box.diagonal());
    markOuter(form, f.patch);
    return f;
}

/// Depth of the free space before a face, so that it reaches nothing that stands opposite, mm.
double freeDepth(const surface::MeshBody& body, const FacePatch& patch, double asked) {
    // from a thousandth of the body on: nearer than that nothing stands opposite
    const double first = std::min(0.1, 1e-3 * body.bounds().diagonal());
    double depth = asked;
    const std::size_t every = patch.places.size() / 300 + 1;
    for (std::size_t k = 0; k < patch.places.size(); k += every) {
        const Vec3& p = patch.places[k];
        double fromBorder = std::numeric_limits<double>::infinity();
        for (const auto& s : patch.border) fromBorder = std::min(fromBorder, (p - 0.5 * (s.a + s.b)).norm());
        const Vec3 n = patch.surface->gradient(p);
        for (double t = first; t < depth / 0.6;) {
            const double v = body.value(p + t * n);
            if (v < 0.02 * std::min(t, fromBorder)) {
                if (t > 1.5 * first) depth = std::min(depth, 0.6 * t);
                break;
            }
            t += std::max(v, 0.2 * first);
        }
    }
    return depth;
}

}  // namespace

std::shared_ptr<const std::vector<BodyFace>> stepFacesOf(const BodySource& source) {
    static std::mutex mutex;
    static std::vector<std::pair<std::string, std::shared_ptr<const std::vector<BodyFace>>>> known;  // latest last
    std::string key = fileState(source.path);
    for (const std::string& name : source.bodies) key += "\n" + name;
    const std::lock_guard lock(mutex);  // who asks while it is read waits, and finds it
    for (const auto& [of, faces] : known)
        if (of == key) return faces;
    auto faces = std::make_shared<const std::vector<BodyFace>>(exchange::readStepFaces(source.path, source.bodies));
    if (known.size() == 4) known.erase(known.begin());
    known.emplace_back(key, faces);
    return faces;
}

double faceSlack(const Box3& box) {
    return 1e-3 + 2e-4 * box.diagonal();
}

BodyFace faceAt(const BodySource& source, const Vec3& place, int* number, double asked) {
    auto refuse = [&](const std::string& found) {
        throw InputError(ErrorDetail{"No face of the body lies at the place.", source.path, cage::placeText(place),
                                     "a place on a face", found});
    };
    if (exchange::isStepFile(source.path)) {
        const auto faces = stepFacesOf(source);
        Box3 whole;
        for (const BodyFace& f : *faces) {
            whole.include(f.patch.box.low);
            whole.include(f.patch.box.high);
        }
        const double slack = asked > 0 ? asked : faceSlack(whole);
        double best = slack;
        const BodyFace* found = nullptr;
        double inside = 0;
        for (const BodyFace& f : *faces) {
            if (!f.patch.box.grown(slack + 0.1).contains(place)) continue;
            const shape::KeptFaces one({f.patch});
            const auto n = one.nearest(place, slack);
            // on an edge the face that the place lies deeper in
            if (n.patch < 0 || n.distance > best + 1e-9) continue;
            if (found && n.distance > best - 1e-9 && n.across > inside) continue;
            best = n.distance;
            inside = n.across;
            found = &f;
        }
        if (!found) refuse("none within " + formatNumber(slack, 2) + " mm");
        if (number) *number = static_cast<int>(found - faces->data());
        return *found;
    }
    BodySource own = source;
    own.offset = 0;
    const auto body = bodyOf(own);
    const surface::TriangleTree tree(body->mesh());
    const auto closest = tree.closest(place);
    if (closest.triangle < 0 || closest.distance > (asked > 0 ? asked : faceSlack(body->bounds())))
        refuse("the nearest is " + formatNumber(closest.distance, 3) + " mm away");
    BodyFace f = recognised(body, closest.triangle);
    if (number) *number = closest.triangle;
    return f;
}

bool knowsFaces(const Part& part) {
    return std::all_of(part.interfaces.begin(), part.interfaces.end(), [](const Interface& i) {
        return (i.kind != Interface::Kind::faces || i.kept) && (!i.isOfLines() || !i.lines.empty());
    });
}

namespace {

std::shared_ptr<const shape::KeptFaces> measuredFaces(const Part& part) {
    BodySource source = *part.bodyOfFaces();
    source.offset = 0;
    const auto body = bodyOf(source);
    std::vector<FacePatch> patches;
    for (std::size_t n = 0; n < part.interfaces.size(); ++n) {
        const Interface& i = part.interfaces[n];
        for (std::size_t k = 0; k < i.places.size() && i.kind == Interface::Kind::faces; ++k) {
            try {
                FacePatch patch = faceAt(source, i.places[k]).patch;
                patch.box = patch.box.grown(0.1);
                const auto same = std::find_if(patches.begin(), patches.end(), [&](const FacePatch& other) {
                    return other.area == patch.area &&
                           (other.box.low - patch.box.low).norm() + (other.box.high - patch.box.high).norm() < 1e-9;
                });
                if (same != patches.end() && same->interface == static_cast<int>(n)) continue;  // two places on it
                if (same != patches.end())
                    throw InputError(ErrorDetail{
                        "A face belongs to two interfaces.",
                        {},
                        {},
                        "a face of one interface",
                        "it is also of '" + part.interfaces[static_cast<std::size_t>(same->interface)].name + "'"});
                patch.interface = static_cast<int>(n);
                patch.margin = i.start.clearMargin;
                patch.clearance = freeDepth(*body, patch, i.start.clearance);
                patches.push_back(std::move(patch));
            } catch (const InputError& e) {
                ErrorDetail d = e.detail();
                if (d.file.empty()) d.file = source.path;
                d.place = "interface '" + i.name + "', place " + std::to_string(k + 1) + " at " +
                          cage::placeText(i.places[k]) + (d.place.empty() ? "" : ", " + d.place);
                throw InputError(d);
            }
        }
    }
    return std::make_shared<const shape::KeptFaces>(std::move(patches));
}

/// What has been read for a part.
struct Known {
    std::shared_ptr<const shape::KeptFaces> faces;
    std::vector<shape::Lines> lines;  ///< [interfaces]
};

std::shared_ptr<const Known> measured(const Part& part) {
    auto known = std::make_shared<Known>();
    if (std::any_of(part.interfaces.begin(), part.interfaces.end(),
                    [](const Interface& i) { return i.kind == Interface::Kind::faces; }))
        known->faces = measuredFaces(part);
    for (const Interface& i : part.interfaces) {
        known->lines.push_back(i.lines);
        if (i.kind != Interface::Kind::edges || !i.lines.empty()) continue;
        for (std::size_t k = 0; k < i.places.size(); ++k) {
            try {
                known->lines.back().push_back(edgeAt(*part.bodyOfFaces(), i.places[k]));
            } catch (const InputError& e) {
                ErrorDetail d = e.detail();
                d.place = "interface '" + i.name + "', place " + std::to_string(k + 1) + " at " +
                          cage::placeText(i.places[k]);
                throw InputError(d);
            }
        }
    }
    return known;
}

/// What the faces of a part follow from.
std::string keyOf(const Part& part) {
    const BodySource& source = *part.bodyOfFaces();
    std::string key = fileState(source.path) + "\n" + source.lengthUnit;
    for (const std::string& name : source.bodies) key += "\n" + name;
    for (const Interface& i : part.interfaces) {
        key += "\n" + i.name;
        if (i.kind == Interface::Kind::edges) key += " edges";
        if (i.kind != Interface::Kind::faces && i.kind != Interface::Kind::edges) continue;
        for (const double v : {i.start.clearance, i.start.clearMargin}) key += " " + formatNumber(v, 17);
        for (const Vec3& p : i.places)
            for (const double v : p) key += " " + formatNumber(v, 17);
    }
    return key;
}

/// What of parts was measured, the latest last.
std::shared_ptr<const Known> knownOf(const std::string& key, std::shared_ptr<const Known> store = nullptr) {
    static std::mutex mutex;
    static std::vector<std::pair<std::string, std::shared_ptr<const Known>>> all;
    const std::lock_guard lock(mutex);
    for (const auto& [of, known] : all)
        if (of == key) return known;
    if (store) {
        if (all.size() == 8) all.erase(all.begin());
        all.emplace_back(key, store);
    }
    return store;
}

std::shared_ptr<const Known> read(const Part& part) {
    const std::string key = keyOf(part);
    if (auto known = knownOf(key)) return known;
    return knownOf(key, measured(part));
}

/// Gives the interfaces their faces, and the size that their marks and areas are drawn with.
void give(Part& part, const Known& known) {
    for (std::size_t n = 0; n < part.interfaces.size(); ++n) {
        Interface& i = part.interfaces[n];
        if (i.kind == Interface::Kind::edges) {
            i.lines = known.lines[n];
            i.origin = shape::middleOf(i.lines);
        }
        if (i.kind != Interface::Kind::faces) continue;
        i.kept = known.faces;
        i.number = static_cast<int>(n);
        double reach = 0;
        for (const FacePatch& f : known.faces->patches())
            if (f.interface == i.number)
                for (const Vec3& p : f.places) reach = std::max(reach, (p - i.origin).norm());
        i.ringDiameter = 2 * reach;
    }
}

}  // namespace

Part withFaces(const Part& given) {
    Part part = given;
    if (!knowsFaces(part)) give(part, *read(part));
    return part;
}

Part withKnownFaces(const Part& given) {
    Part part = given;
    if (knowsFaces(part)) return part;
    if (const auto known = knownOf(keyOf(part))) give(part, *known);
    return part;
}

Part withFacesIfReadable(const Part& part) {
    try {
        return withFaces(part);
    } catch (const InputError&) {  // told where they are needed
        return part;
    }
}

std::vector<Vec3> bordersOf(const Interface& i) {
    std::vector<Vec3> ends;
    for (const auto& line : i.lines) {
        for (std::size_t k = 0; k + 1 < line.size(); ++k) ends.insert(ends.end(), {line[k], line[k + 1]});
        if (line.size() > 1) continue;
        for (int a = 0; a < 3; ++a)  // a point: a small cross, as large as what acts on it is spread
            ends.insert(ends.end(), {line[0] - i.length * Vec3::Unit(a), line[0] + i.length * Vec3::Unit(a)});
    }
    if (!i.kept) return ends;
    for (const FacePatch& f : i.kept->patches())
        if (f.interface == i.number)
            for (const auto& s : f.border) {
                ends.push_back(s.a);
                ends.push_back(s.b);
            }
    return ends;
}

std::shared_ptr<const shape::KeptFaces> keptFacesOf(const Part& part) {
    for (const Interface& i : part.interfaces)
        if (i.kind == Interface::Kind::faces) return i.kept ? i.kept : read(part)->faces;
    return nullptr;
}

std::shared_ptr<const shape::KeptFaces> into(const OwnFrame& frame, const shape::KeptFaces& faces) {
    std::vector<FacePatch> patches = faces.patches();
    for (FacePatch& f : patches) {
        f.surface = std::make_shared<const MovedSurface>(f.surface, frame);
        for (auto& s : f.border) {
            s.a = frame.into(s.a);
            s.b = frame.into(s.b);
            s.inward = frame.directionInto(s.inward);
        }
        for (Vec3& p : f.places) p = frame.into(p);
        for (auto& t : f.triangles) {
            for (Vec3& p : t) p = frame.into(p);
            if (frame.mirrors()) std::swap(t[1], t[2]);
        }
        const Vec3 a = frame.into(f.box.low), b = frame.into(f.box.high);
        f.box = {a.cwiseMin(b), a.cwiseMax(b)};
    }
    return std::make_shared<const shape::KeptFaces>(std::move(patches));
}

}  // namespace escultura::stages
