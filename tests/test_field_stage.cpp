// Stage Field and what becomes of a field: combinations, thresholds for a wanted volume, pieces, raw surface, figures.
#include <QtTest>
#include <cmath>
#include <set>

#include "base/error.hpp"
#include "made_up_part.hpp"
#include "project/project.hpp"
#include "project/run.hpp"
#include "stages/coarser_field.hpp"
#include "surface/tri_mesh.hpp"

using namespace escultura;
using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using made_up::messageOf;

class TestFieldStage : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;
    Project lever_;
    static field::DensityField fieldOf(std::vector<float> density) {
        field::DensityField f;
        f.cells = {static_cast<int>(density.size()), 1, 1};
        f.spacing = Vec3::Constant(2);
        f.density = std::move(density);
        return f;
    }
    const FieldResult& field() const { return *lever_.field(); }

  private slots:
    void initTestCase() {
        Progress progress;
        lever_ = openPart(made_up::writeLever(dir_.path().toStdString()), progress);
    }

    /// What is drawn of large fields: means over cubes, cut off at the grid's end, and the interfaces' cubes.
    void coarserFieldsKeepTheMaterial() {
        const FieldResult& f = field();
        const auto coarse = coarserField(f.field, f.kept, 300);
        const field::DensityField& g = coarse->field;
        QCOMPARE(g.cells, (std::array<int, 3>{16, 6, 3}));  // of 32 x 12 x 6: cubes of two
        QCOMPARE(g.spacing, Vec3(5, 5, 5));
        double fine = 0, few = 0;
        for (const float d : f.field.density) fine += d * f.field.cellVolume();
        for (const float d : g.density) few += d * g.cellVolume();
        QVERIFY(std::abs(few / fine - 1) < 1e-6);
        QCOMPARE(coarse->kept.size(), f.kept.size());
        for (std::size_t k = 0; k < f.kept.size(); ++k) {
            std::set<std::size_t> meant;
            for (const std::size_t c : f.kept[k].cells) {
                const Vec3 at = (f.field.centre(c) - g.origin) / 5;
                meant.insert(g.index(static_cast<int>(at[0]), static_cast<int>(at[1]), static_cast<int>(at[2])));
            }
            QCOMPARE(std::set<std::size_t>(coarse->kept[k].cells.begin(), coarse->kept[k].cells.end()), meant);
            QCOMPARE(coarse->kept[k].cells.size(), meant.size());
        }
        const auto cut = coarserField(f.field, {}, 60);  // cubes of four: 8 x 3 x 2, of five: 7 x 3 x 2
        QCOMPARE(cut->field.cells, (std::array<int, 3>{8, 3, 2}));
        QVERIFY(f.drawn.empty());  // so small a field is drawn as it is
    }
    void fieldsAreCombined() {
        const auto a = fieldOf({0.f, 0.2f, 0.9f}), b = fieldOf({0.5f, 0.1f, 0.4f}), c = fieldOf({0.1f, 0.9f, 0.5f});
        const std::vector<const field::DensityField*> all{&a, &b, &c};
        auto of = [&](FieldChoice::How how, std::vector<double> weights = {}, int which = 0) {
            FieldChoice choice;
            choice.how = how;
            choice.which = which;
            choice.weights = std::move(weights);
            return chosenField(choice, all).density;
        };
        QCOMPARE(of(FieldChoice::How::one, {}, 1), b.density);
        QCOMPARE(of(FieldChoice::How::maximum), (std::vector<float>{0.5f, 0.9f, 0.9f}));
        const auto mean = of(FieldChoice::How::mean);
        for (int k = 0; k < 3; ++k)
            QVERIFY(std::abs(mean[k] - (a.density[k] + b.density[k] + c.density[k]) / 3) < 1e-6);
        const auto weighted = of(FieldChoice::How::weightedSum, {0.5, 0.25, 0});
        for (int k = 0; k < 3; ++k) QVERIFY(std::abs(weighted[k] - (0.5 * a.density[k] + 0.25 * b.density[k])) < 1e-6);
        for (float d : of(FieldChoice::How::weightedSum, {2, 2, 2})) QVERIFY(d >= 0 && d <= 1);  // stays a share
        QVERIFY(messageOf([&] { of(FieldChoice::How::one, {}, 7); }) != "no error");
        QVERIFY(messageOf([&] { of(FieldChoice::How::weightedSum, {1, 1}); }) != "no error");
    }
    /// The largest threshold that keeps at least the wanted volume: one step above keeps less.
    void thresholdsForAVolume() {
        const double all = field().keptVolume->volume(0.0);
        for (double share : {0.15, 0.3, 0.5}) {
            const double wanted = share * all, t = thresholdForVolume(field(), wanted);
            QVERIFY2(field().keptVolume->volume(t) >= wanted - 1e-9, qPrintable(QString::number(t)));
            QVERIFY(t >= 0.995 || field().keptVolume->volume(t + 1e-4) <= field().keptVolume->volume(t));
            QVERIFY(field().keptVolume->volume(t + 0.02) < wanted + 0.1 * all);
        }
        QCOMPARE(thresholdForVolume(field(), 10 * all), 0.005);
        QCOMPARE(thresholdForVolume(field(), 0), 0.995);
    }
    /// Counted by hand: rings of 1, the bar from 0.6 in the middle to 1 at its ends.
    void figuresOfAThreshold() {
        Recipe r = lever_.current().recipe;
        double last = 1e300;
        for (double t : {0.1, 0.5, 0.7, 0.9}) {
            r.threshold = t;
            const ThresholdFigures f = thresholdFigures(lever_.part, field(), r);
            QVERIFY(f.volume <= last);
            last = f.volume;
            QVERIFY(std::abs(f.mass - f.volume * lever_.part.material.density) < 1e-12);
            QVERIFY(f.share > 0 && f.share < 1 && f.grey >= 0 && f.grey <= 1);
            // the bar's middle is cut where 0.6 + 0.4 |x - 40| / 25 stays below the threshold
            const bool whole = t <= 0.6;
            QCOMPARE(static_cast<int>(f.connected.size()), whole ? 2 : 1);
            QCOMPARE(f.pieces, whole ? 1 : 2);
            if (!whole) QCOMPARE(f.cutOff.size(), std::size_t(1));
        }
        // the least density of the bar: cells at x = 38.75 and 41.25 hold 0.62
        QVERIFY2(std::abs(field().largestConnectingThreshold - 0.62) < 1e-6,
                 qPrintable(QString::number(field().largestConnectingThreshold)));
        r.threshold = 0.7;
        const std::string why = messageOf([&] { requireConnected(lever_.part, field(), r); });
        QVERIFY(why.find("pivot") != std::string::npos || why.find("eye") != std::string::npos);
        r.threshold = 0.5;
        requireConnected(lever_.part, field(), r);
    }
    void piecesAreLabelled() {
        const auto pieces = piecesAt(field(), 0.8);
        QCOMPARE(pieces.pieces(), std::size_t(2));
        QCOMPARE(piecesAt(field(), 0.5).pieces(), std::size_t(1));
        QVERIFY(pieces.cellCount[0] >= pieces.cellCount[1]);
    }
    /// The iso-surface of the raw field through the centres of the cells, against its own linear interpolation: a ramp
    /// from 0 to 1 over ten cells ends where it crosses the threshold.
    void rawSurfacesLieOnTheThreshold() {
        Progress progress;
        const auto m = rawSurface(field(), 0.5, progress);
        const auto figures = surface::measure(m);
        QVERIFY(figures.watertight);
        QVERIFY(figures.volume > 0.7 * field().keptVolume->volume(0.5));
        QVERIFY(figures.volume < 1.3 * field().keptVolume->volume(0.5));
        QVERIFY(surface::measure(rawSurface(field(), 0.8, progress)).pieces >= 2);
    }
    /// The design space alone with its interfaces: a block of 80 x 30 x 15 with two bores of 8 mm.
    void theDesignSpaceIsTheOriginal() {
        Progress progress;
        const auto m = surface::measure(designSpaceSurface(lever_.part, field().regions, 1.0, progress));
        const double exact = 80 * 30 * 15 - 2 * M_PI * 16 * 15;
        QVERIFY(m.watertight && m.genus == 2 && m.pieces == 1);
        QVERIFY2(std::abs(m.volume / exact - 1) < 0.01, qPrintable(QString::number(m.volume / exact)));
    }
    void defaultsSuitTheCells() {
        const Recipe r = defaultRecipe(lever_.part, field().field);
        QCOMPARE(r.smoothing, 11.25);  // four and a half cells of 2.5 mm
        QCOMPARE(r.edges.radius, 4.0);
        QVERIFY(r.keepMembers && r.check.elementsThrough == 2);
        QCOMPARE(r.surfaceSpacing, 2.0);
        QVERIFY(std::abs(r.elementSize - 1.45 * 2.5) < 0.2);
        QCOMPARE(r.threshold, 0.5);
    }
    /// Keys change with what a stage depends on, and with nothing else.
    void keysFollowWhatMatters() {
        const Recipe base = lever_.current().recipe;
        const StageKeys k = lever_.keys(base);
        Recipe r = base;
        r.hotspotShare = 0.2;
        StageKeys c = lever_.keys(r);
        QVERIFY(c.surface == k.surface && c.check == k.check && c.findings != k.findings);
        r = base;
        r.elementSize = 2;
        c = lever_.keys(r);
        QVERIFY(c.surface == k.surface && c.cage == k.cage && c.mesh != k.mesh && c.check != k.check);
        r = base;
        r.smoothing = 4;
        c = lever_.keys(r);
        QVERIFY(c.field == k.field && c.surface != k.surface && c.cage != k.cage && c.check != k.check);
        r = base;
        r.rebuild.faceSize = 3;
        c = lever_.keys(r);
        QVERIFY(c.surface == k.surface && c.cage != k.cage && c.rebuild != k.rebuild && c.check == k.check);
        r.check.rebuilt = true;
        QVERIFY(lever_.keys(r).check != c.check);
        r = base;
        Thickening t;
        t.painted = {Vec3(1, 2, 3)};
        r.thickenings = {t};
        c = lever_.keys(r);
        QVERIFY(c.surface != k.surface);
        r.thickenings[0].painted[0].x() += 1;
        QVERIFY(lever_.keys(r).surface != c.surface);
        r = base;
        r.check.level = Level::converged;
        c = lever_.keys(r);
        QVERIFY(c.mesh == k.mesh && c.check != k.check);
    }
};

QTEST_GUILESS_MAIN(TestFieldStage)
#include "test_field_stage.moc"
