#include <QtTest>

#include "judge/factor.hpp"
#include "judge/findings.hpp"
#include "made_up_part.hpp"
#include "project/run.hpp"

using namespace escultura;
using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using namespace escultura::judge;

namespace {

/// A move that keeps the cells' axes: x' = turn x + shift.
struct Move {
    Mat3 turn = Mat3::Identity();
    Vec3 shift = Vec3::Zero();
    Vec3 operator()(const Vec3& p) const { return turn * p + shift; }
};

/// A lever without any symmetry: rings of two sizes, a bar off the middle with a rib on one side, flat cells.
field::DensityField unevenField() {
    field::DensityField f;
    f.cells = {32, 14, 8};
    f.spacing = Vec3(2.5, 2.5, 2.2);
    f.source = "uneven";
    for (int k = 0; k < f.cells[2]; ++k)
        for (int j = 0; j < f.cells[1]; ++j)
            for (int i = 0; i < f.cells[0]; ++i) {
                const Vec3 p = f.spacing.cwiseProduct(Vec3(i + 0.5, j + 0.5, k + 0.5));
                double d = 0.02;
                if (std::abs(p[1] - 17) < 6 && p[0] > 15 && p[0] < 65) d = 0.6 + 0.3 * p[0] / 80;
                if (std::abs(p[1] - 24) < 4 && p[0] > 15 && p[0] < 50 && p[2] < 8) d = 0.9;
                if (std::hypot(p[0] - 15, p[1] - 15) < 12) d = 1;
                if (std::hypot(p[0] - 65, p[1] - 17.3) < 10) d = 1;
                f.density.push_back(static_cast<float>(d));
            }
    return f;
}

field::DensityField moved(const field::DensityField& f, const Move& m) {
    field::DensityField g;
    g.source = f.source;
    g.spacing = (m.turn * f.spacing).cwiseAbs();
    const Vec3 n = (m.turn * Vec3(f.cells[0], f.cells[1], f.cells[2])).cwiseAbs();
    for (int a = 0; a < 3; ++a) g.cells[a] = static_cast<int>(std::lround(n[a]));
    const Box3 box = f.bounds();
    g.origin = m(box.low).cwiseMin(m(box.high));
    g.density.resize(f.count());
    for (std::size_t c = 0; c < f.count(); ++c) {
        const Vec3 at = (m(f.centre(c)) - g.origin).cwiseQuotient(g.spacing);
        g.density[g.index(static_cast<int>(at[0]), static_cast<int>(at[1]), static_cast<int>(at[2]))] = f.density[c];
    }
    return g;
}

nlohmann::json movedPart(const Move& m, const Vec3& fieldOrigin, const Vec3& spacing) {
    auto list = [](const Vec3& v) { return nlohmann::json::array({v[0], v[1], v[2]}); };
    const auto place = [&](double x, double y, double z) { return list(m(Vec3(x, y, z))); };
    const auto direction = [&](double x, double y, double z) { return list(m.turn * Vec3(x, y, z)); };
    auto part = made_up::leverPart();
    part["field"]["spacing"] = list(spacing);
    part["field"]["origin"] = list(fieldOrigin);
    part["interfaces"] = {{{"name", "pivot"},
                           {"kind", "boss"},
                           {"origin", place(15, 15, 0)},
                           {"axis", direction(0, 0, 1)},
                           {"length", 17.6},
                           {"bore_diameter", 9.1},
                           {"ring_diameter", 23},
                           {"blend_radius", 2}},
                          {{"name", "eye"},
                           {"kind", "boss"},
                           {"origin", place(65, 17.3, 0)},
                           {"axis", direction(0, 0, 1)},
                           {"length", 17.6},
                           {"bore_diameter", 7.3},
                           {"ring_diameter", 19},
                           {"blend_radius", 3}}};
    part["load_cases"][0]["loads"][0]["direction"] = direction(0, -1, 0);
    part["load_cases"][1]["loads"][0]["force"] = direction(2000, 100, 0);
    return part;
}

}  // namespace

Q_DECLARE_METATYPE(Move)

