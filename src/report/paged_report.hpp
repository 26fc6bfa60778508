/// @file report/paged_report.hpp
/// The report laid out in pages, like a calculation note: one column, a header on every page, numbers one under the
/// other at their decimal signs, charts as lines and not as dots.

#pragma once
#include <QAbstractTextDocumentLayout>
#include <QImage>
#include <QPainter>
#include <QTextDocument>
#include <functional>
#include <map>
#include <memory>
#include <string>

namespace escultura::report {

/// Whether words are a number, maybe with a unit after it: "-12.5 MPa", not "1, 2, 3" nor "none".
bool isNumber(const QString& words);

class PagedReport {
  public:
    /// Draws a chart into the rectangle from (0, 0).
    using Chart = std::function<void(QPainter&, const QSizeF&)>;
    /// @param pictures  by the names that the text refers to
    /// @param charts  drawn in place of the pictures of the same names
    /// @param header  left: the part; right of it: variant and release; the page number is put behind them
    /// @param width, height  of what is printed, device pixels
    /// @param resolution  of the device, dots an inch
    PagedReport(const std::string& html, const std::map<std::string, QImage>& pictures,
                const std::map<std::string, Chart>& charts, const std::pair<std::string, std::string>& header,
                QPaintDevice* device, double width, double height, double resolution);
    ~PagedReport();
    int pages() const { return document_.pageCount(); }
    void paint(QPainter& painter, int page);
    const QTextDocument& document() const { return document_; }

  private:
    void put(const QString& text);
    /// Numbers of a column one under the other.
    void alignNumbers();
    void placeCharts();
    /// Pictures with their captions, headings with what follows.
    void keepTogether();
    QTextDocument document_;
    std::unique_ptr<QObject> painterOfCharts_;
    std::map<std::string, Chart> charts_;
    QString part_, variant_;
    double width_, height_, headerHeight_, resolution_;
};

}  // namespace escultura::report
