/// The quantities of a check's results by hand: stresses that were made up, in every frame and as the worst of all.
#include <QtTest>
#include <cmath>
#include <random>
#include <set>

#include "duty/part.hpp"
#include "made_up_part.hpp"
#include "stages/quantities.hpp"

using namespace escultura;
using namespace escultura::stages;

namespace {

/// Two cases at three nodes of no mesh.
CheckResult madeUp(const duty::Part& part) {
    CheckResult r;
    r.mesh.position = {Vec3(0, 0, 0), Vec3(1, 0, 0), Vec3(0, 1, 0)};
    const double stress[2][3][6] = {{{100, 0, 0, 0, 0, 0}, {0, 0, 0, 40, 0, 0}, {-50, -50, -50, 0, 0, 0}},
                                    {{-150, 0, 0, 0, 0, 0}, {30, -10, 20, 5, -15, 25}, {0, 0, 0, 0, 0, 0}}};
    for (int c = 0; c < 2; ++c) {
        CaseResult x;
        x.name = c ? "second" : "first";
        for (int n = 0; n < 3; ++n) {
            elastic::Voigt6 s;
            for (int k = 0; k < 6; ++k) s[k] = stress[c][n][k];
            x.stress.push_back(s);
            x.vonMises.push_back(elastic::vonMises(s));
            x.displacement.push_back(Vec3(0.3 * (n + 1), -0.4, 0.1 * c));
        }
        r.cases.push_back(x);
    }
    r.envelope = assess::envelope({r.cases[0].vonMises, r.cases[1].vonMises});
    (void)part;
    return r;
}

bool near(double a, double b, double tolerance = 1e-9) {
    if (std::abs(a - b) <= tolerance * std::max(1.0, std::abs(b))) return true;
    qWarning("%.12g is not %.12g", a, b);
    return false;
}

}  // namespace

class TestQuantities : public QObject {
    Q_OBJECT
    duty::Part part_ = duty::parsePart(made_up::leverPart().dump(), "lever.json");
    CheckResult check_ = madeUp(part_);
    double at(Quantity q, int loadCase, std::size_t node, const Mat3& axes = Mat3::Identity()) const {
        return quantityAt(part_, check_, q, loadCase, node, axes);
    }

