/// @file tools/interfaces_panel.hpp
/// The part's interfaces: a list with the numbers of the chosen one, an editable table of all, and new ones: from faces
/// or points that are picked in the view, by numbers, and as copies about an axis or across a plane.

#pragma once
#include <QCheckBox>
#include <QComboBox>
#include <QPushButton>
#include <QSpinBox>

#include "session.hpp"
#include "stages/face_choice.hpp"
#include "surface/recognise.hpp"
#include "widgets.hpp"

namespace escultura::app {

class InterfacesPanel : public QWidget {
    Q_OBJECT
  public:
    explicit InterfacesPanel(Session& session, QWidget* parent = nullptr);
    void refresh();
    /// All interfaces with all their numbers; several rows are changed at once. Stands in the drawer.
    QTableWidget* table() { return table_; }
    /// Ends what was begun: picking, forms.
    void closeForms();
    /// Name of the selected interface; empty: none.
    QString selected() const;
    /// A place picked in the view. @param mesh  the body that was picked, with its triangle
    /// @param roughness  of that body, mm; 0: a designed one
    void pick(const surface::TriMesh& mesh, double roughness, const Vec3& place, int triangle);
    /// Moves the selected interface to a new start.
    void moveTo(const QString& name, const Vec3& origin);

  signals:
    void selectionChanged(const QString& name);
    /// Faces or points are to be picked on a body in the view (or no longer).
    void pickingAsked(bool on);
    void failed(const QString& message);

  private:
    void makeTable();
    void makeForm();
    void makeCopyForm();
    void layOut();
    void connectInputs();
    void edited(int row, int column);
    /// Changes one cell's value of an interface. @throws InputError
    static void take(duty::Interface& interface, int column, const QString& text);
    void startPicking(bool points);
    /// A new interface in the middle of the design space, to be typed.
    void startTyping();
    void repeat();
    /// Puts the numbers of the selected interface below the list.
    void showValues();
    void say(const QString& words);
    void showRing(bool shown);
    Vec3 middleOfPart() const;
    /// A pad of a designed face's own outline.
    void proposeOutline(const surface::TriMesh& mesh, const surface::FittedFace& face, duty::Interface interface,
                        const QString& residual);
    void propose(const duty::Interface& interface, const QString& words);
    void create();
    /// One of three points on a rim.
    void pickPoint(const surface::TriMesh& mesh, const Vec3& place);
    /// Takes a clicked face of the original into the proposal's faces, or out of them. @return whether it was one
    bool pickKept(const Vec3& place);
    /// Tells the faces that are taken and what can be done about them.
    void showKept();
    /// Begins edges or points with the place that was clicked last, and takes another in or out.
    void proposeLines();
    void toggleLine(const Vec3& place);
    /// Shows the fields that a kind of interface has.
    void showFields(duty::Interface::Kind kind);
    Session& session_;
    QTableWidget *table_, *values_;
    class QTableView* list_;
    bool filling_ = false;
    QPushButton *face_, *points_, *typed_, *repeated_, *create_, *copy_, *remove_;
    QLabel *words_, *copyOf_, *ringWords_;
    QLineEdit *name_, *place_, *axis_, *copyPoint_, *copyAxis_;
    QComboBox *kind_, *copyKind_;
    QSpinBox* copies_;
    QCheckBox* heldAlike_;
    QuantityEdit *diameter_, *ring_, *length_;
    QWidget *form_, *copyForm_;
    std::optional<duty::Interface> proposal_;
    std::vector<Vec3> picked_;
    QPushButton *neighbours_, *sameRadius_;
    QLabel *diameterWords_, *lengthWords_;
    Vec3 clicked_ = Vec3::Zero();             ///< on what is shown, mm
    std::optional<stages::FaceChoice> kept_;  ///< faces of the original that were clicked
};

}  // namespace escultura::app
