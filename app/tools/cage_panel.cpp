/// The tools of the cage. Long because every button changes the same selection.

#include "tools/cage_panel.hpp"

#include <QHBoxLayout>
#include <QHeaderView>
#include <QVBoxLayout>
#include <algorithm>
#include <cmath>
#include <tuple>

#include "base/error.hpp"
#include "dossier/card_parts.hpp"
#include "theme/theme.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace judge;

namespace {

QString vectorText(const Vec3& v) {
    return QString("%1, %2, %3").arg(plain(v[0]), plain(v[1]), plain(v[2]));
}

/// Three lengths with commas or semicolons between. @throws InputError
Vec3 vectorOf(const QString& text) {
    const QStringList parts = text.split(text.contains(';') ? ';' : ',', Qt::SkipEmptyParts);
    if (parts.size() != 3)
        throw InputError(ErrorDetail{"A place has three numbers.", {}, {}, "x, y, z", text.toStdString()});
    Vec3 v;
    for (int a = 0; a < 3; ++a) v[a] = parseQuantity(parts[a].trimmed().toStdString(), dimension::length, "mm");
    return v;
}

/// "Member 2" when there is one already.
std::string nextName(const Rebuild& rebuild, CageStep::Kind kind, const std::string& word) {
    const auto same =
        std::count_if(rebuild.steps.begin(), rebuild.steps.end(), [&](const CageStep& s) { return s.kind == kind; });
    return word + " " + std::to_string(1 + same);
}

}  // namespace

CagePanel::CagePanel(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(8);
    edit_ = new QPushButton("Edit cage");
    edit_->setObjectName("editCage");
    edit_->setCheckable(true);
    connect(edit_, &QPushButton::clicked, this, [this](bool on) {
        if (!editor_) return;
        if (on)
            editor_->start();
        else
            editor_->stop();
        refresh();
    });
    state_ = label("", "muted");
    state_->setObjectName("cageState");
    state_->setWordWrap(true);
    auto* member = new QPushButton("Add member");
    member->setObjectName("addMember");
    member->setToolTip("A tube blended into the body; while editing with two faces selected, between those");
    connect(member, &QPushButton::clicked, this, &CagePanel::addMember);
    auto* thick = new QPushButton("Thicken");
    thick->setObjectName("addThickening");
    thick->setToolTip("Move the surface outward in a region with a soft edge");
    connect(thick, &QPushButton::clicked, this, &CagePanel::addThickening);
    region_ = new QComboBox;
    region_->setObjectName("thickenRegion");
    region_->addItems({"in a ball", "in a box", "the selected faces"});
    region_->setToolTip(
        "Ball and box lie around the selection, or the worst finding, and get their numbers in the list; "
        "faces are selected or painted while editing");
    auto* head = new FlowLayout;
    head->addWidget(edit_);
    head->addWidget(member);
    head->addWidget(row({thick, region_}));
    auto* list = new QPushButton("Changes…");
    list->setObjectName("showChanges");
    list->setToolTip("Members and thickened regions as a table of numbers");
    connect(list, &QPushButton::clicked, this, &CagePanel::changesAsked);
    head->addWidget(list);
    column->addLayout(head);
    column->addWidget(state_);
    column->addWidget(makeTools());
    column->addStretch(1);
    changes_ = makeSteps();
}

QPushButton* CagePanel::button(const QString& text, const char* name, const QString& tip,
                               const std::function<void()>& action) {
    auto* b = new QPushButton(text);
    b->setObjectName(name);
    b->setToolTip(tip);
    connect(b, &QPushButton::clicked, this, [this, action] {
        if (editor_ && editor_->isOn()) action();
    });
    return b;
}

Vec3 CagePanel::typed() const {
    Vec3 v;
    for (int a = 0; a < 3; ++a) {
        const Dimension d = tool_->currentIndex() == 0 ? dimension::length : dimension::none;
        v[a] = parseQuantity(number_[a]->text().toStdString(), d, tool_->currentIndex() == 0 ? "mm" : "");
    }
    return v;
}

QWidget* CagePanel::makeTools() {
    tools_ = new QWidget;
    auto* rows = new QVBoxLayout(tools_);
    rows->setContentsMargins(0, 0, 0, 0);
    rows->setSpacing(6);
    for (const auto& [words, tools] : {std::pair{"Select", makeSelection()}, std::pair{"Move", makeMoving()},
                                       std::pair{"Shape", makeShaping()}, std::pair{"Mend", makeRepairing()}}) {
        rows->addSpacing(2);
        rows->addWidget(label(words, "title"));
        rows->addLayout(tools);
    }
    return tools_;
}

