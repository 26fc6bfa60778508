/// @file drawer/interfaces_panel.hpp
/// The part's interfaces as an editable table, and new ones from faces or points that are picked in the view.

#pragma once
#include <QPushButton>

#include "session.hpp"
#include "surface/recognise.hpp"
#include "widgets.hpp"

namespace escultura::app {

class InterfacesPanel : public QWidget {
    Q_OBJECT
  public:
    explicit InterfacesPanel(Session& session, QWidget* parent = nullptr);
    void refresh();
    /// Name of the selected interface; empty: none.
    QString selected() const;
    /// A place picked in the view. @param mesh  the body that was picked, with its triangle
    void pick(const surface::TriMesh& mesh, const Vec3& place, int triangle);
    /// Moves the selected interface to a new start.
    void moveTo(const QString& name, const Vec3& origin);

  signals:
    void selectionChanged(const QString& name);
    /// Faces or points are to be picked on the original body (or no longer).
    void pickingAsked(bool on);
    void failed(const QString& message);

  private:
    void edited(int row, int column);
    void startPicking(bool points);
    void propose(const duty::Interface& interface, const QString& words);
    void create();
    Session& session_;
    QTableWidget* table_;
    QPushButton *face_, *points_, *create_, *remove_;
    QLabel* words_;
    QLineEdit* name_;
    QuantityEdit *diameter_, *ring_, *length_;
    QWidget* form_;
    std::optional<duty::Interface> proposal_;
    std::vector<Vec3> picked_;
};

}  // namespace escultura::app
