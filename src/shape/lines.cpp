#include "shape/lines.hpp"

#include <algorithm>
#include <limits>

namespace escultura::shape {

double lengthOf(const std::vector<Vec3>& line) {
    double length = 0;
    for (std::size_t k = 0; k + 1 < line.size(); ++k) length += (line[k + 1] - line[k]).norm();
    return length;
}

Vec3 placeAlong(const std::vector<Vec3>& line, double length) {
    for (std::size_t k = 0; k + 1 < line.size(); ++k) {
        const double step = (line[k + 1] - line[k]).norm();
        if (length <= step && step > 0) return line[k] + length / step * (line[k + 1] - line[k]);
        length -= step;
    }
    return line.back();
}

double distanceTo(const Lines& lines, const Vec3& p, std::pair<std::size_t, double>* at) {
    double least = std::numeric_limits<double>::infinity();
    auto take = [&](double d, std::size_t line, double along) {
        if (d >= least) return;
        least = d;
        if (at) *at = {line, along};
    };
    for (std::size_t l = 0; l < lines.size(); ++l) {
        const auto& line = lines[l];
        if (line.size() == 1) take((p - line[0]).norm(), l, 0);
        double before = 0;
        for (std::size_t k = 0; k + 1 < line.size(); ++k) {
            const Vec3 d = line[k + 1] - line[k];
            const double t = std::clamp((p - line[k]).dot(d) / std::max(d.squaredNorm(), 1e-18), 0.0, 1.0);
            take((p - line[k] - t * d).norm(), l, before + t * d.norm());
            before += d.norm();
        }
    }
    return least;
}

Vec3 middleOf(const Lines& lines) {
    Vec3 sum = Vec3::Zero(), points = Vec3::Zero();
    double length = 0, count = 0;
    for (const auto& line : lines)
        for (std::size_t k = 0; k < line.size(); ++k) {
            points += line[k];
            ++count;
            if (k + 1 == line.size()) continue;
            const double step = (line[k + 1] - line[k]).norm();
            sum += 0.5 * step * (line[k] + line[k + 1]);
            length += step;
        }
    return length > 0 ? Vec3(sum / length) : count > 0 ? Vec3(points / count) : Vec3(Vec3::Zero());
}

}  // namespace escultura::shape
