/// @file chart.hpp
/// Small charts in the look of the dossier: a curve over iterations or sizes, bars of a histogram.

#pragma once
#include <QWidget>
#include <vector>

namespace escultura::app {

class Chart : public QWidget {
    Q_OBJECT
  public:
    explicit Chart(const QString& title, QWidget* parent = nullptr);
    /// Points joined by a line. @param logarithmic  the vertical axis. @param limit  a line across; NaN: none
    void setCurve(std::vector<QPointF> points, bool logarithmic, double limit, const QString& unit);
    void addPoint(const QPointF& point);
    /// Bars from `first`, each `width` wide. @param warnBelow, warnAbove  bars beyond are ochre; NaN: none
    void setBars(std::vector<double> bars, double first, double width, double warnBelow, double warnAbove,
                 const QString& unit);
    void clear();
    bool isEmpty() const { return points_.empty() && bars_.empty(); }
    int pointCount() const { return static_cast<int>(points_.size()); }
    QSize sizeHint() const override { return {300, 104}; }

  protected:
    void paintEvent(QPaintEvent*) override;

  private:
    QString title_, unit_;
    std::vector<QPointF> points_;
    bool logarithmic_ = false;
    double limit_;
    std::vector<double> bars_;
    double first_ = 0, width_ = 1, below_, above_;
};

}  // namespace escultura::app
