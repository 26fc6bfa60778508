#include "chart.hpp"

#include <QPainter>

#include "theme/theme.hpp"

namespace escultura::app {

Chart::Chart(const QString& title, QWidget* parent) : QWidget(parent) {
    plot_.title = title;
    theme::fix(this, theme::Length::height, 104);
    setAccessibleName(title);
}

void Chart::setCurve(std::vector<QPointF> points, bool logarithmic, double limit, const QString& unit) {
    plot_ = report::smallCurve(plot_.title, std::move(points), logarithmic, limit, unit);
    update();
}

void Chart::addPoint(const QPointF& point) {
    std::vector<QPointF> points;
    if (!plot_.series.empty()) points = std::move(plot_.series.front().points);
    points.push_back(point);
    setCurve(std::move(points), plot_.logarithmic, plot_.limit, plot_.horizontal);
}

void Chart::setBars(const std::vector<double>& bars, double first, double width, double warnBelow, double warnAbove,
                    const QString& unit) {
    plot_ = report::smallBars(plot_.title, bars, first, width, warnBelow, warnAbove, unit);
    update();
}

void Chart::clear() {
    plot_.series.clear();
    plot_.bars.clear();
    plot_.kind = report::Plot::Kind::nothing;
    update();
}

void Chart::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.setFont(font());
    report::paint(painter, size(), plot_, theme::plotColours());
}

}  // namespace escultura::app
