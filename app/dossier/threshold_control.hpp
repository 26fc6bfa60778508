/// @file dossier/threshold_control.hpp
/// A slider over the density histogram: volume at each density as bars, mass kept as a line, and the largest threshold
/// that connects all interfaces as a mark.

#pragma once
#include <QWidget>
#include <functional>
#include <vector>

namespace escultura::app {

class ThresholdControl : public QWidget {
    Q_OBJECT
  public:
    explicit ThresholdControl(QWidget* parent = nullptr);
    /// @param histogram  shares of the cells in equal bins of density over [0,1]
    /// @param kept       share of all cells kept at each of the same bins' lower ends
    void setData(std::vector<double> histogram, std::vector<double> kept, double connecting);
    /// Threshold that keeps the optimiser's volume fraction; negative: not known.
    void setVolumeFraction(double threshold);
    void setValue(double value);
    double value() const { return value_; }
    QSize sizeHint() const override { return {300, 96}; }

  signals:
    void valueMoved(double value);

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void keyPressEvent(QKeyEvent*) override;

  private:
    QRectF plot() const;
    void moveTo(double x);
    std::vector<double> histogram_, kept_;
    double connecting_ = -1, fraction_ = -1, value_ = 0.5;
};

}  // namespace escultura::app
