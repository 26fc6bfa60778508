#include "stages/face_choice.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "base/quantity.hpp"

namespace escultura::stages {

using exchange::BodyFace;
using shape::FacePatch;
using shape::SurfaceForm;

namespace {

/// The place on a face that lies deepest in it.
Vec3 deepest(const BodyFace& face) {
    const shape::KeptFaces one({face.patch});
    const auto& places = face.patch.places;
    const std::size_t every = places.size() / 200 + 1;
    Vec3 best = places.front();
    double least = std::numeric_limits<double>::infinity();
    for (std::size_t k = 0; k < places.size(); k += every)
        if (const double a = one.nearest(places[k], 1).across; a < least) {
            least = a;
            best = places[k];
        }
    return best;
}

}  // namespace

void FaceChoice::toggle(const Vec3& place, double slack) {
    int number = 0;
    BodyFace face = faceAt(source_, place, &number, slack);
    // of triangles: the same face from another of its triangles
    const auto same = std::find_if(faces_.begin(), faces_.end(), [&](const Taken& t) {
        return t.number == number ||
               (t.face.patch.area == face.patch.area && (t.face.patch.box.low - face.patch.box.low).norm() < 1e-9);
    });
    if (same != faces_.end()) {
        faces_.erase(same);
        return;
    }
    Vec3 normal;
    const double off = face.patch.surface->distance(place, normal);
    faces_.push_back({std::move(face), number, place - off * normal});
}

void FaceChoice::take(int number) {
    if (std::any_of(faces_.begin(), faces_.end(), [&](const Taken& t) { return t.number == number; })) return;
    const BodyFace& face = (*stepFacesOf(source_))[static_cast<std::size_t>(number)];
    faces_.push_back({face, number, deepest(face)});
}

void FaceChoice::addNeighbours() {
    if (!exchange::isStepFile(source_.path)) return;
    const auto all = stepFacesOf(source_);
    std::vector<FacePatch> patches;
    for (const BodyFace& f : *all) patches.push_back(f.patch);
    const shape::KeptFaces smooth(std::move(patches));
    std::set<int> groups;
    for (const Taken& t : faces_) groups.insert(smooth.groups()[static_cast<std::size_t>(t.number)]);
    for (std::size_t k = 0; k < all->size(); ++k)
        if (groups.count(smooth.groups()[k])) take(static_cast<int>(k));
}

void FaceChoice::addSameRadius() {
    if (!exchange::isStepFile(source_.path)) return;
    const auto all = stepFacesOf(source_);
    const std::vector<Taken> before = faces_;
    for (std::size_t k = 0; k < all->size(); ++k) {
        const SurfaceForm f = (*all)[k].patch.surface->form();
        for (const Taken& t : before) {
            const SurfaceForm g = t.face.patch.surface->form();
            if (f.kind == SurfaceForm::Kind::cylinder && g.kind == f.kind && f.sense == g.sense &&
                std::abs(f.radius - g.radius) <= 1e-6 * g.radius)
                take(static_cast<int>(k));
        }
    }
}

bool FaceChoice::isPlain() const {
    return std::all_of(faces_.begin(), faces_.end(), [](const Taken& t) {
        const SurfaceForm f = t.face.patch.surface->form();
        if (f.kind != SurfaceForm::Kind::cylinder) return f.kind == SurfaceForm::Kind::plane;
        double low = std::numeric_limits<double>::infinity(), high = -low;
        for (const auto& s : t.face.patch.border) {
            low = std::min(low, (s.a - f.point).dot(f.axis));
            high = std::max(high, (s.a - f.point).dot(f.axis));
        }
        return t.face.patch.area > 0.9 * 2 * M_PI * f.radius * (high - low);
    });
}

std::vector<Vec3> FaceChoice::places() const {
    std::vector<Vec3> places;
    for (const Taken& t : faces_) places.push_back(t.place);
    return places;
}

std::string FaceChoice::describe() const {
    double area = 0;
    std::map<std::string, int> forms;
    for (const Taken& t : faces_) {
        area += t.face.patch.area;
        ++forms[shape::describe(t.face.patch.surface->form())];
    }
    std::string text = std::to_string(faces_.size()) + (faces_.size() == 1 ? " face, " : " faces, ") +
                       formatNumber(area, 4) + " mm²: ";
    bool first = true;
    for (const auto& [form, count] : forms) {
        text += (first ? "" : "; ") + (count > 1 ? std::to_string(count) + " × " : "") + form;
        first = false;
    }
    return text;
}

Interface FaceChoice::interface(double depth) const {
    Interface i;
    i.kind = Interface::Kind::faces;
    i.start.kind = i.end.kind = EndKind::blind;
    i.length = depth;
    i.places = places();
    Vec3 middle = Vec3::Zero(), normal = Vec3::Zero();
    double area = 0;
    for (const Taken& t : faces_)
        for (const auto& c : t.face.patch.triangles) {
            const Vec3 n = 0.5 * (c[1] - c[0]).cross(c[2] - c[0]);
            area += n.norm();
            normal += n;
            middle += n.norm() * (c[0] + c[1] + c[2]) / 3;
        }
    middle /= std::max(area, 1e-12);
    i.origin = middle;
    i.axis = normal.norm() > 1e-3 * area ? Vec3(-normal.normalized()) : Vec3(Vec3::UnitZ());
    // cylinders about one axis are turned about it
    const SurfaceForm first = faces_.front().face.patch.surface->form();
    const bool round = std::all_of(faces_.begin(), faces_.end(), [&](const Taken& t) {
        const SurfaceForm f = t.face.patch.surface->form();
        const Vec3 d = f.point - first.point;
        return f.kind == SurfaceForm::Kind::cylinder && std::abs(f.axis.dot(first.axis)) > 1 - 1e-9 &&
               (d - d.dot(first.axis) * first.axis).norm() < 1e-6;
    });
    if (round) {
        i.axis = first.axis;
        i.origin = first.point + (middle - first.point).dot(first.axis) * first.axis;
    }
    return i;
}

}  // namespace escultura::stages
