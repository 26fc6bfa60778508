/// @file dialogs/material_dialog.hpp
/// A material by its own constants, typed with units; begins with the part's or one of the library.

#pragma once
#include <QComboBox>
#include <QDialog>

#include "elastic/material.hpp"
#include "widgets.hpp"

namespace escultura::app {

class MaterialDialog : public QDialog {
    Q_OBJECT
  public:
    MaterialDialog(const elastic::Material& from, QWidget* parent);
    /// What was typed; valid once the dialog was accepted.
    elastic::Material material() const;

  protected:
    void keyPressEvent(QKeyEvent* event) override;

  private:
    void show(const elastic::Material& material);
    void check();
    QComboBox *from_, *rule_;
    QLineEdit *name_, *source_;
    QuantityEdit *youngs_, *poissons_, *density_, *yield_, *ultimate_;
    QLabel* error_;
    elastic::Material own_;
};

}  // namespace escultura::app
