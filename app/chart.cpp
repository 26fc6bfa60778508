#include "chart.hpp"

#include <QPainter>
#include <algorithm>
#include <cmath>
#include <limits>

#include "theme/theme.hpp"
#include "widgets.hpp"

namespace escultura::app {
namespace {
constexpr double none = std::numeric_limits<double>::quiet_NaN();
}

Chart::Chart(const QString& title, QWidget* parent)
    : QWidget(parent), title_(title), limit_(none), below_(none), above_(none) {
    setFixedHeight(104);
    setAccessibleName(title);
}

void Chart::setCurve(std::vector<QPointF> points, bool logarithmic, double limit, const QString& unit) {
    points_ = std::move(points);
    bars_.clear();
    logarithmic_ = logarithmic;
    limit_ = limit;
    unit_ = unit;
    update();
}

void Chart::addPoint(const QPointF& point) {
    points_.push_back(point);
    update();
}

void Chart::setBars(std::vector<double> bars, double first, double width, double warnBelow, double warnAbove,
                    const QString& unit) {
    bars_ = std::move(bars);
    points_.clear();
    first_ = first;
    width_ = width;
    below_ = warnBelow;
    above_ = warnAbove;
    unit_ = unit;
    update();
}

void Chart::clear() {
    points_.clear();
    bars_.clear();
    update();
}

void Chart::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.setRenderHint(QPainter::Antialiasing);
    const QFontMetricsF m(font());
    QFont small = font();
    if (small.pixelSize() > 0)
        small.setPixelSize(std::max(8, small.pixelSize() * 86 / 100));
    else
        small.setPointSizeF(std::max(6.0, small.pointSizeF() * 0.86));
    p.setFont(small);
    p.setPen(theme::muted);
    p.drawText(QPointF(0, m.ascent()), title_);
    const QRectF area(44, m.height() + 6, width() - 52, height() - 2 * m.height() - 12);
    p.setPen(QPen(theme::line, 1));
    p.drawLine(area.bottomLeft(), area.bottomRight());
    if (!bars_.empty()) {
        const double most = std::max(1.0, *std::max_element(bars_.begin(), bars_.end()));
        const double step = area.width() / static_cast<double>(bars_.size());
        for (std::size_t b = 0; b < bars_.size(); ++b) {
            const double low = first_ + width_ * static_cast<double>(b);
            const bool warn = low + width_ <= below_ || low >= above_;
            // the square root keeps the few poor ones visible
            const double h = bars_[b] > 0 ? std::max(2.0, area.height() * std::sqrt(bars_[b] / most)) : 0;
            p.fillRect(QRectF(area.left() + step * static_cast<double>(b) + 1, area.bottom() - h, step - 2, h),
                       warn ? QColor(0xC5, 0x8B, 0x1B) : QColor(0xB9, 0xAE, 0x9A));
        }
        p.setPen(theme::muted);
        p.drawText(QRectF(area.left(), area.bottom() + 2, 80, m.height()), Qt::AlignLeft, num(first_) + unit_);
        p.drawText(QRectF(area.right() - 100, area.bottom() + 2, 100, m.height()), Qt::AlignRight,
                   num(first_ + width_ * static_cast<double>(bars_.size())) + unit_);
        return;
    }
    if (points_.empty()) return;
    auto level = [&](double v) { return logarithmic_ ? std::log10(std::max(v, 1e-16)) : v; };
    double low = 1e300, high = -1e300, left = 1e300, right = -1e300;
    for (const QPointF& q : points_) {
        low = std::min(low, level(q.y()));
        high = std::max(high, level(q.y()));
        left = std::min(left, q.x());
        right = std::max(right, q.x());
    }
    if (!std::isnan(limit_)) {
        low = std::min(low, level(limit_));
        high = std::max(high, level(limit_));
    }
    if (high - low < 1e-9)
        low -= std::max(0.02 * std::abs(low), 0.5 * (logarithmic_ ? 1 : 0.01)), high += 0.02 * std::abs(high) + 1e-9;
    if (right - left < 1e-9) right = left + 1;
    auto at = [&](double x, double y) {
        return QPointF(area.left() + (x - left) / (right - left) * area.width(),
                       area.bottom() - (level(y) - low) / (high - low) * area.height());
    };
    if (!std::isnan(limit_)) {
        p.setPen(QPen(theme::clay, 1, Qt::DashLine));
        p.drawLine(at(left, limit_), at(right, limit_));
    }
    QPolygonF line;
    for (const QPointF& q : points_) line << at(q.x(), q.y());
    p.setPen(QPen(theme::teal, 1.8));
    p.drawPolyline(line);
    p.setBrush(theme::teal);
    if (points_.size() < 12)
        for (const QPointF& q : line) p.drawEllipse(q, 2.5, 2.5);
    p.setPen(theme::muted);
    auto text = [&](double v) { return logarithmic_ ? QString("1e%1").arg(std::lround(v)) : num(v); };
    p.drawText(QRectF(0, area.top() - 4, 40, m.height()), Qt::AlignRight, text(high));
    p.drawText(QRectF(0, area.bottom() - m.height() + 4, 40, m.height()), Qt::AlignRight, text(low));
    auto count = [](double v) { return v >= 1e4 ? num(v / 1000) + " k" : num(v); };
    p.drawText(QRectF(area.left(), area.bottom() + 2, 100, m.height()), Qt::AlignLeft, count(left));
    p.drawText(QRectF(area.right() - 160, area.bottom() + 2, 160, m.height()), Qt::AlignRight,
               count(right) + " " + unit_);
}

}  // namespace escultura::app
