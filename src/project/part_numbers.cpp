#include "project/part_numbers.hpp"

#include <nlohmann/json.hpp>

#include "base/error.hpp"
#include "base/quantity.hpp"

namespace escultura::project {

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
        const std::string place = "/interfaces/" + std::to_string(n) + "/", label = i.name + ": ";
        const bool hollow = i.kind == Interface::Kind::bore || i.kind == Interface::Kind::boss;
        if (hollow) add(place + "bore_diameter", label + "bore diameter", mm, i.boreDiameter / length);
        if (i.kind == Interface::Kind::boss || i.kind == Interface::Kind::pad)
            add(place + "ring_diameter", label + "ring diameter", mm, i.ringDiameter / length);
        if (i.kind == Interface::Kind::pin)
            add(place + "pin_diameter", label + "pin diameter", mm, i.ringDiameter / length);
        add(place + "length", label + (i.kind == Interface::Kind::pad ? "thickness" : "length"), mm, i.length / length);
        if (i.kind != Interface::Kind::bore)
            add(place + "blend_radius", label + "blend radius", mm, i.blendRadius / length);
    }
    for (std::size_t n = 0; n < part.loadCases.size(); ++n)
        add("/load_cases/" + std::to_string(n) + "/factor", part.loadCases[n].name + ": load factor", "",
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
                                         n.place, "a number of an interface, a load case or the material",
                                         "nothing there"});
        document[nlohmann::ordered_json::json_pointer(n.place)] = n.value;
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

}  // namespace escultura::project
