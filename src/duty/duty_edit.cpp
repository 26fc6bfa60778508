#include "duty/duty_edit.hpp"

#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "duty/load_kind.hpp"
#include "duty/support_kind.hpp"

namespace escultura::duty {
namespace {

using json = nlohmann::ordered_json;

/// A number without the noise of unit conversion.
double tidy(double v) {
    if (v == 0 || !std::isfinite(v)) return v;
    const double scale = std::pow(10, 11 - std::ceil(std::log10(std::abs(v))));
    return std::round(v * scale) / scale;
}

class Writer {
  public:
    explicit Writer(const Part& part) : part_(part) {}
    json in(double v, const std::string& unit) const { return tidy(v / (unit.empty() ? 1.0 : unitScale(unit))); }
    json in(const Vec3& v, const std::string& unit) const {
        return json::array({in(v[0], unit), in(v[1], unit), in(v[2], unit)});
    }
    json length(const Vec3& v) const { return in(v, part_.units.length); }
    std::string moment() const { return part_.units.force + "*" + part_.units.length; }

    json of(const Load& l) const {
        const LoadKind& kind = loadKind(l.kind);
        json j{{"kind", kind.key}};
        if (kind.onFaces) {
            j["interfaces"] = l.on.interfaces;
            j["face"] = l.on.face;
        }
        if (!l.frame.empty()) j["frame"] = l.frame;
        for (const auto& f : kind.figures) write(f, l, j);
        if (!l.sharedTotal && kind.canShare) j["share"] = "each";
        return j;
    }
    json of(const Support& s) const {
        const SupportKind& kind = supportKind(s.kind);
        json j{{"kind", kind.key}, {"interfaces", s.on.interfaces}, {"face", s.on.face}};
        if (!s.set.empty()) j["set"] = s.set;
        if (!s.frame.empty()) j["frame"] = s.frame;
        json held = json::array();
        for (std::size_t m = 0; m < kind.motions.size(); ++m)
            if (isHeld(s, m)) held.push_back(kind.motions[m]);
        if (!kind.motions.empty() && (kind.motionsWrittenIfAll || held.size() < kind.motions.size()))
            j[kind.motionsKey] = held;
        for (const auto& f : kind.figures) write(f, s, j);
        return j;
    }
    json of(const elastic::Material& m) const {
        json j{{"name", m.name}};
        if (m.orthotropic) {
            j["orthotropic"] = {{"youngs_moduli", in(m.orthotropic->youngs, part_.units.stress)},
                                {"poissons_ratios", in(m.orthotropic->poissons, "")},
                                {"shear_moduli", in(m.orthotropic->shear, part_.units.stress)}};
            // turns about x, y, z that make the frame
            const Mat3& f = m.orthotropic->frame;
            const double y = std::asin(std::clamp(-f(2, 0), -1.0, 1.0));
            const Vec3 angles(std::atan2(f(2, 1), f(2, 2)), y, std::atan2(f(1, 0), f(0, 0)));
            if (angles.norm() > 1e-12) j["orthotropic"]["angles"] = in(angles * 180 / M_PI, "");
        } else {
            j["youngs_modulus"] = in(m.youngsModulus, part_.units.stress);
            j["poissons_ratio"] = m.poissonsRatio;
        }
        j["density"] = in(m.density, part_.units.density);
        if (m.yieldStrength > 0) j["yield_strength"] = in(m.yieldStrength, part_.units.stress);
        if (m.ultimateStrength > 0) j["ultimate_strength"] = in(m.ultimateStrength, part_.units.stress);
        if (m.rule == elastic::FailureRule::brittle) j["rule"] = "brittle";
        j["yield_source"] = m.yieldSource;
        return j;
    }

