/// @file made_up_part.hpp
/// A small lever, made up for the tests: two rings joined by a bar, 80 x 30 x 15 mm, cells of 2.5 mm.

#pragma once
#include <QTemporaryDir>
#include <cmath>
#include <cstdint>
#include <fstream>
#include <functional>
#include <nlohmann/json.hpp>
#include <string>

#include "base/error.hpp"
#include "field/density_field.hpp"

namespace escultura::made_up {

inline constexpr double ringX[2] = {15, 65};

/// Full inside the rings and the bar; the bar's density falls to 0.6 in the middle, so that thresholds above cut it.
inline field::DensityField leverField() {
    field::DensityField f;
    f.cells = {32, 12, 6};
    f.spacing = Vec3::Constant(2.5);
    f.source = "lever";
    for (int k = 0; k < 6; ++k)
        for (int j = 0; j < 12; ++j)
            for (int i = 0; i < 32; ++i) {
                const Vec3 p((i + 0.5) * 2.5, (j + 0.5) * 2.5, (k + 0.5) * 2.5);
                double d = 0.02;
                if (std::abs(p[1] - 15) < 7 && p[0] > 15 && p[0] < 65) d = 0.6 + 0.4 * std::abs(p[0] - 40) / 25;
                for (double x : ringX) {
                    const double r = std::hypot(p[0] - x, p[1] - 15);
                    if (r < 11) d = 1;
                    if (r < 4) d = 0;
                }
                f.density.push_back(static_cast<float>(d));
            }
    return f;
}

inline void writeNpy(const std::string& path, const field::DensityField& f) {
    std::string header = "{'descr': '<f4', 'fortran_order': False, 'shape': (" + std::to_string(f.cells[2]) + ", " +
                         std::to_string(f.cells[1]) + ", " + std::to_string(f.cells[0]) + "), }";
    while ((header.size() + 11) % 64) header += ' ';
    header += '\n';
    std::ofstream out(path, std::ios::binary);
    out.write("\x93NUMPY\x01\x00", 8);
    const auto length = static_cast<std::uint16_t>(header.size());
    out.write(reinterpret_cast<const char*>(&length), 2);
    out << header;
    out.write(reinterpret_cast<const char*>(f.density.data()), static_cast<std::streamsize>(f.density.size() * 4));
}

inline nlohmann::json leverPart() {
    return nlohmann::json::parse(R"({
      "format": "escultura-part", "version": 1, "name": "Lever",
      "material": { "name": "made-up steel", "youngs_modulus": "210 GPa", "poissons_ratio": 0.3, "density": 7850, "yield_strength": 250, "yield_source": "made up" },
      "field": { "file": "lever.npy", "spacing": [2.5, 2.5, 2.5], "threshold": 0.5 },
      "interfaces": [
        { "name": "pivot", "kind": "boss", "origin": [15, 15, 0], "axis": [0, 0, 1], "length": 15, "bore_diameter": 8, "ring_diameter": 22, "blend_radius": 2 },
        { "name": "eye", "kind": "boss", "origin": [65, 15, 0], "axis": [0, 0, 1], "length": 15, "bore_diameter": 8, "ring_diameter": 22, "blend_radius": 2 }
      ],
      "supports": [ { "kind": "fixed", "interfaces": ["pivot"], "face": "bore" } ],
      "load_cases": [
        { "name": "down", "loads": [ { "kind": "bearing", "interfaces": ["eye"], "face": "bore", "magnitude": "0.5 kN", "direction": [0, -1, 0] } ] },
        { "name": "pull", "loads": [ { "kind": "force", "interfaces": ["eye"], "face": "bore", "force": [2000, 0, 0] } ] }
      ],
      "requirements": [
        { "kind": "safety_factor", "limit": 1.5, "source": "test" },
        { "kind": "displacement", "limit": "0.5 mm", "source": "test" },
        { "kind": "mass", "limit": 0.2, "source": "test" }
      ]
    })");
}

/// Message of the input error that an action ends with; "no error" when there is none.
inline std::string messageOf(const std::function<void()>& action) {
    try {
        action();
    } catch (const InputError& e) {
        return e.what();
    }
    return "no error";
}

/// Writes part and field into a folder. @return path of the part file
inline std::string writeLever(const std::string& folder, const nlohmann::json& part = leverPart(),
                              const field::DensityField& f = leverField()) {
    writeNpy(folder + "/lever.npy", f);
    std::ofstream(folder + "/lever.json") << part.dump(1);
    return folder + "/lever.json";
}

}  // namespace escultura::made_up