FlowLayout* CagePanel::makeSelection() {
    element_ = new QComboBox;
    element_->setObjectName("cageElement");
    element_->addItems({"vertices", "edges", "faces"});
    theme::fix(element_, theme::Length::leastWidth, 96);
    connect(element_, &QComboBox::activated, this,
            [this](int i) { editor_->setElement(static_cast<CageEditor::Element>(i)); });
    far_ = new QuantityEdit(dimension::length, "mm", 0, 1e3);
    far_->setObjectName("cageFar");
    far_->setValue(0.5);
    theme::fix(far_, theme::Length::width, 76);
    auto* select = new FlowLayout;
    select->addWidget(element_);
    select->addWidget(
        button("Loop", "cageLoop", "The edges that run on from the selected ones", [this] { editor_->selectLoop(); }));
    select->addWidget(
        button("Ring", "cageRing", "The edges across faces from the selected ones", [this] { editor_->selectRing(); }));
    select->addWidget(
        button("Grow", "cageGrow", "The selection and its neighbours", [this] { editor_->growSelection(); }));
    select->addWidget(button("None", "cageNone", "Select nothing", [this] { editor_->selectNone(); }));
    select->addWidget(button("Finding", "cageFinding", "Vertices around the worst hotspot", [this] {
        const auto f = session_.lastKnown().findings;
        if (!f || f->findings.empty()) {
            emit failed("There is no finding yet: run the check first.");
            return;
        }
        editor_->selectNear(f->findings.front().position, 2.5 * cage::meanEdge(editor_->cage()));
    }));
    select->addWidget(
        row({button("Deviating over", "cageDeviating", "Faces whose limit surface is farther from the surface",
                    [this] { editor_->selectDeviating(far_->value()); }),
             far_}));
    paint_ = new QCheckBox("Paint");
    paint_->setObjectName("cagePaint");
    paint_->setToolTip("Drag over the body to select the faces within this radius; Shift takes them out");
    brush_ = new QuantityEdit(dimension::length, "mm", 1e-3, 1e4);
    brush_->setObjectName("cageBrush");
    brush_->setValue(10);
    theme::fix(brush_, theme::Length::width, 70);
    auto useBrush = [this] {
        if (editor_) editor_->setBrush(paint_->isChecked() ? brush_->value() : 0);
        refresh();
    };
    connect(paint_, &QCheckBox::toggled, this, useBrush);
    connect(brush_, &QuantityEdit::valueEntered, this, useBrush);
    select->addWidget(row({paint_, brush_}));
    return select;
}

FlowLayout* CagePanel::makeMoving() {
    tool_ = new QComboBox;
    tool_->setObjectName("cageTool");
    tool_->addItems({"Move", "Turn", "Scale"});
    theme::fix(tool_, theme::Length::leastWidth, 84);
    connect(tool_, &QComboBox::activated, this, [this](int i) {
        editor_->setTool(static_cast<CageEditor::Tool>(i));
        for (auto* n : number_) n->setText(i == 2 ? "1" : "0");
    });
    frame_ = new QComboBox;
    frame_->setObjectName("cageFrame");
    theme::fix(frame_, theme::Length::leastWidth, 150);
    connect(frame_, &QComboBox::activated, this, [this](int i) {
        editor_->setFrame(i == 0   ? CageEditor::FrameOf::global
                          : i == 1 ? CageEditor::FrameOf::selection
                                   : CageEditor::FrameOf::interface,
                          frame_->itemData(i).toString());
    });
    soft_ = new QuantityEdit(dimension::length, "mm", 0, 1e4);
    soft_->setObjectName("cageSoft");
    theme::fix(soft_, theme::Length::width, 76);
    soft_->setValue(0);
    soft_->setToolTip("Vertices within this radius follow, less the farther they are; 0: the selection alone");
    connect(soft_, &QuantityEdit::valueEntered, this, [this](double v) { editor_->setSoftRadius(v); });
    symmetric_ = new QCheckBox("symmetric");
    symmetric_->setObjectName("cageSymmetric");
    symmetric_->setChecked(true);
    connect(symmetric_, &QCheckBox::toggled, this, [this](bool on) { editor_->setSymmetric(on); });
    auto* move = new FlowLayout;
    move->addWidget(tool_);
    for (int a = 0; a < 3; ++a) {
        number_[a] = new QLineEdit("0");
        const char* names[] = {"cageX", "cageY", "cageZ"};
        number_[a]->setObjectName(names[a]);
        theme::fix(number_[a], theme::Length::width, 60);
        number_[a]->setAccessibleName(QString(QChar('x' + a)));
    }
    move->addWidget(row({number_[0], number_[1], number_[2]}));
    move->addWidget(button("Apply", "cageApply", "By the typed numbers: mm, degrees or factors", [this] {
        try {
            const Vec3 v = typed();
            if (tool_->currentIndex() == 0)
                editor_->moveBy(v);
            else if (tool_->currentIndex() == 1)
                editor_->turnBy(v);
            else
                editor_->scaleBy(v);
        } catch (const std::exception& e) {
            emit failed(QString::fromStdString(e.what()));
        }
    }));
    move->addWidget(row({label("in", "muted"), frame_}));
    move->addWidget(row({label("soft within", "muted"), soft_}));
    move->addWidget(symmetric_);
    return move;
}

