// A bracket as a STEP file: a flange with four holes, a rib, a slanted lug with a slotted hole, a seat of free form.
#pragma once
#include <functional>
#include <string>

#include "base/geometry.hpp"

namespace escultura::made_up {

struct StepBracket {
    Mat3 turn = Mat3::Identity();
    Vec3 shift = Vec3::Zero();
    Vec3 out(const Vec3& own) const { return turn * own + shift; }
    Vec3 into(const Vec3& global) const { return turn.transpose() * (global - shift); }

    // places on its faces in its own coordinates, mm
    static constexpr double flangeX = 70, flangeY = 50, flangeZ = 8, bolt = 7;
    static constexpr double lugThickness = 10, slotDiameter = 10, slotLength = 8, lean = 0.26;  // radians
    Vec3 bottom() const { return out({35, 25, 0}); }
    Vec3 boltWall(int k) const { return out(Vec3(k % 2 ? 62 : 8, k / 2 ? 42 : 8, 4) + Vec3(0.5 * bolt, 0, 0)); }
    /// A place in the lug's own frame: x across it, y through its thickness from its middle, z up from its foot.
    Vec3 inLug(const Vec3& p) const {
        return out(Vec3(43, 38, 6) + Eigen::AngleAxisd(lean, Vec3::UnitX()).matrix() * p);
    }
    /// Walls and ends of the slot, in turn.
    Vec3 slotWall(int k) const {
        const double r = 0.5 * slotDiameter, h = 0.5 * slotLength;
        const Vec3 at[] = {{r, 1, 34}, {0, 1, 34 + h + r}, {-r, 1, 34}, {0, 1, 34 - h - r}};
        return inLug(at[k]);
    }
    static double seatHeight(double x, double y);
    Vec3 seat() const { return out({13, 25, seatHeight(13, 25)}); }

    /// @param unit  of the file: "MM" or "INCH"
    void write(const std::string& path, const char* unit = "MM") const;
};

/// A block of 40 x 30 x 12 mm with a boss of 14 mm diameter on its top at (10, 10), a hole of 6 mm at (26, 12) with a
/// countersink of 12 mm and 90 degrees, and half a round groove of 6 mm radius down its side x = 40 at y = 15.
void writeClamp(const std::string& path, const Mat3& turn, const Vec3& shift);

/// A star of 5 mm thickness with points of 100 mm radius and hollows of 95 mm.
void writeStar(const std::string& path, int points);

}  // namespace escultura::made_up
