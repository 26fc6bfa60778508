#include "plot_view.hpp"

#include <QMouseEvent>
#include <algorithm>
#include <cmath>

#include "theme/theme.hpp"

namespace escultura::app {

PlotView::PlotView(QWidget* parent) : QWidget(parent) {
    theme::fix(this, theme::Length::leastHeight, 120);
}

void PlotView::setPlot(report::Plot plot) {
    plot_ = std::move(plot);
    if (plot_.kind == report::Plot::Kind::bars)
        setMinimumHeight(
            static_cast<int>((static_cast<double>(plot_.bars.size()) + 1.6) * (QFontMetricsF(font()).height() + 7)));
    setAccessibleName(plot_.title);
    update();
}

int PlotView::itemCount() const {
    std::size_t n = plot_.bars.size() + plot_.dots.size();
    for (const auto& s : plot_.series) n += s.points.size();
    return static_cast<int>(n);
}

void PlotView::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.setFont(font());
    if (plot_.kind != report::Plot::Kind::nothing) report::paint(painter, size(), plot_, theme::plotColours());
}

void PlotView::mousePressEvent(QMouseEvent* e) {
    double best = 14;
    int index = -1;
    auto place = [&](const QPointF& value) { return report::placeIn(plot_, size(), font(), value); };
    for (std::size_t d = 0; d < plot_.dots.size(); ++d) {
        const QPointF r = place(plot_.dots[d].at) - e->position();
        if (std::hypot(r.x(), r.y()) < best) {
            best = std::hypot(r.x(), r.y());
            index = static_cast<int>(d);
        }
    }
    for (int t = 0; t < plot_.ticks.size(); ++t) {
        const double r = std::abs(place({static_cast<double>(t), 0}).x() - e->position().x());
        if (r < best) {
            best = r;
            index = t;
        }
    }
    if (index >= 0) emit chosen(index);
}

}  // namespace escultura::app
