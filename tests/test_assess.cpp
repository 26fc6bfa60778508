#include <QtTest>
#include <cmath>

#include "assess/assess.hpp"
#include "verification.hpp"

using namespace escultura;
using namespace escultura::assess;

class TestAssess : public QObject {
    Q_OBJECT
  private slots:
    void envelopeKeepsTheGoverningCase() {
        const Envelope e = envelope({{1, 5, 3}, {2, 5, 1}, {0, 4, 9}});
        QCOMPARE(e.stress, (std::vector<double>{2, 5, 9}));
        QCOMPARE(e.governingCase, (std::vector<std::int16_t>{1, 0, 2}));  // of equals the earlier
        QCOMPARE(e.maxStress, 9.0);
        QCOMPARE(e.maxNode, 2);
        QCOMPARE(e.maxCase, 2);
    }
    void safetyFactorOfNothingIsInfinite() {
        QCOMPARE(safetyFactor(200, 50), 4.0);
        QVERIFY(std::isinf(safetyFactor(200, 0)));
        // what is not a number is not safe
        QVERIFY(std::isnan(safetyFactor(200, std::nan(""))) && !(safetyFactor(200, std::nan("")) >= 1));
        QVERIFY(std::isnan(safetyFactor(std::nan(""), 50)));
    }
    void everyNodeHasItsBasin() {
        // two ridges of 10 and 8 with a saddle of 4 between them, and a bump too small to be listed on the first
        const mesh::TetMesh m =
            verification::mappedBlock(40, 4, 1, [](const Vec3& p) { return Vec3(40 * p[0], 4 * p[1], p[2]); });
        auto height = [](const Vec3& p) {
            auto hill = [&](double at, double high, double wide) {
                return high * std::max(0.0, 1 - std::abs(p[0] - at) / wide);
            };
            return std::max({hill(10, 10, 15), hill(30, 8, 15), hill(16, 7, 3), 1.0});
        };
        std::vector<double> value, score;
        for (const Vec3& p : m.position) {
            value.push_back(height(p));
            score.push_back(p[0] > 20 ? 0.5 : 5.0);  // by another figure the second one does not count
        }
        std::vector<std::int32_t> basin;
        const auto both = findHotspots(m, value, 2, value, 5, &basin);
        QCOMPARE(both.size(), std::size_t(2));
        for (std::size_t n = 0; n < basin.size(); ++n) {
            const double x = m.position[n][0];
            if (x > 6 && x < 17) QCOMPARE(basin[n], 0);
            if (x > 26 && x < 34) QCOMPARE(basin[n], 1);
            QVERIFY(basin[n] >= 0);  // inside too
        }
        const auto one = findHotspots(m, value, 2, score, 5, &basin);
        QCOMPARE(one.size(), std::size_t(1));
        QVERIFY(m.position[one[0].node][0] < 12);
    }
    void findsThePeaksOfHills() {
        // three hills on the top of a plate; heights above their saddles are known
        const mesh::TetMesh m =
            verification::mappedBlock(40, 20, 1, [](const Vec3& p) { return Vec3(80 * p[0], 40 * p[1], 2 * p[2]); });
        const Vec3 summit[3] = {Vec3(16, 20, 2), Vec3(48, 20, 2), Vec3(64, 20, 2)};
        const double height[3] = {100, 80, 60};
        std::vector<double> value(m.position.size());
        for (std::size_t n = 0; n < value.size(); ++n)
            for (int h = 0; h < 3; ++h)
                if (m.position[n][2] > 2 - 1e-9)
                    value[n] = std::max(value[n], height[h] - 5 * (m.position[n] - summit[h]).norm());
        const auto spots = findHotspots(m, value, 5, 10);
        QCOMPARE(spots.size(), std::size_t(3));
        for (int h = 0; h < 3; ++h) {
            QVERIFY((m.position[spots[h].node] - summit[h]).norm() < 1e-9);
            QCOMPARE(spots[h].peak, height[h]);
        }
        // cones of slope 5: hills 48 and 64 meet at 80 - 5 d1 = 60 - 5 (16 - d1), d1 = 10: saddle at 30
        QVERIFY2(std::abs(spots[2].persistence - 30) < 5.5, qPrintable(QString::number(spots[2].persistence)));
        QCOMPARE(findHotspots(m, value, 50, 10).size(), std::size_t(2));
        QCOMPARE(findHotspots(m, value, 1000, 1000).size(), std::size_t(1));  // the highest is always there
        // above 80 % of 100: a disc of 4 mm
        QVERIFY2(std::abs(spots[0].area / (M_PI * 16) - 1) < 0.25, qPrintable(QString::number(spots[0].area)));
    }
    void aRampHasOnePeak() {
        mesh::TetMesh a = verification::mappedBlock(4, 4, 1, [](const Vec3& p) { return Vec3(10 * p); });
        std::vector<double> value(a.position.size());
        for (std::size_t n = 0; n < value.size(); ++n) value[n] = a.position[n][0];
        const auto spots = findHotspots(a, value, 0.1, 0);
        QCOMPARE(spots.size(), std::size_t(1));  // a ramp has one peak, its persistence is the whole range
        QCOMPARE(spots[0].persistence, 10.0);
    }
};

QTEST_GUILESS_MAIN(TestAssess)
#include "test_assess.moc"