FlowLayout* CagePanel::makeShaping() {
    amount_ = new QuantityEdit(dimension::length, "mm", -1e3, 1e3);
    amount_->setObjectName("cageAmount");
    amount_->setValue(5);
    theme::fix(amount_, theme::Length::width, 70);
    segments_ = new QuantityEdit(dimension::none, "", 1, 100);
    segments_->setObjectName("cageSegments");
    segments_->setValue(3);
    theme::fix(segments_, theme::Length::width, 46);
    sharpness_ = new QuantityEdit(dimension::none, "", 0, cage::sharpest);
    sharpness_->setObjectName("cageSharpness");
    sharpness_->setValue(2);
    theme::fix(sharpness_, theme::Length::width, 46);
    auto* change = new FlowLayout;
    change->addWidget(row({button("Extrude", "cageExtrude", "Move the faces outward and close their sides",
                                  [this] { editor_->extrude(amount_->value()); }),
                           amount_}));
    change->addWidget(row({button("Bridge", "cageBridge", "Join two patches of faces by a tube with this many rows",
                                  [this] { editor_->bridge(static_cast<int>(std::lround(segments_->value()))); }),
                           segments_}));
    change->addWidget(row({button("Crease", "cageCrease", "Sharpness of the edges: 0 smooth, 10 an edge of the body",
                                  [this] { editor_->crease(sharpness_->value()); }),
                           sharpness_}));
    return change;
}

FlowLayout* CagePanel::makeRepairing() {
    auto* more = new FlowLayout;
    more->addWidget(button("Insert loop", "cageInsertLoop", "Cut the ring of faces across the selected edge",
                           [this] { editor_->insertLoop(); }));
    more->addWidget(button("Split", "cageSplit", "Faces three by three", [this] { editor_->split(); }));
    more->addWidget(button("Collapse", "cageCollapse", "Close the selected face", [this] { editor_->collapse(); }));
    more->addWidget(button("Dissolve ring", "cageDissolve", "Take the ring of faces across the edge out",
                           [this] { editor_->dissolve(); }));
    more->addWidget(button("Delete", "cageDelete", "Remove the faces; the cage is open until it is filled",
                           [this] { editor_->removeSelected(); }));
    more->addWidget(button("Fill holes", "cageFill", "Close every hole with quads", [this] { editor_->fillHoles(); }));
    more->addWidget(button("Relax", "cageRelax", "Even the selected vertices out", [this] { editor_->relax(); }));
    more->addWidget(
        button("Snap", "cageSnap", "Bring the selection back to the smooth surface", [this] { editor_->snap(); }));
    more->addWidget(button("Fit", "cageFit", "Go on with the least-squares fit: of the selection, or of the whole cage",
                           [this] { editor_->fit(); }));
    deviation_ = new QCheckBox("deviation");
    deviation_->setObjectName("cageShowDeviation");
    connect(deviation_, &QCheckBox::toggled, this, [this](bool on) { editor_->setShowDeviation(on); });
    more->addWidget(deviation_);
    return more;
}

