/// @file view/view.hpp
/// The view: the part, its results and loads; orbit, pan, zoom; hover reading and pinned readings.

#pragma once
#include <QImage>
#include <QPolygonF>
#include <QTimer>
#include <QWidget>
#include <memory>

#include "render/overlay.hpp"
#include "report/part_scene.hpp"
#include "view/drawing.hpp"
#include "view/measure.hpp"

namespace escultura::app {

class View : public QWidget {
    Q_OBJECT
  public:
    explicit View(QWidget* parent = nullptr);
    ~View() override;

    /// Shows a scene as soon as it is made and drawn, which happens beside the interface.
    /// @param small  a small picture that is wanted as well, told on the interface thread
    void setScene(Drawing::Make make, bool refit, const std::optional<Drawing::Small>& small = std::nullopt);
    void setScene(std::shared_ptr<const render::Scene> scene, bool refit);
    /// What was last set; waits until it is made.
    std::shared_ptr<const render::Scene> scene();
    /// A word over the picture when what is shown is out of date; empty: none.
    void setNotice(const QString& notice);
    /// Draws anew, as when the theme has changed.
    void repaintScene() { redraw(false); }
    void fit();
    void look(const Vec3& direction, const Vec3& up = Vec3::UnitZ());
    void flyTo(const Vec3& p);
    /// Visible height, mm.
    void zoomTo(double height);
    /// Orders a small picture of the present scene.
    void askForSmall(const Drawing::Small& small);
    /// The same; waits for it.
    /// @param height of what is seen over the height of the part's bounds
    QImage thumbnail(int width, int height, double seen = 0.9);
    /// A picture with overlay.
    QImage picture(int width, int height);
    /// The same; see-through where nothing is drawn.
    QImage transparentPicture(int width, int height);
    const render::Camera& camera();
    void setCamera(const render::Camera& camera);
    std::vector<Vec3> pinnedPlaces() const;
    QString readingText() const { return reading_; }
    int pinnedCount() const { return static_cast<int>(pinned_.size()); }
    QSize sizeHint() const override { return {800, 600}; }

    /// A place that can be dragged: along an axis, or (zero axis) across the line of sight.
    struct Handle {
        int id = 0;
        Vec3 position = Vec3::Zero(), axis = Vec3::Zero();
    };
    void setHandles(std::vector<Handle> handles);
    /// Clicks name places of the first mesh instead of pinning readings.
    void setPicking(bool on);
    /// Clicks, and regions drawn with Ctrl (box) or Alt (lasso), are told instead of pinning readings.
    void setEditing(bool on);
    bool isEditing() const { return editing_; }
    /// Clicks measure: one place the wall there, two a distance, three angle and radius; a fourth begins anew.
    void setMeasuring(bool on);
    bool isMeasuring() const { return measuring_; }
    /// Whether what is shown is a deformed shape: lengths measured on it are not the part's, and say so.
    void setDeformed(bool on) { deformed_ = on; }
    bool isDeformed() const { return deformed_; }
    const Measured& measuredNow() const { return measured_; }
    /// While editing, a plain drag that begins on the body is told as a brush's way; beside the body it orbits.
    void setPainting(bool on);
    /// A small mark over the picture; drawn when its normal looks at the viewer.
    struct Dot {
        Vec3 position = Vec3::Zero(), normal = Vec3::Zero();
        bool selected = false;
    };
    void setDots(std::vector<Dot> dots);
    /// First hit of the first mesh under a place of the view.
    std::optional<render::Hit> hitAt(const QPointF& at);
    /// Where a place of the model is in the view, device-independent pixels.
    QPointF placeOf(const Vec3& p);

  signals:
    /// The user moved the camera, or it was moved for him; not by setCamera().
    void cameraChanged();
    void measuringEnded();
    /// A scene could not be made or drawn; the earlier one stays.
    void drawingFailed(const QString& message);
    void pinsChanged();
    void picked(const escultura::Vec3& position, int triangle);
    void handleMoved(int id, const escultura::Vec3& position, bool done);
    void clickedAt(const QPointF& at, Qt::KeyboardModifiers modifiers);
    void regionDrawn(const QPolygonF& region, Qt::KeyboardModifiers modifiers);
    void painted(const QPointF& at, Qt::KeyboardModifiers modifiers);
    /// A label was clicked.
    void labelClicked(const escultura::render::Label& label);
    /// The user dragged a handle of the legend, or reset the range (NaN).
    void rangeChosen(double low, double high);

  protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void mouseDoubleClickEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void leaveEvent(QEvent*) override;
    void keyPressEvent(QKeyEvent*) override;

  private:
    void redraw(bool moving);
    Drawing::Frame frame(bool moving) const;
    /// Takes what has been drawn.
    void take();
    /// Waits for what was ordered: before a click is understood, or a picture written.
    void settle();
    /// Waits while the camera is about to be fitted.
    void settleFit();
    /// What is painted over the picture, the pinned readings last.
    render::Scene overlay() const;
    /// Follows a click on a label. @return whether there is one
    bool clickLabel(const QPointF& at);
    void updateReading(const QPointF& at);
    void measureAt(const QPointF& at);
    void paintMeasure(QPainter& painter);
    /// Where a place is in the picture that is shown.
    QPointF drawnAt(const Vec3& p) const;
    /// What is shown, with its unit.
    QString valueText(double value) const;
    /// What the scene says near a place: the shown quantity, or where it is.
    QString wordsNear(const Vec3& place) const;
    std::optional<std::pair<Vec3, QString>> readingAt(const QPointF& at);

    Drawing drawing_;
    std::shared_ptr<const render::Scene> scene_;
    std::shared_ptr<const render::Picker> picker_;  ///< of the scene
    int ordered_ = 0, shown_ = 0;                   ///< numbers of scenes
    bool toFit_ = false;                            ///< the scene that was ordered is to be shown whole
    render::Camera camera_, frameCamera_;           ///< wanted; of the picture that is shown
    QImage frame_;
    QTimer rest_;
    QPointF pressed_, last_;
    bool dragging_ = false, fitted_ = false;
    bool isWhole_ = false;  ///< fitted, and neither moved nor zoomed since
    std::vector<Handle> handles_;
    int draggedHandle_ = -1;
    bool picking_ = false, editing_ = false, painting_ = false, stroke_ = false;
    Qt::KeyboardModifiers strokeKeys_;  // held when the stroke began
    bool measuring_ = false, deformed_ = false;
    std::vector<Vec3> measuredAt_;
    Measured measured_;
    std::vector<Dot> dots_;
    QPolygonF region_;  // being drawn
    bool lasso_ = false;
    int legendHandle_ = 0;  // 1 low, 2 high
    double handleValue_ = 0;
    QString reading_, notice_;
    QPointF readingPlace_;
    std::optional<QPointF> pointer_;  ///< over the view, no button held
    std::vector<render::Label> pinned_;
};

}  // namespace escultura::app
