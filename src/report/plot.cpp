#include "report/plot.hpp"

#include <QFontMetricsF>
#include <algorithm>
#include <cmath>

#include "base/quantity.hpp"

namespace escultura::report {
namespace {

const QColor seriesColours[] = {QColor(0x1F, 0x6F, 0x6B), QColor(0xB4, 0x53, 0x2A), QColor(0xC5, 0x8B, 0x1B),
                                QColor(0x5C, 0x6B, 0x8A), QColor(0x7A, 0x5A, 0x77), QColor(0x6E, 0x8B, 0x4E)};
const Qt::PenStyle seriesStyles[] = {Qt::SolidLine, Qt::DashLine, Qt::DotLine, Qt::DashDotLine};

/// The range of values with room around; a limit is inside.
QRectF rangeOf(const std::vector<QPointF>& points, double limit) {
    double left = 1e300, right = -1e300, low = 1e300, high = -1e300;
    for (const QPointF& p : points) {
        left = std::min(left, p.x());
        right = std::max(right, p.x());
        low = std::min(low, p.y());
        high = std::max(high, p.y());
    }
    if (points.empty()) {
        left = low = 0;
        right = high = 1;
    }
    if (!std::isnan(limit)) {
        low = std::min(low, limit);
        high = std::max(high, limit);
    }
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
    Drawing(QPainter& painter, const QSizeF& s, const Plot& data, const PlotColours& colours)
        : p(painter), size(s), plot(data), c(colours), m(painter.font()), area(areaOf(s, m)) {}
    void axes(bool numbersBelow) {
        p.setPen(QPen(c.line, 1));
        p.drawLine(area.bottomLeft(), area.bottomRight());
        p.drawLine(area.bottomLeft(), area.topLeft());
        const double step = tickStep(plot.range.height());
        for (double v = std::ceil(plot.range.top() / step) * step; v <= plot.range.bottom() + 1e-9 * step; v += step) {
            const double y = at({0, v}).y();
            p.setPen(QPen(c.grid, 1));
            p.drawLine(QPointF(area.left(), y), QPointF(area.right(), y));
            p.setPen(c.muted);
            p.drawText(QRectF(0, y - m.height() / 2, area.left() - 5, m.height()), Qt::AlignRight | Qt::AlignVCenter,
                       num(std::abs(v) < 1e-9 * step ? 0 : v, 4));
        }
        if (numbersBelow) {
            const double across = tickStep(plot.range.width());
            p.setPen(c.muted);
            for (double v = std::ceil(plot.range.left() / across) * across; v <= plot.range.right() + 1e-9 * across;
                 v += across)
                p.drawText(QRectF(at({v, 0}).x() - 40, area.bottom() + 2, 80, m.height()), Qt::AlignHCenter,
                           num(std::abs(v) < 1e-9 * across ? 0 : v, 4));
        }
        p.setPen(c.muted);
        p.drawText(QRectF(area.left(), area.bottom() + m.height() + 3, area.width(), m.height()), Qt::AlignRight,
                   plot.horizontal);
        if (!std::isnan(plot.limit)) {
            const double y = at({0, plot.limit}).y();
            p.setPen(QPen(c.clay, 1.2, Qt::DashLine));
            p.drawLine(QPointF(area.left(), y), QPointF(area.right(), y));
            p.setPen(c.clay);
            p.drawText(QRectF(area.left() + 4, y - m.height() - 1, area.width() - 8, m.height()), Qt::AlignRight,
                       plot.limitWords);
        }
    }

    void curves() {
        axes(plot.ticks.isEmpty());
        p.setPen(c.muted);
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
            p.setPen(c.ink);
            p.drawText(QPointF(x + 22, y + m.ascent() / 2 - 1), plot.series[s].name);
            x += 34 + m.horizontalAdvance(plot.series[s].name);
        }
    }

