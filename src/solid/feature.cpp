#include "solid/feature.hpp"

#include <algorithm>
#include <cmath>

#include "base/quantity.hpp"

namespace escultura::solid {

const char* name(Feature::Kind kind) {
    static const char* names[] = {"bore", "boss", "pad",      "flat",   "slot",    "pocket",
                                  "rib",  "body", "keep-out", "fillet", "chamfer", "kept layer"};
    return names[static_cast<int>(kind)];
}

const char* name(Feature::Head head) {
    static const char* names[] = {"none", "counterbore", "countersink"};
    return names[static_cast<int>(head)];
}

bool addsMaterial(const Feature& f) {
    // a turned boss has its material already: the ring around it goes
    return (f.kind == Feature::Kind::boss && f.outer <= f.diameter) || f.kind == Feature::Kind::pad ||
           f.kind == Feature::Kind::rib || f.kind == Feature::Kind::layer || (f.kind == Feature::Kind::body && f.adds);
}

std::string describe(const Feature& f) {
    auto mm = [](double v) { return formatNumber(v) + " mm"; };
    using K = Feature::Kind;
    switch (f.kind) {
        case K::bore: {
            std::string s = "diameter " + mm(f.diameter) + (f.through ? ", through" : ", " + mm(f.length) + " deep");
            if (f.head == Feature::Head::counterbore)
                s += ", counterbore " + formatNumber(f.headDiameter) + " x " + mm(f.headDepth);
            if (f.head == Feature::Head::countersink)
                s += ", countersink " + formatNumber(f.headDiameter) + " mm at " + formatNumber(f.headAngle) +
                     " degrees";
            return s;
        }
        case K::boss:
            return "diameter " + mm(f.diameter) + ", " + mm(f.length) + " high" + (addsMaterial(f) ? "" : ", turned");
        case K::pad:
            return formatNumber(f.longSide) + " x " + mm(f.shortSide) + ", " + mm(f.length) + " high";
        case K::flat:
            return f.diameter > 0 ? "milled over a circle of " + mm(f.diameter) : "whole side milled";
        case K::slot:
            return formatNumber(f.longSide) + " x " + mm(f.shortSide) + ", " +
                   (f.through ? "through" : mm(f.length) + " deep");
        case K::pocket:
            return formatNumber(f.longSide) + " x " + mm(f.shortSide) + ", " + mm(f.length) + " deep, corners " +
                   mm(f.corner);
        case K::rib:
            return formatNumber(f.longSide) + " x " + mm(f.shortSide) + ", " + mm(f.length) + " high, draft " +
                   formatNumber(f.draft) + " degrees";
        case K::body:
            return std::string(f.adds ? "added: " : "cut: ") + f.path.substr(f.path.find_last_of('/') + 1);
        case K::keepOut:
            return f.round
                       ? "cylinder " + formatNumber(f.diameter) + " x " + mm(f.length)
                       : "box " + formatNumber(f.longSide) + " x " + formatNumber(f.shortSide) + " x " + mm(f.length);
        case K::layer:
            return mm(f.length) + " behind the original's faces";
        case K::fillet:
        case K::chamfer:
            return mm(f.radius) + " at the edges of " + f.on1 + (f.on2.empty() ? "" : " with " + f.on2);
    }
    return {};
}

std::string problemOf(const Feature& f, const std::vector<Feature>& all) {
    using K = Feature::Kind;
    auto needs = [](const char* what, double v) {
        return std::string(what) + " must be above 0 mm, it is " + formatNumber(v) + " mm.";
    };
    if (f.name.empty()) return "A feature needs a name.";
    if (std::count_if(all.begin(), all.end(), [&](const Feature& g) { return g.name == f.name; }) > 1)
        return "Two features have the name '" + f.name + "'.";
    const bool edges = f.kind == K::fillet || f.kind == K::chamfer;
    if (edges) {
        if (!(f.radius > 0)) return needs("The radius", f.radius);
        for (const std::string& n : {f.on1, f.on2})
            if (!n.empty() && std::none_of(all.begin(), all.end(), [&](const Feature& g) {
                    return n == g.name || n.starts_with(g.name + ": ");
                }))
                return "There is no feature '" + n + "'.";
        if (f.on1.empty()) return "Say at which feature the edges are.";
        return {};
    }
    if (f.kind == K::layer && !(f.length > 0)) return needs("The depth", f.length);
    if (f.kind == K::body || f.kind == K::layer) return f.path.empty() ? "Choose the file of the body." : "";
    if (std::abs(f.axis.norm() - 1) > 1e-6) return "The axis must be a unit vector.";
    if (!f.through && f.kind != K::flat && !(f.length > 0)) return needs("The length along the axis", f.length);
    const bool isRound = f.kind == K::bore || f.kind == K::boss || (f.kind == K::keepOut && f.round);
    if (isRound && !(f.diameter > 0)) return needs("The diameter", f.diameter);
    if (f.kind == K::bore && f.head != Feature::Head::none && !(f.headDiameter > f.diameter))
        return "The head must be wider than the bore: " + formatNumber(f.headDiameter) + " mm against " +
               formatNumber(f.diameter) + " mm.";
    if (f.kind == K::bore && f.head == Feature::Head::counterbore && !(f.headDepth > 0))
        return needs("The head's depth", f.headDepth);
    if (f.kind == K::bore && f.head == Feature::Head::countersink && !(f.headAngle > 10 && f.headAngle < 170))
        return "The countersink's angle must lie between 10 and 170 degrees.";
    const bool sides = f.kind == K::pad || f.kind == K::slot || f.kind == K::pocket || f.kind == K::rib ||
                       (f.kind == K::keepOut && !f.round);
    if (sides) {
        if (!(f.longSide > 0)) return needs("The long side", f.longSide);
        if (!(f.shortSide > 0)) return needs("The short side", f.shortSide);
        if (std::abs(f.along.dot(f.axis)) > 1e-6) return "The long side must be at right angles to the axis.";
        if (f.kind == K::slot && !(f.longSide > f.shortSide)) return "A slot must be longer than wide.";
        if (f.kind == K::pocket && (f.corner < 0 || 2 * f.corner >= std::min(f.longSide, f.shortSide)))
            return "The corners' radius must be below half of the short side.";
        if (f.kind == K::rib && 2 * f.length * std::tan(f.draft * M_PI / 180) >= f.shortSide)
            return "The rib would end in an edge: lower its height or its draft.";
    }
    return {};
}

}  // namespace escultura::solid
