#include "drawer/interfaces_panel.hpp"

#include <QHBoxLayout>
#include <QVBoxLayout>
#include <cmath>

#include "base/error.hpp"
#include "duty/part_edit.hpp"

namespace escultura::app {

using duty::EndKind;
using duty::Interface;

namespace {

/// Columns of the table, in order.
enum Column {
    nameColumn,
    kindColumn,
    xColumn,
    yColumn,
    zColumn,
    axisColumn,
    lengthColumn,
    boreColumn,
    ringColumn,
    blendColumn,
    clearanceColumn,
    clearDiameterColumn
};

QString axisText(const Vec3& v) {
    return QString("%1, %2, %3").arg(plain(v[0]), plain(v[1]), plain(v[2]));
}

double lengthFrom(const QString& text) {
    return parseQuantity(text.toStdString(), dimension::length, "mm");
}

/// A value as the eye would round it: a fitted 11.003 is meant to be 11.
double rounded(double v, double step) {
    return std::round(v / step) * step;
}

}  // namespace

InterfacesPanel::InterfacesPanel(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    table_ = table({"Name", "Kind", "x, mm", "y, mm", "z, mm", "Axis", "Length", "Bore", "Ring or pin", "Blend radius",
                    "Tool access", "Access diameter"});
    table_->setObjectName("interfaceTable");
    table_->setEditTriggers(QAbstractItemView::DoubleClicked | QAbstractItemView::EditKeyPressed |
                            QAbstractItemView::AnyKeyPressed);
    table_->setToolTip("Double-click a cell to edit it; drag the handle in the view to move the selected interface");
    face_ = new QPushButton("Pick a face");
    face_->setObjectName("pickFace");
    face_->setCheckable(true);
    face_->setToolTip("Click a face of the original: a plane, bore or pin is recognised");
    points_ = new QPushButton("Pick three points");
    points_->setObjectName("pickPoints");
    points_->setCheckable(true);
    points_->setToolTip("Click three points on the rim of a bore");
    remove_ = new QPushButton("Remove");
    remove_->setObjectName("removeInterface");
    words_ = label("");
    words_->setObjectName("pickedWords");
    words_->setWordWrap(false);
    name_ = new QLineEdit;
    name_->setObjectName("newInterfaceName");
    name_->setPlaceholderText("Name");
    diameter_ = new QuantityEdit(dimension::length, "mm", 0, 1e4);
    diameter_->setObjectName("newInterfaceDiameter");
    ring_ = new QuantityEdit(dimension::length, "mm", 0, 1e4);
    ring_->setObjectName("newInterfaceRing");
    length_ = new QuantityEdit(dimension::length, "mm", 1e-3, 1e4);
    length_->setObjectName("newInterfaceLength");
    create_ = new QPushButton("Create interface");
    create_->setObjectName("createInterface");
    form_ = new QWidget;
    auto* fields = new QHBoxLayout(form_);
    fields->setContentsMargins(0, 0, 0, 0);
    fields->addWidget(name_);
    for (const auto& [text, edit] :
         {std::pair{"Diameter", diameter_}, std::pair{"Ring", ring_}, std::pair{"Length", length_}}) {
        fields->addWidget(label(text, "muted"));
        edit->setFixedWidth(90);
        edit->setAccessibleName(text);
        fields->addWidget(edit);
    }
    fields->addWidget(create_);
    form_->hide();
    auto* buttons = new QHBoxLayout;
    buttons->addWidget(face_);
    buttons->addWidget(points_);
    buttons->addWidget(remove_);
    buttons->addWidget(words_, 1);
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(8, 4, 8, 4);
    column->addWidget(table_, 1);
    column->addLayout(buttons);
    column->addWidget(form_);
    connect(table_, &QTableWidget::cellChanged, this, &InterfacesPanel::edited);
    connect(table_, &QTableWidget::currentCellChanged, this, [this] { emit selectionChanged(selected()); });
    connect(face_, &QPushButton::clicked, this, [this] { startPicking(false); });
    connect(points_, &QPushButton::clicked, this, [this] { startPicking(true); });
    connect(create_, &QPushButton::clicked, this, &InterfacesPanel::create);
    connect(remove_, &QPushButton::clicked, this, [this] {
        const QString name = selected();
        if (name.isEmpty()) return;
        try {
            session_.editPart("Remove " + name, [&](const std::string&) {
                return duty::withoutInterface(session_.project().part, name.toStdString());
            });
        } catch (const InputError& e) {
            emit failed(e.what());
        }
    });
}

QString InterfacesPanel::selected() const {
    const auto* item = table_->currentRow() >= 0 ? table_->item(table_->currentRow(), nameColumn) : nullptr;
    return item ? item->text() : QString();
}

void InterfacesPanel::refresh() {
    if (!session_.hasProject()) return;
    const QSignalBlocker block(table_);
    const int row = table_->currentRow(), column = table_->currentColumn();
    QList<QStringList> rows;
    for (const Interface& i : session_.project().part.interfaces) {
        const bool hasEnd = i.start.kind == EndKind::flat;
        rows << QStringList{QString::fromStdString(i.name),
                            duty::name(i.kind),
                            plain(i.origin[0]),
                            plain(i.origin[1]),
                            plain(i.origin[2]),
                            axisText(i.axis),
                            plain(i.length),
                            i.boreDiameter > 0 ? plain(i.boreDiameter) : "–",
                            i.ringDiameter > 0 ? plain(i.ringDiameter) : "–",
                            plain(i.blendRadius),
                            hasEnd ? plain(i.start.clearance) : "–",
                            hasEnd ? i.start.clearDiameter > 0 ? plain(i.start.clearDiameter) : "ring + 6" : "–"};
    }
    fill(table_, rows);
    if (row >= 0 && row < table_->rowCount()) table_->setCurrentCell(row, std::max(column, 0));
    remove_->setEnabled(!session_.isBusy());
    const bool canPick = !session_.isBusy();
    face_->setEnabled(canPick);
    points_->setEnabled(canPick);
}

void InterfacesPanel::edited(int row, int column) {
    const auto& all = session_.project().part.interfaces;
    if (row < 0 || row >= static_cast<int>(all.size())) return;
    Interface i = all[static_cast<std::size_t>(row)];
    const std::string before = i.name;
    const QString text = table_->item(row, column)->text().trimmed();
    try {
        switch (column) {
            case nameColumn:
                i.name = text.toStdString();
                break;
            case kindColumn: {
                static const QStringList kinds{"bore", "boss", "pad", "pin"};
                const auto kind = kinds.indexOf(text);
                if (kind < 0) throw InputError("Type bore, boss, pad or pin.");
                i.kind = static_cast<Interface::Kind>(kind);
                if (i.kind == Interface::Kind::pad || i.kind == Interface::Kind::pin) i.boreDiameter = 0;
                if (i.kind == Interface::Kind::bore) i.ringDiameter = 0;
                break;
            }
            case xColumn:
            case yColumn:
            case zColumn:
                i.origin[column - xColumn] = lengthFrom(text);
                break;
            case axisColumn: {
                const QStringList parts = text.split(',');
                if (parts.size() != 3) throw InputError("Type the axis as three numbers with commas between them.");
                for (int a = 0; a < 3; ++a) i.axis[a] = parts[a].trimmed().toDouble();
                break;
            }
            case lengthColumn:
                i.length = lengthFrom(text);
                break;
            case boreColumn:
                i.boreDiameter = lengthFrom(text);
                break;
            case ringColumn:
                i.ringDiameter = lengthFrom(text);
                break;
            case blendColumn:
                i.blendRadius = lengthFrom(text);
                break;
            case clearanceColumn:
                i.start.clearance = lengthFrom(text);
                break;
            case clearDiameterColumn:
                i.start.clearDiameter = lengthFrom(text);
                break;
        }
        session_.editPart("Edit " + QString::fromStdString(before),
                          [&](const std::string&) { return duty::withInterface(session_.project().part, before, i); });
    } catch (const InputError& e) {
        emit failed(e.what());
        refresh();
    }
}

void InterfacesPanel::moveTo(const QString& name, const Vec3& origin) {
    const Interface* found = session_.project().part.findInterface(name.toStdString());
    if (!found) return;
    Interface i = *found;
    for (int a = 0; a < 3; ++a) i.origin[a] = rounded(origin[a], 0.1);
    try {
        session_.editPart("Move " + name,
                          [&](const std::string&) { return duty::withInterface(session_.project().part, i.name, i); });
    } catch (const InputError& e) {
        emit failed(e.what());
    }
}

void InterfacesPanel::startPicking(bool points) {
    auto* button = points ? points_ : face_;
    (points ? face_ : points_)->setChecked(false);
    picked_.clear();
    form_->hide();
    words_->setText(!button->isChecked() ? ""
                    : points             ? "Click three points on the rim of a bore of the original."
                                         : "Click a face of the original: a plane, a bore or a pin.");
    emit pickingAsked(button->isChecked());
}

void InterfacesPanel::pick(const surface::TriMesh& mesh, const Vec3& place, int triangle) {
    Interface i;
    i.blendRadius = 4;
    if (points_->isChecked()) {
        picked_.push_back(place);
        words_->setText(QString("%1 of 3 points").arg(picked_.size()));
        if (picked_.size() < 3) return;
        const auto circle = surface::circleThrough(picked_[0], picked_[1], picked_[2]);
        picked_.clear();
        if (!circle) {
            words_->setText("The points lie on a line: click three others.");
            return;
        }
        i.kind = Interface::Kind::boss;
        // from the rim into the material: towards the body's middle
        Box3 box;
        for (const Vec3& p : mesh.position) box.include(p);
        i.axis = circle->axis.dot(box.centre() - circle->centre) < 0 ? Vec3(-circle->axis) : circle->axis;
        i.origin = circle->centre;
        i.boreDiameter = 2 * circle->radius;
        i.ringDiameter = 2 * i.boreDiameter;
        i.length = i.boreDiameter;
        propose(i, QString("Circle of Ø %1 mm through the points.").arg(num(i.boreDiameter, 4)));
        return;
    }
    if (!face_->isChecked()) return;
    const auto face = surface::recogniseFace(mesh, triangle);
    if (!face) {
        words_->setText("Neither a plane nor a cylinder: click another face.");
        return;
    }
    const QString residual = QString(", off by %1 mm RMS, at most %2 mm").arg(num(face->rms, 2), num(face->largest, 2));
    using Kind = surface::FittedFace::Kind;
    if (face->kind == Kind::plane) {
        i.kind = Interface::Kind::pad;
        i.origin = face->point;
        i.axis = -face->axis;
        i.ringDiameter = 2 * face->reach;
        i.length = std::max(2.0, 0.2 * i.ringDiameter);
        i.end.kind = EndKind::blind;
        propose(i, "Plane" + residual + ".");
        return;
    }
    i.kind = face->kind == Kind::bore ? Interface::Kind::boss : Interface::Kind::pin;
    i.axis = face->axis;
    i.origin = face->point + face->low * face->axis;
    i.length = face->high - face->low;
    if (face->kind == Kind::bore) {
        i.boreDiameter = 2 * face->radius;
        i.ringDiameter = 2 * i.boreDiameter;
    } else {
        i.ringDiameter = 2 * face->radius;
        i.end.kind = EndKind::blind;
    }
    propose(
        i,
        QString("%1 of Ø %2 mm%3.").arg(face->kind == Kind::bore ? "Bore" : "Pin", num(2 * face->radius, 5), residual));
}

void InterfacesPanel::propose(const Interface& interface, const QString& words) {
    proposal_ = interface;
    words_->setText(words + " Type its exact size.");
    int n = 1;
    const auto& part = session_.project().part;
    while (part.findInterface(std::string(duty::name(interface.kind)) + " " + std::to_string(n))) ++n;
    name_->setText(QString("%1 %2").arg(duty::name(interface.kind)).arg(n));
    const bool hasBore = interface.boreDiameter > 0;
    diameter_->setValue(rounded(hasBore ? interface.boreDiameter : interface.ringDiameter, 0.1));
    ring_->setValue(rounded(interface.ringDiameter, 0.1));
    ring_->setEnabled(hasBore);
    length_->setValue(rounded(interface.length, 0.1));
    form_->show();
}

void InterfacesPanel::create() {
    if (!proposal_) return;
    Interface i = *proposal_;
    i.name = name_->text().trimmed().toStdString();
    if (i.boreDiameter > 0) {
        i.boreDiameter = diameter_->value();
        i.ringDiameter = ring_->value();
    } else {
        i.ringDiameter = diameter_->value();
    }
    i.length = length_->value();
    for (int a = 0; a < 3; ++a) {
        i.origin[a] = rounded(i.origin[a], 0.01);
        // an axis within a tenth of a degree of a global one is that one
        if (std::abs(std::abs(i.axis[a]) - 1) < 1.5e-6) i.axis = (i.axis[a] < 0 ? -1.0 : 1.0) * Vec3::Unit(a);
    }
    try {
        session_.editPart("New interface",
                          [&](const std::string&) { return duty::withInterface(session_.project().part, "", i); });
        proposal_.reset();
        form_->hide();
        words_->setText(QString("Created %1.").arg(QString::fromStdString(i.name)));
        face_->setChecked(false);
        points_->setChecked(false);
        emit pickingAsked(false);
    } catch (const InputError& e) {
        emit failed(e.what());
    }
}

}  // namespace escultura::app
