#include "view/view_bar.hpp"

#include <QHBoxLayout>
#include <QLabel>

#include "theme/theme.hpp"
#include "widgets.hpp"

namespace escultura::app {

using report::Quantity;
using report::Show;

ViewBar::ViewBar(Session& session, QWidget* parent) : QFrame(parent), session_(session) {
    setObjectName("viewBar");
    setStyleSheet("QFrame#viewBar { background: #FFFDF8; border: 0; border-top: 1px solid #DAD2C3; }");
    setFixedHeight(46);
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(12, 6, 12, 6);
    row->setSpacing(8);
    auto combo = [&](const char* name, const QString& title) {
        auto* box = new QComboBox;
        box->setObjectName(name);
        box->setAccessibleName(title);
        box->setToolTip(title);
        box->setSizeAdjustPolicy(QComboBox::AdjustToContents);
        row->addWidget(box);
        connect(box, &QComboBox::activated, this, &ViewBar::changed);
        return box;
    };
    show_ = combo("show", "What is shown");
    show_->addItem("duty", static_cast<int>(Show::duty));
    show_->addItem("cells", static_cast<int>(Show::field));
    show_->addItem("raw iso-surface", 100 + static_cast<int>(Show::field));
    show_->addItem("field comparison", static_cast<int>(Show::comparison));
    show_->addItem("original", static_cast<int>(Show::original));
    show_->addItem("surface", static_cast<int>(Show::surface));
    show_->addItem("deviation", static_cast<int>(Show::deviation));
    show_->addItem("wall thickness", static_cast<int>(Show::thickness));
    show_->addItem("draft", static_cast<int>(Show::draft));
    show_->addItem("overhangs", static_cast<int>(Show::overhang));
    show_->addItem("results", static_cast<int>(Show::check));
    case_ = combo("loadCase", "Load case");
    quantity_ = combo("quantity", "Quantity");
    quantity_->addItem("von Mises", static_cast<int>(Quantity::vonMises));
    quantity_->addItem("safety factor", static_cast<int>(Quantity::safetyFactor));
    quantity_->addItem("displacement", static_cast<int>(Quantity::displacement));
    shape_ = combo("shape", "Deformed shape");
    shape_->addItem("true shape", 0.0);
    shape_->addItem("shape × 1", 1.0);
    shape_->addItem("shape enlarged", -1.0);
    shape_->addItem("shape × 10", 10.0);
    shape_->addItem("shape × 100", 100.0);
    beside_ = combo("beside", "What is drawn beside it");
    beside_->addItem("alone", 0);
    beside_->addItem("with ghost of the original", 1);
    beside_->addItem("with outline of the original", 2);
    beside_->addItem("with ghost of the field", 3);
    beside_->addItem("with original and field", 4);
    section_ = combo("section", "Section plane");
    section_->addItem("whole", -1);
    section_->addItem("cut along x", 0);
    section_->addItem("cut along y", 1);
    section_->addItem("cut along z", 2);
    auto toggle = [&](const QString& text, const char* name, bool on) {
        auto* b = new QPushButton(text);
        b->setObjectName(name);
        b->setCheckable(true);
        b->setChecked(on);
        row->addWidget(b);
        connect(b, &QPushButton::toggled, this, &ViewBar::changed);
        return b;
    };
    bands_ = toggle("bands", "bands", false);
    loads_ = toggle("loads", "loads", true);
    fit_ = new QPushButton(theme::icon("fit"), "");
    fit_->setObjectName("fit");
    fit_->setToolTip("Fit the part into the view (F)");
    fit_->setAccessibleName("Fit");
    row->addWidget(fit_);
    connect(fit_, &QPushButton::clicked, this, &ViewBar::fitAsked);
    row->addStretch();
    drawer_ = new QPushButton(theme::icon("table"), "tables and log");
    drawer_->setObjectName("drawerButton");
    drawer_->setCheckable(true);
    row->addWidget(drawer_);
}

void ViewBar::refresh() {
    if (!session_.hasProject()) return;
    const auto& cases = session_.project().part.loadCases;
    if (case_->count() != static_cast<int>(cases.size()) + 1 ||
        (!cases.empty() && case_->itemText(1) != QString::fromStdString(cases.front().name))) {
        case_->clear();
        case_->addItem("worst of all cases", -1);
        for (std::size_t c = 0; c < cases.size(); ++c)
            case_->addItem(QString::fromStdString(cases[c].name), static_cast<int>(c));
    }
    case_->setMinimumWidth(case_->sizeHint().width() + 14);
    const Show show = options().show;
    const bool results = show == Show::check;
    case_->setEnabled(results || show == Show::duty);
    quantity_->setEnabled(results);
    shape_->setEnabled(results && case_->currentData().toInt() >= 0);
    shape_->setToolTip(shape_->isEnabled() ? "Deformed shape" : "Choose one load case to see its deformed shape");
    for (auto* box : {case_, quantity_, shape_}) box->setVisible(results || (box == case_ && show == Show::duty));
    bands_->setEnabled(results || show == Show::deviation || show == Show::thickness || show == Show::draft);
    loads_->setEnabled(results || show == Show::duty);
}

report::SceneOptions ViewBar::options() const {
    report::SceneOptions o;
    o.fieldAsSurface = show_->currentData().toInt() >= 100;
    o.show = static_cast<Show>(show_->currentData().toInt() % 100);
    const int beside = beside_->currentData().toInt();
    using Beside = report::SceneOptions::Beside;
    o.original = beside == 1 || beside == 4 ? Beside::ghost : beside == 2 ? Beside::outline : Beside::nothing;
    o.fieldGhost = beside >= 3;
    o.compareWith = compareWith_;
    const int axis = section_->currentData().toInt();
    if (axis >= 0) {
        o.section.on = true;
        o.section.normal = Vec3::Unit(axis);
    }
    o.loadCase = case_->count() ? case_->currentData().toInt() : -1;
    o.quantity = static_cast<Quantity>(quantity_->currentData().toInt());
    o.deformation = shape_->currentData().toDouble();
    o.bands = bands_->isChecked() ? 10 : 0;
    o.loads = loads_->isChecked();
    return o;
}

void ViewBar::setShow(Show show) {
    show_->setCurrentIndex(show_->findData(static_cast<int>(show)));
}
void ViewBar::setLoadCase(int loadCase) {
    case_->setCurrentIndex(case_->findData(loadCase));
}
void ViewBar::setQuantity(Quantity quantity) {
    quantity_->setCurrentIndex(quantity_->findData(static_cast<int>(quantity)));
}

}  // namespace escultura::app
