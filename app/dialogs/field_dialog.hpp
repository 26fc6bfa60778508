/// @file dialogs/field_dialog.hpp
/// What a file with a density field does not say by itself: which array, which units, which cells.

#pragma once
#include <QComboBox>
#include <QDialog>
#include <QLineEdit>

#include "exchange/field_reader.hpp"
#include "widgets.hpp"

namespace escultura::app {

class FieldDialog : public QDialog {
    Q_OBJECT
  public:
    FieldDialog(const QString& path, const exchange::FieldFile& file, QWidget* parent);
    exchange::FieldSource source() const;
    QString name() const { return name_->text().trimmed(); }

  private:
    void suggest();
    QString path_;
    exchange::FieldFile file_;
    QLineEdit *name_, *spacing_, *origin_;
    QComboBox *array_, *unit_, *values_;
    QuantityEdit* cell_;
    QLabel *about_, *warning_;
};

}  // namespace escultura::app
