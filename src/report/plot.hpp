/// @file report/plot.hpp
/// Charts of cards, drawer and report: curves over variants or a swept number, a scatter with its front, ranked bars,
/// and small ones that say their extremes only.

#pragma once
#include <QPainter>
#include <QPointF>
#include <QRectF>
#include <QString>
#include <QStringList>
#include <limits>
#include <vector>

namespace escultura::report {

struct PlotSeries {
    QString name;
    std::vector<QPointF> points;
};
struct PlotDot {
    QString name;
    QPointF at;
    bool onFront = false, open = false;
};
struct PlotBar {
    QString name, value;
    double size = 0;  ///< with sign
};

/// What is drawn. Make it with one of the functions below.
struct Plot {
    enum class Kind { nothing, curves, scatter, bars, smallCurve, smallBars } kind = Kind::nothing;
    QString title, horizontal, vertical, limitWords;
    std::vector<PlotSeries> series;
    QStringList ticks;  ///< words under whole numbers 0, 1, ...; empty: numbers
    std::vector<PlotDot> dots;
    std::vector<PlotBar> bars;
    double limit = std::numeric_limits<double>::quiet_NaN();  ///< a dashed line across; NaN: none
    QRectF range;                                             ///< of the values
    bool logarithmic = false;                                 ///< smallCurve: the vertical axis
    double first = 0, width = 1;                              ///< smallBars: where they begin, and how wide each is
    /// smallBars: those beyond are ochre; NaN: none
    double warnBelow = std::numeric_limits<double>::quiet_NaN(), warnAbove = warnBelow;
};

/// Curves over one horizontal axis. @param ticks  words under whole numbers 0, 1, ...; empty: numbers
/// @param limit  a dashed line across with its words; NaN: none
Plot curves(const QString& title, const QString& horizontal, std::vector<PlotSeries> series, QStringList ticks,
            double limit = std::numeric_limits<double>::quiet_NaN(), const QString& limitWords = {});
/// Dots with their names; those on the front are filled and joined.
Plot scatter(const QString& title, const QString& horizontal, const QString& vertical, std::vector<PlotDot> dots,
             double limit = std::numeric_limits<double>::quiet_NaN(), const QString& limitWords = {});
/// Horizontal bars from a middle line, in the order given.
Plot rankedBars(const QString& title, std::vector<PlotBar> bars);

/// One line over iterations or sizes, with its extremes. @param unit  of the horizontal axis
Plot smallCurve(const QString& title, std::vector<QPointF> points, bool logarithmic, double limit, const QString& unit);
/// A histogram: bars from `first`, each `width` wide.
Plot smallBars(const QString& title, const std::vector<double>& sizes, double first, double width, double warnBelow,
               double warnAbove, const QString& unit);

/// Where a value lies in a picture of this size with this font.
QPointF placeIn(const Plot& plot, const QSizeF& size, const QFont& font, const QPointF& value);
/// Colours of words, axes and marks; those of paper by default.
struct PlotColours {
    QColor ink{0x2B, 0x2A, 0x27}, muted{0x6E, 0x69, 0x5F}, line{0xDA, 0xD2, 0xC3}, clay{0xB4, 0x53, 0x2A},
        teal{0x1F, 0x6F, 0x6B}, grid{0xEB, 0xE4, 0xD6}, bar{0xB9, 0xAE, 0x9A};
};
/// Draws into the rectangle from (0, 0), with the painter's font.
void paint(QPainter& painter, const QSizeF& size, const Plot& plot, const PlotColours& colours = {});

}  // namespace escultura::report
