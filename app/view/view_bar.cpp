#include "view/view_bar.hpp"

#include <QAction>
#include <QActionGroup>
#include <QHBoxLayout>
#include <QLabel>
#include <QMenu>
#include <QResizeEvent>
#include <QSignalBlocker>
#include <QStylePainter>
#include <QWidgetAction>

#include "theme/theme.hpp"
#include "widgets.hpp"

namespace escultura::app {

using report::Quantity;
using report::Show;

ViewBar::ViewBar(Session& session, QWidget* parent) : QFrame(parent), session_(session) {
    setObjectName("viewBar");
    auto* whole = new QHBoxLayout(this);
    whole->setContentsMargins(12, 6, 12, 6);
    line_ = new FlowLayout(6);  // two lines where the window is narrow or words are large
    whole->addLayout(line_, 1);
    makeShown();
    coloured_ = divide();
    makeColours();
    divide();
    makeMoves();
    last_ = divide();
    more_ = new QPushButton("more");
    more_->setObjectName("moreResults");
    more_->setMenu(makeMenu());
    line_->addWidget(more_);
    drawer_ = new QPushButton(theme::icon("table"), "tables");
    drawer_->setObjectName("drawerButton");
    drawer_->setCheckable(true);
    drawer_->setToolTip("Tables of the open card (Ctrl+D)");
    whole->addWidget(drawer_, 0, Qt::AlignTop);
}

namespace {
/// Cuts words that are too long with a sign that they go on.
class NarrowCombo : public QComboBox {
  protected:
    void paintEvent(QPaintEvent*) override {
        QStylePainter painter(this);
        QStyleOptionComboBox option;
        initStyleOption(&option);
        painter.drawComplexControl(QStyle::CC_ComboBox, option);
        const int room = width() - theme::px(40);  // beside the arrow and within the padding of the style
        option.currentText = fontMetrics().elidedText(option.currentText, Qt::ElideRight, room);
        painter.drawControl(QStyle::CE_ComboBoxLabel, option);
    }
};
}  // namespace

QComboBox* ViewBar::combo(const char* name, const QString& words) {
    auto* box = new NarrowCombo;
    box->setObjectName(name);
    box->setAccessibleName(words);
    box->setToolTip(words);
    box->setSizeAdjustPolicy(QComboBox::AdjustToContents);
    line_->addWidget(box);
    connect(box, &QComboBox::activated, this, &ViewBar::changed);
    return box;
}

QPushButton* ViewBar::toggle(const QString& text, const char* name, bool on) {
    auto* b = new QPushButton(text);
    b->setObjectName(name);
    b->setCheckable(true);
    b->setChecked(on);
    line_->addWidget(b);
    connect(b, &QPushButton::toggled, this, &ViewBar::changed);
    return b;
}

QFrame* ViewBar::divide() {
    auto* line = new QFrame;
    line->setFixedSize(1, 26);
    line->setObjectName("divider");
    line_->addWidget(line);
    return line;
}

void ViewBar::makeShown() {
    show_ = combo("show", "What is shown");
    fillShow();
    case_ = combo("loadCase", "Load case");
    beside_ = combo("beside", "What is drawn beside it");
    beside_->addItem("alone", 0);
    beside_->addItem("with ghost of the original", 1);
    beside_->addItem("with outline of the original", 2);
    beside_->addItem("with ghost of the field", 3);
    beside_->addItem("with original and field", 4);
    beside_->addItem("with ghost of the baseline", 5);
    loads_ = toggle("loads", "loads", true);
}

void ViewBar::makeColours() {
    quantity_ = combo("quantity", "Quantity");
    for (int q = 0; q < stages::quantityCount; ++q) {
        if (q == 3 || q == 7 || q == 13 || q == 16 || q == 23) quantity_->insertSeparator(quantity_->count());
        quantity_->addItem(title(static_cast<Quantity>(q)), q);
    }
    quantity_->setMaxVisibleItems(32);
    unit_ = combo("unit", "Unit");
    bands_ = toggle("bands", "bands", false);
}

void ViewBar::makeMoves() {
    section_ = combo("section", "Section plane");
    section_->addItem("whole", -1);
    section_->addItem("cut along x", 0);
    section_->addItem("cut along y", 1);
    section_->addItem("cut along z", 2);
    for (int a = 0; a < 3; ++a) section_->addItem(QString("slab across %1").arg(QChar('x' + a)), 3 + a);
    section_->addItem("box", 6);
    section_->setToolTip("Section: a plane, a slab between two, or a box; drag their handles in the view");
    shape_ = combo("shape", "Deformed shape");
    shape_->addItem("true shape", 0.0);
    shape_->addItem("shape × 1", 1.0);
    shape_->addItem("enlarged", -1.0);
    shape_->addItem("shape × 10", 10.0);
    shape_->addItem("shape × 100", 100.0);
    animate_ = toggle("animate", "animate", false);
    animate_->setToolTip("Swing the deformed shape of one load case");
    connect(animate_, &QPushButton::toggled, this, &ViewBar::animationToggled);
    fit_ = new QPushButton(theme::icon("fit"), "");
    fit_->setObjectName("fit");
    fit_->setToolTip("Fit the part into the view (F)");
    fit_->setAccessibleName("Fit");
    line_->addWidget(fit_);
    connect(fit_, &QPushButton::clicked, this, &ViewBar::fitAsked);
}

void ViewBar::fillShow() {
    show_->addItem("duty", static_cast<int>(Show::duty));
    show_->addItem("cells", static_cast<int>(Show::field));
    show_->addItem("raw iso-surface", 100 + static_cast<int>(Show::field));
    show_->addItem("field comparison", static_cast<int>(Show::comparison));
    show_->addItem("original", static_cast<int>(Show::original));
    show_->addItem("surface", static_cast<int>(Show::surface));
    show_->addItem("deviation", static_cast<int>(Show::deviation));
    show_->addItem("wall thickness", static_cast<int>(Show::thickness));
    show_->addItem("curvature", static_cast<int>(Show::curvature));
    show_->addItem("draft", static_cast<int>(Show::draft));
    show_->addItem("overhangs", static_cast<int>(Show::overhang));
    show_->addItem("control cage", static_cast<int>(Show::cage));
    show_->addItem("cage deviation", static_cast<int>(Show::cageDeviation));
    show_->addItem("rebuilt solid", static_cast<int>(Show::solid));
    show_->addItem("mesh", static_cast<int>(Show::mesh));
    show_->addItem("results", static_cast<int>(Show::check));
    show_->addItem("modes", static_cast<int>(Show::analysis));
}

QMenu* ViewBar::makeMenu() {
    auto* menu = new QMenu(more_);
    auto check = [&](const QString& text, const char* name) {
        auto* a = menu->addAction(text);
        a->setObjectName(name);
        a->setCheckable(true);
        connect(a, &QAction::toggled, this, &ViewBar::changed);
        return a;
    };
    for (auto* b : {bands_, loads_}) {  // the bar has no room for these two beside results
        auto* a = check(b->text(), b == bands_ ? "moreBands" : "moreLoads");
        a->setChecked(b->isChecked());
        connect(a, &QAction::toggled, b, &QPushButton::setChecked);
        connect(b, &QPushButton::toggled, a, &QAction::setChecked);
    }
    lines_ = check("edges of the elements", "meshLines");
    flags_ = check("mark lowest and highest", "bothFlags");
    undeformed_ = check("ghost of the undeformed shape", "undeformed");
    difference_ = check("difference to the baseline", "difference");
    besideBaseline_ = check("baseline beside it", "baselineBeside");
    disconnect(besideBaseline_, &QAction::toggled, this, &ViewBar::changed);
    connect(besideBaseline_, &QAction::toggled, this, &ViewBar::baselineBesideAsked);
    auto* vectors = menu->addMenu("vectors");
    vectors_ = new QActionGroup(this);
    const char* kinds[] = {"none", "displacement", "principal stresses"};
    for (int k = 0; k < 3; ++k) {
        auto* a = vectors->addAction(kinds[k]);
        a->setObjectName(QString("vectors%1").arg(k));
        a->setCheckable(true);
        a->setChecked(k == 0);
        a->setData(k);
        vectors_->addAction(a);
        connect(a, &QAction::triggered, this, &ViewBar::changed);
    }
    frameMenu_ = menu->addMenu("frame of components");
    frames_ = new QActionGroup(this);
    menu->addSeparator();
    only_ = new QLineEdit;
    only_->setObjectName("only");
    only_->setPlaceholderText("only where worse than …");
    only_->setToolTip("Shows only the volume where the quantity is worse than this value, in the shown unit");
    onlyAction_ = new QWidgetAction(menu);
    onlyAction_->setDefaultWidget(only_);
    menu->addAction(onlyAction_);
    connect(only_, &QLineEdit::editingFinished, this, [this] {
        if (only_->isModified()) only_->setModified(false), emit changed();
    });
    return menu;
}

void ViewBar::refresh() {
    if (!session_.hasProject()) return;
    const Show show = options().show;
    const bool results = show == Show::check;
    // results have the cases that were checked and the combinations; the duty has all of the part's
    QStringList names;
    const auto check = session_.lastKnown().check;
    listShapes();
    if (show == Show::analysis)
        for (const auto& s : shapes_) names << s.title;
    else if (results && check)
        for (const auto& c : check->cases) names << QString::fromStdString(c.name);
    else
        for (const auto& c : session_.project().part.loadCases) names << QString::fromStdString(c.name);
    QStringList present;
    for (int c = 1; c < case_->count(); ++c) present << case_->itemText(c);
    const QString first = show == Show::analysis ? "choose a mode" : results ? "worst of all" : "all load cases";
    if (present != names || case_->itemText(0) != first) {
        const QString chosen = case_->currentText();
        case_->clear();
        case_->addItem(first, -1);
        for (int c = 0; c < names.size(); ++c) case_->addItem(names[c], c);
        case_->setCurrentIndex(std::max(show == Show::analysis && !names.isEmpty() ? 1 : 0, case_->findText(chosen)));
    }
    const auto kind = measure(static_cast<Quantity>(quantity_->currentData().toInt()));
    if (unit_->property("kind").toInt() != static_cast<int>(kind) + 1) {
        unit_->clear();
        for (const auto& u : stages::unitsOf(kind))
            unit_->addItem(u == "um"     ? "µm"
                           : u == "1e-6" ? "× 10⁻⁶"
                                         : QString::fromStdString(u),
                           QString::fromStdString(u));
        unit_->setProperty("kind", static_cast<int>(kind) + 1);
    }
    QStringList frames{"global"};
    for (const auto& f : session_.project().part.frames) frames << QString::fromStdString(f.name);
    if (frameMenu_->property("names").toStringList() != frames) {
        frameMenu_->clear();
        for (const QString& f : frames) {
            auto* a = frameMenu_->addAction(f);
            a->setCheckable(true);
            a->setData(f == "global" ? QString() : f);
            a->setChecked(f == "global");
            frames_->addAction(a);
            connect(a, &QAction::triggered, this, &ViewBar::changed);
        }
        frameMenu_->setProperty("names", frames);
    }
    showWhatApplies(show, names.isEmpty());
}

void ViewBar::fitHeight() {
    layout()->invalidate();
    setFixedHeight(heightForWidth(width()));
}

void ViewBar::resizeEvent(QResizeEvent* e) {
    QFrame::resizeEvent(e);
    if (e->size().width() != e->oldSize().width()) fitHeight();
}

void ViewBar::showWhatApplies(Show show, bool noCases) {
    const bool results = show == Show::check, shapes = show == Show::analysis, duty = show == Show::duty;
    const bool oneCase = results && case_->currentData().toInt() >= 0;
    const bool measured = show == Show::deviation || show == Show::thickness || show == Show::draft ||
                          show == Show::curvature || show == Show::overhang;
    case_->setVisible((results || duty || shapes) && !noCases);
    beside_->setVisible(!results && !shapes);
    loads_->setVisible(duty);
    coloured_->setVisible(results || measured);
    quantity_->setVisible(results);
    unit_->setVisible(results && unit_->count() > 1);
    bands_->setVisible(measured);
    shape_->setVisible(oneCase);
    animate_->setVisible(oneCase || shapes);
    more_->setVisible(results);
    last_->setVisible(results);
    fit_->setVisible(!results);  // the bar is full: F, or View > Fit
    // fixed widths where the bar is full
    const std::pair<QComboBox*, int> widths[] = {{show_, 84}, {case_, 110},  {quantity_, 122},
                                                 {unit_, 74}, {shape_, 100}, {section_, 82}};
    for (const auto& [box, width] : widths) {
        if (results) {
            box->setFixedWidth(theme::px(width));
        } else {
            box->setMinimumWidth(0);
            box->setMaximumWidth(QWIDGETSIZE_MAX);
        }
    }
    fitHeight();
}

report::SceneOptions ViewBar::options() const {
    report::SceneOptions o;
    o.fieldAsSurface = show_->currentData().toInt() >= 100;
    o.show = static_cast<Show>(show_->currentData().toInt() % 100);
    const int beside = beside_->currentData().toInt();
    using Beside = report::SceneOptions::Beside;
    o.original = beside == 1 || beside == 4 ? Beside::ghost : beside == 2 ? Beside::outline : Beside::nothing;
    o.fieldGhost = beside == 3 || beside == 4;
    o.compareWith = compareWith_;
    const int axis = section_->currentData().toInt();
    if (axis >= 0) {
        using Kind = render::Scene::Section::Kind;
        o.section.on = true;
        o.section.kind = axis < 3 ? Kind::plane : axis < 6 ? Kind::slab : Kind::box;
        o.section.normal = Vec3::Unit(axis % 3);
    }
    o.loadCase = case_->count() ? case_->currentData().toInt() : -1;
    if (o.show == Show::analysis && o.loadCase >= 0 && o.loadCase < static_cast<int>(shapes_.size())) {
        o.analysis = shapes_[static_cast<std::size_t>(o.loadCase)].kind;
        o.shapeIndex = shapes_[static_cast<std::size_t>(o.loadCase)].index;
        o.loadCase = -1;
    }
    o.quantity = static_cast<Quantity>(quantity_->currentData().toInt());
    o.unit = unit_->currentData().toString().toStdString();
    o.deformation = shape_->currentData().toDouble();
    if (animate_->isChecked() && o.deformation == 0) o.deformation = -1;  // enlarged
    o.meshLines = lines_->isChecked();
    o.bothFlags = flags_->isChecked();
    o.undeformed = undeformed_->isChecked();
    if (vectors_->checkedAction())
        o.vectors = static_cast<report::SceneOptions::Vectors>(vectors_->checkedAction()->data().toInt());
    if (frames_->checkedAction()) o.frame = frames_->checkedAction()->data().toString().toStdString();
    bool isNumber = false;
    const double only = only_->text().trimmed().replace(',', '.').toDouble(&isNumber);
    if (isNumber) o.only = only;
    o.bands = bands_->isChecked() ? 10 : 0;
    o.loads = loads_->isChecked();
    return o;
}

bool ViewBar::showsBaselineGhost() const {
    return beside_->currentData().toInt() == 5;
}
void ViewBar::setBaselineBeside(bool on) {
    const QSignalBlocker block(besideBaseline_);
    besideBaseline_->setChecked(on);
}

void ViewBar::setShow(Show show) {
    show_->setCurrentIndex(show_->findData(static_cast<int>(show)));
}
void ViewBar::showShapes(const QString& kind) {
    setShow(Show::analysis);
    refresh();
    for (std::size_t k = 0; k < shapes_.size(); ++k)
        if (shapes_[k].kind == kind.toStdString()) {
            setLoadCase(static_cast<int>(k));
            return;
        }
}
void ViewBar::listShapes() {
    shapes_.clear();
    const project::Project& p = session_.project();
    if (!p.check(session_.recipe())) return;
    for (const duty::AnalysisKind& kind : duty::analysisKinds())
        if (const auto found = p.analysis(session_.recipe(), kind.key))
            for (std::size_t k = 0; k < found->shapes.size(); ++k)
                shapes_.push_back({kind.key, static_cast<int>(k), text(found->shapes[k].title)});
}
void ViewBar::setLoadCase(int loadCase) {
    case_->setCurrentIndex(case_->findData(loadCase));
}
void ViewBar::setQuantity(Quantity quantity) {
    quantity_->setCurrentIndex(quantity_->findData(static_cast<int>(quantity)));
}

}  // namespace escultura::app
