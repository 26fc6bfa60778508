#include "report/plot.hpp"

#include <QFontMetricsF>
#include <algorithm>
#include <cmath>

#include "base/quantity.hpp"

namespace escultura::report {
namespace {

const QColor ink(0x2B, 0x2A, 0x27), muted(0x6E, 0x69, 0x5F), line(0xDA, 0xD2, 0xC3), clay(0xB4, 0x53, 0x2A),
    teal(0x1F, 0x6F, 0x6B);
const QColor seriesColours[] = {QColor(0x1F, 0x6F, 0x6B), QColor(0xB4, 0x53, 0x2A), QColor(0xC5, 0x8B, 0x1B),
                                QColor(0x5C, 0x6B, 0x8A), QColor(0x7A, 0x5A, 0x77), QColor(0x6E, 0x8B, 0x4E)};
const Qt::PenStyle seriesStyles[] = {Qt::SolidLine, Qt::DashLine, Qt::DotLine, Qt::DashDotLine};

/// The range of values with room around; a limit is inside.
QRectF rangeOf(const std::vector<QPointF>& points, double limit) {
    double left = 1e300, right = -1e300, low = 1e300, high = -1e300;
    for (const QPointF& p : points) {
        left = std::min(left, p.x()), right = std::max(right, p.x());
        low = std::min(low, p.y()), high = std::max(high, p.y());
    }
    if (points.empty()) left = low = 0, right = high = 1;
    if (!std::isnan(limit)) low = std::min(low, limit), high = std::max(high, limit);
    auto room = [](double& a, double& b) {
        const double r =
            b - a > 1e-12 * std::max(std::abs(a), std::abs(b)) ? 0.08 * (b - a) : std::max(0.05 * std::abs(a), 1e-6);
        a -= r, b += r;
    };
    room(left, right);
    room(low, high);
    return QRectF(QPointF(left, low), QPointF(right, high));
}

/// Round steps: 1, 2 or 5 times a power of ten, three to six of them.
double tickStep(double span) {
    const double raw = span / 4, power = std::pow(10, std::floor(std::log10(raw)));
    for (double f : {1.0, 2.0, 5.0, 10.0})
        if (raw <= f * power) return f * power;
    return raw;
}

QString num(double v, int digits) {
    return QString::fromStdString(formatNumber(v, digits));
}

QRectF areaOf(const QSizeF& size, const QFontMetricsF& m) {
    return QRectF(54, 2 * m.height() + 6, size.width() - 66, size.height() - 4.2 * m.height() - 8);
}

QPointF placeOf(const Plot& plot, const QRectF& a, const QPointF& v) {
    return {a.left() + (v.x() - plot.range.left()) / plot.range.width() * a.width(),
            a.bottom() - (v.y() - plot.range.top()) / plot.range.height() * a.height()};
}

class Drawing {
  public:
    Drawing(QPainter& painter, const QSizeF& s, const Plot& data)
        : p(painter), size(s), plot(data), m(painter.font()), area(areaOf(s, m)) {}
    void axes(bool numbersBelow) {
        p.setPen(QPen(line, 1));
        p.drawLine(area.bottomLeft(), area.bottomRight());
        p.drawLine(area.bottomLeft(), area.topLeft());
        const double step = tickStep(plot.range.height());
        for (double v = std::ceil(plot.range.top() / step) * step; v <= plot.range.bottom() + 1e-9 * step; v += step) {
            const double y = at({0, v}).y();
            p.setPen(QPen(QColor(0xEB, 0xE4, 0xD6), 1));
            p.drawLine(QPointF(area.left(), y), QPointF(area.right(), y));
            p.setPen(muted);
            p.drawText(QRectF(0, y - m.height() / 2, area.left() - 5, m.height()), Qt::AlignRight | Qt::AlignVCenter,
                       num(std::abs(v) < 1e-9 * step ? 0 : v, 4));
        }
        if (numbersBelow) {
            const double across = tickStep(plot.range.width());
            p.setPen(muted);
            for (double v = std::ceil(plot.range.left() / across) * across; v <= plot.range.right() + 1e-9 * across;
                 v += across)
                p.drawText(QRectF(at({v, 0}).x() - 40, area.bottom() + 2, 80, m.height()), Qt::AlignHCenter,
                           num(std::abs(v) < 1e-9 * across ? 0 : v, 4));
        }
        p.setPen(muted);
        p.drawText(QRectF(area.left(), area.bottom() + m.height() + 3, area.width(), m.height()), Qt::AlignRight,
                   plot.horizontal);
        if (!std::isnan(plot.limit)) {
            const double y = at({0, plot.limit}).y();
            p.setPen(QPen(clay, 1.2, Qt::DashLine));
            p.drawLine(QPointF(area.left(), y), QPointF(area.right(), y));
            p.setPen(clay);
            p.drawText(QRectF(area.left() + 4, y - m.height() - 1, area.width() - 8, m.height()), Qt::AlignRight,
                       plot.limitWords);
        }
    }

