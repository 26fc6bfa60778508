/// @file grown_parts.hpp
/// Two parts made up for the tests, as an optimisation leaves them: grey fields of solids that are joined by struts and
/// fillets. A link of three inclined bosses with thin struts, and a lug with a fillet near its support.

#pragma once
#include <algorithm>
#include <array>
#include <string>

#include "made_up_part.hpp"

namespace escultura::made_up {

/// Signed distance to a cylinder with flat ends, negative inside, mm.
inline double toCylinder(const Vec3& p, const Vec3& middle, const Vec3& axis, double radius, double length) {
    const Vec3 d = p - middle, a = axis.normalized();
    const double along = d.dot(a), across = (d - along * a).norm();
    const double u = across - radius, v = std::abs(along) - length / 2;
    return std::min(std::max(u, v), 0.0) + std::hypot(std::max(u, 0.0), std::max(v, 0.0));
}
/// Signed distance to a round strut, mm.
inline double toStrut(const Vec3& p, const Vec3& a, const Vec3& b, double radius) {
    const Vec3 d = b - a;
    return (p - a - std::clamp((p - a).dot(d) / d.squaredNorm(), 0.0, 1.0) * d).norm() - radius;
}
/// Union with a rounded corner (R-function of a circle).
inline double joined(double a, double b, double radius) {
    const double u = std::max(radius - a, 0.0), v = std::max(radius - b, 0.0);
    return std::max(std::min(a, b), radius) - std::hypot(u, v);
}

/// Densities that fall from one to zero over two cells about a shape. @param toShape  signed distance, mm
inline field::DensityField grownField(const std::string& name, const std::array<int, 3>& cells, double cell,
                                      const std::function<double(const Vec3&)>& toShape) {
    field::DensityField f;
    f.cells = cells;
    f.spacing = Vec3::Constant(cell);
    f.source = name;
    for (int k = 0; k < cells[2]; ++k)
        for (int j = 0; j < cells[1]; ++j)
            for (int i = 0; i < cells[0]; ++i) {
                const Vec3 p = cell * Vec3(i + 0.5, j + 0.5, k + 0.5);
                f.density.push_back(static_cast<float>(std::clamp(0.5 - toShape(p) / (2 * cell), 0.0, 1.0)));
            }
    return f;
}

/// A made-up part with its field, named alike.
struct GrownPart {
    field::DensityField field;
    nlohmann::json part;
};
inline std::string writeGrown(const std::string& folder, const GrownPart& g) {
    writeNpy(folder + "/" + g.field.source + ".npy", g.field);
    const std::string path = folder + "/" + g.field.source + ".json";
    std::ofstream(path) << g.part.dump(1);
    return path;
}

inline nlohmann::json listed(const Vec3& v) {
    return {v[0], v[1], v[2]};
}

/// Three inclined bosses, struts of 6.4 mm between the first and the others and of 4.6 mm between these; cells of 2 mm.
inline GrownPart link() {
    struct Boss {
        const char* name;
        Vec3 middle, axis;
        double bore, ring, length;
    };
    const Boss bosses[] = {{"foot", Vec3(20, 20, 25), Vec3(0.2, 0, 1), 10, 24, 24},
                           {"head", Vec3(98, 18, 21), Vec3(0, 0.35, 1), 8, 20, 20},
                           {"arm", Vec3(58, 54, 28), Vec3(-0.3, 0.25, 1), 8, 20, 20}};
    GrownPart g;
    g.field = grownField("link", {60, 36, 25}, 2, [&](const Vec3& p) {
        double d = 1e9;
        for (const Boss& b : bosses) d = std::min(d, toCylinder(p, b.middle, b.axis, b.ring / 2, b.length));
        d = joined(d, toStrut(p, bosses[0].middle, bosses[1].middle, 3.2), 2);
        d = joined(d, toStrut(p, bosses[0].middle, bosses[2].middle, 3.2), 2);
        return joined(d, toStrut(p, bosses[1].middle, bosses[2].middle, 2.3), 2);
    });
    g.part = leverPart();
    g.part["name"] = "Link";
    g.part["field"] = {{"file", "link.npy"}, {"spacing", {2, 2, 2}}, {"threshold", 0.5}};
    g.part["interfaces"] = nlohmann::json::array();
    for (const Boss& b : bosses)
        g.part["interfaces"].push_back({{"name", b.name},
                                        {"kind", "boss"},
                                        {"origin", listed(b.middle - 0.5 * b.length * b.axis.normalized())},
                                        {"axis", listed(b.axis.normalized())},
                                        {"length", b.length},
                                        {"bore_diameter", b.bore},
                                        {"ring_diameter", b.ring},
                                        {"blend_radius", 2}});
    g.part["supports"] = nlohmann::json::parse(R"([{"kind": "fixed", "interfaces": ["foot"], "face": "bore"}])");
    g.part["load_cases"] = nlohmann::json::parse(R"([
        {"name": "pull", "loads": [{"kind": "force", "interfaces": ["head"], "face": "bore", "force": [900, 150, 60]}]},
        {"name": "side", "loads": [{"kind": "force", "interfaces": ["arm"], "face": "bore", "force": [-120, 500, 90]}]}])");
    g.part["requirements"] = nlohmann::json::parse(R"([{"kind": "safety_factor", "limit": 1.2, "source": "made up"}])");
    return g;
}

