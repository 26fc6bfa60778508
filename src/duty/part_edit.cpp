#include "duty/part_edit.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "base/error.hpp"
#include "base/quantity.hpp"

namespace escultura::duty {
namespace {

using json = nlohmann::ordered_json;

/// Writes lengths in the part file's unit.
class Writer {
  public:
    explicit Writer(const std::string& lengthUnit) : scale_(1 / unitScale(lengthUnit)) {}
    double length(double mm) const {
        const double v = mm * scale_;
        const double rounded = std::round(v * 1e9) / 1e9;
        return std::abs(rounded) < 1e-12 ? 0.0 : rounded;
    }
    json place(const Vec3& mm) const { return json::array({length(mm[0]), length(mm[1]), length(mm[2])}); }

  private:
    double scale_;
};

json direction(const Vec3& v) {
    json j = json::array();
    for (int a = 0; a < 3; ++a) j.push_back(std::abs(v[a]) < 1e-12 ? 0.0 : v[a]);
    return j;
}

std::string relative(const std::string& path, const std::string& partPath) {
    const auto folder = std::filesystem::path(partPath).parent_path();
    const auto r = std::filesystem::path(path).lexically_proximate(folder.empty() ? "." : folder);
    return !r.empty() && r.begin()->string() != ".." ? r.string() : std::filesystem::absolute(path).string();
}

json toJson(const InterfaceEnd& e, bool outlined, const Writer& w) {
    static const char* kinds[] = {"flat", "blind", "through"};
    json j{{"kind", kinds[static_cast<int>(e.kind)]}};
    if (e.kind == EndKind::flat) {
        j["clearance"] = w.length(e.clearance);
        if (outlined)
            j["clear_margin"] = w.length(e.clearMargin);
        else if (e.clearDiameter > 0)
            j["clear_diameter"] = w.length(e.clearDiameter);
    }
    return j;
}

json toJson(const Interface& i, const Writer& w) {
    if (i.isOfLines()) {
        json j{{"name", i.name}, {"kind", name(i.kind)}, {"radius", w.length(i.length)}};
        for (const Vec3& p : i.places) j[name(i.kind)].push_back(w.place(p));
        j["blend_radius"] = w.length(i.blendRadius);
        return j;
    }
    json j{{"name", i.name},
           {"kind", name(i.kind)},
           {"origin", w.place(i.origin)},
           {"axis", direction(i.axis)},
           {"length", w.length(i.length)}};
    if (i.kind == Interface::Kind::faces) {
        for (const Vec3& p : i.places) j["faces"].push_back(w.place(p));
        j["blend_radius"] = w.length(i.blendRadius);
        j["clearance"] = w.length(i.start.clearance);
        j["clear_margin"] = w.length(i.start.clearMargin);
        return j;
    }
    if (i.kind == Interface::Kind::bore || i.kind == Interface::Kind::boss)
        j["bore_diameter"] = w.length(i.boreDiameter);
    const bool outlined = !i.outline.empty();
    for (const auto& loop : i.outline) {
        json corners = json::array();
        for (const Vec3& d : loop) corners.push_back(w.place(i.origin + d));
        j["outline"].push_back(std::move(corners));
    }
    if (i.kind == Interface::Kind::boss || (i.kind == Interface::Kind::pad && !outlined))
        j["ring_diameter"] = w.length(i.ringDiameter);
    if (i.kind == Interface::Kind::pin) j["pin_diameter"] = w.length(i.ringDiameter);
    j["blend_radius"] = w.length(i.blendRadius);
    j["start"] = toJson(i.start, outlined, w);
    j["end"] = toJson(i.end, outlined, w);
    return j;
}

json toJson(const BodySource& b, const Part& part) {
    json j{{"body", relative(b.path, part.path)}};
    if (b.lengthUnit != "mm") j["unit"] = b.lengthUnit;
    if (b.offset != 0) j["offset"] = Writer(part.units.length).length(b.offset);
    if (!b.bodies.empty()) j["bodies"] = b.bodies;
    return j;
}

json toJson(const NamedField& f, const std::string& partPath, const std::string& lengthUnit) {
    const Writer w(lengthUnit);
    const exchange::FieldSource& s = f.source;
    json j;
    if (!f.name.empty()) j["name"] = f.name;
    j["file"] = relative(s.path, partPath);
    if (!s.array.empty()) j["array"] = s.array;
    if (s.origin) j["origin"] = w.place(*s.origin);
    if (s.spacing) j["spacing"] = w.place(*s.spacing);
    if (s.cell) j["cell_size"] = w.length(*s.cell);
    if (s.lengthUnit != "mm") j["unit"] = s.lengthUnit;
    if (s.scale != exchange::DensityScale::share)
        j["values"] = s.scale == exchange::DensityScale::percent ? "per cent" : "bytes";
    if (s.clamp) j["clamp"] = true;
    return j;
}

/// Calls visit(list of interface names) for every support and load.
template <class Visit>
void forReferences(json& document, const Visit& visit) {
    for (auto& s : document["supports"]) visit(s["interfaces"], "a support");
    for (auto& c : document["load_cases"])
        for (auto& l : c["loads"])
            visit(l["interfaces"], "a load of case '" + c["name"].template get<std::string>() + "'");
}

}  // namespace

std::string withInterface(const Part& part, const std::string& replaced, const Interface& interface) {
    json document = json::parse(part.text);
    const json described = toJson(interface, Writer(part.units.length));
    auto& list = document["interfaces"];
    bool found = false;
    for (auto& i : list)
        if (!replaced.empty() && i["name"] == replaced) {
            i = described;
            found = true;
        }
    if (!found) list.push_back(described);
    if (found && replaced != interface.name)
        forReferences(document, [&](json& names, const std::string&) {
            for (auto& n : names)
                if (n == replaced) n = interface.name;
        });
    return document.dump(2) + "\n";
}

std::string withCopies(const Part& part, const std::string& name, const Repetition& how) {
    const Interface* first = part.findInterface(name);
    if (!first)
        throw InputError(ErrorDetail{"Only an interface of the part can be repeated.", part.path, "interface",
                                     "a name of the list", "'" + name + "'"});
    const bool about = how.kind == Repetition::Kind::about;
    if (about && (how.count < 2 || how.count > 100))
        throw InputError(ErrorDetail{"The interface cannot be repeated so often.", part.path, "places on the circle",
                                     "2 to 100", std::to_string(how.count)});
    if (!(how.axis.norm() > 0) || !how.axis.allFinite())
        throw InputError(ErrorDetail{"The interface cannot be repeated.", part.path, "axis",
                                     "a direction that is not zero", "no direction"});
    const Vec3 axis = how.axis.normalized();
    auto moved = [&](const Vec3& v, int turn, bool isPlace) -> Vec3 {
        const Vec3 d = isPlace ? Vec3(v - how.point) : v;
        const Vec3 there =
            about ? Vec3(Eigen::AngleAxisd(2 * M_PI * turn / how.count, axis) * d) : Vec3(d - 2 * d.dot(axis) * axis);
        return isPlace ? Vec3(how.point + there) : there;
    };
    // "bolt 1" counts on; digits that belong to a word, as in "M8", stay
    std::string stem = name;
    const auto word = name.find_last_not_of("0123456789");
    if (word != std::string::npos && word + 1 < name.size() && word > 0 && name[word] == ' ')
        stem = name.substr(0, word);
    json document = json::parse(part.text);
    std::vector<std::string> names;
    int number = 1;
    for (int turn = 1; turn < (about ? how.count : 2); ++turn) {
        Interface copy = *first;
        copy.origin = moved(first->origin, turn, true);
        copy.axis = moved(first->axis, turn, false);
        for (auto& loop : copy.outline)
            for (Vec3& d : loop) d = moved(d, turn, false);
        for (Vec3& p : copy.places) p = moved(p, turn, true);
        const Vec3 middle = first->origin + 0.5 * first->length * first->axis.normalized(),
                   there = copy.origin + 0.5 * copy.length * copy.axis.normalized();
        if ((there - middle).norm() < 1e-6 * std::max(first->length, 1.0))
            throw InputError(ErrorDetail{"A copy would fall on the interface itself.", part.path,
                                         "interface '" + name + "'", about ? "an axis beside it" : "a plane beside it",
                                         about ? "it lies on the axis" : "it lies on the plane"});
        do copy.name = stem + " " + std::to_string(++number);
        while (part.findInterface(copy.name));
        names.push_back(copy.name);
        document["interfaces"].push_back(toJson(copy, Writer(part.units.length)));
    }
    if (how.heldAlike && document.contains("supports"))
        for (auto& support : document["supports"]) {
            auto& on = support["interfaces"];
            if (std::find(on.begin(), on.end(), name) != on.end())
                for (const std::string& copy : names) on.push_back(copy);
        }
    return document.dump(2) + "\n";
}

std::string withoutInterface(const Part& part, const std::string& name) {
    json document = json::parse(part.text);
    forReferences(document, [&](json& names, const std::string& what) {
        for (const auto& n : names)
            if (n == name)
                throw InputError(ErrorDetail{"The interface is in use.", part.path, "interface '" + name + "'",
                                             "an interface that nothing acts on", what + " acts on it"});
    });
    auto& list = document["interfaces"];
    for (std::size_t i = 0; i < list.size(); ++i)
        if (list[i]["name"] == name) {
            list.erase(i);
            break;
        }
    return document.dump(2) + "\n";
}

std::string withField(const Part& part, const NamedField& field) {
    json document = json::parse(part.text);
    const json added = toJson(field, part.path, part.units.length);
    if (document.contains("field"))
        document["more_fields"].push_back(added);
    else  // the first field of a part that began with a body
        document["field"] = added;
    return document.dump(2) + "\n";
}

std::string withOriginal(const Part& part, const BodySource* body) {
    json document = json::parse(part.text);
    if (body)
        document["original"] = toJson(*body, part);
    else
        document.erase("original");
    return document.dump(2) + "\n";
}

std::string withDesignBody(const Part& part, const BodySource* body) {
    json document = json::parse(part.text);
    auto& space = document["design_space"];
    for (const char* key : {"body", "unit", "offset", "bodies"})
        if (space.contains(key)) space.erase(key);
    if (body) space.update(toJson(*body, part));
    if (space.is_null() || space.empty()) document.erase("design_space");
    return document.dump(2) + "\n";
}

std::string withKeepOutBody(const Part& part, const std::string& name, const BodySource& body) {
    json document = json::parse(part.text);
    json k{{"name", name}, {"kind", "body"}};
    k.update(toJson(body, part));
    document["keep_outs"].push_back(k);
    return document.dump(2) + "\n";
}

std::string withOptimisation(const Part& part, const Optimisation& optimisation) {
    json document = json::parse(part.text);
    document["optimisation"] = json::parse(optimisationText(optimisation, part.units));
    return document.dump(2) + "\n";
}

namespace {

/// Everything but the field.
json newPart(const std::string& name, const std::string& description) {
    return {{"format", "escultura-part"},
            {"version", 1},
            {"name", name},
            {"description", description + " Add interfaces, material, supports, load cases and requirements."},
            {"units", {{"length", "mm"}, {"force", "N"}, {"stress", "MPa"}, {"density", "kg/m^3"}, {"mass", "kg"}}},
            {"material",
             {{"name", "Aluminium 5083-H116 (assumed)"},
              {"youngs_modulus", 71000},
              {"poissons_ratio", 0.33},
              {"density", 2660},
              {"yield_strength", 215},
              {"yield_source", "assumed for a new part: replace before a check"}}},
            {"interfaces", json::array()},
            {"supports", json::array()},
            {"load_cases", json::array()},
            {"requirements", json::array()}};
}

}  // namespace

std::string newPartText(const std::string& name, const exchange::FieldSource& field, const std::string& partPath) {
    json document = newPart(name, "Made from a density field.");
    document["field"] = toJson({"", field}, partPath, "mm");
    return document.dump(2) + "\n";
}

std::string newPartText(const std::string& name, const BodySource& body, const std::string& partPath,
                        const std::vector<std::pair<std::string, BodySource>>& neighbours) {
    json document = newPart(name, "Made from a body.");
    Part units;
    units.path = partPath;
    document["original"] = document["design_space"] = toJson(body, units);
    for (const auto& [neighbour, source] : neighbours) {
        json k{{"name", neighbour}, {"kind", "body"}};
        k.update(toJson(source, units));
        document["keep_outs"].push_back(k);
    }
    document["optimisation"] = json::parse(optimisationText({}, {}));
    return document.dump(2) + "\n";
}

}  // namespace escultura::duty
