/// The interfaces, and the forms that make one. Long because they fill in and change the same fields; what is clicked
/// in the view is interfaces_picking.cpp.

#include "tools/interfaces_panel.hpp"

#include <QFormLayout>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QTableView>
#include <QVBoxLayout>
#include <cmath>

#include "base/error.hpp"
#include "duty/part_edit.hpp"
#include "theme/theme.hpp"

namespace escultura::app {

using duty::EndKind;
using duty::Interface;

namespace {
constexpr double shownDigits = 0.1;  // mm, of proposed diameters

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

/// Three numbers with commas between them; lengths with units where asked. @throws InputError
Vec3 threeFrom(const QString& text, const char* what, bool lengths) {
    const QStringList parts = text.split(',');
    Vec3 v;
    bool good = parts.size() == 3;
    for (int a = 0; a < 3 && good; ++a) {
        if (lengths)
            v[a] = lengthFrom(parts[a].trimmed());
        else
            v[a] = parts[a].trimmed().toDouble(&good);
    }
    if (!good)
        throw InputError(ErrorDetail{std::string("Type ") + what + " as three numbers.",
                                     {},
                                     what,
                                     "three numbers with commas between them, such as 0, 0, 1",
                                     "'" + text.toStdString() + "'"});
    return v;
}

/// A value as the eye would round it: a fitted 11.003 is meant to be 11.
double rounded(double v, double step) {
    return std::round(v / step) * step;
}

/// A field for three numbers.
QLineEdit* triple(const char* name, const QString& tip) {
    auto* e = new QLineEdit;
    e->setObjectName(name);
    e->setToolTip(tip);
    return e;
}

}  // namespace

InterfacesPanel::InterfacesPanel(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    makeTable();
    makeForm();
    makeCopyForm();
    layOut();
    connectInputs();
}

void InterfacesPanel::makeTable() {
    table_ = app::table({"Name", "Kind", "x, mm", "y, mm", "z, mm", "Axis", "Length, mm", "Bore, mm", "Ring or pin, mm",
                         "Blend radius, mm", "Tool access, mm", "Access diameter, mm"});
    table_->setObjectName("interfaceTable");
    table_->setEditTriggers(QAbstractItemView::DoubleClicked | QAbstractItemView::EditKeyPressed |
                            QAbstractItemView::AnyKeyPressed);
    table_->setSelectionMode(QAbstractItemView::ExtendedSelection);
    table_->setToolTip(
        "Double-click a cell to edit it; with several rows selected the value goes to all of them. Drag the handle in "
        "the view to move the selected interface");
    face_ = new QPushButton("Pick a face");
    face_->setObjectName("pickFace");
    face_->setCheckable(true);
    face_->setToolTip(
        "Click a face of the original, else of the surface or the field that is shown: a plane, bore or pin is "
        "recognised");
    points_ = new QPushButton("Pick three points");
    points_->setObjectName("pickPoints");
    points_->setCheckable(true);
    points_->setToolTip("Click three points on the rim of a bore");
    typed_ = new QPushButton("Type numbers");
    typed_->setObjectName("typeInterface");
    typed_->setToolTip("A new interface by place, axis and diameters");
    repeated_ = new QPushButton("Repeat…");
    repeated_->setObjectName("repeatInterface");
    repeated_->setToolTip("Copies of the selected interface about an axis or across a plane");
    remove_ = new QPushButton("Remove");
    remove_->setObjectName("removeInterface");
    words_ = label("");
    words_->setObjectName("pickedWords");
    words_->setWordWrap(true);
    words_->hide();
    list_ = briefOf(table_, {nameColumn, kindColumn, boreColumn}, "interfaceList");
    theme::fix(list_, theme::Length::leastHeight, 30 + 26 * 4);
    theme::fix(list_, theme::Length::mostHeight, 30 + 26 * 6);
    values_ = new QTableWidget(0, 2);
    values_->setObjectName("interfaceValues");
    values_->horizontalHeader()->hide();
    values_->verticalHeader()->hide();
    values_->verticalHeader()->setDefaultSectionSize(theme::px(26));
    values_->horizontalHeader()->setSectionResizeMode(0, QHeaderView::ResizeToContents);
    values_->horizontalHeader()->setStretchLastSection(true);
    values_->setShowGrid(false);
    values_->setFrameShape(QFrame::NoFrame);
    values_->setToolTip("Double-click a value to edit it. Drag the handle in the view to move the interface");
    connect(values_, &QTableWidget::cellChanged, this, [this](int row, int) {
        if (filling_ || table_->currentRow() < 0) return;
        table_->item(table_->currentRow(), row)->setText(values_->item(row, 1)->text());
    });
}

void InterfacesPanel::makeForm() {
    name_ = new QLineEdit;
    name_->setObjectName("newInterfaceName");
    kind_ = new QComboBox;
    kind_->setObjectName("newInterfaceKind");
    kind_->addItems({"bore", "boss", "pad", "pin", "faces", "edges", "points"});
    kind_->setToolTip(
        "bore: a hole; boss: a hole with a ring of material; pad: a disc to stand on; pin: a round stud; faces: faces "
        "of "
        "the original as they are");
    place_ = triple("newInterfacePlace", "Middle of its start, mm: x, y, z");
    axis_ = triple("newInterfaceAxis", "Direction from start to end: three numbers");
    diameter_ = new QuantityEdit(dimension::length, "mm", 0, 1e4);
    diameter_->setObjectName("newInterfaceDiameter");
    ring_ = new QuantityEdit(dimension::length, "mm", 0, 1e4);
    ring_->setObjectName("newInterfaceRing");
    length_ = new QuantityEdit(dimension::length, "mm", 1e-3, 1e4);
    length_->setObjectName("newInterfaceLength");
    neighbours_ = new QPushButton("Add smooth neighbours");
    neighbours_->setObjectName("keepNeighbours");
    neighbours_->setToolTip("Faces that go on from the clicked ones without an edge");
    sameRadius_ = new QPushButton("Add all of this radius");
    sameRadius_->setObjectName("keepSameRadius");
    sameRadius_->setToolTip("Cylinders as wide as the clicked ones, hollow or full like them");
    create_ = new QPushButton("Create interface");
    create_->setObjectName("createInterface");
    form_ = new QWidget;
    auto* rows = new QFormLayout(form_);
    rows->setContentsMargins(0, 0, 0, 0);
    rows->setVerticalSpacing(5);
    ringWords_ = label("Ring", "muted");
    diameterWords_ = label("Diameter", "muted");
    lengthWords_ = label("Length", "muted");
    for (const auto& [words, edit] :
         std::initializer_list<std::pair<QLabel*, QWidget*>>{{label("Name", "muted"), name_},
                                                             {label("Kind", "muted"), kind_},
                                                             {label("Start at", "muted"), place_},
                                                             {label("Axis", "muted"), axis_},
                                                             {diameterWords_, diameter_},
                                                             {ringWords_, ring_},
                                                             {lengthWords_, length_}}) {
        edit->setAccessibleName(words->text());
        rows->addRow(words, edit);
    }
    rows->addRow(neighbours_);
    rows->addRow(sameRadius_);
    rows->addRow(create_);
    form_->hide();
}

void InterfacesPanel::makeCopyForm() {
    copyOf_ = label("");
    copyOf_->setWordWrap(false);
    copyKind_ = new QComboBox;
    copyKind_->setObjectName("copyKind");
    copyKind_->addItems({"about an axis", "across a plane"});
    copyPoint_ = triple("copyPoint", "A point of the axis or the plane, mm: x, y, z");
    copyAxis_ = triple("copyAxis", "Direction of the axis, or across the plane: three numbers");
    copies_ = new QSpinBox;
    copies_->setObjectName("copyCount");
    copies_->setRange(2, 100);
    copies_->setValue(4);
    copies_->setSuffix(" places");
    copies_->setToolTip("On the full circle, the selected one included");
    heldAlike_ = new QCheckBox("held alike");
    heldAlike_->setObjectName("copyHeldAlike");
    heldAlike_->setChecked(true);
    heldAlike_->setToolTip("What supports the interface supports its copies too; loads are not copied");
    copy_ = new QPushButton("Repeat");
    copy_->setObjectName("makeCopies");
    copyForm_ = new QWidget;
    auto* rows = new QFormLayout(copyForm_);
    rows->setContentsMargins(0, 0, 0, 0);
    rows->setVerticalSpacing(5);
    rows->addRow(label("Repeat", "muted"), copyOf_);
    for (const auto& [words, edit] : std::initializer_list<std::pair<const char*, QWidget*>>{{"How", copyKind_},
                                                                                             {"Through", copyPoint_},
                                                                                             {"Direction", copyAxis_},
                                                                                             {"On the circle", copies_},
                                                                                             {"", heldAlike_}}) {
        edit->setAccessibleName(words);
        rows->addRow(label(words, "muted"), edit);
    }
    rows->addRow(copy_);
    copyForm_->hide();
}

void InterfacesPanel::layOut() {
    auto* buttons = new FlowLayout;
    for (auto* b : {face_, points_, typed_, repeated_, remove_}) buttons->addWidget(b);
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(8);
    column->addLayout(buttons);
    column->addWidget(words_);
    column->addWidget(form_);
    column->addWidget(copyForm_);
    column->addWidget(list_);
    column->addWidget(values_);
    column->addStretch(1);
}

void InterfacesPanel::connectInputs() {
    connect(table_, &QTableWidget::cellChanged, this, &InterfacesPanel::edited);
    connect(table_, &QTableWidget::currentCellChanged, this, [this] {
        repeated_->setEnabled(!session_.isBusy() && !selected().isEmpty());
        if (!copyForm_->isHidden()) refresh();
        showValues();
        emit selectionChanged(selected());
    });
    connect(face_, &QPushButton::clicked, this, [this] { startPicking(false); });
    connect(points_, &QPushButton::clicked, this, [this] { startPicking(true); });
    connect(typed_, &QPushButton::clicked, this, &InterfacesPanel::startTyping);
    connect(repeated_, &QPushButton::clicked, this, [this] {
        const bool show = copyForm_->isHidden() && !selected().isEmpty();
        closeForms();
        copyForm_->setVisible(show);
        showValues();
        refresh();
    });
    connect(copy_, &QPushButton::clicked, this, &InterfacesPanel::repeat);
    connect(copyKind_, &QComboBox::currentIndexChanged, this, [this](int k) { copies_->setVisible(k == 0); });
    connect(kind_, &QComboBox::activated, this, [this](int k) {
        if (!proposal_) return;
        proposal_->kind = static_cast<Interface::Kind>(k);
        if (proposal_->kind == Interface::Kind::faces) {
            if (kept_)
                showKept();
            else
                say("Faces are those of the original: click one of them.");
            return showFields(Interface::Kind::faces);
        }
        if (proposal_->isOfLines()) return proposeLines();
        const bool hasBore = proposal_->kind == Interface::Kind::bore || proposal_->kind == Interface::Kind::boss;
        if (hasBore != (proposal_->boreDiameter > 0)) proposal_->boreDiameter = hasBore ? diameter_->value() : 0;
        showFields(proposal_->kind);
    });
    connect(neighbours_, &QPushButton::clicked, this, [this] {
        if (!kept_) return;
        kept_->addNeighbours();
        showKept();
    });
    connect(sameRadius_, &QPushButton::clicked, this, [this] {
        if (!kept_) return;
        kept_->addSameRadius();
        showKept();
    });
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
        const bool ofFaces = i.kind == Interface::Kind::faces,
                   hasEnd = !i.isOfLines() && (ofFaces || i.start.kind == EndKind::flat);
        rows << QStringList{QString::fromStdString(i.name),
                            duty::name(i.kind),
                            plain(i.origin[0]),
                            plain(i.origin[1]),
                            plain(i.origin[2]),
                            i.isOfLines() ? QString("–") : axisText(i.axis),
                            plain(i.length),
                            i.boreDiameter > 0 ? plain(i.boreDiameter) : "–",
                            i.isOfLines() ? QString("%1 %2").arg(i.places.size()).arg(duty::name(i.kind))
                            : i.kind == Interface::Kind::faces
                                ? QString("%1 %2").arg(i.places.size()).arg(i.places.size() == 1 ? "face" : "faces")
                            : !i.outline.empty() ? QString("outline")
                            : i.ringDiameter > 0 ? plain(i.ringDiameter)
                                                 : "–",
                            plain(i.blendRadius),
                            hasEnd ? plain(i.start.clearance) : "–",
                            !hasEnd                     ? QString("–")
                            : ofFaces                   ? "border + " + plain(i.start.clearMargin)
                            : !i.outline.empty()        ? "outline + " + plain(i.start.clearMargin)
                            : i.start.clearDiameter > 0 ? plain(i.start.clearDiameter)
                                                        : "ring + 6"};
    }
    fill(table_, rows);
    if (row >= 0 && row < table_->rowCount()) table_->setCurrentCell(row, std::max(column, 0));
    remove_->setEnabled(!session_.isBusy());
    typed_->setEnabled(!session_.isBusy());
    repeated_->setEnabled(!session_.isBusy() && !selected().isEmpty());
    if (!copyForm_->isHidden()) {
        copyOf_->setText(selected().isEmpty() ? "Select a row" : selected());
        copy_->setEnabled(!session_.isBusy() && !selected().isEmpty());
        if (copyPoint_->text().isEmpty()) copyPoint_->setText(axisText(middleOfPart()));
        if (copyAxis_->text().isEmpty()) copyAxis_->setText("0, 0, 1");
    }
    showValues();
    const bool canPick = !session_.isBusy();
    face_->setEnabled(canPick);
    points_->setEnabled(canPick);
}

