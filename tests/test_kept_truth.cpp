#include <QtTest>

#include "kept_truth.hpp"

using namespace escultura;

/// Surfaces of fields whose exact shapes are known: what the part file cuts is not put back elsewhere.
class TestKeptTruth : public QObject {
    Q_OBJECT

  private slots:
    /// The cavity keeps the volume that the raw iso-surface gives it, and its radius to a tenth of a per cent.
    void cavitiesKeepTheirRadius() {
        for (const auto& r : verification::cavities({2})) {
            const QByteArray words = QString("cells of %1 mm, %2: radius %3 by volume, %4 mean, told %5; off by %6")
                                         .arg(r.cell)
                                         .arg(r.grey ? "grey" : "0/1")
                                         .arg(r.volumeRadius)
                                         .arg(r.meanRadius)
                                         .arg(r.toldRadius)
                                         .arg(r.farthest)
                                         .toUtf8();
            qInfo("%s", words.constData());
            QCOMPARE(r.cavities, 1);
            QVERIFY2(std::abs(r.volumeRadius / r.toldRadius - 1) < 0.0005, words);
            QVERIFY2(std::abs(r.meanRadius / 15 - 1) < 0.001, words);
            QVERIFY2(r.farthest < (r.grey ? 0.02 : 0.25) * r.cell, words);
        }
    }
    void boredBossesLeaveTheRestAlone() {
        for (const auto& r : verification::boredBosses({2})) {
            const QByteArray words =
                QString("cells of %1 mm, %2: rod mean %3, RMS %4, worst %5; sides mean %6, worst %7; told %8")
                    .arg(r.cell)
                    .arg(r.grey ? "grey" : "0/1")
                    .arg(r.rodMean)
                    .arg(r.rodRms)
                    .arg(r.rodWorst)
                    .arg(r.sideMean)
                    .arg(r.sideWorst)
                    .arg(r.told)
                    .toUtf8();
            qInfo("%s", words.constData());
            QVERIFY2(std::abs(r.rodMean) < 0.02 && std::abs(r.sideMean) < 0.005 && std::abs(r.told) < 0.005, words);
            QVERIFY2(r.rodRms < (r.grey ? 0.015 : 0.1) && r.sideWorst < 0.06, words);
        }
    }
};

QTEST_GUILESS_MAIN(TestKeptTruth)
#include "test_kept_truth.moc"
