#include <QTemporaryDir>
#include <QtTest>
#include <algorithm>
#include <map>

#include "fixtures.hpp"
#include "grown_parts.hpp"
#include "judge/factor.hpp"
#include "judge/findings.hpp"
#include "judge/requirements.hpp"
#include "stages/check_model.hpp"
#include "stages/part_shape.hpp"

using namespace escultura;
using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using namespace escultura::judge;

namespace {

/// What the strip says of a part before and after the tests of what governs.
struct BeforeAfter {
    Project project;
    Factor before, after;
    double recovered = 0;  ///< factor by the smooth stress alone
};

/// @param through  elements through walls; 0: as they come
BeforeAfter tested(const made_up::GrownPart& part, double elementSize, int through = 2) {
    static std::map<std::tuple<std::string, double, int>, BeforeAfter> known;
    BeforeAfter& b = known[{part.field.source, elementSize, through}];
    if (b.after.proves()) return b;
    Progress progress;
    b.project = openPart(made_up::writeGrown(made_up::folder().path().toStdString(), part), progress);
    Recipe& recipe = b.project.variants[0].recipe;
    if (elementSize > 0) recipe.elementSize = elementSize;
    recipe.check.elementsThrough = through;
    run(b.project, recipe, Stage::findings, progress);
    const auto check = b.project.check(recipe);
    b.before = factorOf(b.project, b.project.current(), *check);
    for (const CaseResult& c : check->cases) b.recovered = std::max(b.recovered, c.maxRecoveredStress);
    b.recovered = elastic::strength(b.project.part.material) / b.recovered;
    testWhatGoverns(b.project, recipe, progress);
    b.after = factorOf(b.project, b.project.current(), *check);
    qInfo("%s, elements of %.3g mm: before %s; after %s; recovered alone %.3g", b.project.part.name.c_str(),
          recipe.elementSize, factorWords(b.before).c_str(), factorWords(b.after).c_str(), b.recovered);
    return b;
}

}  // namespace

/// What is said before the hotspots are tested still holds after it, on parts that were made up for it.
class TestTrust : public QObject {
    Q_OBJECT
  private slots:
    void factorStaysWithinItsBand_data() {
        QTest::addColumn<QString>("part");
        QTest::addColumn<double>("size");  // mm; 0: as it comes
        QTest::newRow("link") << "link" << 0.0;
        QTest::newRow("link, three elements through a strut") << "link" << 1.6;
        QTest::newRow("lug") << "lug" << 0.0;
    }
    void factorStaysWithinItsBand() {
        QFETCH(QString, part);
        QFETCH(double, size);
        const BeforeAfter b = tested(part == "link" ? made_up::link() : made_up::lug(), size);
        QVERIFY(!b.before.proves() && b.after.proves());
        QVERIFY(b.after.value <= 1.02 * b.before.band.high);
        if (b.before.bounded) QVERIFY(b.after.value >= 0.98 * b.before.band.low);
        // an open end is said, and by what
        QCOMPARE(b.before.bounded, b.before.unboundedBy.empty());
        QVERIFY(b.before.bounded || factorWords(b.before).find("no lower end: a peak") != std::string::npos);
        QCOMPARE(b.before.bounded, size > 0);
        if (size > 0) QVERIFY2(b.after.value > 0.6 && b.after.value < 0.75, factorWords(b.after).c_str());
    }
    /// A strut hardly thicker than an element comes out of the mesher with notches: that is told with its place, and a
    /// peak there is never classed, so that it cannot be signed away.
    void whatTheMeshMissesIsTold() {
        const BeforeAfter b = tested(made_up::link(), 0, 0);
        int walls = 0, spots = 0;
        for (const Finding& f : findingsOf(b.project, b.project.current().recipe)) {
            if (f.kind == Finding::Kind::lostWalls) {
                ++walls;
                QVERIFY2(f.text.find("The check's mesh leaves the surface by up to") == 0, f.text.c_str());
                const Vec3 arm(58, 54, 28), head(98, 18, 21);  // the thinnest strut goes from one to the other
                QVERIFY(made_up::toStrut(f.position, arm, head, 0) < 3);
            }
            if (f.kind != Finding::Kind::hotspot || f.place != atMissedWall) continue;
            ++spots;
            if (f.evidence.verdict == assess::HotspotClass::untested) continue;
            QVERIFY(f.evidence.verdict == assess::HotspotClass::unresolved);
            QVERIFY(f.evidence.reason.find("smaller elements") != std::string::npos);
            QVERIFY(f.evidence.counts() >= f.evidence.peak.back());
        }
        QVERIFY(walls == 1 && spots > 0);
        QCOMPARE(b.before.unboundedBy, std::string("a peak where the mesh misses the body"));
    }
    /// Of several cases each counts with the peak of its own on the finest mesh, also where another governs.
    void everyCaseCountsWithItsFinestPeak() {
        const BeforeAfter b = tested(made_up::link(), 1.9);
        const Project& p = b.project;
        const auto check = p.check(p.current().recipe);
        for (std::size_t c = 0; c < check->cases.size(); ++c) {
            double finest = 0;
            for (const Finding& f : findingsOf(p, p.current().recipe))
                if (f.kind == Finding::Kind::hotspot && f.evidence.verdict == assess::HotspotClass::real) {
                    QCOMPARE(f.evidence.casePeak.size(), check->cases.size());
                    finest = std::max(finest, f.evidence.casePeak[c]);
                }
            QVERIFY(finest > 0);
            const Factor factor = factorOf(p, p.current(), *check, check->cases[c].name);
            QVERIFY(factor.value <= elastic::strength(p.part.material) / finest * (1 + 1e-9));
        }
    }
};

QTEST_GUILESS_MAIN(TestTrust)
#include "test_trust.moc"