    void scatter() {
        axes(true);
        p.setPen(c.muted);
        p.drawText(QRectF(area.left(), 1.1 * m.height(), area.width(), m.height()), Qt::AlignLeft, plot.vertical);
        std::vector<QPointF> front;
        for (const PlotDot& d : plot.dots)
            if (d.onFront) front.push_back(at(d.at));
        std::sort(front.begin(), front.end(), [](const QPointF& a, const QPointF& b) { return a.x() < b.x(); });
        p.setPen(QPen(c.teal, 1.2, Qt::DotLine));
        p.drawPolyline(QPolygonF(QList<QPointF>(front.begin(), front.end())));
        std::vector<QRectF> names;
        for (const PlotDot& d : plot.dots) {
            const QPointF here = at(d.at);
            p.setPen(QPen(d.onFront ? c.teal : c.muted, d.open ? 2.4 : 1.4));
            p.setBrush(d.onFront ? QBrush(c.teal) : QBrush(Qt::white));
            p.drawEllipse(here, 4.5, 4.5);
            p.setPen(c.ink);
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
            p.setPen(c.ink);
            p.drawText(QRectF(0, y, names - 8, row), Qt::AlignRight | Qt::AlignVCenter,
                       m.elidedText(plot.bars[b].name, Qt::ElideMiddle, names - 8));
            const double length = half * std::abs(plot.bars[b].size) / most;
            const QRectF bar(plot.bars[b].size < 0 ? middle - length : middle, y + 4, std::max(1.0, length), row - 8);
            p.fillRect(bar, plot.bars[b].size < 0 ? c.clay : c.teal);
            p.setPen(c.muted);
            p.drawText(QRectF(size.width() - values, y, values - 2, row), Qt::AlignRight | Qt::AlignVCenter,
                       plot.bars[b].value);
        }
        p.setPen(QPen(c.line, 1));
        p.drawLine(QPointF(middle, top), QPointF(middle, top + row * static_cast<double>(plot.bars.size())));
    }

    /// A histogram with the numbers of its ends.
    void smallBars() {
        const QRectF a = smallArea();
        double most = 1;
        for (const PlotBar& b : plot.bars) most = std::max(most, b.size);
        const double step = a.width() / static_cast<double>(plot.bars.size());
        for (std::size_t b = 0; b < plot.bars.size(); ++b) {
            const double low = plot.first + plot.width * static_cast<double>(b), size = plot.bars[b].size;
            const bool warn = low + plot.width <= plot.warnBelow || low >= plot.warnAbove;
            // the square root keeps the few poor ones visible
            const double h = size > 0 ? std::max(2.0, a.height() * std::sqrt(size / most)) : 0;
            p.fillRect(QRectF(a.left() + step * static_cast<double>(b) + 1, a.bottom() - h, step - 2, h),
                       warn ? seriesColours[2] : c.bar);
        }
        below(a, num(plot.first, 3) + plot.horizontal,
              num(plot.first + plot.width * static_cast<double>(plot.bars.size()), 3) + plot.horizontal);
    }

    /// One line with the numbers of its extremes.
    void smallCurve() {
        const QRectF a = smallArea();
        const std::vector<QPointF>& points = plot.series.front().points;
        auto level = [&](double v) { return plot.logarithmic ? std::log10(std::max(v, 1e-16)) : v; };
        double low = 1e300, high = -1e300, left = 1e300, right = -1e300;
        for (const QPointF& q : points) {
            low = std::min(low, level(q.y()));
            high = std::max(high, level(q.y()));
            left = std::min(left, q.x());
            right = std::max(right, q.x());
        }
        if (!std::isnan(plot.limit)) {
            low = std::min(low, level(plot.limit));
            high = std::max(high, level(plot.limit));
        }
        if (high - low < 1e-9)
            low -= std::max(0.02 * std::abs(low), 0.5 * (plot.logarithmic ? 1 : 0.01)),
                high += 0.02 * std::abs(high) + 1e-9;
        if (right - left < 1e-9) right = left + 1;
        auto place = [&](double x, double y) {
            return QPointF(a.left() + (x - left) / (right - left) * a.width(),
                           a.bottom() - (level(y) - low) / (high - low) * a.height());
        };
        if (!std::isnan(plot.limit)) {
            p.setPen(QPen(c.clay, 1, Qt::DashLine));
            p.drawLine(place(left, plot.limit), place(right, plot.limit));
        }
        QPolygonF way;
        for (const QPointF& q : points) way << place(q.x(), q.y());
        p.setPen(QPen(c.teal, 1.8));
        p.drawPolyline(way);
        p.setBrush(c.teal);
        if (points.size() < 12)
            for (const QPointF& q : way) p.drawEllipse(q, 2.5, 2.5);
        p.setPen(c.muted);
        auto text = [&](double v) { return plot.logarithmic ? QString("1e%1").arg(std::lround(v)) : num(v, 3); };
        p.drawText(QRectF(0, a.top() - 4, 40, m.height()), Qt::AlignRight, text(high));
        p.drawText(QRectF(0, a.bottom() - m.height() + 4, 40, m.height()), Qt::AlignRight, text(low));
        auto count = [](double v) { return v >= 1e4 ? num(v / 1000, 3) + " k" : num(v, 3); };
        below(a, count(left), count(right) + " " + plot.horizontal);
    }

