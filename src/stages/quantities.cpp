#include "stages/quantities.hpp"

#include <algorithm>
#include <cmath>

#include "base/parallel.hpp"
#include "base/quantity.hpp"
#include "duty/part.hpp"

namespace escultura::stages {
namespace {

struct Description {
    const char* title;
    Measure measure;
    bool isSigned, usesFrame;
};

const Description& describe(Quantity q) {
    static const Description all[quantityCount] = {
        {"von Mises", Measure::stress, false, false},         {"safety factor", Measure::number, false, false},
        {"displacement", Measure::length, false, false},      {"signed von Mises", Measure::stress, true, false},
        {"max. principal", Measure::stress, true, false},     {"min. principal", Measure::stress, true, false},
        {"max. shear", Measure::stress, false, false},        {"stress xx", Measure::stress, true, true},
        {"stress yy", Measure::stress, true, true},           {"stress zz", Measure::stress, true, true},
        {"stress xy", Measure::stress, true, true},           {"stress yz", Measure::stress, true, true},
        {"stress zx", Measure::stress, true, true},           {"displacement x", Measure::length, true, true},
        {"displacement y", Measure::length, true, true},      {"displacement z", Measure::length, true, true},
        {"equivalent strain", Measure::strain, false, false}, {"strain xx", Measure::strain, true, true},
        {"strain yy", Measure::strain, true, true},           {"strain zz", Measure::strain, true, true},
        {"shear strain xy", Measure::strain, true, true},     {"shear strain yz", Measure::strain, true, true},
        {"shear strain zx", Measure::strain, true, true},     {"energy density", Measure::energyDensity, false, false},
        {"error estimate", Measure::number, false, false},    {"governing case", Measure::number, false, false},
    };
    return all[static_cast<int>(q)];
}

/// Everything that a value of one case needs besides the node.
struct Constants {
    elastic::Stiffness6 compliance;
    double strength;
};

double valueOf(const Part& part, const Constants& constants, const CaseResult& c, Quantity q, std::size_t n,
               const Mat3& axes) {
    const elastic::Voigt6& s = c.stress[n];
    auto component = [&](Quantity first) { return static_cast<int>(q) - static_cast<int>(first); };
    switch (q) {
        case Quantity::vonMises:
            return c.vonMises[n];
        case Quantity::safetyFactor:
            return std::min(
                assess::safetyFactor(constants.strength,
                                     part.isBrittle() ? elastic::failureStress(part.material, s) : c.vonMises[n]),
                999.0);
        case Quantity::displacement:
            return c.displacement[n].norm();
        case Quantity::signedVonMises:
            return s.head<3>().sum() < 0 ? -c.vonMises[n] : c.vonMises[n];
        case Quantity::maximumPrincipal:
            return elastic::principal(s)[0];
        case Quantity::minimumPrincipal:
            return elastic::principal(s)[2];
        case Quantity::maximumShear: {
            const auto p = elastic::principal(s);
            return 0.5 * (p[0] - p[2]);
        }
        case Quantity::stressXX:
        case Quantity::stressYY:
        case Quantity::stressZZ:
        case Quantity::stressXY:
        case Quantity::stressYZ:
        case Quantity::stressZX:
            return elastic::stressInFrame(s, axes)[component(Quantity::stressXX)];
        case Quantity::displacementX:
        case Quantity::displacementY:
        case Quantity::displacementZ:
            return axes.col(component(Quantity::displacementX)).dot(c.displacement[n]);
        case Quantity::equivalentStrain: {
            const elastic::Voigt6 e = constants.compliance * s;
            const double a = e[0] - e[1], b = e[1] - e[2], d = e[2] - e[0];
            // sqrt(2/3 e' : e') of the deviator, tensor shears
            return std::sqrt(2.0 / 9 * (a * a + b * b + d * d) + (e[3] * e[3] + e[4] * e[4] + e[5] * e[5]) / 3);
        }
        case Quantity::strainXX:
        case Quantity::strainYY:
        case Quantity::strainZZ:
        case Quantity::strainXY:
        case Quantity::strainYZ:
        case Quantity::strainZX: {
            elastic::Voigt6 e = constants.compliance * s;
            e.tail<3>() *= 0.5;
            e = elastic::stressInFrame(e, axes);
            e.tail<3>() *= 2;
            return e[component(Quantity::strainXX)];
        }
        case Quantity::energyDensity:
            return 0.5 * s.dot(constants.compliance * s);
        default:
            return 0;
    }
}

/// Whether a value is worse than another one of the same place.
bool isWorse(Quantity q, double v, double than) {
    if (worstIsLow(q)) return v < than;
    return isSigned(q) && q != Quantity::maximumPrincipal ? std::abs(v) > std::abs(than) : v > than;
}

double worstOf(const Part& part, const Constants& constants, const CheckResult& check, Quantity q, std::size_t n,
               const Mat3& axes) {
    double worst = valueOf(part, constants, check.cases[0], q, n, axes);
    for (std::size_t c = 1; c < check.cases.size(); ++c) {
        const double v = valueOf(part, constants, check.cases[c], q, n, axes);
        if (isWorse(q, v, worst)) worst = v;
    }
    return worst;
}

Constants constantsOf(const Part& part) {
    return {elastic::elasticity(part.material).inverse(), elastic::strength(part.material)};
}

}  // namespace

const char* title(Quantity q) {
    return describe(q).title;
}
Measure measure(Quantity q) {
    return describe(q).measure;
}
bool isSigned(Quantity q) {
    return describe(q).isSigned;
}
bool usesFrame(Quantity q) {
    return describe(q).usesFrame;
}
bool worstIsLow(Quantity q) {
    return q == Quantity::safetyFactor || q == Quantity::minimumPrincipal;
}

const std::vector<std::string>& unitsOf(Measure m) {
    static const std::vector<std::string> units[] = {
        {"MPa", "psi", "ksi"}, {"mm", "in", "um"}, {"%", "1e-6"}, {"N/mm²", "kJ/m³"}, {""}};
    return units[static_cast<int>(m)];
}

double inUnit(double value, Measure m, const std::string& unit) {
    if (unit.empty() || unit == "N/mm²") return value;
    if (unit == "1e-6") return 1e6 * value;
    if (unit == "kJ/m³") return 1e3 * value;  // 1 N/mm2 = 1 MJ/m3
    (void)m;
    return value / unitScale(unit);
}

double quantityAt(const Part& part, const CheckResult& check, Quantity q, int loadCase, std::size_t node,
                  const Mat3& axes) {
    if (q == Quantity::governingCase) return check.envelope.governingCase[node] + 1.0;
    const Constants constants = constantsOf(part);
    if (loadCase >= 0) return valueOf(part, constants, check.cases[loadCase], q, node, axes);
    return worstOf(part, constants, check, q, node, axes);
}

std::vector<double> quantityField(const Part& part, const CheckResult& check, Quantity q, int loadCase,
                                  const Mat3& axes) {
    std::vector<double> value(check.mesh.position.size());
    if (q == Quantity::errorEstimate) {  // of elements: the mean around each node
        std::vector<float> count(value.size(), 0);
        for (std::size_t e = 0; e < check.mesh.tet.size() && e < check.elementError.size(); ++e)
            for (auto n : check.mesh.tet[e]) value[n] += check.elementError[e], ++count[n];
        for (std::size_t n = 0; n < value.size(); ++n) value[n] /= std::max(count[n], 1.0f);
        return value;
    }
    if (q == Quantity::vonMises && loadCase < 0 && !part.isBrittle()) return check.envelope.stress;
    const Constants constants = constantsOf(part);
    parallelFor(value.size(), [&](std::size_t n) {
        value[n] = q == Quantity::governingCase ? check.envelope.governingCase[n] + 1.0
                   : loadCase >= 0              ? valueOf(part, constants, check.cases[loadCase], q, n, axes)
                                                : worstOf(part, constants, check, q, n, axes);
    });
    return value;
}

}  // namespace escultura::stages
