/// Edges of a body, found in its file.

#include <cmath>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "shape/lines.hpp"
#include "stages/kept_faces.hpp"

namespace escultura::stages {

using exchange::BodyFace;
using shape::FacePatch;

std::vector<Vec3> edgeAt(const BodySource& source, const Vec3& place, double asked) {
    std::vector<FacePatch> patches;
    double slack = asked;
    if (exchange::isStepFile(source.path)) {
        Box3 whole;
        const auto faces = stepFacesOf(source);
        for (const BodyFace& f : *faces) {
            whole.include(f.patch.box.low);
            whole.include(f.patch.box.high);
        }
        if (!(slack > 0)) slack = faceSlack(whole);
        for (const BodyFace& f : *faces)
            if (f.patch.box.grown(slack).contains(place)) patches.push_back(f.patch);
    } else {  // the edges of the face on which it lies
        patches.push_back(faceAt(source, place, nullptr, asked).patch);
        if (!(slack > 0)) slack = faceSlack(patches[0].box);
    }
    const FacePatch* of = nullptr;
    std::size_t first = 0;
    double least = std::numeric_limits<double>::infinity();
    for (const FacePatch& f : patches)
        for (std::size_t k = 0; k < f.border.size(); ++k) {
            // what goes on smoothly is no edge
            if (f.border[k].beyond == FacePatch::Beyond::smooth) continue;
            const double d = shape::distanceTo({{f.border[k].a, f.border[k].b}}, place);
            if (d >= least) continue;
            least = d;
            of = &f;
            first = k;
        }
    if (!of || least > slack)
        throw InputError(ErrorDetail{"No edge of the body lies at the place.", source.path, cage::placeText(place),
                                     "a place on an edge",
                                     of ? "the nearest is " + formatNumber(least, 3) + " mm away" : "none near it"});
    // as far as it bends without a corner, to either side
    const auto& border = of->border;
    auto goesOn = [&](std::size_t a, std::size_t b) {
        return (border[a].b - border[a].a).normalized().dot((border[b].b - border[b].a).normalized()) > 0.96;
    };
    std::size_t start = first;
    while (border[start].previous >= 0) {
        const auto before = static_cast<std::size_t>(border[start].previous);
        if (before == first || !goesOn(before, start)) break;
        start = before;
    }
    std::vector<Vec3> line{border[start].a, border[start].b};
    for (std::size_t at = start; border[at].next >= 0;) {
        const auto next = static_cast<std::size_t>(border[at].next);
        if (next == start || !goesOn(at, next)) break;
        line.push_back(border[next].b);
        at = next;
    }
    return line;
}

}  // namespace escultura::stages