void InterfacesPanel::showValues() {
    const int row = table_->currentRow();
    values_->setVisible(row >= 0 && form_->isHidden() && copyForm_->isHidden());
    if (row < 0) return;
    filling_ = true;
    values_->setRowCount(table_->columnCount());
    for (int c = 0; c < table_->columnCount(); ++c) {
        auto* title = new QTableWidgetItem(table_->horizontalHeaderItem(c)->text());
        title->setFlags(Qt::ItemIsEnabled);
        title->setForeground(theme::muted);
        values_->setItem(c, 0, title);
        values_->setItem(c, 1, new QTableWidgetItem(table_->item(row, c) ? table_->item(row, c)->text() : QString()));
    }
    theme::fix(values_, theme::Length::height, 26 * table_->columnCount() + 4);
    filling_ = false;
}

Vec3 InterfacesPanel::middleOfPart() const {
    const Box3& space = session_.project().part.designSpace;
    if ((space.low.array() < space.high.array()).all()) return space.centre();
    const auto field = session_.project().field();
    return field ? field->regions.designSpace.centre() : Vec3(Vec3::Zero());
}

void InterfacesPanel::take(Interface& i, int column, const QString& text) {
    switch (column) {
        case nameColumn:
            i.name = text.toStdString();
            break;
        case kindColumn: {
            static const QStringList kinds{"bore", "boss", "pad", "pin"};
            const auto kind = kinds.indexOf(text);
            if (i.isOfLines() || text == duty::name(Interface::Kind::edges) ||
                text == duty::name(Interface::Kind::points)) {
                if (text == duty::name(i.kind)) break;
                throw InputError("Edges and points are picked in the view, or typed as a new interface.");
            }
            if ((i.kind == Interface::Kind::faces) != (text == duty::name(Interface::Kind::faces)))
                throw InputError("Faces of the original are picked in the view: 'Pick a face'.");
            if (i.kind == Interface::Kind::faces) break;
            if (kind < 0) throw InputError("Type bore, boss, pad or pin.");
            i.kind = static_cast<Interface::Kind>(kind);
            if (i.kind == Interface::Kind::pad || i.kind == Interface::Kind::pin) i.boreDiameter = 0;
            if (i.kind == Interface::Kind::bore) i.ringDiameter = 0;
            break;
        }
        case xColumn:
        case yColumn:
        case zColumn:
            if (i.isOfLines()) {
                if (i.kind == Interface::Kind::edges || i.places.size() != 1)
                    throw InputError("Several places, or edges: remove the interface and pick others.");
                i.places[0][column - xColumn] = lengthFrom(text);
                break;
            }
            i.origin[column - xColumn] = lengthFrom(text);
            break;
        case axisColumn:
            if (i.isOfLines()) throw InputError("Edges and points have no axis.");
            i.axis = threeFrom(text, "the axis", false);
            break;
        case lengthColumn:
            i.length = lengthFrom(text);
            break;
        case boreColumn:
            if (i.kind == Interface::Kind::faces || i.isOfLines())
                throw InputError("Faces, edges and points have no bore of their own.");
            i.boreDiameter = lengthFrom(text);
            break;
        case ringColumn:
            if (i.isOfLines())
                throw InputError("Edges and points have no ring: their length is what they are spread over.");
            if (i.kind == Interface::Kind::faces)
                throw InputError("Faces keep their own size: remove the interface and pick others.");
            i.ringDiameter = lengthFrom(text);
            i.outline.clear();  // a disc from now on
            break;
        case blendColumn:
            i.blendRadius = lengthFrom(text);
            break;
        case clearanceColumn:
            if (i.isOfLines()) throw InputError("No space is kept free before edges and points.");
            i.start.clearance = lengthFrom(text);
            break;
        case clearDiameterColumn:
            if (i.outline.empty() && i.kind != Interface::Kind::faces)
                i.start.clearDiameter = lengthFrom(text);
            else
                i.start.clearMargin = lengthFrom(text);
            break;
    }
}

