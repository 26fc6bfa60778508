#include "project/part.hpp"

#include <cmath>
#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>
#include <set>
#include <sstream>

#include "base/error.hpp"
#include "base/quantity.hpp"

namespace escultura::project {
namespace {

using nlohmann::json;

/// A value of the part file together with the way to it, for errors.
class Node {
  public:
    Node(const json& value, std::string place, const std::string& file)
        : value_(value), place_(std::move(place)), file_(file) {}

    [[noreturn]] void refuse(const std::string& expected, const std::string& found,
                             const std::string& problem = "The part file cannot be used.") const {
        throw InputError(ErrorDetail{problem, file_, place_.empty() ? "top level" : place_, expected, found});
    }
    void onlyKeys(const std::set<std::string>& keys) const {
        if (!value_.is_object()) refuse("an object", value_.type_name());
        for (const auto& [key, unused] : value_.items())
            if (!keys.count(key)) {
                std::string all;
                for (const auto& k : keys) all += (all.empty() ? "" : ", ") + k;
                Node(value_, place_.empty() ? key : place_ + "." + key, file_)
                    .refuse("one of: " + all, "an unknown key '" + key + "'");
            }
    }
    bool has(const char* key) const { return value_.is_object() && value_.contains(key) && !value_[key].is_null(); }
    Node at(const char* key) const {
        if (!has(key)) Node(value_, child(key), file_).refuse("a value", "nothing");
        return {value_[key], child(key), file_};
    }
    std::vector<Node> list() const {
        if (!value_.is_array()) refuse("a list", value_.type_name());
        std::vector<Node> nodes;
        for (std::size_t i = 0; i < value_.size(); ++i)
            nodes.emplace_back(value_[i], place_ + "[" + std::to_string(i) + "]", file_);
        return nodes;
    }
    std::string text() const {
        if (!value_.is_string()) refuse("a text", value_.type_name());
        return value_.get<std::string>();
    }
    double quantity(Dimension wanted, const std::string& unit) const {
        try {
            if (value_.is_number())
                return wanted == dimension::none ? value_.get<double>() : value_.get<double>() * unitScale(unit);
            if (value_.is_string()) return parseQuantity(value_.get<std::string>(), wanted, unit);
        } catch (const InputError& e) {
            refuse(e.detail().expected, e.detail().place + " " + e.detail().found);
        }
        refuse("a number, or a text with a unit", value_.type_name());
    }
    double positive(Dimension wanted, const std::string& unit) const {
        const double v = quantity(wanted, unit);
        if (!(v > 0) || !std::isfinite(v)) refuse("a value above zero", formatNumber(v));
        return v;
    }
    Vec3 vector(Dimension wanted, const std::string& unit) const {
        const auto parts = list();
        if (parts.size() != 3) refuse("three numbers", std::to_string(parts.size()));
        return {parts[0].quantity(wanted, unit), parts[1].quantity(wanted, unit), parts[2].quantity(wanted, unit)};
    }
    Vec3 direction() const {
        const Vec3 v = vector(dimension::none, "");
        if (!(v.norm() > 0) || !v.allFinite()) refuse("a direction that is not zero", "(0, 0, 0)");
        return v.normalized();
    }
    bool yes() const {
        if (!value_.is_boolean()) refuse("true or false", value_.type_name());
        return value_.get<bool>();
    }
    bool isObject() const { return value_.is_object(); }
    bool isString() const { return value_.is_string(); }

