/// @file chart.hpp
/// Small charts on cards: a curve over iterations or sizes, bars of a histogram. Drawn by report/plot like all others.

#pragma once
#include <QWidget>
#include <vector>

#include "report/plot.hpp"

namespace escultura::app {

class Chart : public QWidget {
    Q_OBJECT
  public:
    explicit Chart(const QString& title, QWidget* parent = nullptr);
    /// Points joined by a line. @param logarithmic  the vertical axis. @param limit  a line across; NaN: none
    void setCurve(std::vector<QPointF> points, bool logarithmic, double limit, const QString& unit);
    void addPoint(const QPointF& point);
    /// Bars from `first`, each `width` wide. @param warnBelow, warnAbove  bars beyond are ochre; NaN: none
    void setBars(const std::vector<double>& bars, double first, double width, double warnBelow, double warnAbove,
                 const QString& unit);
    void clear();
    bool isEmpty() const { return pointCount() == 0 && plot_.bars.empty(); }
    int pointCount() const { return plot_.series.empty() ? 0 : static_cast<int>(plot_.series.front().points.size()); }
    QSize sizeHint() const override { return {300, 104}; }

  protected:
    void paintEvent(QPaintEvent*) override;

  private:
    report::Plot plot_;
};

}  // namespace escultura::app
