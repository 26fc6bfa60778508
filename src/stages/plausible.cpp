#include "stages/plausible.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <mutex>

#include "base/digest.hpp"
#include "base/error.hpp"
#include "base/machine.hpp"
#include "base/quantity.hpp"
#include "base/text.hpp"
#include "exchange/body_files.hpp"
#include "lattice/stuffing.hpp"
#include "stages/forecast.hpp"

namespace escultura::stages {
namespace {

using Severity = ReadyNote::Severity;
using Place = ReadyNote::Place;

std::string mm(double v) {
    return formatNumber(v, 4) + " mm";
}

/// Names the factor by which something would fit, when it is one that units slip by.
std::string slip(double times) {
    struct Slip {
        double factor;
        const char* words;
    };
    static constexpr Slip slips[] = {{1000, "metres taken for millimetres, or the other way round"},
                                     {25.4, "inches taken for millimetres, or the other way round"},
                                     {1e6, "micrometres taken for metres"}};
    const double size = times > 1 ? times : 1 / times;
    // what fits lies within a few times of the other: a factor is named when it brings it there
    for (const Slip& s : slips)
        if (size > s.factor / 5.5 && size < 5.5 * s.factor)
            return " It looks like a slip of units by " + formatNumber(s.factor) + ": " + s.words + ".";
    return {};
}

/// Box of a cylinder.
Box3 boxOf(const Vec3& origin, const Vec3& axis, double length, double radius) {
    Box3 box;
    for (int k = 0; k < 3; ++k) {
        const double across = radius * std::sqrt(std::max(0.0, 1 - axis[k] * axis[k]));
        const double end = origin[k] + length * axis[k];
        box.low[k] = std::min(origin[k], end) - across;
        box.high[k] = std::max(origin[k], end) + across;
    }
    return box;
}

double volumeOf(const Vec3& size) {
    return size.cwiseMax(0).prod();
}

Box3 common(const Box3& a, const Box3& b) {
    return {a.low.cwiseMax(b.low), a.high.cwiseMin(b.high)};
}

double distanceTo(const Box3& box, const Vec3& p) {
    return (p - p.cwiseMax(box.low).cwiseMin(box.high)).norm();
}

/// Shortest distance between two segments, by their parameters clamped in turn.
double distanceBetween(const Vec3& a, const Vec3& u, double la, const Vec3& b, const Vec3& v, double lb) {
    const Vec3 w = a - b;
    const double uv = u.dot(v), det = 1 - uv * uv;
    double s = det > 1e-12 ? std::clamp((uv * w.dot(v) - w.dot(u)) / det, 0.0, la) : 0.5 * la, t = 0;
    for (int i = 0; i < 20; ++i) {
        t = std::clamp((a + s * u - b).dot(v), 0.0, lb);
        s = std::clamp((b + t * v - a).dot(u), 0.0, la);
    }
    return (a + s * u - b - t * v).norm();
}

class Judge {
  public:
    Judge(const Part& part, const Recipe& recipe, const FieldResult& field)
        : part_(part), recipe_(recipe), field_(field), box_(field.field.bounds()), size_(box_.diagonal()) {}

    std::vector<ReadyNote> notes() {
        designSpace();
        for (const Interface& i : part_.interfaces) interface(i);
        for (std::size_t i = 0; i < part_.interfaces.size(); ++i)
            for (std::size_t j = 0; j < i; ++j) pair(part_.interfaces[j], part_.interfaces[i]);
        for (std::size_t i = 0; i < part_.symmetry.size(); ++i) {
            const double away = std::abs((box_.centre() - part_.symmetry[i].point).dot(part_.symmetry[i].normal));
            if (away > 0.5 * size_)
                block(Place::field,
                      "Symmetry plane " + std::to_string(i + 1) + " lies " + mm(away) +
                          " from the middle of the field, which is " + mm(size_) + " large: it cuts nothing of it." +
                          slip(away / size_),
                      "Check its point and its unit.");
        }
        numbers();
        return std::move(notes_);
    }

