#include "duty/part_numbers.hpp"

#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/error.hpp"
#include "base/quantity.hpp"

namespace escultura::duty {
namespace {

const std::string mark = "by count:";

std::string escaped(const std::string& name) {
    std::string text;
    for (const char c : name) text += c == '~' ? "~0" : c == '/' ? "~1" : std::string(1, c);
    return text;
}

std::string unescaped(const std::string& text) {
    std::string name;
    for (std::size_t i = 0; i < text.size(); ++i) {
        const bool code = text[i] == '~' && i + 1 < text.size();
        if (code) ++i;
        name += !code ? text[i] : text[i] == '1' ? '/' : '~';
    }
    return name;
}

/// "/list/item/number" of an interface or a load case.
struct ListPlace {
    std::string list, item, number;
};
std::optional<ListPlace> splitPlace(const std::string& place) {
    const auto second = place.find('/', 1), third = second == std::string::npos ? second : place.find('/', second + 1);
    if (place.empty() || place[0] != '/' || third == std::string::npos) return {};
    ListPlace p{place.substr(1, second - 1), unescaped(place.substr(second + 1, third - second - 1)),
                place.substr(third + 1)};
    if (p.list != "interfaces" && p.list != "load_cases") return {};
    return p;
}

std::vector<std::string> namesIn(const Part& part, const std::string& list) {
    std::vector<std::string> names;
    if (list == "interfaces")
        for (const Interface& i : part.interfaces) names.push_back(i.name);
    else
        for (const LoadCase& c : part.loadCases) names.push_back(c.name);
    return names;
}

std::string placeOf(const std::string& list, const std::string& item, const std::string& number) {
    return "/" + list + "/" + escaped(item) + "/" + number;
}

/// Where the part file has it: by count.
std::string pointerOf(const Part& part, const std::string& place) {
    const auto p = splitPlace(place);
    if (!p) return place;
    const auto names = namesIn(part, p->list);
    const auto at = std::find(names.begin(), names.end(), p->item);
    return "/" + p->list + "/" + std::to_string(at - names.begin()) + "/" + p->number;
}

bool isKnown(const Part& part, const std::string& place) {
    const auto known = partNumbers(part);
    return std::any_of(known.begin(), known.end(), [&](const PartNumberInfo& k) { return k.place == place; });
}

}  // namespace

std::optional<std::string> namedPlace(const Part& part, const std::string& place) {
    if (isKnown(part, place)) return place;
    const auto p = splitPlace(place);
    if (!p || p->item.empty() || p->item.size() > 6 || p->item.find_first_not_of("0123456789") != std::string::npos)
        return {};
    const auto names = namesIn(part, p->list);
    const std::size_t n = std::stoul(p->item);
    if (n >= names.size()) return {};
    const std::string named = placeOf(p->list, names[n], p->number);
    return isKnown(part, named) ? std::optional(named) : std::nullopt;
}

std::string byCount(const std::string& place) {
    return mark + place;
}

std::string namedOrMarked(const Part& part, const std::string& place) {
    if (!place.starts_with(mark)) return place;
    const std::string counted = place.substr(mark.size());
    const auto p = splitPlace(counted);
    if (!p) return counted;  // the material's have no count
    const auto names = namesIn(part, p->list);
    const bool count =
        !p->item.empty() && p->item.size() <= 6 && p->item.find_first_not_of("0123456789") == std::string::npos;
    if (!count || std::stoul(p->item) >= names.size()) return place;
    return placeOf(p->list, names[std::stoul(p->item)], p->number);
}

void nameNumbers(const Part& part, std::vector<PartNumber>& numbers) {
    for (PartNumber& n : numbers) n.place = namedOrMarked(part, n.place);
}

std::vector<std::string> followNames(const Part& before, const Part& after, std::vector<PartNumber>& numbers) {
    std::vector<std::string> dropped;
    std::vector<PartNumber> kept;
    for (PartNumber n : numbers) {
        const auto p = splitPlace(n.place);
        if (p) {
            const auto old = namesIn(before, p->list), now = namesIn(after, p->list);
            const auto at = std::find(old.begin(), old.end(), p->item);
            const bool gone = std::find(now.begin(), now.end(), p->item) == now.end();
            if (gone && at != old.end()) {
                const std::size_t k = static_cast<std::size_t>(at - old.begin());
                // one at the same place of a list as long, with a name that was not there, is the same by another name
                const bool renamed = now.size() == old.size() && std::find(old.begin(), old.end(), now[k]) == old.end();
                if (!renamed) {
                    dropped.push_back(p->item + ": " + p->number);
                    continue;
                }
                n.place = placeOf(p->list, now[k], p->number);
            }
        }
        kept.push_back(std::move(n));
    }
    numbers = std::move(kept);
    return dropped;
}

std::vector<PartNumberInfo> partNumbers(const Part& part) {
    std::vector<PartNumberInfo> all;
    const double length = unitScale(part.units.length), stress = unitScale(part.units.stress),
                 density = unitScale(part.units.density);
    const std::string mm = part.units.length, mpa = part.units.stress;
    const auto document = nlohmann::json::parse(part.text);
    auto add = [&](const std::string& place, const std::string& label, const std::string& unit, double value) {
        all.push_back({place, label, unit, value});
    };
    const elastic::Material& m = part.material;
    auto constant = [&](const char* key, const char* label, const std::string& unit, double value) {
        if (document["material"].contains(key)) add(std::string("/material/") + key, label, unit, value);
    };
    constant("youngs_modulus", "material: Young's modulus", mpa, m.youngsModulus / stress);
    constant("poissons_ratio", "material: Poisson's ratio", "", m.poissonsRatio);
    constant("density", "material: density", part.units.density, m.density / density);
    constant("yield_strength", "material: yield strength", mpa, m.yieldStrength / stress);
    constant("ultimate_strength", "material: ultimate strength", mpa, m.ultimateStrength / stress);
    for (std::size_t n = 0; n < part.interfaces.size(); ++n) {
        const Interface& i = part.interfaces[n];
        const std::string place = placeOf("interfaces", i.name, ""), label = i.name + ": ";
        const bool hollow = i.kind == Interface::Kind::bore || i.kind == Interface::Kind::boss;
        if (hollow) add(place + "bore_diameter", label + "bore diameter", mm, i.boreDiameter / length);
        if (i.kind == Interface::Kind::boss || (i.kind == Interface::Kind::pad && i.outline.empty()))
            add(place + "ring_diameter", label + "ring diameter", mm, i.ringDiameter / length);
        if (i.kind == Interface::Kind::pin)
            add(place + "pin_diameter", label + "pin diameter", mm, i.ringDiameter / length);
        if (i.isOfLines()) {
            add(place + "radius", label + "radius", mm, i.length / length);
            continue;
        }
        add(place + "length",
            label + (i.kind == Interface::Kind::pad     ? "thickness"
                     : i.kind == Interface::Kind::faces ? "depth"
                                                        : "length"),
            mm, i.length / length);
        if (i.kind != Interface::Kind::bore)
            add(place + "blend_radius", label + "blend radius", mm, i.blendRadius / length);
    }
    for (std::size_t n = 0; n < part.loadCases.size(); ++n)
        add(placeOf("load_cases", part.loadCases[n].name, "factor"), part.loadCases[n].name + ": load factor", "",
            part.loadCases[n].factor);
    return all;
}

Part withNumbers(const Part& part, const std::vector<PartNumber>& numbers) {
    if (numbers.empty()) return part;
    auto document = nlohmann::ordered_json::parse(part.text);
    const auto known = partNumbers(part);
    for (const PartNumber& n : numbers) {
        const bool there =
            std::any_of(known.begin(), known.end(), [&](const PartNumberInfo& k) { return k.place == n.place; });
        if (!there)
            throw InputError(ErrorDetail{"The variant changes a number that the part does not have.", part.path,
                                         n.place.starts_with(mark) ? n.place.substr(mark.size()) : n.place,
                                         "a number of an interface, a load case or the material", "nothing there"});
        document[nlohmann::ordered_json::json_pointer(pointerOf(part, n.place))] = n.value;
    }
    return parsePart(document.dump(2), part.path);
}

void setNumber(std::vector<PartNumber>& numbers, const std::string& place, double value) {
    for (PartNumber& n : numbers)
        if (n.place == place) {
            n.value = value;
            return;
        }
    numbers.push_back({place, value});
}

}  // namespace escultura::duty
