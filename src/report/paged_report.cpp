#include "report/paged_report.hpp"

#include <QFontMetricsF>
#include <QRegularExpression>
#include <QTextBlock>
#include <QTextCursor>
#include <QTextObjectInterface>
#include <QTextTable>
#include <QUrl>
#include <cmath>
#include <vector>

#include "report/report.hpp"

namespace escultura::report {
namespace {

constexpr QChar point(0x200B);  // no width: where numbers are aligned
constexpr int chartObject = QTextFormat::UserObject + 1;
constexpr int chartName = QTextFormat::UserProperty + 1;

const QRegularExpression& numberPattern() {
    static const QRegularExpression pattern("^([-+\u2212]?\\d+)(\\.\\d+)?([eE][-+]?\\d+)?( [^\\d,;(]{1,8})?$");
    return pattern;
}

/// Paints charts where the document has put them.
class ChartPainter : public QObject, public QTextObjectInterface {
    Q_OBJECT
    Q_INTERFACES(QTextObjectInterface)
  public:
    const std::map<std::string, PagedReport::Chart>* charts = nullptr;
    QSizeF intrinsicSize(QTextDocument*, int, const QTextFormat& format) override {
        const auto image = format.toImageFormat();
        return {image.width(), image.height()};
    }
    void drawObject(QPainter* painter, const QRectF& rect, QTextDocument*, int, const QTextFormat& format) override {
        const auto chart = charts->find(format.property(chartName).toString().toStdString());
        if (chart == charts->end()) return;
        // as large as the picture in its place
        constexpr double width = 1200;
        const double scale = rect.width() / width;
        painter->save();
        painter->translate(rect.topLeft());
        painter->scale(scale, scale);
        painter->setRenderHint(QPainter::Antialiasing);
        chart->second(*painter, QSizeF(width, rect.height() / scale));
        painter->restore();
    }
};

}  // namespace

bool isNumber(const QString& words) {
    return numberPattern().match(words).hasMatch();
}

PagedReport::PagedReport(const std::string& html, const std::map<std::string, QImage>& pictures,
                         const std::map<std::string, Chart>& charts, const std::pair<std::string, std::string>& header,
                         QPaintDevice* device, double width, double height, double resolution)
    : charts_(charts),
      part_(QString::fromStdString(header.first)),
      variant_(QString::fromStdString(header.second)),
      width_(width),
      height_(height),
      headerHeight_(0.4 * resolution),
      resolution_(resolution) {
    document_.setDocumentMargin(0);
    QTextOption option = document_.defaultTextOption();
    option.setWrapMode(QTextOption::WordWrap);  // no words of tables are torn
    document_.setDefaultTextOption(option);
    document_.documentLayout()->setPaintDevice(device);
    auto* painter = new ChartPainter;
    painter->charts = &charts_;
    painterOfCharts_.reset(painter);
    document_.documentLayout()->registerHandler(chartObject, painter);
    for (const auto& [name, image] : pictures)
        document_.addResource(QTextDocument::ImageResource, QUrl(QString::fromStdString("pictures/" + name + ".png")),
                              image);
    QString text = QString::fromStdString(html);
    text.remove(screenStyle);
    // what aligns the numbers in a browser is done by tabulators here
    text.remove(QChar(0x2007)).remove(QChar(0x2008));
    // the document scales CSS pixels (96 an inch) to the device's resolution
    text.replace("width=\"640\"", "width=\"" + QString::number(static_cast<int>(width * 96 / resolution)) + "\"");
    put(text);
    // where the chapters came to lie; the numbers that are put in are as wide as their marks
    int chapter = 0;
    for (QTextBlock b = document_.begin(); b.isValid(); b = b.next()) {
        if (b.blockFormat().headingLevel() != 2) continue;
        const double y = document_.documentLayout()->blockBoundingRect(b).bottom();
        text.replace(QString(pageMark) + QString::number(++chapter) + "<",
                     QString::number(static_cast<int>(y / document_.pageSize().height()) + 1) + "<");
    }
    put(text);
}

PagedReport::~PagedReport() = default;

void PagedReport::put(const QString& text) {
    document_.setHtml(text);
    placeCharts();
    alignNumbers();
    document_.setPageSize(QSizeF(width_, height_ - headerHeight_));
    keepTogether();
}

void PagedReport::alignNumbers() {
    std::vector<QTextTable*> tables;
    for (QTextFrame* f : document_.rootFrame()->childFrames())
        if (auto* t = qobject_cast<QTextTable*>(f)) tables.push_back(t);
    for (QTextTable* t : tables) {
        const int first = std::max(1, t->format().headerRowCount());
        for (int c = 0; c < t->columns(); ++c) {
            int numbers = 0;
            bool all = true;
            double whole = 0;  // widest integer part, screen pixels: tabulators are scaled with the device
            for (int r = first; r < t->rows(); ++r) {
                const QTextTableCell cell = t->cellAt(r, c);
                QTextCursor at = cell.firstCursorPosition();
                const QString words = at.block().text();
                if (words.isEmpty()) continue;
                const auto match = numberPattern().match(words);
                all = all && match.hasMatch();
                if (!all) break;
                ++numbers;
                at.movePosition(QTextCursor::NextCharacter, QTextCursor::KeepAnchor);
                whole = std::max(whole, QFontMetricsF(at.charFormat().font()).horizontalAdvance(match.captured(1)));
            }
            if (!all || numbers < 2) continue;
            for (int r = first; r < t->rows(); ++r) {
                QTextCursor at = t->cellAt(r, c).firstCursorPosition();
                const auto match = numberPattern().match(at.block().text());
                if (!match.hasMatch()) continue;
                QTextBlockFormat format = at.blockFormat();
                format.setTabPositions({QTextOption::Tab(std::ceil(whole) + 1, QTextOption::DelimiterTab, point)});
                at.setBlockFormat(format);
                at.movePosition(QTextCursor::NextCharacter, QTextCursor::MoveAnchor, match.capturedLength(1));
                at.insertText(QString(point));
                at.movePosition(QTextCursor::StartOfBlock);
                at.insertText("\t");
            }
        }
    }
}

void PagedReport::placeCharts() {
    for (const auto& [name, chart] : charts_) {
        const QString path = QString::fromStdString("pictures/" + name + ".png");
        for (QTextBlock b = document_.begin(); b.isValid(); b = b.next())
            for (auto it = b.begin(); !it.atEnd(); ++it) {
                const QTextFragment fragment = it.fragment();
                const QTextImageFormat image = fragment.charFormat().toImageFormat();
                if (!image.isValid() || image.name() != path) continue;
                const QImage instead = document_.resource(QTextDocument::ImageResource, QUrl(path)).value<QImage>();
                QTextImageFormat format = image;
                const double width = image.width() * resolution_ / 96;  // of objects no one scales the size
                format.setWidth(width);
                format.setHeight(width * instead.height() / std::max(1, instead.width()));
                format.setObjectType(chartObject);
                format.setProperty(chartName, QString::fromStdString(name));
                QTextCursor at(&document_);
                at.setPosition(fragment.position());
                at.setPosition(fragment.position() + 1, QTextCursor::KeepAnchor);
                at.setCharFormat(format);
                break;
            }
    }
}

void PagedReport::keepTogether() {
    auto* layout = document_.documentLayout();
    const double page = document_.pageSize().height();
    auto pageOf = [&](double y) { return static_cast<int>(std::floor(y / page)); };
    const QTextTable* last = nullptr;
    for (QTextBlock b = document_.begin(); b.isValid(); b = b.next()) {
        const QRectF box = layout->blockBoundingRect(b);
        bool apart = false;
        QTextTable* table = QTextCursor(b).currentTable();
        if (table) {  // as a whole, as far as it is not long
            if (table == last) continue;
            last = table;
            const QRectF whole = layout->frameBoundingRect(table);
            if (whole.height() > 0.4 * page || pageOf(whole.top() + 1) == pageOf(whole.bottom() - 1)) continue;
            QTextTableFormat format = table->format();
            format.setPageBreakPolicy(QTextFormat::PageBreak_AlwaysBefore);
            table->setFormat(format);
            continue;
        }
        if (b.text().contains(QChar::ObjectReplacementCharacter)) {
            apart = pageOf(box.top() + 1) != pageOf(box.bottom() - 1);
        } else if (b.blockFormat().headingLevel() > 0 && b.next().isValid()) {
            // its own line, and two of what follows; a picture as a whole
            const QTextBlock next = b.next();
            const QRectF after = layout->blockBoundingRect(next);
            const bool picture = next.text().contains(QChar::ObjectReplacementCharacter);
            double needed = picture ? after.bottom() - 1 : after.top() + std::min(after.height(), 3 * box.height());
            if (QTextTable* below = QTextCursor(next).currentTable()) {  // it goes with a table that is kept whole
                const QRectF whole = layout->frameBoundingRect(below);
                needed = whole.height() > 0.4 * page ? whole.top() + 5 * box.height() : whole.bottom() - 1;
            }
            apart = pageOf(box.bottom() - 1) != pageOf(needed);
        }
        if (!apart || b == document_.begin()) continue;
        QTextBlockFormat format;
        format.setPageBreakPolicy(QTextFormat::PageBreak_AlwaysBefore);
        QTextCursor(b).mergeBlockFormat(format);
    }
}

void PagedReport::paint(QPainter& painter, int page) {
    QFont font("Inter");
    font.setPixelSize(static_cast<int>(0.115 * resolution_));
    painter.setFont(font);
    const QRectF line(0, 0, width_, 0.22 * resolution_);
    painter.setPen(QColor(0x2B, 0x2A, 0x27));
    const QFontMetricsF metrics(font, painter.device());
    const QString number = QString("page %1 of %2").arg(page + 1).arg(pages());
    const double room = width_ - metrics.horizontalAdvance(number) - metrics.horizontalAdvance("mm");
    painter.drawText(line, Qt::AlignLeft | Qt::AlignVCenter,
                     metrics.elidedText(part_ + "  ·  " + variant_, Qt::ElideMiddle, room));
    painter.setPen(QColor(0x6E, 0x69, 0x5F));
    painter.drawText(line, Qt::AlignRight | Qt::AlignVCenter, number);
    painter.setPen(QPen(QColor(0xDA, 0xD2, 0xC3), 0.008 * resolution_));
    painter.drawLine(line.bottomLeft(), line.bottomRight());
    const double top = page * document_.pageSize().height();
    painter.save();
    painter.translate(0, headerHeight_ - top);
    document_.drawContents(&painter, QRectF(0, top, document_.pageSize().width(), document_.pageSize().height()));
    painter.restore();
}

}  // namespace escultura::report

#include "paged_report.moc"
