// Digests, progress, parallel sums, text for markup, units.
#include <QFile>
#include <QTemporaryDir>
#include <QtTest>
#include <thread>

#include "base/digest.hpp"
#include "base/error.hpp"
#include "base/geometry.hpp"
#include "base/parallel.hpp"
#include "base/progress.hpp"
#include "base/quantity.hpp"
#include "base/text.hpp"

using namespace escultura;

class TestBase : public QObject {
    Q_OBJECT
  private slots:
    /// The key of a result follows what a file holds, not what it is called.
    void stateOfAFileFollowsItsContents() {
        QTemporaryDir dir;
        const std::string path = dir.filePath("body.stl").toStdString();
        QCOMPARE(fileState(path), std::string("missing"));
        auto write = [&](const char* text) {
            QFile f(QString::fromStdString(path));
            QVERIFY(f.open(QIODevice::WriteOnly));
            f.write(text);
        };
        write("one");
        const std::string first = fileState(path);
        QCOMPARE(first, sha256OfFile(path));
        QCOMPARE(fileState(path), first);
        QTest::qWait(20);  // file systems tell times apart by milliseconds
        write("two");
        QVERIFY(fileState(path) != first);
        QCOMPARE(fileState(dir.path().toStdString()), std::string("no file"));
    }
    void unitsScaleAndMeasure_data() {
        QTest::addColumn<QString>("unit");
        QTest::addColumn<double>("scale");
        QTest::addColumn<int>("length");
        QTest::addColumn<int>("mass");
        QTest::addColumn<int>("time");
        // exact by definition: inch (NIST SP 811, B.8), pound-force 4.4482216152605 N
        QTest::newRow("inch") << "in" << 25.4 << 1 << 0 << 0;
        QTest::newRow("metre") << "m" << 1000.0 << 1 << 0 << 0;
        QTest::newRow("kilonewton") << "kN" << 1000.0 << 1 << 1 << -2;
        QTest::newRow("pound-force") << "lbf" << 4.4482216152605 << 1 << 1 << -2;
        QTest::newRow("gigapascal") << "GPa" << 1000.0 << -1 << 1 << -2;
        QTest::newRow("psi") << "psi" << 6.894757293168e-3 << -1 << 1 << -2;
        QTest::newRow("density") << "kg/m^3" << 1e-9 << -3 << 1 << 0;
        QTest::newRow("gram") << "g" << 1e-3 << 0 << 1 << 0;
        QTest::newRow("moment") << "N*m" << 1000.0 << 2 << 1 << -2;
        QTest::newRow("acceleration") << "m/s^2" << 1000.0 << 1 << 0 << -2;
    }
    void unitsScaleAndMeasure() {
        QFETCH(QString, unit);
        QFETCH(double, scale);
        QFETCH(int, length);
        QFETCH(int, mass);
        QFETCH(int, time);
        QVERIFY2(std::abs(unitScale(unit.toStdString()) / scale - 1) < 1e-12,
                 qPrintable(QString::number(unitScale(unit.toStdString()), 'g', 17)));
        QVERIFY(dimensionOf(unit.toStdString()) == (Dimension{length, mass, time}));
    }
    void unknownUnitsAreRefused() {
        for (const char* unit : {"furlong", "mm^", "N**m", ""}) {
            QVERIFY_EXCEPTION_THROWN(unitScale(unit), InputError);
            QVERIFY_EXCEPTION_THROWN(dimensionOf(unit), InputError);
        }
    }
    void numbersAreWrittenForReading_data() {
        QTest::addColumn<double>("value");
        QTest::addColumn<int>("digits");
        QTest::addColumn<QString>("text");
        QTest::newRow("zero") << 0.0 << 4 << "0";
        QTest::newRow("large") << 123456.0 << 3 << "123456";
        QTest::newRow("very large") << 2.5e9 << 3 << "2.5e+09";
        QTest::newRow("small") << 0.00012345 << 3 << "0.000123";
        QTest::newRow("negative") << -1.25 << 3 << "-1.25";
        QTest::newRow("infinite") << std::numeric_limits<double>::infinity() << 3 << "unlimited";
        QTest::newRow("none") << std::numeric_limits<double>::quiet_NaN() << 3 << "n/a";
    }
    void numbersAreWrittenForReading() {
        QFETCH(double, value);
        QFETCH(int, digits);
        QFETCH(QString, text);
        QCOMPARE(QString::fromStdString(formatNumber(value, digits)), text);
    }
    void plainNumbersHaveNoPadding() {
        QCOMPARE(plainNumber(0.7), std::string("0.7"));
        QCOMPARE(plainNumber(12), std::string("12"));
        QCOMPARE(plainNumber(1.0 / 3, 3), std::string("0.333"));
    }
    void markupIsEscaped() {
        QCOMPARE(escapedMarkup("a < b & \"c\" > d"), std::string("a &lt; b &amp; &quot;c&quot; &gt; d"));
        QCOMPARE(escapedMarkup("plain"), std::string("plain"));
    }
    /// Neighbours cannot run into each other, and kinds are told apart.
    void digestsTellContentsApart() {
        auto of = [](auto&&... values) {
            Digest d;
            (d.add(values), ...);
            return d.hex();
        };
        QCOMPARE(of(std::string_view("ab"), std::string_view("c")), of(std::string_view("ab"), std::string_view("c")));
        QVERIFY(of(std::string_view("ab"), std::string_view("c")) != of(std::string_view("a"), std::string_view("bc")));
        QVERIFY(of(1.0) != of(std::int64_t{1}));
        QVERIFY(of(0.1 + 0.2) != of(0.3));
        const std::vector<double> values{1, 2, 3};
        QVERIFY(of(std::span<const double>(values).first(2), 3.0) != of(std::span<const double>(values)));
        QCOMPARE(of(std::string_view()).size(), std::size_t(64));
    }
    void digestsOfFiles() {
        QTemporaryDir dir;
        const QString path = dir.filePath("abc");
        QFile file(path);
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write("abcdbcdecdefdefgefghfghighijhijkijkljklmklmnlmnomnopnopq");
        file.close();
        // FIPS 180-2, B.2
        QCOMPARE(sha256OfFile(path.toStdString()),
                 std::string("248d6a61d20638b8e5c026930c3e6039a33ce45964ff2167f6ecedd419db06c1"));
        QFile empty(dir.filePath("empty"));
        QVERIFY(empty.open(QIODevice::WriteOnly));
        empty.close();
        QCOMPARE(sha256OfFile(empty.fileName().toStdString()),
                 std::string("e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"));
        QVERIFY_EXCEPTION_THROWN(sha256OfFile(dir.filePath("none").toStdString()), InputError);
    }
    void progressIsToldAndCancelled() {
        std::vector<std::pair<std::string, double>> told;
        std::vector<double> curve;
        Progress p([&](const std::string& step, double share) { told.emplace_back(step, share); },
                   [&](const std::string&, double, double y) { curve.push_back(y); });
        p.step("first");
        p.step("second", 0.5);
        p.record("residual", 1, 0.25);
        QCOMPARE(told.size(), std::size_t(2));
        QCOMPARE(told[1].second, 0.5);
        QCOMPARE(curve, std::vector<double>{0.25});
        std::thread([&] { p.cancel(); }).join();
        QVERIFY(p.isCancelled());
        QVERIFY_EXCEPTION_THROWN(p.step("third"), Cancelled);
        QVERIFY_EXCEPTION_THROWN(p.check(), Cancelled);
        QVERIFY_EXCEPTION_THROWN(p.record("residual", 2, 0), Cancelled);
        QCOMPARE(told.size(), std::size_t(2));
    }
    /// Part of the work ends with the whole, not the other way round.
    void partsEndWithTheWhole() {
        Progress whole;
        Progress part(&whole), other(&whole);
        part.step("quiet");  // tells nobody
        part.cancel();
        QVERIFY(part.isCancelled() && !whole.isCancelled() && !other.isCancelled());
        whole.cancel();
        QVERIFY(other.isCancelled());
        QVERIFY_EXCEPTION_THROWN(other.check(), Cancelled);
    }
    void loopsVisitEveryIndexOnce() {
        std::vector<int> visits(100003, 0);
        parallelFor(visits.size(), [&](std::size_t i) { ++visits[i]; });
        QVERIFY(std::all_of(visits.begin(), visits.end(), [](int v) { return v == 1; }));
        parallelFor(0, [](std::size_t) { QFAIL("nothing to visit"); });
    }
    /// The same bits every time, and the sum of 1 / k^2 (Basel problem: pi^2 / 6 - 1/n + 1/(2 n^2) ...).
    void sumsAreInOrder() {
        constexpr std::size_t n = 1000000;
        auto sum = [] {
            return orderedSum(n, 0.0, [](std::size_t i) {
                const double k = static_cast<double>(i + 1);
                return 1 / (k * k);
            });
        };
        const double first = sum();
        for (int i = 0; i < 5; ++i) QVERIFY(sum() == first);
        QVERIFY(std::abs(first - (M_PI * M_PI / 6 - 1.0 / n + 0.5 / n / n)) < 1e-12);
        QCOMPARE(orderedSum(0, Vec3(1, 2, 3), [](std::size_t) { return Vec3(Vec3::Zero()); }), Vec3(1, 2, 3));
    }
    void boxes() {
        Box3 box;
        QVERIFY(!box.contains(Vec3::Zero()));
        box.include(Vec3(1, 2, 3));
        box.include(Vec3(4, 6, 3));
        QCOMPARE(box.size(), Vec3(3, 4, 0));
        QCOMPARE(box.diagonal(), 5.0);
        QCOMPARE(box.centre(), Vec3(2.5, 4, 3));
        QVERIFY(box.contains(Vec3(2, 3, 3)) && !box.contains(Vec3(2, 3, 3.1)) &&
                box.grown(0.2).contains(Vec3(2, 3, 3.1)));
    }
    void framesAreRightHanded() {
        for (const Vec3& axis : {Vec3(1, 0, 0), Vec3(0, 0, -1), Vec3(Vec3(1, -2, 0.5).normalized())}) {
            const auto [u, v] = perpendicular(axis);
            QVERIFY(std::abs(u.dot(axis)) < 1e-15 && std::abs(v.dot(axis)) < 1e-15 && std::abs(u.norm() - 1) < 1e-15);
            QVERIFY((u.cross(v) - axis).norm() < 1e-15);
        }
        QCOMPARE(tetVolume(Vec3::Zero(), Vec3::UnitX(), Vec3::UnitY(), Vec3::UnitZ()), 1.0 / 6);
    }
    /// What went wrong, where, what was expected and what was found.
    void errorsTellAll() {
        const InputError e(ErrorDetail{"It cannot be read.", "part.json", "material/density", "a number", "'heavy'"});
        const std::string what = e.what();
        for (const char* word : {"It cannot be read.", "part.json", "material/density", "a number", "'heavy'"})
            QVERIFY2(what.find(word) != std::string::npos, word);
        QCOMPARE(e.detail().file, std::string("part.json"));
    }
};

QTEST_GUILESS_MAIN(TestBase)
#include "test_base.moc"
