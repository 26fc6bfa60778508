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
    /// @param measures  of the body in mm, were its unit mm. @param box  likewise
    BodyDialog(const QString& path, const surface::Measures& measures, const Box3& box, bool statesUnit,
               QWidget* parent);
    QString name() const { return name_->text().trimmed(); }
    std::string unit() const { return unit_->currentText().toStdString(); }

  private:
    void tellSize();
    Box3 box_;
    double volume_;
    QLineEdit* name_;
    QComboBox* unit_;
    QLabel *size_, *warning_;
};

}  // namespace escultura::app
