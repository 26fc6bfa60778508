#include <QtTest>
#include <cmath>
#include <functional>
#include <random>

#include "base/digest.hpp"
#include "base/error.hpp"
#include "base/quantity.hpp"

using namespace escultura;

class TestQuantity : public QObject {
    Q_OBJECT
  private slots:
    void readsUnitsAndArithmetic_data() {
        QTest::addColumn<QString>("text");
        QTest::addColumn<double>("expected");
        QTest::addColumn<int>("kind");
        QTest::newRow("bare") << "12" << 12.0 << 0;
        QTest::newRow("inch") << "1/4 in" << 6.35 << 0;
        QTest::newRow("sum") << "1 m + 2 cm - 3 mm" << 1017.0 << 0;
        QTest::newRow("pound-force") << "2*450 lbf" << 900 * 4.4482216152605 << 1;
        QTest::newRow("newton from base units") << "3 kg*m/s^2" << 3.0 << 1;
        QTest::newRow("psi") << "1 ksi" << 6.894757293168 << 2;
        QTest::newRow("force per area") << "10 N / (2 mm * 5 mm)" << 1.0 << 2;
        QTest::newRow("moment") << "90 N*m" << 90000.0 << 3;
        QTest::newRow("density") << "2660 kg/m^3" << 2.66e-6 << 4;
        QTest::newRow("turns a second") << "50 Hz" << 100 * M_PI << 5;
        QTest::newRow("turns a minute") << "3000 rpm" << 100 * M_PI << 5;
        QTest::newRow("kilohertz") << "0.05 kHz" << 100 * M_PI << 5;
        QTest::newRow("radians a second") << "100 rad/s" << 100.0 << 5;
        QTest::newRow("gravity") << "9.80665 m/s^2" << 9806.65 << 6;
        QTest::newRow("brackets") << "2*(3 + 4*(1 - 0.5)) mm" << 10.0 << 0;
        QTest::newRow("signs") << "-(2 - 5) mm" << 3.0 << 0;
        QTest::newRow("powers") << "2^3 mm" << 8.0 << 0;
        QTest::newRow("kilogram-force") << "1 kgf" << 9.80665 << 1;
        QTest::newRow("bar") << "10 bar" << 1.0 << 2;
    }
    void readsUnitsAndArithmetic() {
        QFETCH(QString, text);
        QFETCH(double, expected);
        QFETCH(int, kind);
        const Dimension kinds[] = {dimension::length,  dimension::force,     dimension::stress,      dimension::moment,
                                   dimension::density, dimension::frequency, dimension::acceleration};
        const char* units[] = {"mm", "N", "MPa", "N*mm", "kg/m^3", "rad/s", "mm/s^2"};
        const double value = parseQuantity(text.toStdString(), kinds[kind], units[kind]);
        QVERIFY2(std::abs(value - expected) < 1e-12 * std::abs(expected), qPrintable(QString::number(value, 'g', 17)));
    }
    void refusesWhatItCannotRead_data() {
        QTest::addColumn<QString>("text");
        for (const char* text : {"", "12 parsecs", "3 +", "4 kg", "1/0", "2 mm + 1 N", "(3", "5 mm^0.5"})
            QTest::newRow(text) << QString(text);
    }
    void refusesWhatItCannotRead() {
        QFETCH(QString, text);
        QVERIFY_EXCEPTION_THROWN(parseQuantity(text.toStdString(), dimension::length, "mm"), InputError);
    }
    /// What was made up by a program and is worked out beside it: sums, products, quotients, powers, brackets and
    /// signs, in units of length.
    void expressionsAreWorkedOut() {
        std::mt19937 random(11);
        auto pick = [&](int n) { return static_cast<int>(random() % static_cast<unsigned>(n)); };
        struct Value {
            std::string text;
            double number;
        };
        const std::pair<const char*, double> units[] = {{"mm", 1}, {"cm", 10}, {"in", 25.4}, {"m", 1000}};
        std::function<Value(int)> pure = [&](int depth) -> Value {
            if (depth == 0 || pick(3) == 0) {
                const int n = 1 + pick(9);
                return {std::to_string(n), static_cast<double>(n)};
            }
            const Value a = pure(depth - 1), b = pure(depth - 1);
            switch (pick(4)) {
                case 0:
                    return {"(" + a.text + " + " + b.text + ")", a.number + b.number};
                case 1:
                    return {"(" + a.text + "*" + b.text + ")", a.number * b.number};
                case 2:
                    return {"(" + a.text + " / " + b.text + ")", a.number / b.number};
                default:
                    return {"(" + a.text + " - -" + b.text + ")", a.number + b.number};
            }
        };
        std::function<Value(int)> length = [&](int depth) -> Value {
            if (depth == 0) {
                const auto& [unit, size] = units[pick(4)];
                const Value n = pure(1);
                return {n.text + " " + unit, n.number * size};
            }
            const Value a = length(depth - 1);
            if (pick(2)) {
                const Value n = pure(depth);
                return {n.text + "*(" + a.text + ")", n.number * a.number};
            }
            const Value b = length(depth - 1);
            return {"(" + a.text + ") + (" + b.text + ")", a.number + b.number};
        };
        for (int k = 0; k < 500; ++k) {
            const Value v = length(1 + pick(3));
            const double found = parseQuantity(v.text, dimension::length, "mm");
            QVERIFY2(std::abs(found - v.number) <= 1e-11 * std::abs(v.number), v.text.c_str());
            // the same as an area, and a force is no area
            QVERIFY(std::abs(parseQuantity("(" + v.text + ")*(2 mm)", {2, 0, 0}, "mm^2") - 2 * v.number) <=
                    1e-11 * std::abs(v.number));
            QVERIFY_EXCEPTION_THROWN(parseQuantity("(" + v.text + ")*(2 N)", dimension::length, "mm"), InputError);
        }
    }
    /// Errors name the place and what was expected, whatever garbage is typed; none ends otherwise.
    void garbageIsRefusedInWords() {
        std::mt19937 random(5);
        const std::string letters = "0123456789.+-*/^() mNkgsin%eE,";
        int refused = 0;
        for (int k = 0; k < 5000; ++k) {
            std::string text;
            for (unsigned n = 1 + random() % 12; n > 0; --n) text += letters[random() % letters.size()];
            try {
                const double v = parseQuantity(text, dimension::length, "mm");
                QVERIFY2(std::isfinite(v), text.c_str());
            } catch (const InputError& e) {
                ++refused;
                QVERIFY2(!e.detail().problem.empty(), text.c_str());
            }
        }
        QVERIFY(refused > 3000 && refused < 5000);
    }
    void scalesAndDimensionsOfUnits() {
        QVERIFY(std::abs(unitScale("in") - 25.4) < 1e-12);
        QVERIFY(std::abs(unitScale("kN") - 1000) < 1e-9);
        QVERIFY(std::abs(unitScale("N*m") - 1000) < 1e-9);
        QVERIFY(dimensionOf("kg/m^3") == dimension::density);
        QVERIFY(dimensionOf("N/mm^2") == dimension::stress);
        QVERIFY(dimensionOf("rpm") == dimension::frequency);
        QVERIFY_EXCEPTION_THROWN(unitScale("furlong"), InputError);
    }
    void formatsForReading() {
        QCOMPARE(formatNumber(131.94), "131.9");
        QCOMPARE(formatNumber(0.31234, 3), "0.31");
        QCOMPARE(formatNumber(360495, 4), "360495");
    }
    void hashesLikeTheStandard() {
        // SHA-256 of the bytes "abc" (FIPS 180-2, B.1)
        Digest d;
        d.addBytes("abc", 3);
        QCOMPARE(d.hex(), "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
    }
};

QTEST_GUILESS_MAIN(TestQuantity)
#include "test_quantity.moc"