/// A part that is moved, mirrored or turned by quarters has the same figures.
class TestOwnFrame : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;

    /// @param test  also the hotspots that govern
    Project checked(const Move& m, bool test) {
        const field::DensityField f = moved(unevenField(), m);
        Progress progress;
        Project p =
            openPart(made_up::writeLever(dir_.path().toStdString(), movedPart(m, f.origin, f.spacing), f), progress);
        Recipe& r = p.variants[0].recipe;
        r.elementSize = 4;
        Thickening t;
        t.centre = m(Vec3(40, 17, 9));
        r.thickenings = {t};
        LocalSize finer;
        finer.centre = m(Vec3(52, 17, 3));
        finer.radius = 6;
        finer.size = 2.5;
        r.check.localSizes = {finer};
        run(p, r, Stage::findings, progress);
        if (test) testWhatGoverns(p, r, progress);
        return p;
    }
    static bool agree(double a, double b, double share = 1e-9) { return std::abs(a - b) <= share * std::abs(b); }

  private slots:
    void isTheSameWhereverThePartLies_data() {
        QTest::addColumn<Move>("move");
        auto turned = [](std::initializer_list<double> rows) {
            Move m;
            std::copy(rows.begin(), rows.end(), m.turn.data());
            m.turn.transposeInPlace();
            return m;
        };
        QTest::newRow("mirrored along x") << turned({-1, 0, 0, 0, 1, 0, 0, 0, 1});
        QTest::newRow("mirrored along y") << turned({1, 0, 0, 0, -1, 0, 0, 0, 1});
        QTest::newRow("mirrored along z") << turned({1, 0, 0, 0, 1, 0, 0, 0, -1});
        QTest::newRow("turned about z") << turned({0, -1, 0, 1, 0, 0, 0, 0, 1});
        QTest::newRow("turned about x") << turned({1, 0, 0, 0, 0, 1, 0, -1, 0});
        QTest::newRow("axes changed in a circle") << turned({0, 1, 0, 0, 0, 1, 1, 0, 0});
        QTest::newRow("moved by a million") << Move{Mat3::Identity(), Vec3(1e6, -1e6, 5e5)};
    }
    void isTheSameWhereverThePartLies() {
        QFETCH(Move, move);
        const Move& m = move;
        static const Project plain = checked({}, true);
        // two of them, for the time it takes
        const bool tested = QString(QTest::currentDataTag()).startsWith("mirrored along x") ||
                            QString(QTest::currentDataTag()).startsWith("axes");
        const Project other = checked(m, tested);
        const Recipe &r = plain.current().recipe, &q = other.current().recipe;
        const auto s = plain.surface(r), t = other.surface(q);
        QCOMPARE(t->mesh.triangle.size(), s->mesh.triangle.size());
        QVERIFY(agree(t->mass, s->mass));
        QVERIFY(agree(t->measures.area, s->measures.area));
        QVERIFY((t->measures.centroid - m(s->measures.centroid)).norm() < 1e-6);
        QVERIFY((t->measures.inertia - m.turn * s->measures.inertia * m.turn.transpose()).norm() <
                1e-8 * s->measures.inertia.norm());
        QVERIFY(agree(t->thickness.least, s->thickness.least, 1e-6));  // kept as a float
        const auto c = plain.check(r), d = other.check(q);
        QCOMPARE(d->mesh.tet.size(), c->mesh.tet.size());
        double far = 0;
        for (std::size_t n = 0; n < c->mesh.position.size(); ++n)
            far = std::max(far, (d->mesh.position[n] - m(c->mesh.position[n])).norm());
        QVERIFY2(far < 1e-6, qPrintable(QString::number(far)));
        QVERIFY2(agree(d->minSafetyFactor, c->minSafetyFactor),
                 qPrintable(
                     QString("%1 against %2").arg(d->minSafetyFactor, 0, 'g', 15).arg(c->minSafetyFactor, 0, 'g', 15)));
        for (std::size_t k = 0; k < c->cases.size(); ++k) {
            QVERIFY(agree(d->cases[k].maxStress, c->cases[k].maxStress));
            QVERIFY(agree(d->cases[k].maxDisplacement, c->cases[k].maxDisplacement));
        }
        QCOMPARE(findingsOf(other, q).size(), findingsOf(plain, r).size());
        if (!tested) return;
        // and after the hotspots that govern were tested on finer meshes
        const Factor before = factorOf(plain, plain.current(), *c), after = factorOf(other, other.current(), *d);
        QVERIFY(before.value != c->minSafetyFactor);
        QVERIFY2(agree(after.value, before.value, 1e-5),
                 qPrintable(QString("%1 against %2").arg(after.value, 0, 'g', 15).arg(before.value, 0, 'g', 15)));
    }
};

QTEST_GUILESS_MAIN(TestOwnFrame)
#include "test_own_frame.moc"
