#include "dossier/card_parts.hpp"

#include <QLineEdit>
#include <QRegularExpression>
#include <cmath>

#include "theme/theme.hpp"

namespace escultura::app {
namespace {
const char* axes[] = {"+x", "-x", "+y", "-y", "+z", "-z"};

Vec3 axisVector(int i) {
    return (i % 2 ? -1.0 : 1.0) * Vec3::Unit(i / 2);
}
}  // namespace

QWidget* row(std::initializer_list<QWidget*> widgets) {
    auto* w = new QWidget;
    auto* l = new QHBoxLayout(w);
    l->setContentsMargins(0, 0, 0, 0);
    l->setSpacing(8);
    for (auto* x : widgets) l->addWidget(x);
    return w;
}

QWidget* field(const QString& name, QWidget* control) {
    auto* l = label(name, "muted");
    theme::fix(l, theme::Length::width, 112);
    l->setBuddy(control);
    control->setAccessibleName(name);
    return row({l, control});
}

QLabel* errorLabel() {
    auto* l = label("", "error");
    l->hide();
    return l;
}

void showError(QLabel* l, const QString& text) {
    l->setText(text);
    l->setVisible(!text.isEmpty());
}

QString mass(double kg) {
    return num(kg, 3) + " kg";
}

QLabel* heading(const QString& text) {
    auto* l = label("<b>" + text + "</b>");
    l->setContentsMargins(0, 6, 0, 0);
    return l;
}

QString link(const QString& key, const QString& text) {
    return QString("<a href='%1' style='color:" + theme::teal.name() + "; text-decoration:none'>%2 ↗</a>")
        .arg(key, text);
}

QStringList requirementCells(const judge::RequirementState& s) {
    const QString unit = s.unit.empty() ? "" : " " + text(s.unit);
    return {text(s.name), s.hasLimit ? (s.atLeast ? "≥ " : "≤ ") + num(s.limit) + unit : QString(),
            std::isnan(s.value) ? "–"
            : s.hasLimit        ? num(s.value) + unit
            : s.value == 0      ? QString("yes")
                                : num(s.value) + " open",
            word(s.state) + (s.note.empty() ? QString() : ", " + text(s.note))};
}

DirectionEdit::DirectionEdit(QWidget* parent) : QComboBox(parent) {
    setEditable(true);
    setInsertPolicy(QComboBox::NoInsert);
    for (const char* a : axes) addItem(a);
    setToolTip("An axis, or three numbers: 0.7, 0, 0.7");
    connect(this, &QComboBox::activated, this, [this](int i) { accept(itemText(i)); });
    connect(lineEdit(), &QLineEdit::editingFinished, this, [this] { accept(currentText()); });
}

void DirectionEdit::setValue(const Vec3& v) {
    value_ = v;
    if (lineEdit()->hasFocus() && lineEdit()->isModified()) return;
    const QSignalBlocker block(this);
    for (int i = 0; i < 6; ++i)
        if ((axisVector(i) - v).norm() < 1e-6) {
            setCurrentIndex(i);
            setEditText(axes[i]);
            return;
        }
    setEditText(QString("%1, %2, %3").arg(num(v[0]), num(v[1]), num(v[2])));
}

void DirectionEdit::accept(const QString& text) {
    Vec3 v = Vec3::Zero();
    for (int i = 0; i < 6; ++i)
        if (text.trimmed() == axes[i]) v = axisVector(i);
    if (v.norm() == 0) {
        const QStringList parts = text.split(QRegularExpression("[,;\\s]+"), Qt::SkipEmptyParts);
        for (int a = 0; a < 3 && parts.size() == 3; ++a) v[a] = parts[a].toDouble();
    }
    if (!(v.norm() > 0) || !v.allFinite()) {
        setValue(value_);  // not a direction: what was there stays
        return;
    }
    v.normalize();
    lineEdit()->setModified(false);
    const bool changed = (v - value_).norm() > 1e-9;
    setValue(v);
    if (changed) emit valueEntered(v);
}

}  // namespace escultura::app
