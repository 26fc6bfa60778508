#include <algorithm>

#include "duty/support_kind.hpp"
#include "duty/supports/common.hpp"

namespace escultura::duty {

// one in each file of supports/
SupportKind fixedSupport();
SupportKind slidingSupport();
SupportKind cylindricalSupport();
SupportKind bedSupport();
SupportKind remoteSupport();
SupportKind rigidSupport();

const std::vector<SupportKind>& supportKinds() {
    static const std::vector<SupportKind> all = {fixedSupport(), slidingSupport(), cylindricalSupport(),
                                                 bedSupport(),   remoteSupport(),  rigidSupport()};
    return all;
}

const SupportKind& supportKind(Support::Kind kind) {
    return supportKinds().at(static_cast<std::size_t>(kind));
}

bool isHeld(const Support& s, std::size_t motion) {
    return supportKind(s.kind).motions.size() == 3 ? s.held.at(motion) : s.motions.at(motion);
}

void setHeld(Support& s, std::size_t motion, bool held) {
    (supportKind(s.kind).motions.size() == 3 ? s.held.at(motion) : s.motions.at(motion)) = held;
}

const char* name(Support::Kind kind) {
    return supportKind(kind).key;
}

std::string words(Support::Kind kind) {
    return supportKind(kind).words;
}

std::string describe(const Support& s) {
    const SupportKind& kind = supportKind(s.kind);
    std::string text;
    if (kind.describe) {
        text = kind.describe(s);
    } else {
        for (std::size_t m = 0; m < kind.motions.size(); ++m)
            if (isHeld(s, m)) text += (text.empty() ? "" : ", ") + std::string(kind.motions[m]);
    }
    return text + (s.frame.empty() ? "" : " of " + s.frame);
}

Vec3 SupportTarget::radial(std::int32_t node) const {
    const Vec3 d = mesh.position[node] - interface.origin;
    const Vec3 r = d - d.dot(interface.axis) * interface.axis;
    return r.norm() > 1e-9 ? Vec3(r.normalized()) : perpendicular(interface.axis)[0];
}

Vec3 SupportTarget::normal(std::int32_t node) const {
    return interface.kind == Interface::Kind::faces ? keptNormal(interface, mesh.position[node]) : radial(node);
}

std::optional<std::vector<Vec3>> heldIfAll(const Support& s, const NominalPoint&) {
    if (!std::all_of(s.motions.begin(), s.motions.end(), [](bool m) { return m; })) return std::nullopt;
    return std::vector<Vec3>{Vec3::UnitX(), Vec3::UnitY(), Vec3::UnitZ()};
}

}  // namespace escultura::duty
