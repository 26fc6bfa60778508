#include "duty/part.hpp"

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <nlohmann/json.hpp>
#include <set>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "duty/optimisation_text.hpp"
#include "duty/part_node.hpp"
#include "duty/strict_json.hpp"
#include "shape/kept_faces.hpp"

namespace escultura::duty {
namespace {

InterfaceEnd readEnd(const Node& n, const Units& u) {
    InterfaceEnd e;
    n.onlyKeys({"kind", "clearance", "clear_diameter", "clear_margin"});
    const std::string kind = n.at("kind").text();
    if (kind == "flat")
        e.kind = EndKind::flat;
    else if (kind == "blind")
        e.kind = EndKind::blind;
    else if (kind == "through")
        e.kind = EndKind::through;
    else
        n.at("kind").refuse("flat, blind or through", "'" + kind + "'");
    if (n.has("clearance")) e.clearance = n.at("clearance").positive(dimension::length, u.length);
    if (n.has("clear_diameter")) e.clearDiameter = n.at("clear_diameter").positive(dimension::length, u.length);
    if (n.has("clear_margin")) {
        e.clearMargin = n.at("clear_margin").quantity(dimension::length, u.length);
        if (!(e.clearMargin >= 0)) n.at("clear_margin").refuse("zero or more", formatNumber(e.clearMargin));
    }
    return e;
}

/// Closed polygons in the plane of a pad's face.
void readOutline(const Node& n, const Units& u, Interface& i) {
    constexpr double flat = 1e-3;  // mm
    double radius = 0;
    for (const Node& loop : n.list()) {
        std::vector<Vec3> corners;
        for (const Node& corner : loop.list()) {
            Vec3 d = corner.vector(dimension::length, u.length) - i.origin;
            const double off = d.dot(i.axis);
            if (!(std::abs(off) <= flat))
                corner.refuse("a place in the plane of the face", formatNumber(std::abs(off)) + " mm off it");
            d -= off * i.axis;
            radius = std::max(radius, d.norm());
            corners.push_back(d);
        }
        if (corners.size() < 3) loop.refuse("three corners or more", std::to_string(corners.size()));
        Vec3 twice = Vec3::Zero();
        for (std::size_t k = 0; k < corners.size(); ++k) twice += corners[k].cross(corners[(k + 1) % corners.size()]);
        if (!(twice.norm() > 1e-6)) loop.refuse("corners that enclose an area", "none");
        i.outline.push_back(std::move(corners));
    }
    if (i.outline.empty()) n.refuse("at least one polygon", "none");
    i.ringDiameter = 2 * radius;
}

/// Faces of the original; the space before them is told beside them.
void readFaces(const Node& n, const Units& u, Interface& i) {
    n.onlyKeys({"name", "kind", "origin", "axis", "length", "blend_radius", "faces", "clearance", "clear_margin"});
    for (const Node& place : n.at("faces").list()) i.places.push_back(place.vector(dimension::length, u.length));
    if (i.places.empty()) n.at("faces").refuse("a place on each of the faces", "none");
    if (n.has("clearance")) i.start.clearance = n.at("clearance").positive(dimension::length, u.length);
    if (n.has("clear_margin")) {
        i.start.clearMargin = n.at("clear_margin").quantity(dimension::length, u.length);
        if (!(i.start.clearMargin >= 0)) n.at("clear_margin").refuse("zero or more", formatNumber(i.start.clearMargin));
    }
    i.start.kind = i.end.kind = EndKind::blind;
}

/// Edges of the original or points on the surface; their middle is what moments are about.
Interface readLines(const Node& n, const Units& u, Interface::Kind kind) {
    Interface i;
    i.kind = kind;
    i.name = n.at("name").text();
    const char* key = name(kind);
    n.onlyKeys({"name", "kind", "radius", "blend_radius", key});
    i.length = n.at("radius").positive(dimension::length, u.length);
    for (const Node& place : n.at(key).list()) i.places.push_back(place.vector(dimension::length, u.length));
    if (i.places.empty()) n.at(key).refuse("a place on each of them", "none");
    i.blendRadius = n.has("blend_radius") ? n.at("blend_radius").quantity(dimension::length, u.length) : 0;
    if (!(i.blendRadius >= 0)) n.at("blend_radius").refuse("zero or more", formatNumber(i.blendRadius));
    for (const Vec3& p : i.places) i.origin += p / static_cast<double>(i.places.size());
    if (kind == Interface::Kind::points)
        for (const Vec3& p : i.places) i.lines.push_back({p});
    i.axis = Vec3::UnitZ();
    i.start.kind = i.end.kind = EndKind::blind;
    return i;
}

Interface readInterface(const Node& n, const Units& u) {
    Interface i;
    for (const auto lines : {Interface::Kind::edges, Interface::Kind::points})
        if (n.has("kind") && n.at("kind").text() == name(lines)) return readLines(n, u, lines);
    const bool ofFaces = n.has("kind") && n.at("kind").text() == name(Interface::Kind::faces);
    if (!ofFaces)
        n.onlyKeys({"name", "kind", "origin", "axis", "length", "bore_diameter", "ring_diameter", "pin_diameter",
                    "blend_radius", "outline", "start", "end"});
    i.name = n.at("name").text();
    const std::string kind = n.at("kind").text();
    if (kind == "bore")
        i.kind = Interface::Kind::bore;
    else if (kind == "boss")
        i.kind = Interface::Kind::boss;
    else if (kind == "pad")
        i.kind = Interface::Kind::pad;
    else if (kind == "pin")
        i.kind = Interface::Kind::pin;
    else if (ofFaces)
        i.kind = Interface::Kind::faces;
    else
        n.at("kind").refuse("bore, boss, pad, pin, faces, edges or points", "'" + kind + "'");
    i.origin = n.at("origin").vector(dimension::length, u.length);
    i.axis = n.at("axis").direction();
    i.length = n.at("length").positive(dimension::length, u.length);
    if (ofFaces) readFaces(n, u, i);
    const bool solid = i.kind == Interface::Kind::pad || i.kind == Interface::Kind::pin;
    if (!solid && !ofFaces)
        i.boreDiameter = n.at("bore_diameter").positive(dimension::length, u.length);
    else if (n.has("bore_diameter"))
        n.at("bore_diameter").refuse("no bore on a " + kind, "a diameter");
    if (i.kind == Interface::Kind::pin) {
        if (n.has("ring_diameter")) n.at("ring_diameter").refuse("pin_diameter on a pin", "a ring");
        i.ringDiameter = n.at("pin_diameter").positive(dimension::length, u.length);
    } else if (n.has("pin_diameter")) {
        n.at("pin_diameter").refuse("no pin diameter on a " + kind, "a diameter");
    } else if (n.has("outline")) {
        if (i.kind != Interface::Kind::pad) n.at("outline").refuse("no outline on a " + kind, "polygons");
        if (n.has("ring_diameter")) n.at("ring_diameter").refuse("either a diameter or an outline", "both");
        readOutline(n.at("outline"), u, i);
    } else if (i.kind != Interface::Kind::bore && !ofFaces) {
        i.ringDiameter = n.at("ring_diameter").positive(dimension::length, u.length);
        if (i.ringDiameter <= i.boreDiameter)
            n.at("ring_diameter")
                .refuse("a ring wider than the bore",
                        formatNumber(i.ringDiameter) + " mm around a bore of " + formatNumber(i.boreDiameter) + " mm");
    }
    if (n.has("blend_radius")) {
        i.blendRadius = n.at("blend_radius").quantity(dimension::length, u.length);
        if (!(i.blendRadius >= 0)) n.at("blend_radius").refuse("zero or more", formatNumber(i.blendRadius));
    }
    if (ofFaces) return i;
    i.start.kind = i.kind == Interface::Kind::bore ? EndKind::through : EndKind::flat;
    i.end.kind = solid ? EndKind::blind : i.start.kind;
    auto end = [&](const char* key, InterfaceEnd& e) {
        if (!n.has(key)) return;
        e = readEnd(n.at(key), u);
        if (n.at(key).has("clear_diameter") && e.clearDiameter < i.boreDiameter)
            n.at(key)
                .at("clear_diameter")
                .refuse("at least the bore's " + formatNumber(i.boreDiameter) + " mm",
                        formatNumber(e.clearDiameter) + " mm");
    };
    for (const char* key : {"start", "end"})
        if (n.has(key) && n.at(key).has(i.outline.empty() ? "clear_margin" : "clear_diameter"))
            n.at(key)
                .at(i.outline.empty() ? "clear_margin" : "clear_diameter")
                .refuse(i.outline.empty() ? "clear_diameter of a round face" : "clear_margin beside an outline",
                        "the other");
    end("start", i.start);
    end("end", i.end);
    return i;
}

std::string pathFrom(const Node& n, const std::string& partPath) {
    const std::filesystem::path p = n.text();
    return p.is_relative() ? (std::filesystem::path(partPath).parent_path() / p).string() : p.string();
}

/// A unit of length by its symbol.
std::string lengthUnit(const Node& n) {
    const std::string unit = n.text();
    try {
        parseQuantity("1 " + unit, dimension::length, unit);
    } catch (const InputError&) {
        n.refuse("a unit of length", "'" + unit + "'");
    }
    return unit;
}

BodySource readBody(const Node& n, const Units& u, const std::string& partPath) {
    BodySource b;
    b.path = pathFrom(n.at("body"), partPath);
    if (n.has("unit")) b.lengthUnit = lengthUnit(n.at("unit"));
    if (n.has("offset")) b.offset = n.at("offset").quantity(dimension::length, u.length);
    if (n.has("bodies")) {
        for (const Node& one : n.at("bodies").list()) b.bodies.push_back(one.text());
        if (b.bodies.empty()) n.at("bodies").refuse("the name of at least one body", "an empty list");
    }
    return b;
}

NamedField readFieldSource(const Node& f, const Units& u, const std::string& partPath) {
    NamedField r;
    exchange::FieldSource& s = r.source;
    s.path = pathFrom(f.at("file"), partPath);
    r.name = f.has("name") ? f.at("name").text() : std::filesystem::path(s.path).stem().string();
    if (f.has("array")) s.array = f.at("array").text();
    if (f.has("origin")) s.origin = f.at("origin").vector(dimension::length, u.length);
    if (f.has("spacing")) {
        s.spacing = f.at("spacing").vector(dimension::length, u.length);
        if (!(s.spacing->minCoeff() > 0)) f.at("spacing").refuse("values above zero", "zero or less");
    }
    if (f.has("cell_size")) s.cell = f.at("cell_size").positive(dimension::length, u.length);
    if (f.has("unit")) s.lengthUnit = lengthUnit(f.at("unit"));
    if (f.has("values")) {
        const std::string values = f.at("values").text();
        if (values == "per cent")
            s.scale = exchange::DensityScale::percent;
        else if (values == "bytes")
            s.scale = exchange::DensityScale::bytes;
        else if (values != "share")
            f.at("values").refuse("share, per cent or bytes", "'" + values + "'");
    }
    if (f.has("clamp")) s.clamp = f.at("clamp").yes();
    return r;
}

KeepOut readKeepOut(const Node& n, const Units& u, const std::string& partPath) {
    KeepOut k;
    n.onlyKeys(
        {"name", "kind", "low", "high", "origin", "axis", "length", "diameter", "body", "unit", "offset", "bodies"});
    k.name = n.at("name").text();
    const std::string kind = n.at("kind").text();
    if (kind == "box") {
        k.kind = KeepOut::Kind::box;
        k.low = n.at("low").vector(dimension::length, u.length);
        k.high = n.at("high").vector(dimension::length, u.length);
        if (!(k.low.array() < k.high.array()).all()) n.refuse("low below high along every axis", "an empty box");
    } else if (kind == "cylinder") {
        k.kind = KeepOut::Kind::cylinder;
        k.origin = n.at("origin").vector(dimension::length, u.length);
        k.axis = n.at("axis").direction();
        k.length = n.at("length").positive(dimension::length, u.length);
        k.diameter = n.at("diameter").positive(dimension::length, u.length);
    } else if (kind == "body") {
        k.kind = KeepOut::Kind::body;
        k.body = readBody(n, u, partPath);
    } else {
        n.at("kind").refuse("box, cylinder or body", "'" + kind + "'");
    }
    return k;
}

}  // namespace

const Interface* Part::findInterface(const std::string& wanted) const {
    for (const Interface& i : interfaces)
        if (i.name == wanted) return &i;
    return nullptr;
}

const Frame* Part::findFrame(const std::string& wanted) const {
    for (const Frame& f : frames)
        if (f.name == wanted) return &f;
    return nullptr;
}

Mat3 Part::axesOf(const std::string& frame) const {
    const Frame* f = findFrame(frame);
    return f ? f->axes : Mat3(Mat3::Identity());
}

std::vector<std::string> Part::supportSets() const {
    std::vector<std::string> sets;
    for (const LoadCase& c : loadCases)
        if (c.use != LoadCase::Use::off && !std::count(sets.begin(), sets.end(), c.supportSet))
            sets.push_back(c.supportSet);
    return sets;
}

std::string Part::supportSetOf(const std::string& caseOrCombination) const {
    std::string name = caseOrCombination;
    for (const Combination& c : combinations)
        if (c.name == name && !c.terms.empty()) {
            name = c.terms.front().first;
            break;
        }
    for (const LoadCase& c : loadCases)
        if (c.name == name) return c.supportSet;
    return {};
}

std::vector<Load> Part::loadsOf(const LoadCase& loadCase) const {
    std::vector<Load> all = loadCase.loads;
    for (const SharedLoad& s : sharedLoads)
        if (s.cases.empty() || std::count(s.cases.begin(), s.cases.end(), loadCase.name)) all.push_back(s.load);
    return all;
}

Vec3 faceMiddle(const Interface& i, const std::string& face) {
    if (i.kind == Interface::Kind::faces || i.isOfLines()) return i.origin;
    return i.origin + (face == "start" ? 0 : face == "end" ? i.length : 0.5 * i.length) * i.axis;
}

Vec3 keptNormal(const Interface& i, const Vec3& at) {
    if (!i.kept) return -i.axis;
    const auto nearest = i.kept->nearest(at, std::numeric_limits<double>::max(), i.number);
    return nearest.patch < 0 ? Vec3(-i.axis) : nearest.normal;
}

bool isRound(const Interface& i) {
    if (i.isOfLines()) return false;
    if (i.kind != Interface::Kind::faces) return true;
    if (!i.kept) return false;
    for (const shape::FacePatch& f : i.kept->patches()) {
        if (f.interface != i.number) continue;
        const shape::SurfaceForm form = f.surface->form();
        const Vec3 d = form.point - i.origin;
        if (form.kind != shape::SurfaceForm::Kind::cylinder || std::abs(form.axis.dot(i.axis)) < 1 - 1e-9 ||
            (d - d.dot(i.axis) * i.axis).norm() > 1e-3)
            return false;
    }
    return true;
}

void requireRound(const Interface& i) {
    if (isRound(i)) return;
    throw InputError(ErrorDetail{"A load or a support about an axis acts on faces that are not round.",
                                 {},
                                 "interface '" + i.name + "'",
                                 "cylinders about its axis",
                                 "another form, axis or origin"});
}

const char* name(Interface::Kind kind) {
    static const char* names[] = {"bore", "boss", "pad", "pin", "faces", "edges", "points"};
    return names[static_cast<int>(kind)];
}

std::string canonical(const exchange::FieldSource& s) {
    auto vec = [](const Vec3& v) { return json::array({v[0], v[1], v[2]}); };
    json j = {{"path", std::filesystem::path(s.path).lexically_normal().string()},
              {"array", s.array},
              {"unit", s.lengthUnit},
              {"scale", static_cast<int>(s.scale)},
              {"clamp", s.clamp}};
    if (s.origin) j["origin"] = vec(*s.origin);
    if (s.spacing) j["spacing"] = vec(*s.spacing);
    if (s.cell) j["cell"] = *s.cell;
    return j.dump();
}

Part readPart(const std::string& path) {
    return parsePart(readWholeText(path, "The part file cannot be opened."), path);
}

namespace {

void readFields(const Node& root, const Units& u, const std::string& path, Part& p) {
    const std::set<std::string> fieldKeys{"name",      "file", "array",  "origin", "spacing",
                                          "cell_size", "unit", "values", "clamp"};
    if (root.has("field")) {
        const Node f = root.at("field");
        std::set<std::string> mainKeys = fieldKeys;
        mainKeys.insert({"threshold", "volume_fraction"});
        f.onlyKeys(mainKeys);
        p.fields.push_back(readFieldSource(f, u, path));
        if (f.has("threshold")) p.threshold = f.at("threshold").quantity(dimension::none, "");
        if (!(p.threshold > 0 && p.threshold < 1))
            f.at("threshold").refuse("a value above 0 and below 1", formatNumber(p.threshold));
        if (f.has("volume_fraction")) {
            p.volumeFraction = f.at("volume_fraction").quantity(dimension::none, "");
            if (!(*p.volumeFraction > 0 && *p.volumeFraction < 1))
                f.at("volume_fraction").refuse("a value above 0 and below 1", formatNumber(*p.volumeFraction));
        }
    } else if (root.has("more_fields")) {
        root.at("more_fields").refuse("a main 'field' first", "none");
    }
    if (root.has("more_fields"))
        for (const Node& n : root.at("more_fields").list()) {
            n.onlyKeys(fieldKeys);
            p.fields.push_back(readFieldSource(n, u, path));
            for (std::size_t i = 0; i + 1 < p.fields.size(); ++i)
                if (p.fields[i].name == p.fields.back().name)
                    n.refuse("a name used once ('name')", "'" + p.fields.back().name + "' again");
        }
}

/// Design space, original, interfaces, what stays empty, symmetry.
void readGeometry(const Node& root, const Units& u, const std::string& path, Part& p) {
    if (root.has("design_space")) {
        const Node d = root.at("design_space");
        d.onlyKeys({"low", "high", "body", "unit", "offset", "bodies"});
        if (d.has("body")) p.designBody = readBody(d, u, path);
        if (!d.has("body") || d.has("low") || d.has("high")) {
            p.designSpace.low = d.at("low").vector(dimension::length, u.length);
            p.designSpace.high = d.at("high").vector(dimension::length, u.length);
            if (!(p.designSpace.low.array() < p.designSpace.high.array()).all())
                d.refuse("low below high along every axis", "an empty box");
        }
    }
    if (root.has("original")) {
        root.at("original").onlyKeys({"body", "unit", "offset", "bodies"});
        p.original = readBody(root.at("original"), u, path);
    }
    for (const Node& n : root.at("interfaces").list()) {
        p.interfaces.push_back(readInterface(n, u));
        if (p.interfaces.back().kind == Interface::Kind::faces && !p.bodyOfFaces())
            n.at("faces").refuse("an original, or a body as design space, that the faces belong to", "none");
        if (p.interfaces.back().kind == Interface::Kind::edges && !p.bodyOfFaces())
            n.at("edges").refuse("an original, or a body as design space, that the edges belong to", "none");
        for (std::size_t i = 0; i + 1 < p.interfaces.size(); ++i)
            if (p.interfaces[i].name == p.interfaces.back().name)
                n.at("name").refuse("a name used once", "'" + p.interfaces.back().name + "' again");
    }
    if (root.has("keep_outs"))
        for (const Node& n : root.at("keep_outs").list()) p.keepOuts.push_back(readKeepOut(n, u, path));
    if (root.has("symmetry"))
        for (const Node& n : root.at("symmetry").list()) {
            n.onlyKeys({"point", "normal"});
            p.symmetry.push_back({n.at("point").vector(dimension::length, u.length), n.at("normal").direction()});
        }
}

}  // namespace

Part parsePart(const std::string& text, const std::string& path) {
    const json document = parseStrictJson(text, path, "The part file is not valid JSON.");
    const Node root(document, "", path);
    root.onlyKeys({"format",       "version",      "name",        "description", "units",         "material",
                   "field",        "design_space", "interfaces",  "keep_outs",   "symmetry",      "supports",
                   "load_cases",   "requirements", "more_fields", "original",    "own_materials", "frames",
                   "shared_loads", "combinations", "optimisation"});
    if (root.at("format").text() != "escultura-part")
        root.at("format").refuse("escultura-part", "'" + root.at("format").text() + "'");
    const double version = root.at("version").quantity(dimension::none, "");
    if (version != 1) root.at("version").refuse("1", formatNumber(version));
    const Units u = readUnits(root);
    Part p;
    p.path = path;
    p.text = text;
    p.units = u;
    p.name = root.at("name").text();
    if (root.has("description")) p.description = root.at("description").text();

    const Node m = root.at("material");
    p.material = readMaterial(m, u);
    if (m.has("optimised_with")) p.optimisedWith = m.at("optimised_with").text();
    if (root.has("own_materials"))
        for (const Node& n : root.at("own_materials").list()) p.ownMaterials.push_back(readMaterial(n, u));
    try {
        elastic::validate(p.material);
    } catch (const InputError& e) {
        ErrorDetail d = e.detail();
        d.file = path;
        throw InputError(d);
    }

    readFields(root, u, path, p);
    readGeometry(root, u, path, p);
    readDuty(root, u, p);
    for (const Node& n : root.at("requirements").list()) p.requirements.push_back(readRequirement(n, u, p));
    if (root.has("optimisation")) p.optimisation = readOptimisation(root.at("optimisation"), u, p);
    p.optimisationText = duty::optimisationText(p.optimisation, Units());
    auto picked = [&](std::initializer_list<const char*> keys) {
        json chosen = json::object();
        for (const char* key : keys)
            if (document.contains(key)) chosen[key] = document[key];
        return chosen.dump();
    };
    p.geometryText = picked({"units", "design_space", "interfaces", "keep_outs", "symmetry"});
    p.dutyText = picked({"units", "material", "supports", "load_cases", "frames", "shared_loads", "combinations"});

    return p;
}

}  // namespace escultura::duty