void InterfacesPanel::edited(int row, int column) {
    const auto& all = session_.project().part.interfaces;
    if (row < 0 || row >= static_cast<int>(all.size())) return;
    const QString text = table_->item(row, column)->text().trimmed();
    std::vector<std::size_t> rows{static_cast<std::size_t>(row)};
    if (column != nameColumn && table_->selectionModel()->isRowSelected(row, {}))
        for (const QModelIndex& other : table_->selectionModel()->selectedRows())
            if (other.row() != row && other.row() < static_cast<int>(all.size()))
                rows.push_back(static_cast<std::size_t>(other.row()));
    try {
        duty::Part part = session_.project().part;
        QString what = QString::fromStdString(part.interfaces[rows.front()].name);
        if (rows.size() > 1) what = QString("%1 interfaces").arg(rows.size());
        for (const std::size_t r : rows) {
            Interface i = part.interfaces[r];
            const std::string before = i.name;
            take(i, column, text);
            part = duty::parsePart(duty::withInterface(part, before, i), part.path);
        }
        session_.editPart("Edit " + what, [&](const std::string&) { return part.text; });
    } catch (const InputError& e) {
        emit failed(e.what());
        refresh();
    }
}

void InterfacesPanel::say(const QString& words) {
    words_->setText(words);
    words_->setVisible(!words.isEmpty());
}

