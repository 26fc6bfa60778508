#include "duty/recipe.hpp"

#include <algorithm>
#include <cmath>

#include "base/digest.hpp"
#include "base/error.hpp"
#include "base/quantity.hpp"

namespace escultura::duty {

const char* name(Level level) {
    static const char* names[] = {"look", "standard", "converged"};
    return names[static_cast<int>(level)];
}

const char* name(LocalSize::Kind kind) {
    static const char* names[] = {"box", "sphere", "interface"};
    return names[static_cast<int>(kind)];
}

const char* name(MemberFate fate) {
    static const char* names[] = {"undecided", "keep", "bring up", "leave out"};
    return names[static_cast<int>(fate)];
}

double weightAt(const Thickening& t, const Vec3& p) {
    double outside = 0;
    if (t.box) {
        const Vec3 d = (t.low - p).cwiseMax(p - t.high).cwiseMax(Vec3::Zero());
        outside = d.norm();
    } else if (!t.painted.empty()) {
        double nearest = std::numeric_limits<double>::infinity();
        for (const Vec3& c : t.painted) nearest = std::min(nearest, (p - c).squaredNorm());
        outside = std::max(0.0, std::sqrt(nearest) - t.radius);
    } else {
        outside = std::max(0.0, (p - t.centre).norm() - t.radius);
    }
    if (outside <= 0) return 1;
    if (outside >= t.edge) return 0;
    const double x = 1 - outside / t.edge;
    return x * x * (3 - 2 * x);
}

void requireSound(const Thickening& t, const std::string& name) {
    auto refuse = [&](const std::string& expected, const std::string& found) {
        throw InputError(
            ErrorDetail{"A thickening has numbers that cannot be used.", {}, "'" + name + "'", expected, found});
    };
    if (t.edge < 0) refuse("an edge of 0 mm or more", formatNumber(t.edge) + " mm");
    if (!t.box && !(t.radius > 0)) refuse("a radius above 0 mm", formatNumber(t.radius) + " mm");
    if (t.box && !(t.low.array() <= t.high.array()).all())
        refuse("a box whose first corner is the lower one in x, y and z", "its corners the other way round");
    if (!std::isfinite(t.amount)) refuse("an amount in mm", "no number");
}

const char* name(CageStep::Kind kind) {
    static const char* names[] = {"member", "thickening", "by hand"};
    return names[static_cast<int>(kind)];
}

CageStep byHandStep(cage::Cage cage, double faceSize) {
    CageStep s;
    s.kind = CageStep::Kind::byHand;
    s.name = "Cage edited by hand";
    Digest d;
    d.add(std::span<const Vec3>(cage.position)).add(std::span<const cage::Quad>(cage.face));
    for (const auto& c : cage.crease)
        d.add(static_cast<std::int64_t>(c.a)).add(static_cast<std::int64_t>(c.b)).add(c.sharpness);
    s.digest = d.hex();
    s.faceSize = faceSize;
    s.cage = std::make_shared<const cage::Cage>(std::move(cage));
    return s;
}

}  // namespace escultura::duty
