/// @file dialogs/body_dialog.hpp
/// What a body's file does not say by itself when a part begins with it: its name and unit.

#pragma once
#include <QComboBox>
#include <QDialog>
#include <QLineEdit>

#include "surface/tri_mesh.hpp"
#include "widgets.hpp"

namespace escultura::app {

class BodyDialog : public QDialog {
    Q_OBJECT
  public:
    /// A body of the file as it would be, were the file's unit mm.
    struct Body {
        std::string name;
        surface::Measures measures;
        Box3 box;
    };
    BodyDialog(const QString& path, const std::vector<Body>& bodies, bool statesUnit, QWidget* parent);
    QString name() const { return name_->text().trimmed(); }
    std::string unit() const { return unit_->currentText().toStdString(); }
    enum class Role { part, neighbour, leftOut };
    /// Names of the bodies that have a role; none of the part when all of the file is the part.
    std::vector<std::string> bodiesOf(Role role) const;
    /// What neighbours are kept clear by, mm.
    double clearance() const { return clearance_->value(); }

  private:
    void tellSize();
    Role role(std::size_t body) const;
    QTableWidget* makeRoles();
    QTableWidget* table_ = nullptr;  ///< of the bodies; null: there is one
    std::vector<Body> bodies_;
    std::vector<QComboBox*> roles_;
    QuantityEdit* clearance_;
    QLineEdit* name_;
    QComboBox* unit_;
    QLabel *size_, *warning_;
};

}  // namespace escultura::app
