#include "dialogs/material_dialog.hpp"

#include <QDialogButtonBox>
#include <QFormLayout>
#include <QKeyEvent>
#include <QPushButton>

#include "base/error.hpp"
#include "duty/materials.hpp"
#include "theme/theme.hpp"

namespace escultura::app {

using elastic::FailureRule;
using elastic::Material;

MaterialDialog::MaterialDialog(const Material& from, QWidget* parent) : QDialog(parent), own_(from) {
    setObjectName("materialDialog");
    setWindowTitle("Own material");
    theme::fix(this, theme::Length::leastWidth, 480);
    auto* form = new QFormLayout(this);
    form->setContentsMargins(20, 16, 20, 16);
    form->setVerticalSpacing(8);
    form->addRow(
        label("Isotropic, at the temperature of use. Safety factors compare with the strength that is typed: "
              "take the low value of your standard or test, and say which.",
              "muted"));
    if (from.orthotropic)
        form->addRow(label("The part's material is orthotropic: what is typed here takes its place.", "error"));
    from_ = new QComboBox;
    from_->setObjectName("materialFrom");
    from_->addItem("the part's: " + text(from.name));
    for (const auto& m : duty::materialLibrary()) from_->addItem(text(m.material.name));
    name_ = new QLineEdit;
    name_->setObjectName("materialName");
    youngs_ = new QuantityEdit(dimension::stress, "GPa", 1e-3, 1e7);
    youngs_->setObjectName("materialYoungs");
    poissons_ = new QuantityEdit(dimension::none, "", -0.99, 0.499);
    poissons_->setObjectName("materialPoissons");
    density_ = new QuantityEdit(dimension::density, "kg/m^3", 1e-12, 1e-4);
    density_->setObjectName("materialDensity");
    yield_ = new QuantityEdit(dimension::stress, "MPa", 0, 1e5);
    yield_->setObjectName("materialYield");
    ultimate_ = new QuantityEdit(dimension::stress, "MPa", 0, 1e5);
    ultimate_->setObjectName("materialUltimate");
    yield_->setAutomatic("not stated");
    ultimate_->setAutomatic("not stated");
    rule_ = new QComboBox;
    rule_->setObjectName("materialRule");
    rule_->addItems(
        {"ductile: yield strength against von Mises", "brittle: ultimate strength against the largest tension"});
    source_ = new QLineEdit;
    source_->setObjectName("materialSource");
    source_->setPlaceholderText("such as: minimum, data sheet of the supplier, 2026");
    error_ = label("", "error");
    error_->setObjectName("materialError");
    error_->setVisible(false);
    form->addRow("Begin with", from_);
    form->addRow("Name", name_);
    form->addRow("Young's modulus", youngs_);
    form->addRow("Poisson's ratio", poissons_);
    form->addRow("Density", density_);
    form->addRow("It fails", rule_);
    form->addRow("Yield strength", yield_);
    form->addRow("Ultimate strength", ultimate_);
    form->addRow("Source of the strength", source_);
    form->addRow(error_);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Cancel);
    auto* use = buttons->addButton("Use it", QDialogButtonBox::AcceptRole);
    use->setObjectName("acceptMaterial");
    use->setProperty("primary", true);
    form->addRow(buttons);
    for (QuantityEdit* e : {youngs_, poissons_, density_, yield_, ultimate_})
        connect(e, &QuantityEdit::errorChanged, this, [this](const QString& sentence) {
            error_->setText(sentence);
            error_->setVisible(!sentence.isEmpty());
        });
    connect(from_, &QComboBox::activated, this, [this](int k) {
        show(k == 0 ? own_ : duty::materialLibrary().at(static_cast<std::size_t>(k - 1)).material);
    });
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    connect(buttons, &QDialogButtonBox::accepted, this, &MaterialDialog::check);
    show(from);
}

void MaterialDialog::keyPressEvent(QKeyEvent* e) {
    if (e->key() == Qt::Key_Return || e->key() == Qt::Key_Enter) return;  // ends a field, not the dialog
    QDialog::keyPressEvent(e);
}

void MaterialDialog::show(const Material& m) {
    name_->setText(text(m.name));
    youngs_->setValue(m.youngsModulus);
    poissons_->setValue(m.poissonsRatio);
    density_->setValue(m.density);
    yield_->setValue(m.yieldStrength);
    ultimate_->setValue(m.ultimateStrength);
    rule_->setCurrentIndex(m.rule == FailureRule::brittle ? 1 : 0);
    source_->setText(text(m.yieldSource));
}

Material MaterialDialog::material() const {
    Material m;
    m.name = name_->text().trimmed().toStdString();
    m.youngsModulus = youngs_->value();
    m.poissonsRatio = poissons_->value();
    m.density = density_->value();
    m.yieldStrength = yield_->value();
    m.ultimateStrength = ultimate_->value();
    m.rule = rule_->currentIndex() == 1 ? FailureRule::brittle : FailureRule::ductile;
    m.yieldSource = source_->text().trimmed().toStdString();
    return m;
}

void MaterialDialog::check() {
    QString wrong;
    for (const QLineEdit* e : std::initializer_list<const QLineEdit*>{youngs_, poissons_, density_, yield_, ultimate_})
        if (e->property("wrong").toBool()) wrong = "A value in red cannot be read: type it again.";
    const Material m = material();
    if (wrong.isEmpty() && m.name.empty()) wrong = "Type a name.";
    if (wrong.isEmpty() && m.yieldSource.empty())
        wrong = "Say where the strength comes from, and whether it is a minimum: the report states it.";
    if (wrong.isEmpty()) {
        try {
            elastic::validate(m);
        } catch (const InputError& e) {
            wrong = QString(e.what());
        }
    }
    error_->setText(wrong);
    error_->setVisible(!wrong.isEmpty());
    if (wrong.isEmpty()) accept();
}

}  // namespace escultura::app
