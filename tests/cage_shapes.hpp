/// @file cage_shapes.hpp
/// Made-up bodies of four kinds for cages: a plate with ribs and holes, a truss, a ribbed shell, a bulky block; each
/// tilted against the axes. Lengths in mm.

#pragma once
#include <string>

#include "cage/fewest.hpp"
#include "organic_shapes.hpp"

namespace escultura::made_up {

struct CageShape {
    std::string name;
    std::function<double(const Vec3&)> value;
    Box3 box;
    double cell = 2;  ///< of a field that could have told it; the tolerance is half of it
};

inline double boxDistance(const Vec3& p, const Vec3& half, double round) {
    const Vec3 q = p.cwiseAbs() - half + Vec3::Constant(round);
    return q.cwiseMax(0).norm() + std::min(q.maxCoeff(), 0.0) - round;
}

inline std::vector<CageShape> cageShapes() {
    const Mat3 turn = Eigen::AngleAxisd(0.4, Vec3(3, 1, 2).normalized()).toRotationMatrix();
    auto plate = [turn](const Vec3& at) {
        const Vec3 p = turn * at;
        double v = boxDistance(p, Vec3(90, 60, 7), 5);
        v = shape::smoothMinimum(v, boxDistance(p - Vec3(0, 0, 12), Vec3(80, 6, 14), 5), 8);
        for (double x : {-50.0, 50.0}) v = -shape::smoothMinimum(-v, std::hypot(p.x() - x, p.y() - 32) - 14, 4);
        return v;
    };
    auto truss = [turn](const Vec3& at) {
        const Vec3 p = turn * at;
        double v = 1e9;
        const Vec3 low[3] = {{-80, -20, 0}, {0, 25, 0}, {80, -20, 0}}, high[2] = {{-40, 0, 60}, {40, 0, 60}};
        auto bar = [&](const Vec3& a, const Vec3& b, double r) {
            v = shape::smoothMinimum(v, ConicalBar{a, b, r, r}.distance(p), 8);
        };
        bar(low[0], low[1], 7);
        bar(low[1], low[2], 7);
        for (int i = 0; i < 2; ++i) {
            bar(low[i], high[i], 6);
            bar(low[i + 1], high[i], 6);
        }
        bar(high[0], high[1], 8);
        return v;
    };
    auto shell = [turn](const Vec3& at) {
        const Vec3 p = turn * at;
        const double ball = std::abs((p + Vec3(0, 0, 60)).norm() - 100) - 4, cap = std::hypot(p.x(), p.y()) - 75;
        double v = -shape::smoothMinimum(-ball, -cap, 6);
        v = -shape::smoothMinimum(-v, p.z() + 60, 2);
        for (double a : {0.3, 0.3 + M_PI / 2}) {
            const Vec3 q(std::cos(a) * p.x() + std::sin(a) * p.y(), -std::sin(a) * p.x() + std::cos(a) * p.y(), p.z());
            v = shape::smoothMinimum(v, boxDistance(q - Vec3(0, 0, 28), Vec3(55, 5, 14), 4), 6);
        }
        return v;
    };
    auto bulky = [turn](const Vec3& at) {
        const Vec3 p = turn * at;
        double v = boxDistance(p, Vec3(45, 40, 35), 14);
        v = shape::smoothMinimum(v, ConicalBar{Vec3(30, 0, 0), Vec3(85, 0, 20), 22, 15}.distance(p), 15);
        return -shape::smoothMinimum(-v, std::hypot(p.y() + 4, p.z() - 2) - 12, 5);
    };
    return {{"plate with ribs", plate, Box3{Vec3::Constant(-115), Vec3::Constant(115)}, 2.5},
            {"truss", truss, Box3{Vec3::Constant(-110), Vec3::Constant(110)}, 2.5},
            {"ribbed shell", shell, Box3{Vec3::Constant(-95), Vec3::Constant(95)}, 2},
            {"bulky", bulky, Box3{Vec3::Constant(-105), Vec3::Constant(105)}, 4}};
}

/// Its cage with the fewest faces: half a cell at most, a tenth RMS.
inline cage::FewestCage fewestOf(const CageShape& s, Progress& progress) {
    auto solid = std::make_shared<shape::MachinedSolid>(std::make_shared<shape::FunctionBody>(s.value), s.box);
    const auto target = std::make_shared<const cage::Target>(
        surface::extractSurface(*solid, 0.8 * s.cell, false, progress), solid, nullptr);
    cage::FewestOptions o;
    o.largest = 0.5 * s.cell;
    o.rms = 0.1 * s.cell;
    o.firstSize = std::sqrt(target->measures().area / 40);
    o.leastSize = s.cell;
    return cage::fewestFaces([&](double) { return cage::WrapBody{s.value, s.box, target, {}}; }, o, progress);
}

}  // namespace escultura::made_up