  private:
    template <class Owner>
    void write(const Figure<Owner>& f, const Owner& o, json& j) const {
        if (const auto* yes = std::get_if<bool Owner::*>(&f.at)) {
            if (f.required || o.*(*yes)) j[f.key] = o.*(*yes);
            return;
        }
        if (const auto* some = std::get_if<std::optional<Vec3> Owner::*>(&f.at); some && !(o.*(*some))) return;
        const Vec3 v = valueOf(f, o);
        const bool isOptional = f.at.index() == 3;
        if (!f.required && !isOptional && !(v.norm() > 0)) return;
        const std::string unit = f.dimension == dimension::none ? std::string() : f.fileUnit(part_.units);
        j[f.key] = f.isVector() ? in(v, unit) : in(v[0], unit);
    }

    const Part& part_;
};

std::string text(const json& document) {
    return document.dump(2) + "\n";
}

void place(json& list, int index, json value) {
    if (list.is_null()) list = json::array();
    if (index < 0 || index >= static_cast<int>(list.size()))
        list.push_back(std::move(value));
    else
        list[index] = std::move(value);
}

json& loadsOf(json& document, const std::string& loadCase) {
    if (loadCase.empty()) return document["shared_loads"];
    for (auto& c : document["load_cases"])
        if (c["name"] == loadCase) return c["loads"];
    throw InputError("There is no load case '" + loadCase + "'.");
}

/// Index of an item by its name; -1: none.
int find(const json& list, const std::string& name) {
    for (std::size_t k = 0; k < list.size(); ++k)
        if (list[k]["name"] == name) return static_cast<int>(k);
    return -1;
}

}  // namespace

std::string withMaterial(const Part& part, const elastic::Material& m) {
    elastic::validate(m);
    json document = json::parse(part.text);
    json described = Writer(part).of(m);
    if (document["material"].contains("optimised_with"))
        described["optimised_with"] = document["material"]["optimised_with"];
    else if (document["material"].contains("name") && document["material"]["name"] != m.name)
        described["optimised_with"] = document["material"]["name"];
    document["material"] = described;
    return text(document);
}

std::string withOwnMaterial(const Part& part, const elastic::Material& m) {
    elastic::validate(m);
    json document = json::parse(part.text);
    auto& list = document["own_materials"];
    place(list, list.is_null() ? -1 : find(list, m.name), Writer(part).of(m));
    return text(document);
}

std::string withSupport(const Part& part, int index, const Support& support) {
    json document = json::parse(part.text);
    place(document["supports"], index, Writer(part).of(support));
    // load cases follow a set that gets another name with its last support
    const std::string before = index >= 0 ? part.supports.at(static_cast<std::size_t>(index)).set : std::string();
    bool kept = before == support.set || support.set.empty();
    for (int s = 0; s < static_cast<int>(part.supports.size()); ++s)
        kept = kept || (s != index && part.supports[static_cast<std::size_t>(s)].set == before);
    if (!before.empty() && !kept)
        for (auto& c : document["load_cases"])
            if (c.value("support_set", std::string()) == before) c["support_set"] = support.set;
    return text(document);
}

std::string withoutSupport(const Part& part, int index) {
    json document = json::parse(part.text);
    document["supports"].erase(index);
    return text(document);
}

std::string withLoad(const Part& part, const std::string& loadCase, int index, const Load& load) {
    json document = json::parse(part.text);
    json& list = loadsOf(document, loadCase);
    json described = Writer(part).of(load);
    if (loadCase.empty() && index >= 0 && list[index].contains("cases")) described["cases"] = list[index]["cases"];
    place(list, index, described);
    return text(document);
}

std::string withoutLoad(const Part& part, const std::string& loadCase, int index) {
    json document = json::parse(part.text);
    loadsOf(document, loadCase).erase(index);
    return text(document);
}

std::string withSharedCases(const Part& part, int index, const std::vector<std::string>& cases) {
    json document = json::parse(part.text);
    auto& load = document["shared_loads"].at(index);
    if (cases.empty())
        load.erase("cases");
    else
        load["cases"] = cases;
    return text(document);
}

namespace {

/// Weights of the optimisation follow a case or combination to its new name.
void renameWeight(json& document, const std::string& from, const std::string& to) {
    if (!document.contains("optimisation") || !document["optimisation"].contains("weights")) return;
    for (auto& w : document["optimisation"]["weights"])
        if (w["case"] == from) w["case"] = to;
}

}  // namespace

std::string withCase(const Part& part, const std::string& replaced, const LoadCase& c) {
    json document = json::parse(part.text);
    auto& list = document["load_cases"];
    const int at = replaced.empty() ? -1 : find(list, replaced);
    json described{{"name", c.name}};
    if (c.use != LoadCase::Use::check) described["use"] = name(c.use);
    if (c.factor != 1) described["factor"] = c.factor;
    if (c.onSupports) described["on_supports"] = true;
    if (!c.supportSet.empty()) described["support_set"] = c.supportSet;
    described["loads"] = json::array();
    if (at >= 0)
        described["loads"] = list[at]["loads"];
    else
        for (const Load& l : c.loads) described["loads"].push_back(Writer(part).of(l));
    place(list, at, described);
    if (at >= 0 && replaced != c.name) {
        if (document.contains("shared_loads"))
            for (auto& s : document["shared_loads"])
                if (s.contains("cases"))
                    for (auto& n : s["cases"])
                        if (n == replaced) n = c.name;
        for (const Combination& combination : part.combinations) {
            Combination renamed = combination;
            for (auto& [n, factor] : renamed.terms)
                if (n == replaced) n = c.name;
            auto& written = document["combinations"][find(document["combinations"], combination.name)];
            written["sum"] = combinationText(renamed);
        }
        renameWeight(document, replaced, c.name);
    }
    return text(document);
}

std::string withoutCase(const Part& part, const std::string& wanted) {
    for (const Combination& c : part.combinations)
        for (const auto& [n, factor] : c.terms)
            if (n == wanted)
                throw InputError(ErrorDetail{"The load case is in use.", part.path, "load case '" + wanted + "'",
                                             "a case that no combination uses", "combination '" + c.name + "'"});
    json document = json::parse(part.text);
    auto& list = document["load_cases"];
    const int at = find(list, wanted);
    if (at >= 0) list.erase(at);
    if (document.contains("shared_loads"))
        for (auto& s : document["shared_loads"])
            if (s.contains("cases")) {
                json kept = json::array();
                for (const auto& n : s["cases"])
                    if (n != wanted) kept.push_back(n);
                s["cases"] = kept;
            }
    return text(document);
}

std::string withCombination(const Part& part, const std::string& replaced, const Combination& c) {
    json document = json::parse(part.text);
    auto& list = document["combinations"];
    json described{{"name", c.name}, {"sum", combinationText(c)}};
    if (!c.on) described["on"] = false;
    place(list, replaced.empty() || list.is_null() ? -1 : find(list, replaced), described);
    if (!replaced.empty()) renameWeight(document, replaced, c.name);
    return text(document);
}

std::string withoutCombination(const Part& part, const std::string& wanted) {
    json document = json::parse(part.text);
    auto& list = document["combinations"];
    const int at = find(list, wanted);
    if (at >= 0) list.erase(at);
    return text(document);
}

std::string withFrame(const Part& part, const std::string& replaced, const Frame& f) {
    json document = json::parse(part.text);
    const Writer w(part);
    auto& list = document["frames"];
    // three points say the same as the axes, in the file's own lengths
    const double reach = 100;
    json described{{"name", f.name},
                   {"points", json::array({w.length(f.origin), w.length(f.origin + reach * f.axes.col(0)),
                                           w.length(f.origin + reach * f.axes.col(1))})}};
    place(list, replaced.empty() || list.is_null() ? -1 : find(list, replaced), described);
    return text(document);
}

}  // namespace escultura::duty
