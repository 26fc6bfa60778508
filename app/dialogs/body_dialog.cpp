#include "dialogs/body_dialog.hpp"

#include <QDialogButtonBox>
#include <QFileInfo>
#include <QFormLayout>
#include <QPushButton>
#include <cmath>

#include "theme/theme.hpp"

namespace escultura::app {

BodyDialog::BodyDialog(const QString& path, const surface::Measures& measures, const Box3& box, bool statesUnit,
                       QWidget* parent)
    : QDialog(parent), box_(box), volume_(measures.volume) {
    setObjectName("bodyDialog");
    setWindowTitle("New part from a body");
    theme::fix(this, theme::Length::leastWidth, 460);
    auto* form = new QFormLayout(this);
    form->setContentsMargins(20, 16, 20, 16);
    form->setVerticalSpacing(8);
    form->addRow(
        label("The body becomes the design space, and the design that results are compared with. Interfaces, loads and "
              "supports come next; then its density field is made here, or added from a file.",
              "muted"));
    name_ = new QLineEdit(QFileInfo(path).completeBaseName());
    name_->setObjectName("bodyName");
    form->addRow("Name", name_);
    unit_ = new QComboBox;
    unit_->setObjectName("bodyUnit");
    unit_->addItems({"mm", "cm", "m", "in", "ft", "um"});
    unit_->setEnabled(!statesUnit);
    if (statesUnit) unit_->setToolTip("The file states its unit");
    form->addRow("Unit of length", unit_);
    size_ = label("");
    size_->setObjectName("bodySize");
    form->addRow("Size", size_);
    warning_ = label("", "error");
    warning_->setVisible(false);
    form->addRow(warning_);
    if (measures.pieces > 1) {
        warning_->setText(QString("The file holds %1 bodies; all of them are design space.").arg(measures.pieces));
        warning_->setVisible(true);
    }
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Cancel);
    auto* begin = buttons->addButton("Begin the part", QDialogButtonBox::AcceptRole);
    begin->setObjectName("acceptBody");
    begin->setProperty("primary", true);
    form->addRow(buttons);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    connect(buttons, &QDialogButtonBox::accepted, this, [this] {
        if (!name().isEmpty()) {
            accept();
            return;
        }
        warning_->setText("Type a name.");
        warning_->setVisible(true);
    });
    connect(unit_, &QComboBox::currentTextChanged, this, &BodyDialog::tellSize);
    tellSize();
}

void BodyDialog::tellSize() {
    const double scale = unitScale(unit());
    const Vec3 s = scale * box_.size();
    size_->setText(QString("%1 × %2 × %3 mm, %4 cm³")
                       .arg(num(s[0]), num(s[1]), num(s[2]), num(volume_ * std::pow(scale, 3) / 1000)));
}

}  // namespace escultura::app
