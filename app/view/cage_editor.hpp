/// @file view/cage_editor.hpp
/// Changing the control cage by hand in the view: selecting, pulling handles, operations. Each change is one step of
/// the history; the limit surface follows while the mouse moves.

#pragma once
#include <QObject>
#include <QThread>
#include <memory>
#include <optional>
#include <set>

#include "cage/edit.hpp"
#include "session.hpp"
#include "view/view.hpp"

namespace escultura::app {

class CageEditor : public QObject {
    Q_OBJECT
  public:
    enum class Element { vertices, edges, faces };
    enum class Tool { move, turn, scale };
    /// Axes of the handles and of typed numbers.
    enum class FrameOf { global, selection, interface };

    CageEditor(Session& session, View& view, QObject* parent = nullptr);
    ~CageEditor() override;

    bool isOn() const { return on_; }
    /// Whether the limit surface and the flaws are those of the present cage.
    bool isSettled() const { return !helper_; }
    /// Wraps the cage first when there is none yet.
    void start();
    void stop();
    const cage::Cage& cage() const { return cage_; }
    Element element() const { return element_; }
    void setElement(Element element);
    void setTool(Tool tool);
    void setFrame(FrameOf frame, const QString& interface = {});
    void setSoftRadius(double mm);
    void setSymmetric(bool on);
    void setShowDeviation(bool on);
    /// A drag over the body selects the faces within this radius, with Shift it takes them out. mm; 0: no brush
    void setBrush(double mm);
    /// The selected faces, and their images while editing is symmetric, as balls that cover them: middles and radius,
    /// mm.
    std::pair<std::vector<Vec3>, double> selectedRegion() const;

    const std::set<std::int32_t>& selection() const { return selected_; }
    void select(std::set<std::int32_t> elements);
    /// Vertices of the selected elements.
    cage::Indices vertices() const;
    void selectNone() { select({}); }
    void growSelection();
    void selectLoop();
    void selectRing();
    /// Elements whose limit surface deviates by more, mm.
    void selectDeviating(double mm);
    /// Elements within a distance of a place, such as a finding. mm
    void selectNear(const Vec3& place, double mm);

    void moveBy(const Vec3& by);
    void turnBy(const Vec3& degrees);
    void scaleBy(const Vec3& factors);
    void extrude(double distance);
    void bridge(int segments);
    void insertLoop();
    void split();
    void collapse();
    void dissolve();
    void crease(double sharpness);
    void removeSelected();
    void fillHoles();
    void relax();
    void snap();
    /// Goes on with the least-squares fit: of the selection, or of the whole cage when nothing is selected.
    void fit();

    /// In words: what is selected and what is wrong.
    QString state() const;
    /// The middle of the selection; nothing when it is empty.
    std::optional<Vec3> middle() const;
    std::shared_ptr<const render::Scene> scene() const { return scene_; }

    void clickedAt(const QPointF& at, Qt::KeyboardModifiers modifiers);
    void regionDrawn(const QPolygonF& region, Qt::KeyboardModifiers modifiers);
    void paintAt(const QPointF& at, Qt::KeyboardModifiers modifiers);
    void handleMoved(int id, const Vec3& place, bool done);
    /// Takes over the recipe's cage: after undo, or another variant.
    void refresh();

  signals:
    void stateChanged();
    void failed(const QString& message);

  private:
    void begin(std::shared_ptr<const cage::Target> target);
    void adopt(cage::Cage cage);
    /// Limit mesh (when faces changed) and flaws of the present cage, worked out beside the interface.
    void follow();
    void commit(const QString& text, cage::Cage changed);
    void attempt(const QString& text, const std::function<void(cage::Cage&)>& change);
    void applyTransform(const QString& text, const Eigen::Affine3d& by);
    void showScene(bool withDeviation);
    void placeHandles();
    Mat3 axes() const;
    cage::Indices faces() const;
    cage::Indices edges() const;
    std::vector<std::array<Vec3, 2>> mirrors() const;

    Session& session_;
    View& view_;
    bool on_ = false, symmetric_ = true, deviation_ = false;
    Element element_ = Element::vertices;
    Tool tool_ = Tool::move;
    FrameOf frame_ = FrameOf::global;
    QString interface_;
    double soft_ = 0, brush_ = 0;
    cage::Cage cage_, before_;
    std::string digest_;
    double faceSize_ = 0;  ///< of the wrap that the edited cage began as, mm
    std::set<std::int32_t> selected_;
    std::shared_ptr<const cage::LimitMesh> limit_;  // null while it is worked out for other faces
    QThread* helper_ = nullptr;
    bool again_ = false;  // the cage changed while the helper worked
    std::vector<std::pair<std::int32_t, std::int32_t>> edgeVertices_;
    std::shared_ptr<const cage::Target> target_;
    std::vector<float> deviations_;
    std::vector<cage::CageProblem> flaws_;
    std::shared_ptr<const render::Scene> scene_;
    bool dragging_ = false;
    Vec3 dragFrom_ = Vec3::Zero();
    std::vector<double> weights_;
};

}  // namespace escultura::app