  private:
    std::string child(const char* key) const { return place_.empty() ? key : place_ + "." + key; }
    const json& value_;
    std::string place_;
    const std::string& file_;
};

struct Units {
    std::string length = "mm", force = "N", stress = "MPa", density = "kg/m^3", mass = "kg";
};

Units readUnits(const Node& root) {
    Units u;
    if (!root.has("units")) return u;
    const Node n = root.at("units");
    n.onlyKeys({"length", "force", "stress", "density", "mass"});
    auto read = [&](const char* key, std::string& unit, Dimension dim) {
        if (!n.has(key)) return;
        unit = n.at(key).text();
        try {
            parseQuantity("1 " + unit, dim, unit);
        } catch (const InputError&) {
            n.at(key).refuse("a unit of " + std::string(key), "'" + unit + "'");
        }
    };
    read("length", u.length, dimension::length);
    read("force", u.force, dimension::force);
    read("stress", u.stress, dimension::stress);
    read("density", u.density, dimension::density);
    read("mass", u.mass, dimension::mass);
    return u;
}

InterfaceEnd readEnd(const Node& n, const Units& u) {
    InterfaceEnd e;
    n.onlyKeys({"kind", "clearance", "clear_diameter"});
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
    return e;
}

Interface readInterface(const Node& n, const Units& u) {
    Interface i;
    n.onlyKeys({"name", "kind", "origin", "axis", "length", "bore_diameter", "ring_diameter", "pin_diameter",
                "blend_radius", "start", "end"});
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
    else
        n.at("kind").refuse("bore, boss, pad or pin", "'" + kind + "'");
    i.origin = n.at("origin").vector(dimension::length, u.length);
    i.axis = n.at("axis").direction();
    i.length = n.at("length").positive(dimension::length, u.length);
    const bool solid = i.kind == Interface::Kind::pad || i.kind == Interface::Kind::pin;
    if (!solid)
        i.boreDiameter = n.at("bore_diameter").positive(dimension::length, u.length);
    else if (n.has("bore_diameter"))
        n.at("bore_diameter").refuse("no bore on a " + kind, "a diameter");
    if (i.kind == Interface::Kind::pin) {
        if (n.has("ring_diameter")) n.at("ring_diameter").refuse("pin_diameter on a pin", "a ring");
        i.ringDiameter = n.at("pin_diameter").positive(dimension::length, u.length);
    } else if (n.has("pin_diameter")) {
        n.at("pin_diameter").refuse("no pin diameter on a " + kind, "a diameter");
    } else if (i.kind != Interface::Kind::bore) {
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
    i.start.kind = i.kind == Interface::Kind::bore ? EndKind::through : EndKind::flat;
    i.end.kind = solid ? EndKind::blind : i.start.kind;
    if (n.has("start")) i.start = readEnd(n.at("start"), u);
    if (n.has("end")) i.end = readEnd(n.at("end"), u);
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
    n.onlyKeys({"name", "kind", "low", "high", "origin", "axis", "length", "diameter", "body", "unit", "offset"});
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

FaceReference readFaces(const Node& n, const Part& part) {
    FaceReference r;
    for (const Node& i : n.at("interfaces").list()) {
        r.interfaces.push_back(i.text());
        if (!part.findInterface(r.interfaces.back())) {
            std::string all;
            for (const auto& known : part.interfaces) all += (all.empty() ? "" : ", ") + known.name;
            i.refuse("one of the interfaces: " + all, "'" + r.interfaces.back() + "'",
                     "An interface is named that the part does not have.");
        }
    }
    if (r.interfaces.empty()) n.at("interfaces").refuse("at least one interface", "an empty list");
    r.face = n.at("face").text();
    for (const std::string& name : r.interfaces) {
        const Interface& i = *part.findInterface(name);
        const bool known =
            (r.face == "bore" && i.boreDiameter > 0) || (r.face == "side" && i.kind == Interface::Kind::pin) ||
            (r.face == "start" && i.start.kind == EndKind::flat) || (r.face == "end" && i.end.kind == EndKind::flat);
        if (!known)
            n.at("face").refuse("bore, the side of a pin, or a flat start or end of '" + name + "'",
                                "'" + r.face + "'");
    }
    return r;
}

Load readLoad(const Node& n, const Part& part, const Units& u) {
    Load l;
    n.onlyKeys({"kind", "interfaces", "face", "force", "magnitude", "direction", "moment", "share"});
    const std::string kind = n.at("kind").text();
    if (kind == "force")
        l.kind = Load::Kind::force;
    else if (kind == "bearing")
        l.kind = Load::Kind::bearing;
    else
        n.at("kind").refuse("force or bearing", "'" + kind + "'");
    l.on = readFaces(n, part);
    if (l.kind == Load::Kind::bearing && l.on.face != "bore")
        n.at("face").refuse("bore: a bearing load acts on a bore", "'" + l.on.face + "'");
    if (n.has("force"))
        l.force = n.at("force").vector(dimension::force, u.force);
    else if (n.has("magnitude"))
        l.force = n.at("magnitude").quantity(dimension::force, u.force) * n.at("direction").direction();
    if (n.has("moment")) {
        if (l.kind == Load::Kind::bearing) n.at("moment").refuse("no moment on a bearing load", "a moment");
        l.moment = n.at("moment").vector(dimension::moment, u.force + "*" + u.length);
    }
    if (!(l.force.norm() + l.moment.norm() > 0) || !l.force.allFinite() || !l.moment.allFinite())
        n.refuse("a force (or magnitude and direction) or a moment that is not zero", "zero or nothing");
    if (n.has("share")) {
        const std::string share = n.at("share").text();
        if (share != "total" && share != "each") n.at("share").refuse("total or each", "'" + share + "'");
        l.sharedTotal = share == "total";
    }
    return l;
}

}  // namespace

const Interface* Part::findInterface(const std::string& wanted) const {
    for (const Interface& i : interfaces)
        if (i.name == wanted) return &i;
    return nullptr;
}

namespace {
struct RequirementWords {
    const char *name, *unit;
    bool isMinimum;
};
const RequirementWords& words(Requirement::Kind kind) {
    static const RequirementWords all[] = {{"safety factor", "", true},
                                           {"displacement", "mm", false},
                                           {"mass", "kg", false},
                                           {"thinnest wall", "mm", true}};
    return all[static_cast<int>(kind)];
}
}  // namespace

const char* name(Requirement::Kind kind) {
    return words(kind).name;
}
const char* unit(Requirement::Kind kind) {
    return words(kind).unit;
}
bool isMinimum(Requirement::Kind kind) {
    return words(kind).isMinimum;
}

const char* name(Interface::Kind kind) {
    static const char* names[] = {"bore", "boss", "pad", "pin"};
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
    std::ifstream in(path, std::ios::binary);
    if (!in || std::filesystem::is_directory(path))
        throw InputError(
            ErrorDetail{"The part file cannot be opened.", path, {}, "a part file (.json)", "no readable file there"});
    std::stringstream text;
    text << in.rdbuf();
    return parsePart(text.str(), path);
}

Part parsePart(const std::string& text, const std::string& path) {
    json document;
    try {
        document = json::parse(text);
    } catch (const json::parse_error& e) {
        const auto line =
            1 + std::count(text.begin(), text.begin() + static_cast<long>(std::min(e.byte, text.size())), '\n');
        throw InputError(ErrorDetail{"The part file is not valid JSON.", path, "line " + std::to_string(line),
                                     "JSON (RFC 8259)", e.what()});
    }
    const Node root(document, "", path);
    root.onlyKeys({"format", "version", "name", "description", "units", "material", "field", "design_space",
                   "interfaces", "keep_outs", "symmetry", "supports", "load_cases", "requirements", "more_fields",
                   "original"});
    if (root.at("format").text() != "escultura-part")
        root.at("format").refuse("escultura-part", root.at("format").text());
    const double version = root.at("version").quantity(dimension::none, "");
    if (version != 1) root.at("version").refuse("1", formatNumber(version));
    const Units u = readUnits(root);
    Part p;
    p.path = path;
    p.text = text;
    p.lengthUnit = u.length;
    p.name = root.at("name").text();
    if (root.has("description")) p.description = root.at("description").text();

    const Node m = root.at("material");
    m.onlyKeys(
        {"name", "youngs_modulus", "poissons_ratio", "density", "yield_strength", "yield_source", "optimised_with"});
    p.material.name = m.at("name").text();
    p.material.youngsModulus = m.at("youngs_modulus").quantity(dimension::stress, u.stress);
    p.material.poissonsRatio = m.at("poissons_ratio").quantity(dimension::none, "");
    p.material.density = m.at("density").quantity(dimension::density, u.density);
    p.material.yieldStrength = m.at("yield_strength").quantity(dimension::stress, u.stress);
    p.material.yieldSource = m.at("yield_source").text();
    if (m.has("optimised_with")) p.optimisedWith = m.at("optimised_with").text();
    try {
        elastic::validate(p.material);
    } catch (const InputError& e) {
        ErrorDetail d = e.detail();
        d.file = path;
        throw InputError(d);
    }

    const Node f = root.at("field");
    const std::set<std::string> fieldKeys{"name",      "file", "array",  "origin", "spacing",
                                          "cell_size", "unit", "values", "clamp"};
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
    if (root.has("more_fields"))
        for (const Node& n : root.at("more_fields").list()) {
            n.onlyKeys(fieldKeys);
            p.fields.push_back(readFieldSource(n, u, path));
            for (std::size_t i = 0; i + 1 < p.fields.size(); ++i)
                if (p.fields[i].name == p.fields.back().name)
                    n.refuse("a name used once ('name')", "'" + p.fields.back().name + "' again");
        }

    if (root.has("design_space")) {
        const Node d = root.at("design_space");
        d.onlyKeys({"low", "high", "body", "unit", "offset"});
        if (d.has("body")) p.designBody = readBody(d, u, path);
        if (!d.has("body") || d.has("low") || d.has("high")) {
            p.designSpace.low = d.at("low").vector(dimension::length, u.length);
            p.designSpace.high = d.at("high").vector(dimension::length, u.length);
            if (!(p.designSpace.low.array() < p.designSpace.high.array()).all())
                d.refuse("low below high along every axis", "an empty box");
        }
    }
    if (root.has("original")) {
        root.at("original").onlyKeys({"body", "unit", "offset"});
        p.original = readBody(root.at("original"), u, path);
    }
    for (const Node& n : root.at("interfaces").list()) {
        p.interfaces.push_back(readInterface(n, u));
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
    for (const Node& n : root.at("supports").list()) {
        n.onlyKeys({"kind", "interfaces", "face", "directions"});
        Support s;
        s.kind = n.at("kind").text();
        if (s.kind != "fixed") n.at("kind").refuse("fixed", "'" + s.kind + "'");
        s.on = readFaces(n, p);
        if (n.has("directions")) {
            s.held = {false, false, false};
            for (const Node& d : n.at("directions").list()) {
                const std::string axis = d.text();
                if (axis != "x" && axis != "y" && axis != "z") d.refuse("x, y or z", "'" + axis + "'");
                s.held[axis[0] - 'x'] = true;
            }
        }
        p.supports.push_back(s);
    }
    for (const Node& n : root.at("load_cases").list()) {
        n.onlyKeys({"name", "loads"});
        LoadCase c;
        c.name = n.at("name").text();
        for (const auto& other : p.loadCases)
            if (other.name == c.name) n.at("name").refuse("a name used once", "'" + c.name + "' again");
        for (const Node& l : n.at("loads").list()) c.loads.push_back(readLoad(l, p, u));
        if (c.loads.empty()) n.at("loads").refuse("at least one load", "an empty list");
        p.loadCases.push_back(std::move(c));
    }
    for (const Node& n : root.at("requirements").list()) {
        n.onlyKeys({"kind", "limit", "source"});
        Requirement r;
        const std::string kind = n.at("kind").text();
        if (kind == "safety_factor") {
            r.kind = Requirement::Kind::safetyFactor;
            r.limit = n.at("limit").positive(dimension::none, "");
        } else if (kind == "displacement") {
            r.kind = Requirement::Kind::displacement;
            r.limit = n.at("limit").positive(dimension::length, u.length);
        } else if (kind == "mass") {
            r.kind = Requirement::Kind::mass;
            r.limit = n.at("limit").positive(dimension::mass, u.mass);
        } else if (kind == "minimum_wall") {
            r.kind = Requirement::Kind::minimumWall;
            r.limit = n.at("limit").positive(dimension::length, u.length);
        } else {
            n.at("kind").refuse("safety_factor, displacement, mass or minimum_wall", "'" + kind + "'");
        }
        if (n.has("source")) r.source = n.at("source").text();
        p.requirements.push_back(r);
    }
    auto picked = [&](std::initializer_list<const char*> keys) {
        json chosen = json::object();
        for (const char* key : keys)
            if (document.contains(key)) chosen[key] = document[key];
        return chosen.dump();
    };
    p.geometryText = picked({"units", "design_space", "interfaces", "keep_outs", "symmetry"});
    p.dutyText = picked({"units", "material", "supports", "load_cases"});
    return p;
}

}  // namespace escultura::project
