/// @file organic_shapes.hpp
/// Made-up organic bodies: blended bars between random points, with a few bores' worth of holes. The same for a seed.

#pragma once
#include <memory>
#include <random>

#include "cage/automatic.hpp"
#include "cage/patches.hpp"
#include "shape/machined_solid.hpp"
#include "solid/build.hpp"
#include "surface/extract.hpp"

namespace escultura::made_up {

/// Conical bar with round ends; exact for equal radii, close for the others.
struct ConicalBar {
    Vec3 a, b;
    double ra, rb;
    double distance(const Vec3& p) const {
        const Vec3 d = b - a;
        const double t = std::clamp((p - a).dot(d) / d.squaredNorm(), 0.0, 1.0);
        return (p - a - t * d).norm() - (ra + t * (rb - ra));
    }
};

struct OrganicShape {
    std::shared_ptr<escultura::shape::MachinedSolid> solid;
    double thinnest = 0;  ///< diameter of the thinnest bar, mm
};

/// Five to nine joints in a box of 200 x 140 x 110 mm, joined by bars of 16 to 30 mm, so that one piece with several
/// handles comes out.
inline OrganicShape organicShape(unsigned seed) {
    std::mt19937 random(seed);
    auto uniform = [&](double low, double high) { return low + (high - low) * (random() % 100000) / 100000.0; };
    const int count = 5 + static_cast<int>(random() % 5);
    std::vector<Vec3> joint;
    for (int tries = 0; static_cast<int>(joint.size()) < count && tries < 5000; ++tries) {
        const Vec3 p(uniform(0, 200), uniform(0, 140), uniform(0, 110));
        bool apart = true;
        for (const Vec3& q : joint) apart = apart && (p - q).norm() > 55;
        if (apart) joint.push_back(p);
    }
    std::vector<ConicalBar> bars;
    OrganicShape r;
    r.thinnest = 1e9;
    auto add = [&](std::size_t i, std::size_t j) {
        const double ra = uniform(8, 15), rb = uniform(8, 15);
        bars.push_back({joint[i], joint[j], ra, rb});
        r.thinnest = std::min({r.thinnest, 2 * ra, 2 * rb});
    };
    for (std::size_t i = 1; i < joint.size(); ++i) {  // to the nearest earlier one: connected
        std::size_t best = 0;
        for (std::size_t j = 1; j < i; ++j)
            if ((joint[i] - joint[j]).norm() < (joint[i] - joint[best]).norm()) best = j;
        add(i, best);
    }
    for (int extra = 0; extra < 4; ++extra) {
        const std::size_t i = random() % joint.size(), j = random() % joint.size();
        if (i != j) add(i, j);
    }
    auto value = [bars](const Vec3& p) {
        double v = 1e9;
        for (const ConicalBar& b : bars) v = escultura::shape::smoothMinimum(v, b.distance(p), 12);
        return v;
    };
    Box3 box;
    for (const Vec3& p : joint) box.include(p);
    box = box.grown(20);
    r.solid =
        std::make_shared<escultura::shape::MachinedSolid>(std::make_shared<escultura::shape::FunctionBody>(value), box);
    return r;
}

/// An organic shape wrapped, and made a solid with a bore of 6 mm through it.
struct OrganicSolid {
    OrganicShape shape;
    std::unique_ptr<escultura::cage::Target> target;
    escultura::cage::AutomaticCage cage;
    escultura::cage::PatchSet patches;
    escultura::solid::SolidResult solid;
};
inline OrganicSolid organicSolid(unsigned seed) {
    namespace cage = escultura::cage;
    namespace solid = escultura::solid;
    escultura::Progress progress;
    OrganicSolid r;
    r.shape = organicShape(seed);
    const auto& body = r.shape.solid;
    r.target =
        std::make_unique<cage::Target>(escultura::surface::extractSurface(*body, 3, false, progress), body, nullptr);
    cage::AutomaticOptions options;
    options.faceSize = 0.65 * r.shape.thinnest;
    r.cage = cage::automaticCage([&](const Vec3& p) { return body->surfaceValue(0, p); }, body->bounds(), *r.target,
                                 options, progress);
    r.patches = cage::makePatches(r.cage.cage);
    solid::Feature bore;
    bore.name = "bore";
    bore.diameter = 6;
    bore.through = true;
    bore.before = 300;
    bore.axis = Vec3(0.36, 0.48, 0.8);
    bore.origin = r.target->mesh().position[r.target->mesh().position.size() / 3];
    solid::SolidOptions coarse;
    coarse.deflection = 0.5;
    r.solid = solid::buildSolid(r.cage.cage, r.patches, {bore}, coarse, progress);
    return r;
}

}  // namespace escultura::made_up
