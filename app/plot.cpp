#include "plot.hpp"

#include <QMouseEvent>
#include <QPainter>
#include <algorithm>
#include <cmath>

#include "theme/theme.hpp"
#include "widgets.hpp"

namespace escultura::app {
namespace {

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

}  // namespace

Plot::Plot(QWidget* parent) : QWidget(parent), limit_(std::numeric_limits<double>::quiet_NaN()) {
    setMinimumHeight(120);
}

void Plot::setCurves(const QString& title, const QString& horizontal, std::vector<Series> series, QStringList ticks,
                     double limit, const QString& limitWords) {
    kind_ = Kind::curves;
    title_ = title;
    horizontal_ = horizontal;
    series_ = std::move(series);
    ticks_ = std::move(ticks);
    limit_ = limit;
    limitWords_ = limitWords;
    std::vector<QPointF> all;
    for (const Series& s : series_) all.insert(all.end(), s.points.begin(), s.points.end());
    range_ = rangeOf(all, limit);
    setAccessibleName(title);
    update();
}

void Plot::setScatter(const QString& title, const QString& horizontal, const QString& vertical, std::vector<Dot> dots,
                      double limit, const QString& limitWords) {
    kind_ = Kind::scatter;
    title_ = title;
    horizontal_ = horizontal;
    vertical_ = vertical;
    dots_ = std::move(dots);
    limit_ = limit;
    limitWords_ = limitWords;
    std::vector<QPointF> all;
    for (const Dot& d : dots_) all.push_back(d.at);
    range_ = rangeOf(all, limit);
    setAccessibleName(title);
    update();
}

void Plot::setBars(const QString& title, std::vector<Bar> bars) {
    kind_ = Kind::bars;
    title_ = title;
    bars_ = std::move(bars);
    setMinimumHeight(static_cast<int>((bars_.size() + 1.6) * (QFontMetricsF(font()).height() + 7)));
    setAccessibleName(title);
    update();
}

void Plot::clear() {
    kind_ = Kind::nothing;
    title_.clear();
    series_.clear();
    dots_.clear();
    bars_.clear();
    update();
}

int Plot::itemCount() const {
    if (kind_ == Kind::bars) return static_cast<int>(bars_.size());
    if (kind_ == Kind::scatter) return static_cast<int>(dots_.size());
    int n = 0;
    for (const Series& s : series_) n += static_cast<int>(s.points.size());
    return n;
}

QRectF Plot::plotArea() const {
    const QFontMetricsF m(font());
    return QRectF(54, 2 * m.height() + 6, width() - 66, height() - 4.2 * m.height() - 8);
}

QPointF Plot::place(const QPointF& v) const {
    const QRectF a = plotArea();
    return {a.left() + (v.x() - range_.left()) / range_.width() * a.width(),
            a.bottom() - (v.y() - range_.top()) / range_.height() * a.height()};
}

void Plot::paintAxes(QPainter& p, const QRectF& area, const QRectF& range, bool numbersBelow) {
    const QFontMetricsF m(p.font());
    p.setPen(QPen(theme::line, 1));
    p.drawLine(area.bottomLeft(), area.bottomRight());
    p.drawLine(area.bottomLeft(), area.topLeft());
    const double step = tickStep(range.height());
    for (double v = std::ceil(range.top() / step) * step; v <= range.bottom() + 1e-9 * step; v += step) {
        const double y = place({0, v}).y();
        p.setPen(QPen(QColor(0xEB, 0xE4, 0xD6), 1));
        p.drawLine(QPointF(area.left(), y), QPointF(area.right(), y));
        p.setPen(theme::muted);
        p.drawText(QRectF(0, y - m.height() / 2, area.left() - 5, m.height()), Qt::AlignRight | Qt::AlignVCenter,
                   num(std::abs(v) < 1e-9 * step ? 0 : v, 4));
    }
    if (numbersBelow) {
        const double across = tickStep(range.width());
        p.setPen(theme::muted);
        for (double v = std::ceil(range.left() / across) * across; v <= range.right() + 1e-9 * across; v += across)
            p.drawText(QRectF(place({v, 0}).x() - 40, area.bottom() + 2, 80, m.height()), Qt::AlignHCenter,
                       num(std::abs(v) < 1e-9 * across ? 0 : v, 4));
    }
    p.setPen(theme::muted);
    p.drawText(QRectF(area.left(), area.bottom() + m.height() + 3, area.width(), m.height()), Qt::AlignRight,
               horizontal_);
    if (!std::isnan(limit_)) {
        const double y = place({0, limit_}).y();
        p.setPen(QPen(theme::clay, 1.2, Qt::DashLine));
        p.drawLine(QPointF(area.left(), y), QPointF(area.right(), y));
        p.setPen(theme::clay);
        p.drawText(QRectF(area.left() + 4, y - m.height() - 1, area.width() - 8, m.height()), Qt::AlignRight,
                   limitWords_);
    }
}

void Plot::paintCurves(QPainter& p, const QRectF& area) {
    const QFontMetricsF m(p.font());
    paintAxes(p, area, range_, ticks_.isEmpty());
    p.setPen(theme::muted);
    for (int t = 0; t < ticks_.size(); ++t) {
        const double room = area.width() / std::max<double>(1, static_cast<double>(ticks_.size()));
        p.drawText(QRectF(place({static_cast<double>(t), 0}).x() - room / 2, area.bottom() + 2, room, m.height()),
                   Qt::AlignHCenter, m.elidedText(ticks_[t], Qt::ElideRight, room - 4));
    }
    double x = area.left();
    for (std::size_t s = 0; s < series_.size(); ++s) {
        const QColor colour = seriesColours[s % std::size(seriesColours)];
        p.setPen(QPen(colour, 1.8, seriesStyles[s % std::size(seriesStyles)]));
        QPolygonF line;
        for (const QPointF& q : series_[s].points) line << place(q);
        p.drawPolyline(line);
        p.setPen(QPen(colour, 1.4));
        p.setBrush(colour);
        for (const QPointF& q : line) p.drawEllipse(q, 2.8, 2.8);
        if (series_.size() < 2) continue;
        p.setPen(QPen(colour, 1.8, seriesStyles[s % std::size(seriesStyles)]));
        const double y = 1.5 * m.height() + 1;
        p.drawLine(QPointF(x, y), QPointF(x + 18, y));
        p.setPen(theme::ink);
        p.drawText(QPointF(x + 22, y + m.ascent() / 2 - 1), series_[s].name);
        x += 34 + m.horizontalAdvance(series_[s].name);
    }
}

void Plot::paintScatter(QPainter& p, const QRectF& area) {
    const QFontMetricsF m(p.font());
    paintAxes(p, area, range_, true);
    p.setPen(theme::muted);
    p.drawText(QRectF(area.left(), 1.1 * m.height(), area.width(), m.height()), Qt::AlignLeft, vertical_);
    std::vector<QPointF> front;
    for (const Dot& d : dots_)
        if (d.onFront) front.push_back(place(d.at));
    std::sort(front.begin(), front.end(), [](const QPointF& a, const QPointF& b) { return a.x() < b.x(); });
    p.setPen(QPen(theme::teal, 1.2, Qt::DotLine));
    p.drawPolyline(QPolygonF(QList<QPointF>(front.begin(), front.end())));
    for (const Dot& d : dots_) {
        const QPointF at = place(d.at);
        p.setPen(QPen(d.onFront ? theme::teal : theme::muted, d.open ? 2.4 : 1.4));
        p.setBrush(d.onFront ? QBrush(theme::teal) : QBrush(Qt::white));
        p.drawEllipse(at, 4.5, 4.5);
        p.setPen(theme::ink);
        const double wide = m.horizontalAdvance(d.name);
        const bool fits = at.x() + 8 + wide < area.right();
        p.drawText(QPointF(fits ? at.x() + 8 : at.x() - 8 - wide, at.y() - 3), d.name);
    }
}

void Plot::paintBars(QPainter& p) {
    const QFontMetricsF m(p.font());
    double most = 1e-300, names = 40, values = 40;
    for (const Bar& b : bars_) {
        most = std::max(most, std::abs(b.size));
        names = std::max(names, m.horizontalAdvance(b.name) + 8);
        values = std::max(values, m.horizontalAdvance(b.value) + 8);
    }
    names = std::min(names, 0.45 * width());
    const double row = m.height() + 7, top = 1.4 * m.height();
    const double half = std::max(20.0, (width() - names - values - 12) / 2), middle = names + half;
    for (std::size_t b = 0; b < bars_.size(); ++b) {
        const double y = top + row * static_cast<double>(b);
        p.setPen(theme::ink);
        p.drawText(QRectF(0, y, names - 8, row), Qt::AlignRight | Qt::AlignVCenter,
                   m.elidedText(bars_[b].name, Qt::ElideMiddle, names - 8));
        const double length = half * std::abs(bars_[b].size) / most;
        const QRectF bar(bars_[b].size < 0 ? middle - length : middle, y + 4, std::max(1.0, length), row - 8);
        p.fillRect(bar, bars_[b].size < 0 ? theme::clay : theme::teal);
        p.setPen(theme::muted);
        p.drawText(QRectF(width() - values, y, values - 2, row), Qt::AlignRight | Qt::AlignVCenter, bars_[b].value);
    }
    p.setPen(QPen(theme::line, 1));
    p.drawLine(QPointF(middle, top), QPointF(middle, top + row * static_cast<double>(bars_.size())));
}

void Plot::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.setRenderHint(QPainter::Antialiasing);
    const QFontMetricsF m(font());
    p.setPen(theme::ink);
    QFont bold = font();
    bold.setWeight(QFont::DemiBold);
    p.setFont(bold);
    p.drawText(QPointF(4, m.ascent()), title_);
    p.setFont(font());
    if (kind_ == Kind::curves) paintCurves(p, plotArea());
    if (kind_ == Kind::scatter) paintScatter(p, plotArea());
    if (kind_ == Kind::bars) paintBars(p);
}

void Plot::mousePressEvent(QMouseEvent* e) {
    double best = 14;
    int index = -1;
    if (kind_ == Kind::scatter)
        for (std::size_t d = 0; d < dots_.size(); ++d) {
            const QPointF r = place(dots_[d].at) - e->position();
            if (std::hypot(r.x(), r.y()) < best) best = std::hypot(r.x(), r.y()), index = static_cast<int>(d);
        }
    if (kind_ == Kind::curves && !ticks_.isEmpty())
        for (int t = 0; t < ticks_.size(); ++t) {
            const double r = std::abs(place({static_cast<double>(t), 0}).x() - e->position().x());
            if (r < best) best = r, index = t;
        }
    if (index >= 0) emit chosen(index);
}

}  // namespace escultura::app
