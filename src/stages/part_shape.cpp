/// A part's geometry. Long because the solid, its cells and its machined features follow from one list of cuts.

#include "stages/part_shape.hpp"

#include <algorithm>
#include <cmath>
#include <mutex>

#include "base/digest.hpp"
#include "base/error.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"
#include "exchange/body_files.hpp"
#include "stages/beyond_faces.hpp"
#include "stages/kept_faces.hpp"
#include "surface/mesh_body.hpp"

namespace escultura::stages {
namespace {

using shape::Primitive;

constexpr double endless = 1e4;  // mm, beyond any part

Primitive plane(const Vec3& point, const Vec3& normal) {
    return {Primitive::Kind::plane, point, normal, 0};
}
Primitive cylinder(const Vec3& point, const Vec3& axis, double diameter) {
    return {Primitive::Kind::cylinder, point, axis, 0.5 * diameter};
}

double clearDiameter(const Interface& i, const InterfaceEnd& end) {
    return end.clearDiameter > 0 ? end.clearDiameter : std::max(i.ringDiameter, i.boreDiameter) + 6;
}

/// Where the bore ends along the axis: at a flat end in the middle of the free space beyond it.
double boreEnd(const InterfaceEnd& end) {
    return end.kind == EndKind::flat ? 0.5 * end.clearance : end.kind == EndKind::through ? endless : 0.0;
}

/// How far the kept material reaches beyond an end before it is cut: past a flat face, behind a blind floor.
double ringExtension(const Interface& i, const InterfaceEnd& end) {
    if (end.kind == EndKind::flat) return 0.5 * std::min(end.clearance, 10.0);
    if (i.kind == Interface::Kind::pin) return 0.5 * i.ringDiameter;  // rooted in the body
    if (end.kind == EndKind::blind) return i.boreDiameter > 0 ? 0.5 * (i.ringDiameter - i.boreDiameter) : 0.0;
    return 0;
}

/// What the free space before a flat end reaches to across its axis.
Primitive clearSpace(const Interface& i, const InterfaceEnd& end) {
    if (i.outline.empty()) return cylinder(i.origin, i.axis, clearDiameter(i, end));
    Primitive p{Primitive::Kind::prism, i.origin, i.axis, end.clearMargin};
    p.outline = std::make_shared<const shape::Outline>(shape::Outline(i.axis, outlineOf(i)).filled());
    return p;
}

/// Gives a bar the outline of its interface. @param grown  mm
void setOutline(const Interface& i, double grown, shape::RoundBar& bar) {
    if (i.outline.empty()) return;
    bar.outline = std::make_shared<const shape::Outline>(i.axis, outlineOf(i));
    bar.grown = grown;
    bar.radius += grown;
    bar.rounding = 0;  // its depth is kept everywhere
}

/// The material that an interface of faces keeps, as a bar. @param before, grown  beyond the faces and their borders,
/// mm
shape::RoundBar layerOf(const Interface& i, const std::shared_ptr<const shape::KeptFaces>& faces, double before,
                        double depth, double grown) {
    Box3 box;
    for (const shape::FacePatch& f : faces->patches())
        if (f.interface == i.number) {
            box.include(f.box.low);
            box.include(f.box.high);
        }
    const double reach = std::max(before, depth) + grown;
    shape::RoundBar bar{box.centre(), i.axis, 0, 0.5 * box.diagonal() + reach, 0};
    bar.layer = std::make_shared<const shape::FaceLayer>(faces, i.number, before, depth, grown);
    return bar;
}

/// How far the material of kept faces goes on before them until it is cut, mm.
double beforeFaces(const Interface& i, const shape::KeptFaces& faces) {
    double least = i.start.clearance;
    for (const shape::FacePatch& f : faces.patches())
        if (f.interface == i.number) least = std::min(least, f.clearance);
    return 0.5 * std::min(least, 10.0);
}

bool isOfFaces(const Interface& i) {
    return i.kind == Interface::Kind::faces;
}

/// The body that bounds what is kept around edges and points: the original, else the design space's; null: none.
std::shared_ptr<const surface::MeshBody> aroundWhich(const Part& part) {
    const bool any =
        std::any_of(part.interfaces.begin(), part.interfaces.end(), [](const Interface& i) { return i.isOfLines(); });
    const BodySource* source = part.bodyOfFaces();
    if (!any || !source) return nullptr;
    BodySource own = *source;
    own.offset = 0;
    return bodyOf(own);
}

/// What is kept around edges and points, as a bar. @param wider  mm
shape::RoundBar lineBar(const Interface& i, double wider, const std::shared_ptr<const shape::FreeBody>& within) {
    Box3 box;
    for (const auto& line : i.lines)
        for (const Vec3& p : line) box.include(p);
    const double radius = i.length + wider;
    shape::RoundBar bar{box.centre(), i.axis, 0, 0.5 * box.diagonal() + radius, 0};
    bar.layer = std::make_shared<const shape::AroundLines>(i.lines, radius, within);
    return bar;
}

/// Every cut of a part as primitives; the first of each is the one that carries a named face.
struct CutVolume {
    std::vector<Primitive> primitives;
    const Interface* interface = nullptr;
    std::string face;
};

std::vector<CutVolume> cutVolumes(const Part& part) {
    std::vector<CutVolume> cuts;
    for (const Interface& i : part.interfaces) {
        if (i.boreDiameter > 0) {
            CutVolume c{{cylinder(i.origin, i.axis, i.boreDiameter)}, &i, "bore"};
            if (i.start.kind != EndKind::through)
                c.primitives.push_back(plane(i.origin - boreEnd(i.start) * i.axis, -i.axis));
            if (i.end.kind != EndKind::through)
                c.primitives.push_back(plane(i.origin + (i.length + boreEnd(i.end)) * i.axis, i.axis));
            cuts.push_back(c);
        }
        if (i.kind == Interface::Kind::pin) {
            // the ring around the pin is cleared, which leaves the pin with its exact outside
            Primitive outside = cylinder(i.origin, i.axis, i.ringDiameter);
            outside.inverted = true;
            cuts.push_back(
                {{outside, cylinder(i.origin, i.axis, clearDiameter(i, i.start)),
                  plane(i.origin - i.start.clearance * i.axis, -i.axis), plane(i.origin + i.length * i.axis, i.axis)},
                 &i,
                 "side"});
        }
        if (i.start.kind == EndKind::flat)
            cuts.push_back({{plane(i.origin, i.axis), clearSpace(i, i.start),
                             plane(i.origin - i.start.clearance * i.axis, -i.axis)},
                            &i,
                            "start"});
        if (i.end.kind == EndKind::flat) {
            const Vec3 far = i.origin + i.length * i.axis;
            cuts.push_back({{plane(far, -i.axis), clearSpace(i, i.end), plane(far + i.end.clearance * i.axis, i.axis)},
                            &i,
                            "end"});
        }
    }
    for (const KeepOut& k : part.keepOuts) {
        if (k.kind == KeepOut::Kind::body) continue;
        CutVolume c;
        if (k.kind == KeepOut::Kind::box) {
            for (int a = 0; a < 3; ++a) {
                c.primitives.push_back(plane(k.low, -Vec3::Unit(a)));
                c.primitives.push_back(plane(k.high, Vec3::Unit(a)));
            }
        } else {
            c.primitives = {cylinder(k.origin, k.axis, k.diameter), plane(k.origin, -k.axis),
                            plane(k.origin + k.length * k.axis, k.axis)};
        }
        cuts.push_back(c);
    }
    return cuts;
}

bool inside(const std::vector<Primitive>& primitives, const Vec3& p) {
    for (const Primitive& q : primitives)
        if (q.distance(p) >= 0) return false;
    return true;
}

}  // namespace

std::vector<NamedFace> lineFaces(const Part& given) {
    const Part part = withFaces(given);
    std::vector<NamedFace> faces;
    for (const Interface& i : part.interfaces) {
        if (!i.isOfLines()) continue;
        NamedFace f{
            i.name,  i.kind == Interface::Kind::edges ? edgeName : pointName, -1, i.origin, i.axis, -endless, endless,
            i.length};
        f.lines = i.lines;
        faces.push_back(std::move(f));
    }
    return faces;
}

std::vector<std::vector<Vec3>> outlineOf(const Interface& i) {
    std::vector<std::vector<Vec3>> loops = i.outline;
    for (auto& loop : loops)
        for (Vec3& p : loop) p += i.origin;
    return loops;
}

std::shared_ptr<const surface::MeshBody> bodyOf(const BodySource& source) {
    static std::mutex mutex;
    static std::vector<std::pair<std::string, std::shared_ptr<const surface::MeshBody>>> known;  // latest last
    constexpr std::size_t mostKnown = 6;
    std::string key = fileState(source.path) + "\n" + source.lengthUnit + "\n" + std::to_string(source.offset);
    for (const std::string& name : source.bodies) key += "\n" + name;
    {
        const std::lock_guard lock(mutex);
        for (const auto& [of, body] : known)
            if (of == key) return body;
    }
    auto body = std::make_shared<const surface::MeshBody>(
        exchange::readBody(source.path, source.lengthUnit, source.bodies), source.offset);
    const std::lock_guard lock(mutex);
    if (known.size() == mostKnown) known.erase(known.begin());
    known.emplace_back(key, body);
    return body;
}

Regions loadRegions(const Part& part, const Box3& fieldBounds) {
    auto body = [](const BodySource& source) {
        try {
            return bodyOf(source);
        } catch (const InputError& e) {
            ErrorDetail d = e.detail();
            if (d.file.empty()) d.file = source.path;
            throw InputError(d);
        }
    };
    Regions r;
    const bool hasBox = (part.designSpace.low.array() < part.designSpace.high.array()).all();
    r.designSpace = hasBox ? part.designSpace : fieldBounds;
    if (part.designBody) {
        const auto b = body(*part.designBody);
        if (!hasBox) r.designSpace = b->bounds();
        r.designBody = b;
    }
    for (const KeepOut& k : part.keepOuts)
        if (k.kind == KeepOut::Kind::body) r.keepOutBodies.push_back(body(k.body));
    return r;
}

std::vector<field::KeptCells> keptCells(const Part& given, const field::DensityField& field) {
    const Part part = withFaces(given);
    std::vector<field::KeptCells> kept;
    const double cell = field.spacing.maxCoeff();
    const auto faces = keptFacesOf(part);
    const auto original = aroundWhich(part);
    for (std::size_t n = 0; n < part.interfaces.size(); ++n) {
        Interface i = part.interfaces[n];
        i.number = static_cast<int>(n);
        field::KeptCells k{i.name, {}};
        // a layer of less than two cells would fall apart into single ones
        const shape::RoundBar layer =
            isOfFaces(i) ? layerOf(i, faces, 0, std::max(i.length, 2 * cell), 0) : shape::RoundBar{};
        // a bare bore is reached by the cells around it
        const double outer = 0.5 * (i.ringDiameter > 0 ? i.ringDiameter : i.boreDiameter + 3 * cell);
        const shape::Outline outline(i.axis, outlineOf(i));
        Box3 around;
        around.include(i.origin);
        around.include(i.origin + i.length * i.axis);
        around = around.grown(outer);
        const double near = std::max(i.length, cell);  // around lines
        if (i.isOfLines()) {
            around = Box3{};
            for (const auto& line : i.lines)
                for (const Vec3& p : line) around.include(p);
            around = around.grown(near);
        }
        if (isOfFaces(i)) {
            around = Box3{};
            around.include(layer.start);
            around = around.grown(layer.radius);
        }
        std::array<int, 3> first, last;
        for (int a = 0; a < 3; ++a) {
            first[a] =
                std::clamp(static_cast<int>((around.low[a] - field.origin[a]) / field.spacing[a]), 0, field.cells[a]);
            last[a] = std::clamp(static_cast<int>((around.high[a] - field.origin[a]) / field.spacing[a]) + 1, 0,
                                 field.cells[a]);
        }
        for (int z = first[2]; z < last[2]; ++z)
            for (int y = first[1]; y < last[1]; ++y)
                for (int x = first[0]; x < last[0]; ++x) {
                    const std::size_t c = field.index(x, y, z);
                    if (isOfFaces(i)) {
                        if (layer.distance(field.centre(c)) <= 0) k.cells.push_back(c);
                        continue;
                    }
                    if (i.isOfLines()) {
                        if (shape::distanceTo(i.lines, field.centre(c)) <= near &&
                            (!original || original->value(field.centre(c)) < 0))
                            k.cells.push_back(c);
                        continue;
                    }
                    const Vec3 d = field.centre(c) - i.origin;
                    const double along = d.dot(i.axis);
                    if (along < 0 || along > i.length) continue;
                    const double radial = (d - along * i.axis).norm();
                    if (!i.outline.empty() && outline.distance(field.centre(c)) > 0) continue;
                    if (radial > 0.5 * i.boreDiameter && radial < outer && (i.ringDiameter > 0 || field.density[c] > 0))
                        k.cells.push_back(c);
                }
        if (k.cells.empty()) {
            throw InputError(ErrorDetail{"An interface lies outside the density field, or is smaller than its cells.",
                                         field.source, "interface '" + i.name + "'",
                                         "at least one cell of " + formatNumber(cell) + " mm in its kept material",
                                         "none"});
        }
        kept.push_back(std::move(k));
    }
    return kept;
}

std::vector<char> voidCells(const Part& part, const Regions& regions, const field::DensityField& field) {
    const auto cuts = cutVolumes(part);
    const auto faces = keptFacesOf(part);
    std::vector<char> isVoid(field.count(), 0);
    parallelFor(field.count(), [&](std::size_t c) {
        const Vec3 p = field.centre(c);
        for (const auto& cut : cuts)
            if (inside(cut.primitives, p)) isVoid[c] = 1;
        if (faces && faces->before(p).value > 0) isVoid[c] = 1;
        for (const auto& body : regions.keepOutBodies)
            if (body->value(p) < 0) isVoid[c] = 1;
    });
    return isVoid;
}

namespace {

/// Whether a side of the design space carries an interface's flat face: then it is machined.
bool carriesFace(const Part& part, const Primitive& side) {
    for (const Interface& i : part.interfaces)
        for (const auto& [end, at] : {std::pair{&i.start, 0.0}, std::pair{&i.end, i.length}})
            if (end->kind == EndKind::flat && std::abs(std::abs(i.axis.dot(side.axis)) - 1) < 1e-9 &&
                std::abs(side.distance(i.origin + at * i.axis)) < 1e-6)
                return true;
    return false;
}

std::vector<Primitive> sidesOf(const Box3& box) {
    std::vector<Primitive> sides;
    for (int a = 0; a < 3; ++a) {
        sides.push_back(plane(box.low, -Vec3::Unit(a)));
        sides.push_back(plane(box.high, Vec3::Unit(a)));
    }
    return sides;
}

}  // namespace

std::vector<NamedFace> outOf(const Part& given, std::vector<NamedFace> faces) {
    const Part part = withFaces(given);
    const auto kept = keptFacesOf(part);
    for (NamedFace& f : faces)
        if (const Interface* i = part.findInterface(f.interface)) {
            f.origin = i->origin;
            f.axis = i->axis;
            f.outline = outlineOf(*i);
            if (isOfFaces(*i)) f.kept = kept;
            if (i->isOfLines()) f.lines = i->lines;
        }
    return faces;
}

std::vector<Vec3> machinedSides(const Part& part, const Regions& regions, std::vector<Vec3>* normals) {
    std::vector<Vec3> points;
    for (const Primitive& side : sidesOf(regions.designSpace))
        if (carriesFace(part, side)) {
            points.push_back(side.point);
            if (normals) normals->push_back(side.axis);
        }
    return points;
}

namespace {

/// A body without what lies close to its surface.
class Shrunk final : public shape::FreeBody {
  public:
    /// @param by  mm
    Shrunk(std::shared_ptr<const shape::FreeBody> body, double by) : body_(std::move(body)), by_(by) {}
    double value(const Vec3& p) const override { return body_->value(p) + by_; }
    Vec3 gradient(const Vec3& p) const override { return body_->gradient(p); }

