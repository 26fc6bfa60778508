#include <QtTest>

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
    }
    void readsUnitsAndArithmetic() {
        QFETCH(QString, text);
        QFETCH(double, expected);
        QFETCH(int, kind);
        const Dimension kinds[] = {dimension::length, dimension::force, dimension::stress, dimension::moment,
                                   dimension::density};
        const char* units[] = {"mm", "N", "MPa", "N*mm", "kg/m^3"};
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
