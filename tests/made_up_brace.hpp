/// @file made_up_brace.hpp
/// A brace, made up for tests and benchmarks: two bosses joined by two chords, struts of 0.9 to 2 cells radius and a
/// web of 1.2 cells between them, none along the cells. 120 x 66 x 36 mm, cells of 1.5 mm.

#pragma once
#include <algorithm>
#include <cmath>

#include "made_up_part.hpp"

namespace escultura::made_up {

/// Distance to a bar between two places with round ends.
inline double barDistance(const Vec3& p, const Vec3& a, const Vec3& b, double radius) {
    const Vec3 d = b - a;
    const double t = std::clamp((p - a).dot(d) / d.squaredNorm(), 0.0, 1.0);
    return (p - a - t * d).norm() - radius;
}

inline constexpr double braceCell = 1.5;

/// Radii of the brace's struts, cells.
inline constexpr double braceStruts[] = {0.9, 1.0, 1.2, 1.6, 2.0};
/// x of the struts' feet on the lower chord, mm; they rise by 5 mm along x and 4 mm along z.
inline constexpr double braceFeet[] = {30, 38, 46, 54, 83};
/// Thickness of its web, cells.
inline constexpr double braceWeb = 1.2;

/// Signed distance to the brace, mm.
inline double braceDistance(const Vec3& p) {
    const double cell = braceCell;
    double d = 1e9;
    for (const double x : {15.0, 105.0}) {
        const double radial = std::hypot(p[0] - x, p[1] - 33);
        d = std::min(d, std::max(radial - 13, std::abs(p[2] - 18) - 17.9));
    }
    for (const double y : {16.0, 50.0}) {
        const Vec3 left(17, 33 + 0.5 * (y - 33), 17), right(103, 33 + 0.5 * (y - 33), 19);
        const Vec3 a(30, y, 17), b(92, y + 1, 19);
        for (const auto& [from, to] : {std::pair(left, a), std::pair(a, b), std::pair(b, right)})
            d = std::min(d, barDistance(p, from, to, 6));
    }
    for (int s = 0; s < 5; ++s) {
        const Vec3 foot(braceFeet[s], 16, 16);
        d = std::min(d, barDistance(p, foot, foot + Vec3(5, 34, 4), braceStruts[s] * cell));
    }
    const Vec3 normal = Vec3(0.2, 0.15, 1).normalized();  // the web, between x = 62 and 76
    const double web = std::max({std::abs((p - Vec3(69, 33, 18)).dot(normal)) - 0.5 * braceWeb * cell,
                                 std::abs(p[0] - 69) - 7, std::abs(p[1] - 33) - 17});
    return std::min(d, web);
}

/// @param grey  a band of one and a half cells; else 0 and 1
inline field::DensityField braceField(bool grey) {
    field::DensityField f;
    f.cells = {80, 44, 24};
    f.spacing = Vec3::Constant(braceCell);
    f.source = "brace";
    f.density.resize(80u * 44 * 24);
    for (std::size_t c = 0; c < f.count(); ++c) {
        const double d = braceDistance(f.centre(c)) / braceCell;
        f.density[c] = static_cast<float>(grey ? std::clamp(0.5 - d / 1.5, 0.0, 1.0) : d < 0);
    }
    return f;
}

/// Writes part and field into a folder. @return path of the part file
inline std::string writeBrace(const std::string& folder, bool grey) {
    nlohmann::json part = leverPart();
    part["name"] = "Brace";
    part["field"] = {{"file", "brace.npy"}, {"spacing", {braceCell, braceCell, braceCell}}, {"threshold", 0.5}};
    const double x[2] = {15, 105};
    for (int i = 0; i < 2; ++i) {
        auto& boss = part["interfaces"][static_cast<std::size_t>(i)];
        boss["origin"] = {x[i], 33, 0};
        boss["length"] = 36;
        boss["bore_diameter"] = 12;
        boss["ring_diameter"] = 24;
    }
    writeNpy(folder + "/brace.npy", braceField(grey));
    std::ofstream(folder + "/brace.json") << part.dump(1);
    return folder + "/brace.json";
}

}  // namespace escultura::made_up