  private:
    void block(Place place, const std::string& text, const std::string& fix) {
        notes_.push_back({Severity::blocker, text, fix, place});
    }
    void warn(Place place, const std::string& text, const std::string& fix) {
        notes_.push_back({Severity::warning, text, fix, place});
    }

    void designSpace() {
        const Box3& space = field_.regions.designSpace;
        const double own = space.diagonal();
        if (own > 5 * size_ || own < 0.05 * size_)
            return block(
                Place::field,
                "The design space is " + mm(own) + " large, the density field " + mm(size_) + "." + slip(own / size_),
                "Check the unit of the design space and of the field.");
        const double shared = volumeOf(common(space, box_).size());
        if (shared < 0.1 * std::min(volumeOf(space.size()), volumeOf(box_.size())))
            block(Place::field,
                  "The design space and the density field lie beside each other: they share " +
                      formatNumber(shared, 3) + " mm³.",
                  "Check the origin of the field and the corners of the design space.");
    }
    void interface(const Interface& i) {
        const std::string name = "Interface '" + i.name + "'";
        const double large = std::max({i.length, i.boreDiameter, i.ringDiameter});
        if (large > 1.5 * size_)
            return block(Place::interfaces,
                         name + " is " + mm(large) + " large, the density field " + mm(size_) + "." +
                             slip(large / (0.3 * size_)),
                         "Check its unit.");
        if (large < 0.002 * size_)
            return block(Place::interfaces,
                         name + " is only " + mm(large) + " large, the density field " + mm(size_) + "." +
                             slip(large / (0.1 * size_)),
                         "Check its unit.");
        const Vec3 middle = i.origin + 0.5 * i.length * i.axis;
        const double away = distanceTo(box_, middle);
        if (away > 0.25 * size_ + large)
            return block(Place::interfaces,
                         name + " lies " + mm(away) + " outside the density field." + slip(away / (0.3 * size_)),
                         "Check its origin and its unit.");
        const Box3 own = boxOf(i.origin, i.axis, i.length, 0.5 * std::max(i.boreDiameter, i.ringDiameter));
        for (int k = 0; k < 3; ++k) {
            const double out = std::max(0.0, box_.low[k] - own.low[k]) + std::max(0.0, own.high[k] - box_.high[k]);
            const double share = out / std::max(own.size()[k], 1e-12);
            if (share <= 0.1 || out <= 2 * field_.field.spacing[k]) continue;
            const std::string text = name + " is " + mm(own.size()[k]) + " along " + std::string(1, "xyz"[k]) +
                                     ", the field there " + mm(box_.size()[k]) + ": " + mm(out) + " of it stick out.";
            if (share > 0.4)
                block(Place::interfaces, text, "Check its length, its diameters and its origin.");
            else
                warn(Place::interfaces, text, "Fine when the part is meant to grow there; else check its sizes.");
            break;
        }
    }
    void pair(const Interface& a, const Interface& b) {
        const bool parallel = a.axis.cross(b.axis).norm() < 1e-3;
        const Vec3 apart = b.origin - a.origin;
        const double beside = (apart - apart.dot(a.axis) * a.axis).norm();
        const std::string names = "Interfaces '" + a.name + "' and '" + b.name + "'";
        const double ra = 0.5 * std::max(a.boreDiameter, a.ringDiameter),
                     rb = 0.5 * std::max(b.boreDiameter, b.ringDiameter);
        if (parallel && beside < 0.01 * std::max(ra, rb)) {
            // coaxial: steps of one bore may follow each other
            const double from = apart.dot(a.axis), to = from + b.length * a.axis.dot(b.axis);
            const double shared = std::min(a.length, std::max(from, to)) - std::max(0.0, std::min(from, to));
            if (shared > 0.5 * std::min(a.length, b.length) && ra > 0.8 * rb && rb > 0.8 * ra)
                block(Place::interfaces, names + " are in the same place.",
                      "Keep one of them, and let both loads and supports name it.");
            return;
        }
        if (a.boreDiameter > 0 && b.boreDiameter > 0 &&
            distanceBetween(a.origin, a.axis, a.length, b.origin, b.axis, b.length) <
                0.5 * (a.boreDiameter + b.boreDiameter))
            block(Place::interfaces, "The bores of interfaces '" + a.name + "' and '" + b.name + "' cross each other.",
                  "Check their origins and lengths.");
    }
    void numbers() {
        auto sane = [&](double v, double least, double most, const char* what, const char* fix) {
            if (!(v >= least && v <= most))
                block(Place::mesh,
                      std::string("The ") + what + " is " + mm(v) + " beside a field of " + mm(size_) + "." +
                          (v > most && most > 0 ? slip(v / (0.03 * size_)) : std::string()),
                      fix);
        };
        sane(recipe_.smoothing, 0, 0.25 * size_, "width of the smoothing", "Smooth less (--smoothing).");
        sane(recipe_.elementSize, 0, 0.5 * size_, "element size", "Use smaller elements (--element-size).");
        sane(recipe_.surfaceSpacing, 0, 0.5 * size_, "edge length of the surface",
             "Use shorter edges (--surface-spacing).");
        if (part_.designBody)
            sane(std::abs(part_.designBody->offset), 0, size_, "offset of the design space's body", "Check its unit.");
        for (const KeepOut& k : part_.keepOuts)
            sane(std::abs(k.body.offset), 0, size_, "offset of a keep-out's body", "Check its unit.");
        const Box3& space = field_.regions.designSpace;
        const double vertices = lattice::latticeVertices(space, recipe_.surfaceSpacing);
        if (vertices > lattice::mostLatticeVertices) {
            const double enough = recipe_.surfaceSpacing * std::cbrt(vertices / lattice::mostLatticeVertices) * 1.02;
            block(Place::mesh,
                  "The surface would take a lattice of " + formatNumber(vertices / 1e6, 3) +
                      " million vertices, at most " + plainNumber(lattice::mostLatticeVertices / 1e6) +
                      " million are possible.",
                  "Use an edge length of at least " + mm(enough) + " for the surface (--surface-spacing).");
        }
    }

