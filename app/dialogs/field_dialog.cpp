#include "dialogs/field_dialog.hpp"

#include <QDialogButtonBox>
#include <QFileInfo>
#include <QFormLayout>
#include <QPushButton>

#include "theme/theme.hpp"

namespace escultura::app {
namespace {

/// Three lengths, or one for all; in mm or with units.
std::optional<Vec3> lengths(const QString& text) {
    const QStringList parts = text.split(',', Qt::SkipEmptyParts);
    if (parts.size() != 1 && parts.size() != 3) return std::nullopt;
    Vec3 v;
    try {
        for (int a = 0; a < 3; ++a)
            v[a] = parseQuantity(parts[parts.size() == 3 ? a : 0].trimmed().toStdString(), dimension::length, "mm");
    } catch (const std::exception&) {
        return std::nullopt;
    }
    return v;
}

}  // namespace

/// Format and size of a file, in words.
static QString wordsOf(const exchange::FieldFile& file) {
    using Kind = exchange::FieldFile::Kind;
    QString what = QString::fromStdString(file.format) + "\n";
    if (file.kind == Kind::grid || file.kind == Kind::array)
        what += QString("%1 × %2 × %3 cells").arg(file.cells[0]).arg(file.cells[1]).arg(file.cells[2]);
    else
        what += QString("%1 %2").arg(file.count).arg(file.kind == Kind::mesh ? "elements" : "points");
    if (file.kind != Kind::array) {
        const Vec3 s = file.bounds.size();
        what += QString(", %1 × %2 × %3 in the file's unit").arg(num(s[0]), num(s[1]), num(s[2]));
    }
    return what;
}

FieldDialog::FieldDialog(const QString& path, const exchange::FieldFile& file, QWidget* parent)
    : QDialog(parent), path_(path), file_(file) {
    setObjectName("fieldDialog");
    setWindowTitle("Density field");
    theme::fix(this, theme::Length::leastWidth, 460);
    using Kind = exchange::FieldFile::Kind;
    auto* form = new QFormLayout(this);
    form->setContentsMargins(20, 16, 20, 16);
    form->setVerticalSpacing(8);
    about_ = label(wordsOf(file), "muted");
    form->addRow(about_);
    name_ = new QLineEdit(QFileInfo(path).completeBaseName());
    name_->setObjectName("fieldName");
    form->addRow("Name", name_);
    array_ = new QComboBox;
    array_->setObjectName("fieldArray");
    for (const auto& a : file.arrays) {
        if (a.components != 1) continue;
        array_->addItem(QString("%1 (%2), %3 to %4")
                            .arg(QString::fromStdString(a.name),
                                 a.on == exchange::ArrayInfo::On::cells ? "cells" : "points", num(a.low), num(a.high)),
                        QString::fromStdString(a.name));
        if (a.name == "density") array_->setCurrentIndex(array_->count() - 1);
    }
    form->addRow("Array", array_);
    unit_ = new QComboBox;
    unit_->setObjectName("fieldUnit");
    unit_->addItems({"mm", "cm", "m", "in", "ft", "um"});
    spacing_ = new QLineEdit;
    spacing_->setObjectName("fieldSpacing");
    spacing_->setPlaceholderText("2.5  or  2.5, 2.5, 2");
    origin_ = new QLineEdit("0, 0, 0");
    origin_->setObjectName("fieldOrigin");
    cell_ = new QuantityEdit(dimension::length, "mm", 1e-4, 1e4);
    cell_->setObjectName("fieldCell");
    if (file.kind == Kind::array) {
        form->addRow("Cell size, mm", spacing_);
        form->addRow("Low corner, mm", origin_);
    } else {
        form->addRow("Unit of length", unit_);
    }
    if (file.kind == Kind::mesh) {
        cell_->setValue(file.suggestedCell);
        form->addRow("Cell size", cell_);
        connect(unit_, &QComboBox::currentTextChanged, this,
                [this](const QString& unit) { cell_->setValue(file_.suggestedCell * unitScale(unit.toStdString())); });
    }
    values_ = new QComboBox;
    values_->setObjectName("fieldValues");
    values_->addItems({"shares, 0 to 1", "per cent, 0 to 100", "bytes, 0 to 255"});
    form->addRow("Values are", values_);
    warning_ = label("", "error");
    form->addRow(warning_);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Cancel);
    auto* add = buttons->addButton("Add field", QDialogButtonBox::AcceptRole);
    add->setObjectName("acceptField");
    form->addRow(buttons);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    connect(buttons, &QDialogButtonBox::accepted, this, [this] {
        if (name().isEmpty())
            warning_->setText("Type a name.");
        else if (file_.kind == Kind::array &&
                 (!lengths(spacing_->text()) || lengths(spacing_->text())->minCoeff() <= 0))
            warning_->setText("Type the size of a cell: one length, or three with commas between them.");
        else if (file_.kind == Kind::array && !lengths(origin_->text()))
            warning_->setText("Type the low corner as three lengths with commas between them.");
        else
            accept();
    });
    connect(array_, &QComboBox::activated, this, &FieldDialog::suggest);
    suggest();
}

void FieldDialog::suggest() {
    for (const auto& a : file_.arrays) {
        if (QString::fromStdString(a.name) != array_->currentData().toString()) continue;
        values_->setCurrentIndex(a.high > 100.001 ? 2 : a.high > 2 ? 1 : 0);
        warning_->setText(a.notFinite ? QString("%1 values are not numbers.").arg(a.notFinite) : QString());
    }
}

exchange::FieldSource FieldDialog::source() const {
    using Kind = exchange::FieldFile::Kind;
    exchange::FieldSource s;
    s.path = path_.toStdString();
    s.scale = static_cast<exchange::DensityScale>(values_->currentIndex());
    if (file_.kind == Kind::array) {
        s.spacing = lengths(spacing_->text());
        s.origin = lengths(origin_->text());
        return s;
    }
    s.array = array_->currentData().toString().toStdString();
    s.lengthUnit = unit_->currentText().toStdString();
    if (file_.kind == Kind::mesh &&
        std::abs(cell_->value() - file_.suggestedCell * unitScale(s.lengthUnit)) > 1e-6 * file_.suggestedCell)
        s.cell = cell_->value();
    return s;
}

}  // namespace escultura::app