  private:
    std::shared_ptr<const shape::FreeBody> body_;
    double by_;
};

}  // namespace

namespace {

/// Whether the design space's box is only the one about the design body.
bool isBoxOfBody(const Regions& regions) {
    if (!regions.designBody) return false;
    const Box3 box = regions.designBody->bounds();
    const double near = 1e-6 * box.diagonal();
    return (box.low - regions.designSpace.low).norm() < near && (box.high - regions.designSpace.high).norm() < near;
}

/// How far the material of an outline reaches beyond its face and its sides before a design body of rounded edges
/// bounds it, mm.
double beyondBody(const Regions& regions, const DesignEdges& edges) {
    return regions.designBody ? 1.2 * edges.radius : 0;
}

}  // namespace

PartShape buildCover(const Part& given, const Regions& regions, std::shared_ptr<const shape::FreeBody> body,
                     double margin, const DesignEdges& edges) {
    const Part part = withFaces(given);
    PartShape r;
    Box3 box = regions.designSpace.grown(0);
    for (int a = 0; a < 3; ++a) {
        if (carriesFace(part, plane(box.low, -Vec3::Unit(a)))) box.low[a] -= margin;
        if (carriesFace(part, plane(box.high, Vec3::Unit(a)))) box.high[a] += margin;
    }
    r.solid = std::make_shared<shape::MachinedSolid>(std::move(body), box);
    const std::vector<Primitive> sides = sidesOf(box);
    for (std::size_t k = 0; k < sides.size(); ++k) r.solid->addTrim(sides[k], edges.at(static_cast<int>(k)));
    if (regions.designBody) r.solid->addTrim(regions.designBody, false, edges.radius);
    for (const auto& keepOut : regions.keepOutBodies)
        r.solid->addTrim(std::make_shared<Shrunk>(keepOut, margin), true, edges.radius);
    const auto around = aroundWhich(part);
    for (const Interface& i : part.interfaces) {
        if (i.isOfLines()) r.solid->addBar(lineBar(i, 0, around), i.blendRadius);
        if (isOfFaces(i) || i.ringDiameter <= 0) continue;  // layers behind faces are features
        auto beyond = [&](const InterfaceEnd& end) {
            return end.kind == EndKind::flat ? std::min(margin, 0.9 * end.clearance) : ringExtension(i, end);
        };
        const double wider = i.kind == Interface::Kind::pin
                                 ? std::min(0.5 * margin, 0.4 * (clearDiameter(i, i.start) - i.ringDiameter))
                                 : 0;
        const double before = beyond(i.start), after = beyond(i.end);
        shape::RoundBar bar{i.origin - before * i.axis, i.axis, before + i.length + after, 0.5 * i.ringDiameter + wider,
                            0};
        bar.rounding = std::min({0.8 * margin, 0.4 * bar.radius, 0.4 * bar.length});
        setOutline(i, beyondBody(regions, edges), bar);
        r.solid->addBar(bar, i.blendRadius);
        r.bars.push_back(bar);
    }
    return r;
}

std::vector<std::vector<shape::Primitive>> cutPrimitives(const Part& part, double leastBore) {
    std::vector<std::vector<shape::Primitive>> all;
    for (const CutVolume& c : cutVolumes(part))
        if (!c.interface || c.face != "bore" || c.interface->ringDiameter <= 0 ||
            c.interface->boreDiameter >= leastBore)
            all.push_back(c.primitives);
    return all;
}

std::function<bool(const Vec3&)> interfaceZone(const Part& part, const Regions& regions, double slack) {
    std::vector<shape::RoundBar> bars;
    const auto faces = keptFacesOf(part);
    for (std::size_t n = 0; n < part.interfaces.size(); ++n) {
        Interface i = part.interfaces[n];
        i.number = static_cast<int>(n);
        if (isOfFaces(i)) {
            bars.push_back(layerOf(i, faces, 2 * beforeFaces(i, *faces), i.length, 0));
            continue;
        }
        if (i.isOfLines()) continue;  // nothing of them is made exact
        const double before = ringExtension(i, i.start), after = ringExtension(i, i.end);
        bars.push_back({i.origin - before * i.axis, i.axis, before + i.length + after,
                        0.5 * std::max(i.ringDiameter, i.boreDiameter), 0});
        setOutline(i, 0, bars.back());
    }
    std::vector<Primitive> sides = sidesOf(regions.designSpace);
    std::erase_if(sides, [&](const Primitive& side) { return !carriesFace(part, side); });
    return [bars, sides, cuts = cutPrimitives(part), slack](const Vec3& p) {
        for (const shape::RoundBar& bar : bars)
            if (bar.distance(p) < slack) return true;
        for (const auto& cut : cuts)
            if (std::all_of(cut.begin(), cut.end(), [&](const Primitive& q) { return q.distance(p) < slack; }))
                return true;
        return std::any_of(sides.begin(), sides.end(), [&](const Primitive& s) { return s.distance(p) > -slack; });
    };
}

/// A feature that is placed and turned, added to a list.
static solid::Feature& addFeature(std::vector<solid::Feature>& features, solid::Feature::Kind kind,
                                  const std::string& name, const std::string& interface, const std::string& face,
                                  const Vec3& origin, const Vec3& axis) {
    solid::Feature f;
    f.kind = kind;
    f.name = name;
    f.interface = interface;
    f.face = face;
    f.origin = origin;
    f.axis = axis;
    f.along = perpendicular(axis)[0];
    features.push_back(f);
    return features.back();
}

static void addKeepOuts(const Part& part, std::vector<solid::Feature>& features) {
    using solid::Feature;
    for (const KeepOut& k : part.keepOuts) {
        if (k.kind == KeepOut::Kind::box) {
            const Vec3 foot(0.5 * (k.low.x() + k.high.x()), 0.5 * (k.low.y() + k.high.y()), k.low.z());
            Feature& f = addFeature(features, Feature::Kind::keepOut, k.name, k.name, "keep-out", foot, Vec3::UnitZ());
            f.along = Vec3::UnitX();
            f.longSide = k.high.x() - k.low.x();
            f.shortSide = k.high.y() - k.low.y();
            f.length = k.high.z() - k.low.z();
        } else if (k.kind == KeepOut::Kind::cylinder) {
            Feature& f = addFeature(features, Feature::Kind::keepOut, k.name, k.name, "keep-out", k.origin, k.axis);
            f.round = true;
            f.length = k.length;
            f.diameter = k.diameter;
        }
        if (k.kind == KeepOut::Kind::body) {
            Feature& f =
                addFeature(features, Feature::Kind::body, k.name, k.name, "keep-out", Vec3::Zero(), Vec3::UnitZ());
            f.path = k.body.path;
            f.unit = k.body.lengthUnit;
            f.offset = k.body.offset;
            f.bodies = k.body.bodies;
        }
    }
}

std::vector<solid::Feature> interfaceFeatures(const Part& part, const Regions& regions) {
    using solid::Feature;
    std::vector<Feature> features;
    const double endlessHere = 2 * regions.designSpace.diagonal() + 50;
    auto add = [&](auto&&... values) -> Feature& { return addFeature(features, values...); };
    for (const Interface& i : part.interfaces) {
        if (!isOfFaces(i)) continue;
        // before all that is cut, so that cuts go through it
        const BodySource& original = *part.bodyOfFaces();
        Feature& f = add(Feature::Kind::layer, i.name + " layer", i.name, keptFaceName, i.origin, i.axis);
        f.length = i.length;
        f.path = original.path;
        f.unit = original.lengthUnit;
        f.bodies = original.bodies;
        f.radius = 0;
    }
    std::vector<Vec3> normals;
    const std::vector<Vec3> points = machinedSides(part, regions, &normals);
    static const char* sideNames[] = {"side x", "side y", "side z"};
    for (std::size_t s = 0; s < points.size(); ++s) {
        int axis = 0;
        normals[s].cwiseAbs().maxCoeff(&axis);
        const std::string name =
            std::string("design space, ") + sideNames[axis] + (normals[s][axis] > 0 ? " high" : " low");
        add(Feature::Kind::flat, name, "design space", "side of the design space", points[s], normals[s]).diameter = 0;
    }
    for (const Interface& i : part.interfaces) {
        if (isOfFaces(i) || i.isOfLines()) continue;
        if (i.kind == Interface::Kind::pin) {
            Feature& f = add(Feature::Kind::boss, i.name + " side", i.name, "side", i.origin, i.axis);
            f.diameter = i.ringDiameter;
            f.length = i.length;
            f.before = i.start.clearance;
            f.outer = clearDiameter(i, i.start);
            f.radius = 0;
        }
        for (const bool first : {true, false}) {
            const InterfaceEnd& end = first ? i.start : i.end;
            if (end.kind != EndKind::flat) continue;
            const Vec3 place = first ? i.origin : Vec3(i.origin + i.length * i.axis);
            // a face in a machined side of the design space is made with that side
            bool inSide = false;
            for (std::size_t s = 0; s < points.size(); ++s)
                inSide = inSide || (std::abs(std::abs(normals[s].dot(i.axis)) - 1) < 1e-9 &&
                                    std::abs((place - points[s]).dot(normals[s])) < 1e-6);
            if (inSide) continue;
            const std::string face = first ? "start" : "end";
            Feature& f =
                add(Feature::Kind::flat, i.name + " " + face, i.name, face, place, first ? Vec3(-i.axis) : i.axis);
            f.diameter = clearDiameter(i, end);
            f.length = end.clearance;
            if (!i.outline.empty()) {
                f.outline = shape::Outline(i.axis, outlineOf(i)).filled().loops();
                for (auto& loop : f.outline)
                    for (Vec3& p : loop) p += (place - i.origin).dot(i.axis) * i.axis;
                f.margin = end.clearMargin;
            }
        }
        if (i.boreDiameter > 0) {
            Feature& f = add(Feature::Kind::bore, i.name + " bore", i.name, "bore", i.origin, i.axis);
            f.diameter = i.boreDiameter;
            f.before = i.start.kind == EndKind::through ? endlessHere : boreEnd(i.start);
            f.through = i.end.kind == EndKind::through;
            f.length = f.through ? endlessHere : i.length + boreEnd(i.end);
        }
    }
    addKeepOuts(part, features);
    return features;
}

/// Cuts the space before kept faces away, which leaves them exact, and names them.
static void addKeptFaces(const Part& part, const std::shared_ptr<const shape::KeptFaces>& faces, PartShape& r) {
    const std::vector<int> ids = r.solid->addFaces(faces);
    for (int g = 0; g < faces->groupCount(); ++g) {
        const auto first = std::find(faces->groups().begin(), faces->groups().end(), g) - faces->groups().begin();
        const Interface& i =
            part.interfaces[static_cast<std::size_t>(faces->patches()[static_cast<std::size_t>(first)].interface)];
        NamedFace f{i.name,  keptFaceName, ids[static_cast<std::size_t>(g)], i.origin, i.axis, -endless,
                    endless, endless};
        f.kept = faces;
        f.group = g;
        r.faces.push_back(f);
    }
}

/// Keeps the material behind faces of the original and around its edges and points.
static void keepOfOriginal(const Part& part, const std::shared_ptr<const shape::KeptFaces>& faces,
                           const std::shared_ptr<const shape::FreeBody>& trim, const Regions& regions,
                           const DesignEdges& edges, PartShape& r) {
    const auto around = aroundWhich(part);
    for (std::size_t n = 0; n < part.interfaces.size(); ++n) {
        Interface i = part.interfaces[n];
        if (isOfFaces(i)) {
            i.number = static_cast<int>(n);
            const double before = beforeFaces(i, *faces);
            const shape::RoundBar bar = layerOf(i, faces, before, i.length, beyondBody(regions, edges));
            r.solid->addBar(bar, i.blendRadius);
            r.bars.push_back(bar);
            // the depth behind its faces is kept whatever is rounded beside it; its far edge comes out blunt
            r.solid->addKept(layerOf(i, faces, before, 1.1 * i.length, 0), trim);
        }
        if (i.isOfLines()) {
            r.solid->addBar(lineBar(i, 0, around), i.blendRadius);
            if (around) r.solid->addKept(lineBar(i, 0, around), trim ? trim : around);
        }
    }
}

PartShape buildShape(const Part& given, const Regions& regions, std::shared_ptr<const shape::FreeBody> body,
                     const DesignEdges& edges) {
    const Part part = withFaces(given);
    PartShape r;
    const Box3& designSpace = regions.designSpace;
    r.solid = std::make_shared<shape::MachinedSolid>(std::move(body), designSpace);
    // A side of the design space that carries an interface's flat face is machined: sharp. The others only limit the
    // free body: there its edges are rounded, so that no knife edges are left, unless sharp ones are asked for.
    const std::vector<Primitive> sides = sidesOf(designSpace);
    const bool ofBody = isBoxOfBody(regions);
    for (std::size_t k = 0; k < sides.size(); ++k) {
        const double radius = edges.at(static_cast<int>(k));
        if (carriesFace(part, sides[k]))
            r.solid->addInside(sides[k]);
        else if (ofBody)
            continue;  // the body itself is the limit: the box about it would round the corners that touch it
        else if (!(radius > 0))
            r.solid->addInside(sides[k]);
        else
            r.solid->addTrim(sides[k], radius);
    }
    std::shared_ptr<const shape::FreeBody> trim;
    if (regions.designBody) r.solid->addTrim(trim = designTrim(part, regions), false, edges.radius);
    for (const auto& keepOut : regions.keepOutBodies) r.solid->addTrim(keepOut, true, 1);
    const auto faces = keptFacesOf(part);
    keepOfOriginal(part, faces, trim, regions, edges, r);
    for (const Interface& i : part.interfaces) {
        if (isOfFaces(i) || i.isOfLines() || i.ringDiameter <= 0) continue;
        const double after = ringExtension(i, i.end);
        double before = ringExtension(i, i.start);
        if (!i.outline.empty()) before = std::max(before, beyondBody(regions, edges));
        shape::RoundBar bar{i.origin - before * i.axis, i.axis, before + i.length + after, 0.5 * i.ringDiameter, 0};
        bar.rounding = std::min({2.0, 0.3 * bar.radius, 0.3 * bar.length});
        // beyond the sides of a design body, so that nothing but the body bounds it there
        setOutline(i, beyondBody(regions, edges), bar);
        r.solid->addBar(bar, i.blendRadius);
        r.bars.push_back(bar);
        if (!i.outline.empty()) {  // the depth behind its face is kept whatever is rounded beside it
            bar.grown = 0;
            bar.length += 0.1 * i.length;  // its far edge comes out blunt
            r.solid->addKept(bar, trim);
        }
    }
    for (const CutVolume& cut : cutVolumes(part)) {
        const std::vector<int> ids = r.solid->addCut(cut.primitives);
        if (!cut.interface) continue;
        const Interface& i = *cut.interface;
        NamedFace f{i.name, cut.face, ids[0], i.origin, i.axis, 0, 0, 0};
        const double slack = 1e-3;
        if (cut.face == "side") {
            f.low = -slack;
            f.high = i.length + slack;
            f.radius = 0.5 * i.ringDiameter + slack;
        } else if (cut.face == "bore") {
            f.low = i.start.kind == EndKind::through ? -endless : -slack;
            f.high = i.end.kind == EndKind::through ? endless : i.length + slack;
            f.radius = 0.5 * i.boreDiameter + slack;
        } else {
            const double at = cut.face == "start" ? 0 : i.length;
            f.low = at - slack;
            f.high = at + slack;
            f.radius =
                0.5 * (i.ringDiameter > 0 ? i.ringDiameter : clearDiameter(i, cut.face == "start" ? i.start : i.end)) +
                slack;
            f.outline = outlineOf(i);
        }
        r.faces.push_back(f);
    }
    if (faces) addKeptFaces(part, faces, r);
    for (NamedFace& f : lineFaces(part)) r.faces.push_back(std::move(f));
    return r;
}

}  // namespace escultura::stages
