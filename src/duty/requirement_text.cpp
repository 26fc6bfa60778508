#include "duty/requirement_text.hpp"

#include "base/text.hpp"
#include "duty/duty_edit.hpp"
#include "duty/part_node.hpp"

namespace escultura::duty {
namespace {

using Kind = Requirement::Kind;

}  // namespace

std::string subject(const Requirement& r) {
    std::string t = name(r);
    if (r.direction)
        t += " along (" + plainNumber((*r.direction)[0], 3) + ", " + plainNumber((*r.direction)[1], 3) + ", " +
             plainNumber((*r.direction)[2], 3) + ")";
    if (!r.interface.empty()) t += " at " + r.interface;
    if (!r.loadCase.empty()) t += " in " + r.loadCase;
    return t;
}

std::string words(const Requirement& r) {
    const RequirementKind& kind = requirementKind(r);
    if (!kind.hasLimit) return subject(r);
    const std::string u = kind.unit;
    return subject(r) + (kind.isMinimum ? " ≥ " : " ≤ ") + plainNumber(r.limit) + (u.empty() ? "" : " " + u);
}

Requirement readRequirement(const Node& n, const Units& u, const Part& part) {
    n.onlyKeys({"kind", "limit", "source", "load_case", "interface", "direction"});
    Requirement r;
    std::vector<std::string> keys;
    for (const RequirementKind& k : requirementKinds()) keys.push_back(k.key);
    const std::string found = n.at("kind").oneOf(keys);
    const RequirementKind& kind =
        requirementKinds()[static_cast<std::size_t>(std::find(keys.begin(), keys.end(), found) - keys.begin())];
    r.kind = kind.kind;
    if (r.kind == Kind::figure) r.figure = kind.key;
    if (kind.hasLimit) r.limit = n.at("limit").positive(kind.dimension, kind.fileUnit(u)) / kind.unitOfLimit();
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
        if (!kind.hasDirection) n.at("direction").refuse("a direction only of a displacement", kind.key);
        r.direction = n.at("direction").direction();
    }
    return r;
}

std::string withRequirements(const Part& part, const std::vector<Requirement>& requirements) {
    auto document = nlohmann::ordered_json::parse(part.text);
    auto list = nlohmann::ordered_json::array();
    for (const Requirement& r : requirements) {
        const RequirementKind& kind = requirementKind(r);
        nlohmann::ordered_json j{{"kind", kind.key}};
        if (kind.hasLimit)
            j["limit"] =
                kind.dimension == dimension::none
                    ? r.limit
                    : std::round(r.limit * kind.unitOfLimit() / unitScale(kind.fileUnit(part.units)) * 1e9) / 1e9;
        if (!r.loadCase.empty()) j["load_case"] = r.loadCase;
        if (!r.interface.empty()) j["interface"] = r.interface;
        if (r.direction) j["direction"] = {(*r.direction)[0], (*r.direction)[1], (*r.direction)[2]};
        if (!r.source.empty()) j["source"] = r.source;
        list.push_back(j);
    }
    document["requirements"] = list;
    return document.dump(2) + "\n";
}

const std::vector<FactorByUse>& factorsByUse() {
    static const char* const juvinall = "Juvinall, Fundamentals of Machine Component Design";
    static const char* const fkm = "FKM Guideline, static strength";
    static const std::vector<FactorByUse> list = {
        {"machine part, loads and material well known", 1.5, 2, false, juvinall},
        {"machine part, average knowledge of them", 2, 2.5, false, juvinall},
        {"machine part, loads or material uncertain", 3, 4, false, juvinall},
        {"wrought steel, failure of moderate consequence", 1.2, 1.35, false, fkm},
        {"wrought steel, failure of severe consequence", 1.35, 1.5, false, fkm},
        {"casting, severe consequence, tested for flaws", 1.7, 1.9, false, fkm},
        {"casting, severe consequence, not tested for flaws", 1.9, 2.1, false, fkm},
        {"lifting device below the hook, loads predictable", 2, 2, false, "ASME BTH-1, design category A"},
        {"lifting device below the hook, loads uncertain", 3, 3, false, "ASME BTH-1, design category B"},
        {"metal part of a sling or lifting accessory", 4, 4, true, "Directive 2006/42/EC, annex I, 4.1.2.5"},
        {"aeroplane structure, limit loads", 1.5, 1.5, true, "CS 25.303"},
        {"spacecraft structure, verified by analysis only", 1.25, 2, true, "ECSS-E-ST-32-10 (1.25 yield, 2 ultimate)"}};
    return list;
}

std::string FactorByUse::range() const {
    return (low < high ? plainNumber(low) + " to " + plainNumber(high) : plainNumber(high)) +
           (ofBreaking ? " against breaking" : " against yield");
}

Requirement FactorByUse::proposal() const {
    Requirement r;
    r.kind = Kind::safetyFactor;
    r.limit = high;
    r.source = "proposal for " + std::string(use) + ": " + range() + ", " + source +
               (ofBreaking ? "; held against yield it asks for more" : "") + ". Replace by the specification's clause";
    return r;
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

}  // namespace escultura::duty
