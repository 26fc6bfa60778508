#include "project/requirement_text.hpp"

#include "base/text.hpp"
#include "project/duty_edit.hpp"
#include "project/part_node.hpp"

namespace escultura::project {
namespace {

using Kind = Requirement::Kind;

struct KindWords {
    const char *key, *name, *unit;
    bool isMinimum, hasLimit;
};
const KindWords& wordsOf(Kind kind) {
    static const KindWords all[requirementKinds] = {{"safety_factor", "safety factor", "", true, true},
                                                    {"displacement", "displacement", "mm", false, true},
                                                    {"mass", "mass", "kg", false, true},
                                                    {"minimum_wall", "thinnest wall", "mm", true, true},
                                                    {"reaction", "reaction", "N", false, true},
                                                    {"deviation", "deviation", "mm", false, true},
                                                    {"draft", "surface with too little draft", "%", false, true},
                                                    {"overhang", "surface that needs supports", "%", false, true},
                                                    {"convergence", "change of the last refinement", "%", false, true},
                                                    {"equilibrium", "equilibrium error", "", false, true},
                                                    {"valid_geometry", "geometry valid", "", false, false},
                                                    {"findings_disposed", "findings signed", "", false, false}};
    return all[static_cast<int>(kind)];
}

/// Dimension and bare unit of a limit in the part file.
std::pair<Dimension, std::string> limitUnit(Kind kind, const Units& u) {
    switch (kind) {
        case Kind::displacement:
        case Kind::minimumWall:
        case Kind::deviation:
            return {dimension::length, u.length};
        case Kind::mass:
            return {dimension::mass, u.mass};
        case Kind::reaction:
            return {dimension::force, u.force};
        default:
            return {dimension::none, ""};
    }
}

}  // namespace

const char* name(Kind kind) {
    return wordsOf(kind).name;
}
const char* unit(Kind kind) {
    return wordsOf(kind).unit;
}
bool isMinimum(Kind kind) {
    return wordsOf(kind).isMinimum;
}
bool hasLimit(Kind kind) {
    return wordsOf(kind).hasLimit;
}
const char* key(Kind kind) {
    return wordsOf(kind).key;
}

std::string subject(const Requirement& r) {
    std::string t = name(r.kind);
    if (r.direction)
        t += " along (" + plainNumber((*r.direction)[0], 3) + ", " + plainNumber((*r.direction)[1], 3) + ", " +
             plainNumber((*r.direction)[2], 3) + ")";
    if (!r.interface.empty()) t += " at " + r.interface;
    if (!r.loadCase.empty()) t += " in " + r.loadCase;
    return t;
}

std::string words(const Requirement& r) {
    if (!hasLimit(r.kind)) return subject(r);
    const std::string u = unit(r.kind);
    return subject(r) + (isMinimum(r.kind) ? " ≥ " : " ≤ ") + plainNumber(r.limit) + (u.empty() ? "" : " " + u);
}

Requirement readRequirement(const Node& n, const Units& u, const Part& part) {
    n.onlyKeys({"kind", "limit", "source", "load_case", "interface", "direction"});
    Requirement r;
    const std::string kind = n.at("kind").text();
    bool known = false;
    std::string all;
    for (int k = 0; k < requirementKinds; ++k) {
        if (kind == key(static_cast<Kind>(k))) r.kind = static_cast<Kind>(k), known = true;
        all += (k == 0 ? "" : k + 1 < requirementKinds ? ", " : " or ") + std::string(key(static_cast<Kind>(k)));
    }
    if (!known) n.at("kind").refuse(all, "'" + kind + "'");
    if (hasLimit(r.kind)) {
        const auto [dim, bare] = limitUnit(r.kind, u);
        r.limit = n.at("limit").positive(dim, bare);
    }
    if (n.has("source")) r.source = n.at("source").text();
    if (n.has("load_case")) {
        r.loadCase = n.at("load_case").text();
        const bool there = std::any_of(part.loadCases.begin(), part.loadCases.end(),
                                       [&](const LoadCase& c) { return c.name == r.loadCase; }) ||
                           std::any_of(part.combinations.begin(), part.combinations.end(),
                                       [&](const Combination& c) { return c.name == r.loadCase; });
        if (!there) n.at("load_case").refuse("a load case or combination of the part", "'" + r.loadCase + "'");
    }
    if (n.has("interface")) {
        r.interface = n.at("interface").text();
        if (!part.findInterface(r.interface))
            n.at("interface").refuse("an interface of the part", "'" + r.interface + "'");
    }
    if (n.has("direction")) {
        if (r.kind != Kind::displacement) n.at("direction").refuse("a direction only of a displacement", kind);
        r.direction = n.at("direction").direction();
    }
    return r;
}

std::string withRequirements(const Part& part, const std::vector<Requirement>& requirements) {
    auto document = nlohmann::ordered_json::parse(part.text);
    auto list = nlohmann::ordered_json::array();
    for (const Requirement& r : requirements) {
        nlohmann::ordered_json j{{"kind", key(r.kind)}};
        if (hasLimit(r.kind)) {
            const auto [dim, bare] = limitUnit(r.kind, part.units);
            j["limit"] = dim == dimension::none ? r.limit : std::round(r.limit / unitScale(bare) * 1e9) / 1e9;
        }
        if (!r.loadCase.empty()) j["load_case"] = r.loadCase;
        if (!r.interface.empty()) j["interface"] = r.interface;
        if (r.direction) j["direction"] = {(*r.direction)[0], (*r.direction)[1], (*r.direction)[2]};
        if (!r.source.empty()) j["source"] = r.source;
        list.push_back(j);
    }
    document["requirements"] = list;
    return document.dump(2) + "\n";
}

std::vector<RequirementTemplate> requirementTemplates() {
    const std::string source = "proposal of the template: replace by the specification's clause";
    auto make = [&](Kind kind, double limit) {
        Requirement r;
        r.kind = kind;
        r.limit = limit;
        r.source = source;
        return r;
    };
    const std::vector<Requirement> always = {make(Kind::equilibrium, 1e-6), make(Kind::validGeometry, 0),
                                             make(Kind::findingsDisposed, 0)};
    auto with = [&](std::vector<Requirement> own) {
        own.insert(own.end(), always.begin(), always.end());
        return own;
    };
    return {
        {"Machined, static load", with({make(Kind::safetyFactor, 1.5), make(Kind::minimumWall, 2)})},
        {"Casting, static load", with({make(Kind::safetyFactor, 2), make(Kind::minimumWall, 4), make(Kind::draft, 5)})},
        {"Printed, static load",
         with({make(Kind::safetyFactor, 1.8), make(Kind::minimumWall, 1), make(Kind::overhang, 10)})},
        {"Before a prototype", with({make(Kind::safetyFactor, 1.2)})},
        {"Final release", with({make(Kind::safetyFactor, 1.5), make(Kind::convergence, 3), make(Kind::deviation, 2)})}};
}

}  // namespace escultura::project