QWidget* CagePanel::makeSteps() {
    auto* whole = new QWidget;
    auto* column = new QVBoxLayout(whole);
    column->setContentsMargins(8, 4, 8, 4);
    column->setSpacing(4);
    auto* head = new QHBoxLayout;
    auto* remove = new QPushButton("Remove");
    remove->setObjectName("removeStep");
    connect(remove, &QPushButton::clicked, this, [this] {
        const int r = steps_->currentRow();
        session_.edit("Remove change of the cage", [r](Project& p) {
            auto& all = p.variants[p.open].recipe.rebuild.steps;
            if (r >= 0 && r < static_cast<int>(all.size())) all.erase(all.begin() + r);
        });
    });
    head->addWidget(label("Applied in this order; numbers may be edited.", "muted"), 1);
    head->addWidget(remove);
    column->addLayout(head);
    steps_ = new QTableWidget(0, 6);
    steps_->setObjectName("cageSteps");
    steps_->setHorizontalHeaderLabels({"Change", "On", "From, middle or low corner, mm",
                                       "To, radius or high corner, mm", "Radii or amount, mm", "Blend or edge, mm"});
    steps_->verticalHeader()->hide();
    steps_->setSelectionBehavior(QAbstractItemView::SelectRows);
    steps_->horizontalHeader()->setSectionResizeMode(QHeaderView::ResizeToContents);
    steps_->horizontalHeader()->setStretchLastSection(true);
    steps_->setFrameShape(QFrame::NoFrame);
    connect(steps_, &QTableWidget::cellChanged, this, &CagePanel::editStep);
    column->addWidget(steps_, 1);
    return whole;
}

void CagePanel::setEditor(CageEditor* editor) {
    editor_ = editor;
    connect(editor_, &CageEditor::stateChanged, this, &CagePanel::refresh);
    connect(editor_, &CageEditor::failed, this, &CagePanel::failed);
    refresh();
}

void CagePanel::addMember() {
    if (!session_.hasProject()) return;
    const auto surface = session_.lastKnown().surface;
    Vec3 a = Vec3::Zero(), b = Vec3::UnitX() * 30;
    if (surface) {
        // between the two ends of the part's longest side, to be moved by numbers
        Box3 box;
        for (const Vec3& p : surface->mesh.position) box.include(p);
        int axis = 0;
        box.size().maxCoeff(&axis);
        a = b = box.centre();
        a[axis] -= 0.25 * box.size()[axis];
        b[axis] += 0.25 * box.size()[axis];
    }
    if (editor_ && editor_->isOn() && editor_->element() == CageEditor::Element::faces &&
        editor_->selection().size() == 2) {
        a = cage::middleOf(editor_->cage(), *editor_->selection().begin());
        b = cage::middleOf(editor_->cage(), *std::next(editor_->selection().begin()));
    }
    session_.edit("Add member", [&](Project& p) {
        auto& rebuild = p.variants[p.open].recipe.rebuild;
        CageStep s;
        s.kind = CageStep::Kind::member;
        s.name = nextName(rebuild, s.kind, "Member");
        s.member.from = a;
        s.member.to = b;
        const double r = surface ? std::max(1.0, 0.5 * surface->thickness.median) : 6;
        s.member.radiusFrom = s.member.radiusTo = s.member.blend = std::round(2 * r) / 2;
        rebuild.steps.push_back(s);
    });
}

void CagePanel::addThickening() {
    if (!session_.hasProject()) return;
    const LastKnown k = session_.lastKnown();
    Vec3 at = k.surface ? k.surface->thickness.leastAt : Vec3(Vec3::Zero());
    if (k.findings && !k.findings->findings.empty()) at = k.findings->findings.front().position;
    if (editor_ && editor_->isOn() && editor_->middle()) at = *editor_->middle();
    Thickening t;
    t.centre = at;
    if (region_->currentIndex() == 1) {
        t.box = true;
        Box3 box;
        if (editor_ && editor_->isOn())
            for (auto v : editor_->vertices()) box.include(editor_->cage().position[v]);
        if (!(box.low.array() < box.high.array()).any()) {
            box.include(at);
            box = box.grown(10);
        }
        t.low = box.low;
        t.high = box.high;
    }
    if (region_->currentIndex() == 2) {
        if (editor_ && editor_->isOn()) {
            std::tie(t.painted, t.radius) = editor_->selectedRegion();
            t.edge = 2 * cage::meanEdge(editor_->cage());
        }
        if (t.painted.empty()) {
            emit failed("No face is selected: edit the cage and select or paint the faces to thicken.");
            return;
        }
    }
    session_.edit("Thicken", [&](Project& p) {
        auto& rebuild = p.variants[p.open].recipe.rebuild;
        CageStep s;
        s.kind = CageStep::Kind::thickening;
        s.name = nextName(rebuild, s.kind, "Thicken");
        s.thickening = t;
        rebuild.steps.push_back(s);
    });
}

