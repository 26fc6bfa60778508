// Charts: what is drawn of variants, where values lie, and what is seen in pixels.
#include <QGuiApplication>
#include <QImage>
#include <QTemporaryDir>
#include <QtTest>
#include <cmath>

#include "base/error.hpp"
#include "made_up_part.hpp"
#include "report/animation.hpp"
#include "report/report.hpp"
#include "report/variant_plots.hpp"

using namespace escultura;
using namespace escultura::report;
using judge::VariantFigures;

namespace {

/// Three variants: the second is beaten by the third, the last has no figures.
std::vector<VariantFigures> variants() {
    std::vector<VariantFigures> v(4);
    const double mass[] = {1.0, 0.8, 0.7}, factor[] = {4.0, 2.0, 2.5};
    for (int i = 0; i < 3; ++i) {
        v[i].id = i + 1;
        v[i].name = std::string(1, static_cast<char>('A' + i));
        v[i].mass = mass[i];
        v[i].safetyFactor = factor[i];
        v[i].displacement = 0.1 * (i + 1);
        v[i].peaks = {{"steady", 50.0 + i}, {"storm", 80.0 + 2 * i}};
        v[i].fresh = true;
    }
    v[3].name = "D";
    return v;
}

duty::Part part() {
    return duty::parsePart(made_up::leverPart().dump(), "lever.json");
}

QImage drawn(const Plot& plot, const QSize& size = {400, 220}) {
    QImage image(size, QImage::Format_RGB32);
    image.fill(Qt::white);
    QPainter painter(&image);
    QFont font;
    font.setPixelSize(12);
    painter.setFont(font);
    paint(painter, QSizeF(size), plot);
    return image;
}

/// Whether a pixel around a place has about this colour.
bool isColoured(const QImage& image, const QPointF& at, const QColor& colour) {
    for (int y = -2; y <= 2; ++y)
        for (int x = -2; x <= 2; ++x) {
            const QPoint p = at.toPoint() + QPoint(x, y);
            if (!image.rect().contains(p)) continue;
            const QColor c = image.pixelColor(p);
            if (std::abs(c.red() - colour.red()) + std::abs(c.green() - colour.green()) +
                    std::abs(c.blue() - colour.blue()) <
                40)
                return true;
        }
    return false;
}

const QColor teal(0x1F, 0x6F, 0x6B), clay(0xB4, 0x53, 0x2A);

}  // namespace

class TestPlots : public QObject {
    Q_OBJECT
    QFont font_;
  private slots:
    void initTestCase() { font_.setPixelSize(12); }