    void curves() {
        axes(plot.ticks.isEmpty());
        p.setPen(muted);
        for (int t = 0; t < plot.ticks.size(); ++t) {
            const double room = area.width() / std::max<double>(1, static_cast<double>(plot.ticks.size()));
            p.drawText(QRectF(at({static_cast<double>(t), 0}).x() - room / 2, area.bottom() + 2, room, m.height()),
                       Qt::AlignHCenter, m.elidedText(plot.ticks[t], Qt::ElideRight, room - 4));
        }
        double x = area.left();
        for (std::size_t s = 0; s < plot.series.size(); ++s) {
            const QColor colour = seriesColours[s % std::size(seriesColours)];
            p.setPen(QPen(colour, 1.8, seriesStyles[s % std::size(seriesStyles)]));
            QPolygonF way;
            for (const QPointF& q : plot.series[s].points) way << at(q);
            p.drawPolyline(way);
            p.setPen(QPen(colour, 1.4));
            p.setBrush(colour);
            for (const QPointF& q : way) p.drawEllipse(q, 2.8, 2.8);
            if (plot.series.size() < 2) continue;
            p.setPen(QPen(colour, 1.8, seriesStyles[s % std::size(seriesStyles)]));
            const double y = 1.5 * m.height() + 1;
            p.drawLine(QPointF(x, y), QPointF(x + 18, y));
            p.setPen(ink);
            p.drawText(QPointF(x + 22, y + m.ascent() / 2 - 1), plot.series[s].name);
            x += 34 + m.horizontalAdvance(plot.series[s].name);
        }
    }

    void scatter() {
        axes(true);
        p.setPen(muted);
        p.drawText(QRectF(area.left(), 1.1 * m.height(), area.width(), m.height()), Qt::AlignLeft, plot.vertical);
        std::vector<QPointF> front;
        for (const PlotDot& d : plot.dots)
            if (d.onFront) front.push_back(at(d.at));
        std::sort(front.begin(), front.end(), [](const QPointF& a, const QPointF& b) { return a.x() < b.x(); });
        p.setPen(QPen(teal, 1.2, Qt::DotLine));
        p.drawPolyline(QPolygonF(QList<QPointF>(front.begin(), front.end())));
        std::vector<QRectF> names;
        for (const PlotDot& d : plot.dots) {
            const QPointF here = at(d.at);
            p.setPen(QPen(d.onFront ? teal : muted, d.open ? 2.4 : 1.4));
            p.setBrush(d.onFront ? QBrush(teal) : QBrush(Qt::white));
            p.drawEllipse(here, 4.5, 4.5);
            p.setPen(ink);
            const double wide = m.horizontalAdvance(d.name);
            const bool fits = here.x() + 8 + wide < area.right();
            QRectF box(fits ? here.x() + 8 : here.x() - 8 - wide, here.y() - 3 - m.ascent(), wide, m.height());
            // names of dots that lie close together stand under each other
            while (std::any_of(names.begin(), names.end(), [&](const QRectF& n) { return n.intersects(box); }))
                box.translate(0, 1);
            names.push_back(box);
            p.drawText(box, Qt::AlignLeft, d.name);
        }
    }

