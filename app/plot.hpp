/// @file plot.hpp
/// Larger charts of the drawer: curves over variants or a swept number, a scatter with its front, ranked bars.

#pragma once
#include <QWidget>
#include <limits>
#include <vector>

namespace escultura::app {

class Plot : public QWidget {
    Q_OBJECT
  public:
    explicit Plot(QWidget* parent = nullptr);

    struct Series {
        QString name;
        std::vector<QPointF> points;
    };
    /// Curves over one horizontal axis. @param ticks  words under whole numbers 0, 1, ...; empty: numbers
    /// @param limit  a dashed line across with its words; NaN: none
    void setCurves(const QString& title, const QString& horizontal, std::vector<Series> series, QStringList ticks,
                   double limit = std::numeric_limits<double>::quiet_NaN(), const QString& limitWords = {});

    struct Dot {
        QString name;
        QPointF at;
        bool onFront = false, open = false;
    };
    /// Dots with their names; those on the front are filled and joined.
    void setScatter(const QString& title, const QString& horizontal, const QString& vertical, std::vector<Dot> dots,
                    double limit = std::numeric_limits<double>::quiet_NaN(), const QString& limitWords = {});

    struct Bar {
        QString name, value;
        double size = 0;  ///< with sign
    };
    /// Horizontal bars from a middle line, in the order given.
    void setBars(const QString& title, std::vector<Bar> bars);
    void clear();
    QString title() const { return title_; }
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
    enum class Kind { nothing, curves, scatter, bars } kind_ = Kind::nothing;
    void paintAxes(class QPainter& p, const QRectF& area, const QRectF& range, bool numbersBelow);
    void paintCurves(QPainter& p, const QRectF& area);
    void paintScatter(QPainter& p, const QRectF& area);
    void paintBars(QPainter& p);
    QRectF plotArea() const;
    QPointF place(const QPointF& value) const;
    QString title_, horizontal_, vertical_, limitWords_;
    std::vector<Series> series_;
    QStringList ticks_;
    std::vector<Dot> dots_;
    std::vector<Bar> bars_;
    double limit_;
    QRectF range_;
};

}  // namespace escultura::app
