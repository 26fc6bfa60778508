#include "dossier/threshold_control.hpp"

#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>
#include <algorithm>
#include <cmath>

#include "theme/theme.hpp"
#include "widgets.hpp"

namespace escultura::app {

ThresholdControl::ThresholdControl(QWidget* parent) : QWidget(parent) {
    setObjectName("threshold");
    theme::fix(this, theme::Length::height, 104);
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName("Threshold");
    setToolTip("Drag, or use the arrow keys. Bars: volume at each density. Line: share kept.");
}

void ThresholdControl::setData(std::vector<double> histogram, std::vector<double> kept, double connecting) {
    histogram_ = std::move(histogram);
    kept_ = std::move(kept);
    connecting_ = connecting;
    update();
}

void ThresholdControl::setVolumeFraction(double threshold) {
    fraction_ = threshold;
    update();
}

void ThresholdControl::setValue(double value) {
    value_ = value;
    update();
}

QRectF ThresholdControl::plot() const {
    return QRectF(8, 18, width() - 16, height() - 40);
}

void ThresholdControl::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.setRenderHint(QPainter::Antialiasing);
    const QRectF r = plot();
    const double at = r.left() + value_ * r.width();
    // most cells are empty or full: the square root keeps the grey ones visible
    const double most = histogram_.empty() ? 1 : std::sqrt(*std::max_element(histogram_.begin(), histogram_.end()));
    const auto bins = static_cast<double>(histogram_.size());
    for (std::size_t b = 0; b < histogram_.size(); ++b) {
        const double h = r.height() * std::sqrt(histogram_[b]) / most;
        const QRectF bar(r.left() + r.width() * b / bins + 0.5, r.bottom() - h, r.width() / bins - 1, h);
        p.fillRect(bar, (b + 0.5) / bins >= value_ ? theme::bar : theme::paleBar);
    }
    if (kept_.size() > 1) {
        QPainterPath line;
        const double top = *std::max_element(kept_.begin() + 1, kept_.end());
        for (std::size_t b = 1; b < kept_.size(); ++b) {
            const QPointF q(r.left() + r.width() * b / bins, r.bottom() - r.height() * kept_[b] / std::max(top, 1e-12));
            b == 1 ? line.moveTo(q) : line.lineTo(q);
        }
        p.setPen(QPen(theme::teal, 1.4));
        p.drawPath(line);
    }
    p.setPen(QPen(theme::line, 1));
    p.drawLine(r.bottomLeft(), r.bottomRight());
    QFont small = font();
    small.setPixelSize(11);
    p.setFont(small);
    p.setPen(theme::muted);
    p.drawText(QRectF(r.left(), r.bottom() + 4, 60, 14), Qt::AlignLeft, "0");
    p.drawText(QRectF(r.right() - 60, r.bottom() + 4, 60, 14), Qt::AlignRight, "1 density");
    if (connecting_ >= 0) {
        const double x = r.left() + connecting_ * r.width();
        p.setPen(QPen(theme::teal, 1.2, Qt::DashLine));
        p.drawLine(QPointF(x, r.top()), QPointF(x, r.bottom()));
        p.setPen(theme::teal);
        const QString text = "connects all up to " + num(connecting_);
        const double w = QFontMetricsF(small).horizontalAdvance(text);
        p.drawText(QPointF(std::clamp(x - w - 4, r.left(), r.right() - w), r.top() - 5), text);
    }
    if (fraction_ >= 0) {
        const double x = r.left() + fraction_ * r.width();
        p.setPen(QPen(theme::ochre, 1.2, Qt::DotLine));
        p.drawLine(QPointF(x, r.top() + 12), QPointF(x, r.bottom()));
        p.setPen(theme::ochre);
        const QString text = "volume fraction";
        const double w = QFontMetricsF(small).horizontalAdvance(text);
        p.drawText(QPointF(x + 4 + w < r.right() ? x + 4 : x - w - 4, r.top() + 20), text);
    }
    p.setPen(QPen(theme::clay, 2));
    p.drawLine(QPointF(at, r.top() - 2), QPointF(at, r.bottom() + 2));
    p.setBrush(hasFocus() ? theme::clay : theme::card);
    p.drawEllipse(QPointF(at, r.bottom() + 2), 6, 6);
    const QString value = num(value_);
    p.setPen(theme::clay);
    small.setWeight(QFont::DemiBold);
    p.setFont(small);
    const double w = QFontMetricsF(small).horizontalAdvance(value);
    p.drawText(QPointF(std::clamp(at - w / 2, r.left() + 12, r.right() - w - 60), r.bottom() + 20), value);
}

void ThresholdControl::moveTo(double x) {
    const QRectF r = plot();
    const double v = std::clamp(std::round(1000 * (x - r.left()) / r.width()) / 1000, 0.005, 0.995);
    if (v == value_) return;
    setValue(v);
    emit valueMoved(v);
}

void ThresholdControl::mousePressEvent(QMouseEvent* e) {
    moveTo(e->position().x());
}

void ThresholdControl::mouseMoveEvent(QMouseEvent* e) {
    if (e->buttons() & Qt::LeftButton) moveTo(e->position().x());
}

void ThresholdControl::keyPressEvent(QKeyEvent* e) {
    const double step = e->modifiers() & Qt::ShiftModifier ? 0.05 : 0.01;
    double v = value_;
    if (e->key() == Qt::Key_Left)
        v -= step;
    else if (e->key() == Qt::Key_Right)
        v += step;
    else
        return QWidget::keyPressEvent(e);
    setValue(std::clamp(v, 0.005, 0.995));
    emit valueMoved(value_);
}

}  // namespace escultura::app