    void bars() {
        double most = 1e-300, names = 40, values = 40;
        for (const PlotBar& b : plot.bars) {
            most = std::max(most, std::abs(b.size));
            names = std::max(names, m.horizontalAdvance(b.name) + 8);
            values = std::max(values, m.horizontalAdvance(b.value) + 8);
        }
        names = std::min(names, 0.45 * size.width());
        const double row = m.height() + 7, top = 1.4 * m.height();
        const double half = std::max(20.0, (size.width() - names - values - 12) / 2), middle = names + half;
        for (std::size_t b = 0; b < plot.bars.size(); ++b) {
            const double y = top + row * static_cast<double>(b);
            p.setPen(ink);
            p.drawText(QRectF(0, y, names - 8, row), Qt::AlignRight | Qt::AlignVCenter,
                       m.elidedText(plot.bars[b].name, Qt::ElideMiddle, names - 8));
            const double length = half * std::abs(plot.bars[b].size) / most;
            const QRectF bar(plot.bars[b].size < 0 ? middle - length : middle, y + 4, std::max(1.0, length), row - 8);
            p.fillRect(bar, plot.bars[b].size < 0 ? clay : teal);
            p.setPen(muted);
            p.drawText(QRectF(size.width() - values, y, values - 2, row), Qt::AlignRight | Qt::AlignVCenter,
                       plot.bars[b].value);
        }
        p.setPen(QPen(line, 1));
        p.drawLine(QPointF(middle, top), QPointF(middle, top + row * static_cast<double>(plot.bars.size())));
    }

  private:
    QPointF at(const QPointF& value) const { return placeOf(plot, area, value); }

    QPainter& p;
    QSizeF size;
    const Plot& plot;
    QFontMetricsF m;
    QRectF area;
};

}  // namespace

Plot curves(const QString& title, const QString& horizontal, std::vector<PlotSeries> series, QStringList ticks,
            double limit, const QString& limitWords) {
    Plot p{Plot::Kind::curves, title, horizontal, {},    limitWords, std::move(series),
           std::move(ticks),   {},    {},         limit, {}};
    std::vector<QPointF> all;
    for (const PlotSeries& s : p.series) all.insert(all.end(), s.points.begin(), s.points.end());
    p.range = rangeOf(all, limit);
    return p;
}

Plot scatter(const QString& title, const QString& horizontal, const QString& vertical, std::vector<PlotDot> dots,
             double limit, const QString& limitWords) {
    Plot p{Plot::Kind::scatter, title, horizontal, vertical, limitWords, {}, {}, std::move(dots), {}, limit, {}};
    std::vector<QPointF> all;
    for (const PlotDot& d : p.dots) all.push_back(d.at);
    p.range = rangeOf(all, limit);
    return p;
}

Plot rankedBars(const QString& title, std::vector<PlotBar> bars) {
    Plot p;
    p.kind = Plot::Kind::bars;
    p.title = title;
    p.bars = std::move(bars);
    return p;
}

QPointF placeIn(const Plot& plot, const QSizeF& size, const QFont& font, const QPointF& value) {
    return placeOf(plot, areaOf(size, QFontMetricsF(font)), value);
}

void paint(QPainter& painter, const QSizeF& size, const Plot& plot) {
    painter.save();
    painter.setRenderHint(QPainter::Antialiasing);
    const QFont plain = painter.font();
    QFont bold = plain;
    bold.setWeight(QFont::DemiBold);
    painter.setFont(bold);
    painter.setPen(ink);
    painter.drawText(QPointF(4, QFontMetricsF(plain).ascent()), plot.title);
    painter.setFont(plain);
    Drawing drawing(painter, size, plot);
    if (plot.kind == Plot::Kind::curves) drawing.curves();
    if (plot.kind == Plot::Kind::scatter) drawing.scatter();
    if (plot.kind == Plot::Kind::bars) drawing.bars();
    painter.restore();
}

}  // namespace escultura::report
