#include "duty/duty.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <cstdio>

#include "base/error.hpp"
#include "base/quantity.hpp"

namespace escultura::duty {

Mat3 axesFromAngles(const Vec3& degrees) {
    const Vec3 a = degrees * (M_PI / 180);
    return (Eigen::AngleAxisd(a[2], Vec3::UnitZ()) * Eigen::AngleAxisd(a[1], Vec3::UnitY()) *
            Eigen::AngleAxisd(a[0], Vec3::UnitX()))
        .toRotationMatrix();
}

Mat3 axesFromPoints(const Vec3& origin, const Vec3& onX, const Vec3& inXY) {
    const Vec3 x = onX - origin, z = x.cross(inXY - origin);
    if (!(z.norm() > 1e-9 * std::max(1.0, x.squaredNorm())))
        throw InputError(ErrorDetail{"The frame's points lie on one line.",
                                     {},
                                     "three points",
                                     "an origin, a point on x, and a point beside that line",
                                     "points on a line"});
    Mat3 m;
    m.col(0) = x.normalized();
    m.col(2) = z.normalized();
    m.col(1) = m.col(2).cross(m.col(0));
    return m;
}

const char* name(LoadCase::Use use) {
    static const char* names[] = {"check", "combinations_only", "off"};
    return names[static_cast<int>(use)];
}
std::string listed(const std::vector<std::string>& names) {
    std::string all;
    for (const auto& n : names) all += (all.empty() ? "" : ", ") + n;
    return all;
}

std::vector<std::pair<std::string, double>> parseCombination(const std::string& text,
                                                             const std::vector<std::string>& known) {
    std::vector<std::pair<std::string, double>> terms;
    std::size_t at = 0;
    auto skip = [&] {
        while (at < text.size() && (text[at] == ' ' || text[at] == '*')) ++at;
    };
    auto refuse = [&](const std::string& expected) {
        throw InputError(ErrorDetail{"The combination cannot be read.",
                                     {},
                                     "character " + std::to_string(at + 1),
                                     expected,
                                     at < text.size() ? "'" + text.substr(at) + "'" : "the end"});
    };
    while (true) {
        skip();
        double sign = 1;
        if (at < text.size() && (text[at] == '+' || text[at] == '-')) {
            sign = text[at] == '-' ? -1 : 1;
            ++at;
        } else if (!terms.empty()) {
            refuse("+ or - between the terms");
        }
        skip();
        // a number belongs to the factor unless the text up to the next sign is a case's name
        auto findName = [&]() -> std::string {
            std::string best;
            for (const auto& n : known)
                for (const std::string& written : {n, "'" + n + "'", "\"" + n + "\""})
                    if (text.compare(at, written.size(), written) == 0 && n.size() > best.size()) {
                        const std::size_t end = at + written.size();
                        if (end < text.size() && text[end] != ' ' && text[end] != '+' && text[end] != '-') continue;
                        best = n;
                    }
            return best;
        };
        double factor = 1;
        std::string found = findName();
        if (found.empty()) {
            std::size_t used = 0;
            try {
                factor = std::stod(text.substr(at), &used);
            } catch (const std::exception&) {
                std::string all;
                for (const auto& n : known) all += (all.empty() ? "" : ", ") + n;
                refuse("a factor or one of the cases: " + all);
            }
            at += used;
            skip();
            found = findName();
            if (found.empty()) {
                std::string all;
                for (const auto& n : known) all += (all.empty() ? "" : ", ") + n;
                refuse("one of the cases: " + all);
            }
        }
        const bool quoted = text[at] == '\'' || text[at] == '"';
        at += found.size() + (quoted ? 2 : 0);
        if (std::any_of(terms.begin(), terms.end(), [&](const auto& t) { return t.first == found; }))
            refuse("every case once");
        if (!std::isfinite(factor)) refuse("a finite factor");
        terms.emplace_back(found, sign * factor);
        skip();
        if (at >= text.size()) return terms;
    }
}

std::string combinationText(const Combination& c) {
    std::string text;
    for (const auto& [name, factor] : c.terms) {
        if (!text.empty())
            text += factor < 0 ? " - " : " + ";
        else if (factor < 0)
            text += "-";
        char number[32];
        std::snprintf(number, sizeof number, "%.9g", std::abs(factor));
        text += std::string(number) + " " + name;
    }
    return text;
}

}  // namespace escultura::duty