  private:
    /// The area of a small chart, with the line that it stands on.
    QRectF smallArea() {
        const QRectF a(44, m.height() + 6, size.width() - 52, size.height() - 2 * m.height() - 12);
        p.setPen(QPen(c.line, 1));
        p.drawLine(a.bottomLeft(), a.bottomRight());
        return a;
    }
    void below(const QRectF& a, const QString& left, const QString& right) {
        p.setPen(c.muted);
        p.drawText(QRectF(a.left(), a.bottom() + 2, 100, m.height()), Qt::AlignLeft, left);
        p.drawText(QRectF(a.right() - 160, a.bottom() + 2, 160, m.height()), Qt::AlignRight, right);
    }
    QPointF at(const QPointF& value) const { return placeOf(plot, area, value); }

    QPainter& p;
    QSizeF size;
    const Plot& plot;
    const PlotColours& c;
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

Plot smallCurve(const QString& title, std::vector<QPointF> points, bool logarithmic, double limit,
                const QString& unit) {
    Plot p;
    p.kind = points.empty() ? Plot::Kind::nothing : Plot::Kind::smallCurve;
    p.title = title;
    p.horizontal = unit;
    p.series.push_back({{}, std::move(points)});
    p.logarithmic = logarithmic;
    p.limit = limit;
    return p;
}

Plot smallBars(const QString& title, const std::vector<double>& sizes, double first, double width, double warnBelow,
               double warnAbove, const QString& unit) {
    Plot p;
    p.kind = sizes.empty() ? Plot::Kind::nothing : Plot::Kind::smallBars;
    p.title = title;
    p.horizontal = unit;
    for (double s : sizes) p.bars.push_back({{}, {}, s});
    p.first = first;
    p.width = width;
    p.warnBelow = warnBelow;
    p.warnAbove = warnAbove;
    return p;
}

QPointF placeIn(const Plot& plot, const QSizeF& size, const QFont& font, const QPointF& value) {
    return placeOf(plot, areaOf(size, QFontMetricsF(font)), value);
}

namespace {

/// Small charts have a small, quiet title.
QFont smaller(QFont font) {
    if (font.pixelSize() > 0)
        font.setPixelSize(std::max(8, font.pixelSize() * 86 / 100));
    else
        font.setPointSizeF(std::max(6.0, font.pointSizeF() * 0.86));
    return font;
}

}  // namespace

void paint(QPainter& painter, const QSizeF& size, const Plot& plot, const PlotColours& c) {
    painter.save();
    painter.setRenderHint(QPainter::Antialiasing);
    const QFont plain = painter.font();
    const bool small =
        plot.kind == Plot::Kind::smallCurve || plot.kind == Plot::Kind::smallBars || plot.kind == Plot::Kind::nothing;
    QFont title = small ? smaller(plain) : plain;
    if (!small) title.setWeight(QFont::DemiBold);
    painter.setFont(title);
    painter.setPen(small ? c.muted : c.ink);
    painter.drawText(QPointF(small ? 0 : 4, QFontMetricsF(plain).ascent()), plot.title);
    if (!small) painter.setFont(plain);
    Drawing drawing(painter, size, plot, c);
    if (plot.kind == Plot::Kind::curves) drawing.curves();
    if (plot.kind == Plot::Kind::scatter) drawing.scatter();
    if (plot.kind == Plot::Kind::bars) drawing.bars();
    if (plot.kind == Plot::Kind::smallCurve) drawing.smallCurve();
    if (plot.kind == Plot::Kind::smallBars) drawing.smallBars();
    painter.restore();
}

}  // namespace escultura::report
