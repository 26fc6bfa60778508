#include <QTemporaryDir>
#include <QtTest>

#include "hostile.hpp"

using namespace escultura::hostile;

/// A few of each kind of damage; the benchmark program tries thousands ('hostile').
class TestHostile : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;

  private slots:
    void initTestCase() { prepare(dir_.path().toStdString()); }
    void damage_data() {
        QTest::addColumn<int>("kind");
        QTest::addColumn<int>("count");
        const int counts[] = {150, 150, 100, 30, 30};
        for (const Kind k : kinds) QTest::newRow(name(k)) << static_cast<int>(k) << counts[static_cast<int>(k)];
    }
    void damage() {
        QFETCH(int, kind);
        QFETCH(int, count);
        int accepted = 0;
        for (int seed = 1; seed <= count; ++seed) {
            const Outcome o =
                tryOne(static_cast<Kind>(kind), static_cast<std::uint32_t>(seed), dir_.path().toStdString());
            accepted += o.end == Outcome::End::accepted;
            QVERIFY2(o.isGood(), qPrintable(QString("seed %1: %2 (%3 s, %4 MB): %5")
                                                .arg(seed)
                                                .arg(name(o.end))
                                                .arg(o.seconds)
                                                .arg(o.megabytes)
                                                .arg(QString::fromStdString(o.message))));
        }
        QVERIFY(accepted < count);  // damage that is never told is none
    }
    void kills() {
        for (std::uint32_t seed = 1; seed <= 10; ++seed)
            QVERIFY(killOne(seed, dir_.path().toStdString()).end == Outcome::End::accepted);
    }
};

QTEST_GUILESS_MAIN(TestHostile)
#include "test_hostile.moc"