void InterfacesPanel::showRing(bool shown) {
    ring_->setVisible(shown);
    ringWords_->setVisible(shown);
}

void InterfacesPanel::showFields(Interface::Kind kind) {
    const bool faces = kind == Interface::Kind::faces,
               lines = kind == Interface::Kind::edges || kind == Interface::Kind::points;
    showRing(kind == Interface::Kind::boss);
    for (QWidget* w : std::initializer_list<QWidget*>{diameter_, diameterWords_}) w->setVisible(!faces && !lines);
    for (QWidget* w : std::initializer_list<QWidget*>{neighbours_, sameRadius_}) w->setVisible(faces);
    axis_->setEnabled(!lines);  // edges and points have none
    lengthWords_->setText(faces ? "Kept depth" : lines ? "Spread over" : "Length");
    length_->setAccessibleName(lengthWords_->text());
}

void InterfacesPanel::closeForms() {
    proposal_.reset();
    kept_.reset();
    form_->hide();
    copyForm_->hide();
    showValues();
    say("");
    if (face_->isChecked() || points_->isChecked()) {
        face_->setChecked(false);
        points_->setChecked(false);
        emit pickingAsked(false);
    }
}

void InterfacesPanel::startTyping() {
    const bool show = form_->isHidden() || face_->isChecked() || points_->isChecked();
    closeForms();
    if (!show) return;
    Interface i;
    i.kind = Interface::Kind::boss;
    i.blendRadius = 4;
    i.origin = middleOfPart();
    i.axis = Vec3::UnitZ();
    i.boreDiameter = 10;
    i.ringDiameter = 20;
    i.length = 10;
    propose(i, "A new interface by numbers: middle of its start, direction to its end, diameters.");
    place_->setFocus();
    place_->selectAll();
}