    const Part& part_;
    const Recipe& recipe_;
    const FieldResult& field_;
    const Box3 box_;
    const double size_;
    std::vector<ReadyNote> notes_;
};

/// The body before the optimisation is compared with the part, whatever is checked: it must be a body, of its size.
void requireOriginal(const Part& part, double fieldSize) {
    static std::mutex mutex;
    static std::map<std::string, double> known;  // size by contents, mm: a large file is read once
    const BodySource& source = *part.original;
    std::string key = fileState(source.path) + source.lengthUnit;
    for (const std::string& name : source.bodies) key += "\n" + name;
    double size = 0;
    {
        const std::lock_guard lock(mutex);
        if (const auto at = known.find(key); at != known.end()) size = at->second;
    }
    if (!(size > 0)) {
        Box3 own;
        for (const Vec3& p : exchange::readBody(source.path, source.lengthUnit, source.bodies).position) own.include(p);
        size = own.diagonal();
        const std::lock_guard lock(mutex);
        known[key] = size;
    }
    if (!(size > 0.05 * fieldSize && size < 20 * fieldSize))
        throw InputError(ErrorDetail{"The sizes of the part cannot be meant.", source.path, "original",
                                     "a body about as large as the density field, " + mm(fieldSize),
                                     mm(size) + "." + slip(size / fieldSize)});
}

}  // namespace

std::vector<ReadyNote> plausibilityNotes(const Part& part, const Recipe& recipe, const FieldResult& field) {
    return Judge(part, recipe, field).notes();
}

void requirePlausible(const Part& part, const Recipe& recipe, const FieldResult& field) {
    if (part.original) requireOriginal(part, field.field.bounds().diagonal());
    auto require = [&](const std::vector<ReadyNote>& notes) {
        for (const ReadyNote& n : notes)
            if (n.severity == Severity::blocker)
                throw InputError(ErrorDetail{"The sizes of the part cannot be meant.", part.path, {}, n.fix, n.text});
    };
    require(plausibilityNotes(part, recipe, field));
    require(forecastNotes(forecastRun(part, recipe, field, nullptr), recipe, machineMemory()));
}

}  // namespace escultura::stages
