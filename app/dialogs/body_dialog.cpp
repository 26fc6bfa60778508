#include "dialogs/body_dialog.hpp"

#include <QDialogButtonBox>
#include <QFileInfo>
#include <QFormLayout>
#include <QHeaderView>
#include <QPushButton>
#include <algorithm>
#include <cmath>

#include "theme/theme.hpp"

namespace escultura::app {

BodyDialog::BodyDialog(const QString& path, const std::vector<Body>& bodies, bool statesUnit, QWidget* parent)
    : QDialog(parent), bodies_(bodies) {
    setObjectName("bodyDialog");
    setWindowTitle("New part from a body");
    theme::fix(this, theme::Length::leastWidth, 520);
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
    clearance_ = new QuantityEdit(dimension::length, "mm", 0, 1000);
    clearance_->setObjectName("bodyClearance");
    clearance_->setToolTip("What stays free around the neighbours, mm");
    clearance_->setValue(1);
    if (bodies_.size() > 1) {
        form->addRow(label(QString("The file holds %1 bodies. Which is the part, and what must it keep clear of?")
                               .arg(bodies_.size())));
        form->addRow(table_ = makeRoles());
        form->addRow("Clearance to neighbours, mm", clearance_);
    } else {
        clearance_->setParent(this);
        clearance_->hide();
    }
    size_ = label("");
    size_->setObjectName("bodySize");
    form->addRow("Size of the part", size_);
    warning_ = label("", "error");
    warning_->setObjectName("bodyWarning");
    warning_->setVisible(false);
    form->addRow(warning_);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Cancel);
    auto* begin = buttons->addButton("Begin the part", QDialogButtonBox::AcceptRole);
    begin->setObjectName("acceptBody");
    begin->setProperty("primary", true);
    form->addRow(buttons);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    connect(buttons, &QDialogButtonBox::accepted, this, [this] {
        const bool any = roles_.empty() || std::any_of(roles_.begin(), roles_.end(),
                                                       [](const QComboBox* r) { return r->currentIndex() == 0; });
        if (!name().isEmpty() && any) {
            accept();
            return;
        }
        warning_->setText(any ? "Type a name." : "Choose at least one body as the part.");
        warning_->setVisible(true);
    });
    connect(unit_, &QComboBox::currentTextChanged, this, &BodyDialog::tellSize);
    tellSize();
}

QTableWidget* BodyDialog::makeRoles() {
    auto* t = table({"Body", "Size, mm", "Volume, cm³", "Role"});
    t->setObjectName("bodyRoles");
    std::size_t largest = 0;
    for (std::size_t k = 1; k < bodies_.size(); ++k)
        if (bodies_[k].measures.volume > bodies_[largest].measures.volume) largest = k;
    QList<QStringList> rows;
    for (const Body& b : bodies_) rows << QStringList{text(b.name), "", "", ""};
    fill(t, rows);
    for (std::size_t k = 0; k < bodies_.size(); ++k) {
        auto* r = new QComboBox;
        r->setObjectName(QString("bodyRole%1").arg(k + 1));
        r->addItems({"the part", "neighbour, kept clear of", "left out"});
        r->setCurrentIndex(k == largest ? 0 : 1);
        r->setToolTip("The part is design space; nothing of it comes nearer to a neighbour than the clearance");
        connect(r, &QComboBox::currentIndexChanged, this, &BodyDialog::tellSize);
        t->setCellWidget(static_cast<int>(k), 3, r);
        roles_.push_back(r);
    }
    t->verticalHeader()->setSectionResizeMode(QHeaderView::ResizeToContents);  // the boxes are higher than words
    theme::fix(t, theme::Length::height, std::min(250, 34 + 36 * static_cast<int>(bodies_.size())));
    return t;
}

BodyDialog::Role BodyDialog::role(std::size_t body) const {
    return roles_.empty() ? Role::part : static_cast<Role>(roles_[body]->currentIndex());
}

std::vector<std::string> BodyDialog::bodiesOf(Role wanted) const {
    std::vector<std::string> names;
    for (std::size_t k = 0; k < bodies_.size(); ++k)
        if (role(k) == wanted) names.push_back(bodies_[k].name);
    if (wanted == Role::part && names.size() == bodies_.size()) names.clear();
    return names;
}

void BodyDialog::tellSize() {
    const double scale = unitScale(unit());
    Box3 box;
    double volume = 0;
    for (std::size_t k = 0; k < bodies_.size(); ++k) {
        const Body& b = bodies_[k];
        const Vec3 s = scale * b.box.size();
        if (table_) {
            const int r = static_cast<int>(k);
            table_->item(r, 1)->setText(QString("%1 × %2 × %3").arg(num(s[0]), num(s[1]), num(s[2])));
            table_->item(r, 2)->setText(num(b.measures.volume * std::pow(scale, 3) / 1000));
        }
        if (role(k) != Role::part) continue;
        box.include(b.box.low);
        box.include(b.box.high);
        volume += b.measures.volume;
    }
    if (!(volume > 0)) {
        size_->setText("no body is the part");
        return;
    }
    const Vec3 s = scale * box.size();
    size_->setText(QString("%1 × %2 × %3 mm, %4 cm³")
                       .arg(num(s[0]), num(s[1]), num(s[2]), num(volume * std::pow(scale, 3) / 1000)));
}

}  // namespace escultura::app
