/// @file plot_view.hpp
/// Larger charts of the drawer: see report/plot.hpp.

#pragma once
#include <QWidget>

#include "report/plot.hpp"

namespace escultura::app {

class PlotView : public QWidget {
    Q_OBJECT
  public:
    explicit PlotView(QWidget* parent = nullptr);
    void setPlot(report::Plot plot);
    void clear() { setPlot({}); }
    const report::Plot& plot() const { return plot_; }
    /// Points, dots or bars.
    int itemCount() const;
    QSize sizeHint() const override { return {360, 170}; }
    QSize minimumSizeHint() const override { return {220, 120}; }

  signals:
    /// A dot or a place on the axis of words was clicked.
    void chosen(int index);

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;

  private:
    report::Plot plot_;
};

}  // namespace escultura::app