    void curvesOfVariants() {
        const Plot p = variantCurves(part(), variants(), VariantFigure::safetyFactor);
        QVERIFY(p.kind == Plot::Kind::curves);
        QCOMPARE(p.ticks, (QStringList{"A", "B", "C", "D"}));
        QCOMPARE(p.series.size(), std::size_t(1));
        QCOMPARE(p.series[0].points.size(), std::size_t(3));  // the last has no figure
        QCOMPARE(p.series[0].points[1], QPointF(1, 2.0));
        QCOMPARE(p.limit, 1.5);  // of the lever's requirement
        QCOMPARE(p.limitWords, QString("required 1.50"));
        QVERIFY(p.range.top() < 1.5 && p.range.bottom() > 4);
        QCOMPARE(variantCurves(part(), variants(), VariantFigure::mass).limit, 0.2);
        QCOMPARE(variantCurves(part(), variants(), VariantFigure::displacement).limit, 0.5);
        const Plot stress = variantCurves(part(), variants(), VariantFigure::peakStress);
        QCOMPARE(stress.series.size(), std::size_t(2));
        QCOMPARE(stress.series[1].name, QString("storm"));
        QCOMPARE(stress.series[1].points[2].y(), 84.0);
        QVERIFY(std::abs(stress.limit - 250 / 1.5) < 1e-9);  // yield over the required factor
    }
    void scatterMarksTheFront() {
        const Plot p = variantScatter(part(), variants(), 2);
        QCOMPARE(p.dots.size(), std::size_t(3));
        QVERIFY(p.dots[0].onFront && !p.dots[1].onFront && p.dots[2].onFront);
        QVERIFY(!p.dots[0].open && p.dots[1].open);
        QCOMPARE(p.dots[2].at, QPointF(0.7, 2.5));
    }
    /// A part without requirements has no line.
    void withoutRequirements() {
        duty::Part bare = part();
        bare.requirements.clear();
        QVERIFY(std::isnan(variantCurves(bare, variants(), VariantFigure::mass).limit));
        QVERIFY(std::isnan(variantScatter(bare, {}, 0).limit));
    }
    void valuesLieWhereTheyBelong() {
        const QSizeF size(400, 220);
        const Plot p = curves("t", "x", {{"s", {{0, 10}, {4, 30}}}}, {});
        const QPointF a = placeIn(p, size, font_, {0, 10}), b = placeIn(p, size, font_, {4, 30}),
                      m = placeIn(p, size, font_, {2, 20});
        QVERIFY(a.x() < b.x() && a.y() > b.y());
        QVERIFY(std::abs(m.x() - 0.5 * (a.x() + b.x())) < 1e-9 && std::abs(m.y() - 0.5 * (a.y() + b.y())) < 1e-9);
        for (const QPointF& q : {a, b}) QVERIFY(QRectF(QPointF(0, 0), size).contains(q));
        // one value alone, and none, have room around
        for (const Plot& q : {curves("t", "x", {{"s", {{3, 7}}}}, {}), curves("t", "x", {}, {})})
            QVERIFY(q.range.width() > 0 && q.range.height() > 0);
    }
    void curvesAndLimitsAreSeen() {
        const Plot p = curves("Safety factor", "variants", {{"s", {{0, 1}, {1, 3}, {2, 2}}}}, {"A", "B", "C"}, 1.5,
                              "required 1.5");
        const QImage image = drawn(p);
        for (const QPointF& v : p.series[0].points)
            QVERIFY(isColoured(image, placeIn(p, image.size(), font_, v), teal));
        bool dashed = false;
        for (double x = 0.05; x < 2; x += 0.05)
            dashed = dashed || isColoured(image, placeIn(p, image.size(), font_, {x, 1.5}), clay);
        QVERIFY(dashed);
        QVERIFY(!isColoured(image, placeIn(p, image.size(), font_, {0.3, 2.6}), teal));
    }
    void dotsOfTheFrontAreFilled() {
        const Plot p = variantScatter(part(), variants(), 1);
        const QImage image = drawn(p);
        QVERIFY(isColoured(image, placeIn(p, image.size(), font_, {0.7, 2.5}), teal));
        const QPointF hollow = placeIn(p, image.size(), font_, {0.8, 2.0});
        QCOMPARE(image.pixelColor(hollow.toPoint()), QColor(Qt::white));
    }
    /// Bars grow from the middle: to the right where a figure rises, to the left where it falls, by their size.
    void barsHaveTheirLength() {
        const Plot p = rankedBars("Effect", {{"threshold", "+2", 2}, {"smoothing", "-1", -1}, {"nothing", "0", 0}});
        const QImage image = drawn(p, {500, 120});
        int right = 0, left = 0;
        for (int y = 0; y < image.height(); ++y) {
            int r = 0, l = 0;
            for (int x = 0; x < image.width(); ++x) {
                const QColor c = image.pixelColor(x, y);
                r += c == teal;
                l += c == clay;
            }
            right = std::max(right, r);
            left = std::max(left, l);
        }
        QVERIFY2(right > 50 && std::abs(right - 2 * left) <= 4, qPrintable(QString("%1 %2").arg(right).arg(left)));
    }
    /// Small curves fill their area from the lowest to the highest value, on a logarithmic axis by decades.
    void smallCurvesFillTheirArea() {
        const QSize size(300, 104);
        const QImage plain =
            drawn(smallCurve("residual", {{0, 0}, {1, 5}, {2, 10}}, false, std::nan(""), "iterations"), size);
        const QImage decades =
            drawn(smallCurve("residual", {{0, 1}, {1, 1e-4}, {2, 1e-8}}, true, std::nan(""), "iterations"), size);
        const QFontMetricsF m(font_);
        const QRectF a(44, m.height() + 6, size.width() - 52, size.height() - 2 * m.height() - 12);
        QVERIFY(isColoured(plain, a.bottomLeft(), teal) && isColoured(plain, a.topRight(), teal));
        QVERIFY(isColoured(plain, a.center(), teal));
        QVERIFY(isColoured(decades, a.topLeft(), teal) && isColoured(decades, a.bottomRight(), teal));
        QVERIFY(isColoured(decades, a.center(), teal));  // four of eight decades
        QVERIFY(!isColoured(plain, a.topLeft() + QPointF(6, 6), teal));
    }
    void smallCurvesShowTheirLimit() {
        const QSize size(300, 104);
        const QImage image = drawn(smallCurve("safety factor", {{0, 1}, {1, 3}}, false, 2, "unknowns"), size);
        const QFontMetricsF m(font_);
        const QRectF a(44, m.height() + 6, size.width() - 52, size.height() - 2 * m.height() - 12);
        bool dashed = false;
        for (double x = a.left(); x < a.right(); x += 2)
            for (int y = -1; y <= 1; ++y) {  // half a pixel of a thin line may be all there is of it
                const QColor c = image.pixelColor(QPointF(x, a.center().y() + y).toPoint());
                dashed |= c.red() > c.blue() + 30 && c.red() > c.green() + 20;
            }
        QVERIFY(dashed);
        // one value alone does not divide by nothing
        QVERIFY(!drawn(smallCurve("one", {{3, 7}}, true, std::nan(""), ""), size).isNull());
        QVERIFY(smallCurve("none", {}, false, 1, "").kind == Plot::Kind::nothing);
    }
    /// Bars beyond the warning limits are ochre; a few in thousands are still seen.
    void smallBarsWarn() {
        const QSize size(300, 104);
        const QColor ochre(0xC5, 0x8B, 0x1B), grey(0xB9, 0xAE, 0x9A);
        const Plot p = smallBars("angles", {3, 0, 4000, 9000, 2}, 0, 5, 12, 18, "°");
        const QImage image = drawn(p, size);
        const QFontMetricsF m(font_);
        const QRectF a(44, m.height() + 6, size.width() - 52, size.height() - 2 * m.height() - 12);
        auto bar = [&](int k) { return QPointF(a.left() + (k + 0.5) * a.width() / 5, a.bottom() - 1.5); };
        QVERIFY(isColoured(image, bar(0), ochre));  // 0 to 5: below 12
        QVERIFY(!isColoured(image, bar(1), ochre) && !isColoured(image, bar(1), grey));
        QVERIFY(isColoured(image, bar(2), grey));  // 10 to 15 reaches beyond 12
        QVERIFY(isColoured(image, bar(3), grey));
        QVERIFY(isColoured(image, bar(4), ochre));                           // from 20 on
        QVERIFY(isColoured(image, QPointF(bar(3).x(), a.top() + 2), grey));  // the highest fills the area
        QVERIFY(smallBars("none", {}, 0, 1, 0, 0, "").kind == Plot::Kind::nothing);
    }
    void nothingIsDrawnOfNothing() {
        const QImage image = drawn(Plot{});
        for (int y = 0; y < image.height(); ++y)
            for (int x = 0; x < image.width(); ++x) QVERIFY(image.pixelColor(x, y) == QColor(Qt::white));
    }
    void manyVariantsAndLongNames() {
        auto many = variants();
        for (int i = 0; i < 40; ++i) {
            many.push_back(many[i % 3]);
            many.back().name = "a variant with a rather long name " + std::to_string(i);
            many.back().mass += 0.01 * i;
        }
        for (VariantFigure f : {VariantFigure::safetyFactor, VariantFigure::peakStress})
            QVERIFY(!drawn(variantCurves(part(), many, f)).isNull());
        const Plot p = variantScatter(part(), many, 1);
        QCOMPARE(p.dots.size(), std::size_t(43));
        QVERIFY(!drawn(p).isNull());
    }
    /// An animated WebP: RIFF, WEBP, one ANMF chunk a frame.
    void animationsHoldTheirFrames() {
        QTemporaryDir dir;
        std::vector<QImage> frames;
        for (int i = 0; i < 5; ++i) {
            QImage f(64, 40, QImage::Format_RGB32);
            f.fill(QColor(40 * i, 80, 120));
            frames.push_back(f);
        }
        const QString path = dir.filePath("swing.webp");
        writeAnimation(path.toStdString(), frames, 60);
        QFile file(path);
        QVERIFY(file.open(QIODevice::ReadOnly));
        const QByteArray bytes = file.readAll();
        QVERIFY(bytes.startsWith("RIFF") && bytes.mid(8, 4) == "WEBP");
        QCOMPARE(bytes.count("ANMF"), 5);
        QVERIFY(bytes.contains("ANIM"));
        QVERIFY_EXCEPTION_THROWN(writeAnimation("/no/such/folder/x.webp", frames, 60), InputError);
    }
    void foldersThatCannotBeWritten() {
        QTemporaryDir dir;
        requireReleaseTarget(dir.filePath("new/one").toStdString(), false);
        QFile file(dir.filePath("file"));
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.close();
        QVERIFY_EXCEPTION_THROWN(requireReleaseTarget(dir.filePath("file").toStdString(), false), InputError);
        QVERIFY_EXCEPTION_THROWN(requireReleaseTarget(dir.filePath("file/inside").toStdString(), false), InputError);
    }
    void picturesOfViewsHaveFileNames() {
        project::NamedView v;
        v.name = "Fork: rear / left";
        QCOMPARE(viewPicture(v, 2), std::string("view-Fork--rear---left-case-3"));
    }
};

int main(int argc, char** argv) {
    qputenv("QT_QPA_PLATFORM", "offscreen");
    QGuiApplication application(argc, argv);
    TestPlots test;
    return QTest::qExec(&test, argc, argv);
}
#include "test_plots.moc"