void CagePanel::editStep(int row, int column) {
    if (filling_) return;
    const auto& steps = session_.recipe().rebuild.steps;
    if (row < 0 || row >= static_cast<int>(steps.size())) return;
    CageStep s = steps[static_cast<std::size_t>(row)];
    const QString text = steps_->item(row, column)->text();
    try {
        auto length = [&](const QString& t) {
            return parseQuantity(t.trimmed().toStdString(), dimension::length, "mm");
        };
        const bool member = s.kind == CageStep::Kind::member;
        if (column == 0) s.name = text.trimmed().toStdString();
        if (column == 1) s.on = steps_->item(row, 1)->checkState() == Qt::Checked;
        if (column == 2 && member) s.member.from = vectorOf(text);
        if (column == 3 && member) s.member.to = vectorOf(text);
        if (s.kind == CageStep::Kind::thickening) {
            Thickening& t = s.thickening;
            if (column == 2) (t.box ? t.low : t.centre) = vectorOf(text);
            if (column == 3 && t.box) t.high = vectorOf(text);
            if (column == 3 && !t.box) t.radius = length(text);
            if (column == 4) t.amount = length(text);
            if (column == 5) t.edge = length(text);
            requireSound(t, s.name);
        }
        if (column == 4 && member) {
            const QStringList parts = text.split(',');
            s.member.radiusFrom = length(parts.first());
            s.member.radiusTo = length(parts.last());
        }
        if (column == 5 && member) s.member.blend = length(text);
        session_.edit("Change of the cage",
                      [&](Project& p) { p.variants[p.open].recipe.rebuild.steps[static_cast<std::size_t>(row)] = s; });
    } catch (const std::exception& e) {
        emit failed(QString::fromStdString(e.what()));
    }
    refresh();
}

void CagePanel::refresh() {
    if (!session_.hasProject()) return;
    const bool on = editor_ && editor_->isOn();
    edit_->setChecked(on);
    edit_->setText(on ? "Leave editing" : "Edit cage");
    edit_->setEnabled(on || (!session_.isBusy() && session_.project().surface(session_.recipe())));
    tools_->setEnabled(on);
    state_->setText(editor_ ? editor_->state() : "");
    if (editor_) element_->setCurrentIndex(static_cast<int>(editor_->element()));
    symmetric_->setVisible(!session_.part().symmetry.empty());
    if (frame_->count() != 2 + static_cast<int>(session_.part().interfaces.size())) {
        frame_->clear();
        frame_->addItem("global axes");
        frame_->addItem("axes of the selection");
        for (const Interface& i : session_.part().interfaces)
            frame_->addItem("axes of " + QString::fromStdString(i.name), QString::fromStdString(i.name));
    }
    filling_ = true;
    const auto& steps = session_.recipe().rebuild.steps;
    steps_->setRowCount(static_cast<int>(steps.size()));
    for (std::size_t r = 0; r < steps.size(); ++r) {
        const CageStep& s = steps[r];
        QStringList texts{QString::fromStdString(s.name), "", "", "", "", ""};
        if (s.kind == CageStep::Kind::member) {
            texts[2] = vectorText(s.member.from);
            texts[3] = vectorText(s.member.to);
            texts[4] = plain(s.member.radiusFrom) + ", " + plain(s.member.radiusTo);
            texts[5] = plain(s.member.blend);
        } else if (s.kind == CageStep::Kind::thickening) {
            const Thickening& t = s.thickening;
            texts[2] = !t.painted.empty() ? QString("%1 painted places").arg(t.painted.size())
                                          : vectorText(t.box ? t.low : t.centre);
            texts[3] = t.box ? vectorText(t.high) : plain(t.radius);
            texts[4] = plain(s.thickening.amount);
            texts[5] = plain(s.thickening.edge);
        } else if (s.cage) {
            texts[2] = QString("%1 faces").arg(s.cage->face.size());
        }
        for (int c = 0; c < 6; ++c) {
            auto* item = new QTableWidgetItem(texts[c]);
            const bool painted = s.kind == CageStep::Kind::thickening && !s.thickening.painted.empty();
            const bool fixed = c == 1 || (c == 2 && painted) || (s.kind == CageStep::Kind::byHand && c > 1);
            if (fixed) item->setFlags(item->flags() & ~Qt::ItemIsEditable);
            if (c == 1) {
                item->setFlags(item->flags() | Qt::ItemIsUserCheckable);
                item->setCheckState(s.on ? Qt::Checked : Qt::Unchecked);
            }
            steps_->setItem(static_cast<int>(r), c, item);
        }
    }
    filling_ = false;
}

}  // namespace escultura::app