void InterfacesPanel::repeat() {
    const std::string name = selected().toStdString();
    if (name.empty()) return;
    try {
        duty::Repetition how;
        how.kind = copyKind_->currentIndex() == 0 ? duty::Repetition::Kind::about : duty::Repetition::Kind::mirrored;
        how.point = threeFrom(copyPoint_->text(), "the point", true);
        how.axis = threeFrom(copyAxis_->text(), "the direction", false);
        how.count = copies_->value();
        how.heldAlike = heldAlike_->isChecked();
        session_.editPart("Repeat " + QString::fromStdString(name),
                          [&](const std::string&) { return duty::withCopies(session_.project().part, name, how); });
        closeForms();
        say("Repeated " + QString::fromStdString(name) + ".");
    } catch (const InputError& e) {
        emit failed(e.what());
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

void InterfacesPanel::propose(const Interface& interface, const QString& words) {
    proposal_ = interface;
    say(words);
    int n = 1;
    const auto& part = session_.project().part;
    while (part.findInterface(std::string(duty::name(interface.kind)) + " " + std::to_string(n))) ++n;
    name_->setText(QString("%1 %2").arg(duty::name(interface.kind)).arg(n));
    kind_->setCurrentIndex(static_cast<int>(interface.kind));
    Vec3 at = interface.origin, axis = interface.axis;
    for (int a = 0; a < 3; ++a) {
        at[a] = rounded(at[a], 0.01);
        // an axis within a tenth of a degree of a global one is that one
        if (std::abs(std::abs(axis[a]) - 1) < 1.5e-6) axis = (axis[a] < 0 ? -1.0 : 1.0) * Vec3::Unit(a);
    }
    place_->setText(axisText(at));  // not modified: a designed face keeps the place that was found
    if (interface.outline.empty() && interface.kind != Interface::Kind::faces) proposal_->origin = at;
    QStringList digits;
    for (int a = 0; a < 3; ++a) digits << plain(rounded(axis[a], 1e-4));
    axis_->setText(digits.join(", "));  // not modified: the axis stays as it was found
    axis_->setCursorPosition(0);
    if (interface.kind != Interface::Kind::faces) proposal_->axis = axis;
    const bool hasBore = interface.boreDiameter > 0;
    diameter_->setValue(rounded(hasBore ? interface.boreDiameter : interface.ringDiameter, shownDigits));
    ring_->setValue(rounded(interface.ringDiameter, 0.1));
    showFields(interface.kind);
    length_->setValue(rounded(interface.length, 0.1));
    form_->show();
    showValues();
}

void InterfacesPanel::create() {
    if (!proposal_) return;
    Interface i = *proposal_;
    i.name = name_->text().trimmed().toStdString();
    i.kind = static_cast<Interface::Kind>(kind_->currentIndex());
    if (i.kind == Interface::Kind::faces && i.places.empty()) {
        say("Faces are those of the original: click one of them.");
        return;
    }
    if (i.isOfLines()) {
        if (place_->isModified() || i.places.empty()) {
            try {
                i.places = {threeFrom(place_->text(), "the place", true)};
            } catch (const InputError& e) {
                emit failed(e.what());
                return;
            }
        }
        i.boreDiameter = i.ringDiameter = i.blendRadius = 0;
        place_->setModified(false);
    } else if (i.kind == Interface::Kind::faces) {
        i.boreDiameter = i.ringDiameter = 0;
    } else if (i.kind == Interface::Kind::bore || i.kind == Interface::Kind::boss) {
        i.boreDiameter = diameter_->value();
        i.ringDiameter = i.kind == Interface::Kind::boss ? ring_->value() : 0;
    } else {
        i.boreDiameter = 0;
        if (i.outline.empty() || i.kind != Interface::Kind::pad ||
            std::abs(diameter_->value() - rounded(i.ringDiameter, shownDigits)) > 1e-9) {
            i.ringDiameter = diameter_->value();
            i.outline.clear();
        }
        if (i.end.kind == EndKind::flat) i.end.kind = EndKind::blind;
    }
    i.length = length_->value();
    try {
        if (place_->isModified()) i.origin = threeFrom(place_->text(), "the place", true);
        if (axis_->isModified()) i.axis = threeFrom(axis_->text(), "the axis", false);
        session_.editPart("New interface",
                          [&](const std::string&) { return duty::withInterface(session_.project().part, "", i); });
        proposal_.reset();
        kept_.reset();
        form_->hide();
        showValues();
        say(QString("Created %1.").arg(QString::fromStdString(i.name)));
        face_->setChecked(false);
        points_->setChecked(false);
        emit pickingAsked(false);
    } catch (const InputError& e) {
        emit failed(e.what());
    }
}

}  // namespace escultura::app
