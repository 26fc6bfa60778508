// The report's pages: numbers under each other, pictures with their captions, headings with what follows, chart lines.
#include <QGuiApplication>
#include <QTextBlock>
#include <QTextLayout>
#include <QTextTable>
#include <QtTest>
#include <cmath>

#include "report/paged_report.hpp"

using namespace escultura::report;

class TestPagedReport : public QObject {
    Q_OBJECT
    QImage paper_{800, 1000, QImage::Format_RGB32};
    static std::string picture(const std::string& name) {
        return "<p><img src=\"pictures/" + name + ".png\" width=\"640\"/><br/>Caption of " + name + "</p>\n";
    }
    static std::string table(int rows) {
        std::string t = "<table width=\"100%\"><thead><tr><th>Name</th><th>Value</th></tr></thead>";
        for (int r = 0; r < rows; ++r) t += "<tr><td>row</td><td>words of the row</td></tr>";
        return t + "</table>\n";
    }
    std::unique_ptr<PagedReport> laidOut(const std::string& html,
                                         const std::map<std::string, PagedReport::Chart>& charts = {}) {
        QImage image(1200, 760, QImage::Format_RGB32);
        image.fill(QColor(200, 60, 40));
        return std::make_unique<PagedReport>("<html><body>" + html + "</body></html>",
                                             std::map<std::string, QImage>{{"a", image}, {"b", image}, {"c", image}},
                                             charts, std::pair<std::string, std::string>{"Lever", "variant A"}, &paper_,
                                             700., 900., 96.);
    }
    static int pageOf(const PagedReport& r, double y) {
        return static_cast<int>(std::floor(y / r.document().pageSize().height()));
    }

  private slots:
    void initTestCase() {
        paper_.setDotsPerMeterX(3780);
        paper_.setDotsPerMeterY(3780);
    }
    void numbersAreKnown() {
        for (const char* words : {"1", "-12.5", "3.1e-10 mm", "205.0 MPa", "7990 kg/m³", "0.5 %",
                                  "\u2212"
                                  "4"})
            QVERIFY2(isNumber(words), words);
        for (const char* words : {"", "none", "1, 2, 3", "1.2; 3", "between 1 and 2", "A 1", "1 to 2 mm"})
            QVERIFY2(!isNumber(words), words);
    }
    /// Decimal signs of a column stand one under the other, wherever the numbers begin; words stay at the left.
    void decimalSignsAlign() {
        const auto r = laidOut(
            "<table><thead><tr><th>Case</th><th>Value</th><th>Other</th></tr></thead>"
            "<tr><td>a</td><td>1.25 mm</td><td>7</td></tr><tr><td>b</td><td>1234.5 mm</td><td>none</td></tr>"
            "<tr><td>c</td><td>17 mm</td><td>8</td></tr></table>");
        const auto tables = r->document().rootFrame()->childFrames();
        QCOMPARE(tables.size(), 1);
        auto* t = qobject_cast<QTextTable*>(tables.front());
        QVERIFY(t);
        auto xAfter = [&](int row, int column, const QString& whole) {
            const QTextBlock b = t->cellAt(row, column).firstCursorPosition().block();
            const auto at = b.text().indexOf(whole) + whole.size();
            return b.layout()->lineAt(0).cursorToX(static_cast<int>(at));
        };
        const double x = xAfter(1, 1, "1");
        QVERIFY(x > 20);
        QVERIFY2(std::abs(xAfter(2, 1, "1234") - x) < 1, qPrintable(QString::number(xAfter(2, 1, "1234") - x)));
        QVERIFY(std::abs(xAfter(3, 1, "17") - x) < 1);
        for (int row = 1; row <= 3; ++row)
            QCOMPARE(t->cellAt(row, 1).firstCursorPosition().block().layout()->lineCount(), 1);
        QVERIFY(std::abs(xAfter(1, 2, "7") - xAfter(1, 2, "")) < 12);  // a column with words in it is left as it is
        QVERIFY(!t->cellAt(1, 2).firstCursorPosition().block().text().contains('\t'));
    }
    void whatBelongsTogetherStays() {
        std::string html;
        for (int k = 0; k < 6; ++k)
            html += "<h2>Chapter</h2>" + picture("a") + "<p>words</p>" + picture("b") + "<h3>Section</h3>" +
                    table(5 + k) + "<p>more words, and more</p>" + picture("c");
        const auto r = laidOut(html);
        QVERIFY(r->pages() >= 9);
        auto* layout = r->document().documentLayout();
        int pictures = 0, headings = 0;
        for (QTextBlock b = r->document().begin(); b.isValid(); b = b.next()) {
            const QRectF box = layout->blockBoundingRect(b);
            if (b.text().contains(QChar::ObjectReplacementCharacter)) {
                ++pictures;
                QCOMPARE(pageOf(*r, box.top() + 1), pageOf(*r, box.bottom() - 1));
            } else if (b.blockFormat().headingLevel() > 0) {
                ++headings;
                QCOMPARE(pageOf(*r, box.bottom() - 1), pageOf(*r, layout->blockBoundingRect(b.next()).top() + 1));
            }
        }
        QCOMPARE(pictures, 18);
        QCOMPARE(headings, 12);
        for (QTextFrame* f : r->document().rootFrame()->childFrames()) {
            const QRectF box = layout->frameBoundingRect(f);
            QCOMPARE(pageOf(*r, box.top() + 1), pageOf(*r, box.bottom() - 1));
        }
    }
    /// A chart is drawn with lines where its picture would be, as wide; the header is on every page.
    void chartsAreDrawn() {
        QSizeF size;
        const auto r = laidOut("<p>before</p>" + picture("a") + picture("b"), {{"a", [&](QPainter& p, const QSizeF& s) {
                                                                                    size = s;
                                                                                    p.fillRect(QRectF(QPointF(0, 0), s),
                                                                                               QColor(20, 90, 160));
                                                                                }}});
        for (int page = 0; page < r->pages(); ++page) {
            paper_.fill(Qt::white);
            QPainter painter(&paper_);
            r->paint(painter, page);
            painter.end();
            bool header = false;
            for (int x = 0; x < 200; ++x) header = header || qGray(paper_.pixel(x, 10)) < 128;
            QVERIFY(header);
            if (page > 0) {  // no room for both on one: the picture that is no chart
                QVERIFY(paper_.pixelColor(350, 200).red() > 150);
                continue;
            }
            QCOMPARE(size.width(), 1200.);
            QVERIFY(std::abs(size.height() - 760) < 12);
            int blue = 0, widest = 0;
            for (int y = 0; y < 1000; ++y) {
                int across = 0;
                for (int x = 0; x < 800; ++x) {
                    const QColor c = paper_.pixelColor(x, y);
                    across += c.blue() > c.red() + 60;
                }
                blue += across;
                widest = std::max(widest, across);
            }
            QVERIFY2(std::abs(widest - 700) < 6, qPrintable(QString::number(widest)));
            QVERIFY(std::abs(blue - 700 * 443) < 0.05 * 700 * 443);
        }
    }
};

int main(int argc, char** argv) {
    qputenv("QT_QPA_PLATFORM", "offscreen");
    QGuiApplication application(argc, argv);
    TestPagedReport test;
    return QTest::qExec(&test, argc, argv);
}
#include "test_paged_report.moc"