/// A plate held by two pads on its underside, and a lug on it with a fillet of 4 mm, 10 mm above what is held.
inline GrownPart lug() {
    GrownPart g;
    g.field = grownField("lug", {32, 17, 28}, 2, [](const Vec3& p) {
        auto box = [&](const Vec3& low, const Vec3& high) {
            const Vec3 d = (p - 0.5 * (low + high)).cwiseAbs() - 0.5 * (high - low);
            return d.cwiseMax(0.0).norm() + std::min(d.maxCoeff(), 0.0);
        };
        const double plate = box(Vec3(2, 2, 3), Vec3(62, 32, 11.5)), web = box(Vec3(25.5, 5, 3), Vec3(38.5, 29, 40));
        const double eye = toCylinder(p, Vec3(32, 17, 40), Vec3::UnitX(), 12.5, 13);
        return joined(plate, std::min(web, eye), 4);
    });
    g.part = leverPart();
    g.part["name"] = "Lug";
    g.part["field"] = {{"file", "lug.npy"}, {"spacing", {2, 2, 2}}, {"threshold", 0.5}};
    g.part["interfaces"] = nlohmann::json::parse(R"([
        {"name": "pin", "kind": "boss", "origin": [25, 17, 40], "axis": [1, 0, 0], "length": 14, "bore_diameter": 12, "ring_diameter": 28, "blend_radius": 2},
        {"name": "bolt 1", "kind": "boss", "origin": [11, 17, 2], "axis": [0, 0, 1], "length": 10, "bore_diameter": 6, "ring_diameter": 14, "blend_radius": 2},
        {"name": "bolt 2", "kind": "boss", "origin": [53, 17, 2], "axis": [0, 0, 1], "length": 10, "bore_diameter": 6, "ring_diameter": 14, "blend_radius": 2}])");
    g.part["supports"] =
        nlohmann::json::parse(R"([{"kind": "fixed", "interfaces": ["bolt 1", "bolt 2"], "face": "start"}])");
    g.part["load_cases"] = nlohmann::json::parse(R"([
        {"name": "bend", "loads": [{"kind": "force", "interfaces": ["pin"], "face": "bore", "force": [1500, 0, 800]}]},
        {"name": "lift", "loads": [{"kind": "force", "interfaces": ["pin"], "face": "bore", "force": [0, 0, 4000]}]}])");
    g.part["requirements"] = nlohmann::json::parse(R"([{"kind": "safety_factor", "limit": 1.2, "source": "made up"}])");
    return g;
}

}  // namespace escultura::made_up