  private slots:
    void simpleStressesByHand() {
        QVERIFY(near(at(Quantity::vonMises, 0, 0), 100));
        QVERIFY(near(at(Quantity::signedVonMises, 1, 0), -150));
        QVERIFY(near(at(Quantity::maximumPrincipal, 0, 0), 100));
        QVERIFY(near(at(Quantity::minimumPrincipal, 1, 0), -150));
        QVERIFY(near(at(Quantity::maximumShear, 0, 0), 50));
        QVERIFY(near(at(Quantity::vonMises, 0, 1), 40 * std::sqrt(3.0)));  // pure shear
        QVERIFY(near(at(Quantity::maximumPrincipal, 0, 1), 40));
        QVERIFY(near(at(Quantity::minimumPrincipal, 0, 1), -40));
        QVERIFY(near(at(Quantity::vonMises, 0, 2), 0));  // even pressure
        QVERIFY(near(at(Quantity::maximumShear, 0, 2), 0));
        QVERIFY(near(at(Quantity::safetyFactor, 0, 0), elastic::strength(part_.material) / 100));
        QVERIFY(near(at(Quantity::safetyFactor, 1, 2), 999));  // no stress: the cap
    }
    void strainsByHand() {
        const double e = part_.material.youngsModulus, nu = part_.material.poissonsRatio;
        QVERIFY(near(at(Quantity::strainXX, 0, 0), 100 / e));
        QVERIFY(near(at(Quantity::strainYY, 0, 0), -nu * 100 / e));
        QVERIFY(near(at(Quantity::strainXY, 0, 1), 40 / (e / (2 * (1 + nu)))));  // engineering shear
        QVERIFY(near(at(Quantity::equivalentStrain, 0, 0), 2.0 / 3 * (1 + nu) * 100 / e));
        QVERIFY(near(at(Quantity::energyDensity, 0, 0), 0.5 * 100 * 100 / e));
        QVERIFY(near(at(Quantity::energyDensity, 0, 1), 0.5 * 40 * 40 / (e / (2 * (1 + nu)))));
        QVERIFY(near(at(Quantity::energyDensity, 0, 2), 1.5 * 50 * 50 * (1 - 2 * nu) / e));
    }
    /// A quarter turn swaps components; any turn keeps invariants, and energies of components.
    void framesTurnComponents() {
        Mat3 quarter;  // columns: the directions x, y, z of the frame
        quarter << 0, -1, 0, 1, 0, 0, 0, 0, 1;
        QVERIFY(near(at(Quantity::stressYY, 0, 0, quarter), 100));
        QVERIFY(near(at(Quantity::stressXX, 0, 0, quarter), 0));
        QVERIFY(near(at(Quantity::stressXY, 0, 1, quarter), -40));
        QVERIFY(near(at(Quantity::displacementX, 0, 0, quarter), -0.4));
        QVERIFY(near(at(Quantity::displacementY, 0, 0, quarter), -0.3));
        const Mat3 turn = Eigen::AngleAxisd(0.83, Vec3(1, -2, 0.5).normalized()).toRotationMatrix();
        auto sum = [&](Quantity first, const Mat3& axes, double shear) {
            double squares = 0;
            for (int k = 0; k < 6; ++k) {
                const double v = at(static_cast<Quantity>(static_cast<int>(first) + k), 1, 1, axes);
                squares += (k < 3 ? 1 : shear) * v * v;
            }
            return squares;
        };
        QVERIFY(near(sum(Quantity::stressXX, turn, 2), sum(Quantity::stressXX, Mat3::Identity(), 2)));
        QVERIFY(near(1e6 * sum(Quantity::strainXX, turn, 0.5), 1e6 * sum(Quantity::strainXX, Mat3::Identity(), 0.5)));
        QVERIFY(near(at(Quantity::vonMises, 1, 1, turn), at(Quantity::vonMises, 1, 1)));
        // 45 degrees about z turn pure shear into a pull and a push
        const Mat3 half = Eigen::AngleAxisd(M_PI / 4, Vec3::UnitZ()).toRotationMatrix();
        QVERIFY(near(at(Quantity::stressXX, 0, 1, half), 40));
        QVERIFY(near(at(Quantity::stressYY, 0, 1, half), -40));
    }
    /// The worst of all cases: the largest by size where signs are told apart, the smallest factor, the lowest push.
    void theWorstOfAll() {
        QVERIFY(near(at(Quantity::vonMises, -1, 0), 150));
        QVERIFY(near(at(Quantity::signedVonMises, -1, 0), -150));
        QVERIFY(near(at(Quantity::stressXX, -1, 0), -150));
        QVERIFY(near(at(Quantity::maximumPrincipal, -1, 0), 100));
        QVERIFY(near(at(Quantity::minimumPrincipal, -1, 0), -150));
        QVERIFY(near(at(Quantity::safetyFactor, -1, 0), elastic::strength(part_.material) / 150));
        QVERIFY(near(at(Quantity::governingCase, -1, 0), 2));
        QVERIFY(near(at(Quantity::governingCase, -1, 1), 1));
    }
    void fieldsAreTheirValues() {
        for (int q = 0; q < quantityCount; ++q) {
            const auto quantity = static_cast<Quantity>(q);
            if (quantity == Quantity::errorEstimate) continue;
            for (int loadCase : {-1, 0, 1}) {
                const auto field = quantityField(part_, check_, quantity, loadCase);
                QCOMPARE(field.size(), std::size_t(3));
                for (std::size_t n = 0; n < 3; ++n) QVERIFY(near(field[n], at(quantity, loadCase, n)));
            }
        }
    }
    /// Of elements: the mean of those around a node.
    void errorEstimatesAreMeans() {
        CheckResult r;
        r.mesh.position.assign(11, Vec3::Zero());
        r.mesh.tet = {{0, 1, 2, 3, 4, 5, 6, 7, 8, 9}, {0, 1, 2, 10, 4, 5, 6, 7, 8, 9}};
        r.elementError = {1.0f, 3.0f};
        const auto v = quantityField(part_, r, Quantity::errorEstimate, -1);
        QVERIFY(near(v[0], 2) && near(v[3], 1) && near(v[10], 3));
    }
    void everyQuantityIsDescribed() {
        std::set<std::string> titles;
        for (int q = 0; q < quantityCount; ++q) {
            const auto quantity = static_cast<Quantity>(q);
            QVERIFY(titles.insert(title(quantity)).second);
            const auto& units = unitsOf(measure(quantity));
            QVERIFY(!units.empty());
            QVERIFY(near(inUnit(12.5, measure(quantity), units.front()) * (units.front() == "%" ? 0.01 : 1), 12.5));
            if (usesFrame(quantity)) QVERIFY(isSigned(quantity));
            if (worstIsLow(quantity))
                QVERIFY(quantity == Quantity::safetyFactor || quantity == Quantity::minimumPrincipal);
        }
    }
    void unitsByTheirDefinitions() {
        QVERIFY(near(inUnit(6.894757293168, Measure::stress, "ksi"), 1));
        QVERIFY(near(inUnit(1, Measure::stress, "psi"), 145.03773773, 1e-8));
        QVERIFY(near(inUnit(25.4, Measure::length, "in"), 1));
        QVERIFY(near(inUnit(0.001, Measure::length, "um"), 1));
        QVERIFY(near(inUnit(0.002, Measure::strain, "%"), 0.2));
        QVERIFY(near(inUnit(0.002, Measure::strain, "1e-6"), 2000));
        QVERIFY(near(inUnit(0.5, Measure::energyDensity, "kJ/m³"), 500));
    }
    /// A brittle part compares its pull with the ultimate strength.
    void brittlePartsByTheirPull() {
        duty::Part brittle = part_;
        brittle.material.rule = elastic::FailureRule::brittle;
        brittle.material.ultimateStrength = 200;
        QVERIFY(near(quantityAt(brittle, check_, Quantity::safetyFactor, 0, 0), 2));
        QVERIFY(near(quantityAt(brittle, check_, Quantity::safetyFactor, 1, 0), 999));  // pushed: it does not break
        QVERIFY(near(quantityAt(brittle, check_, Quantity::safetyFactor, 0, 1), 5));
    }
};

QTEST_GUILESS_MAIN(TestQuantities)
#include "test_quantities.moc"
