/// The loads and supports, and the form that edits one of them. Long because the form of every
/// kind is made of the same fields.

#include "tools/duty_panel.hpp"

#include <QDialog>
#include <QDialogButtonBox>
#include <QFileDialog>
#include <QFormLayout>
#include <QHBoxLayout>
#include <QTableView>
#include <fstream>
#include <sstream>

#include "base/error.hpp"
#include "dossier/card_parts.hpp"
#include "duty/duty_edit.hpp"
#include "theme/theme.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace judge;

namespace {

/// Rows for figures in the form: as many as the kind with the most has.
constexpr const char* figureNames[] = {"First", "Second", "Third", "Fourth", "Fifth", "Sixth"};
std::size_t mostFigures() {
    std::size_t most = 0;
    for (const LoadKind& k : loadKinds()) most = std::max(most, k.figures.size());
    for (const SupportKind& k : supportKinds()) most = std::max(most, k.figures.size());
    return std::min(most, std::size(figureNames));
}

template <class Kinds>
QStringList wordsOf(const Kinds& kinds) {
    QStringList list;
    for (const auto& k : kinds) list << k.words;
    return list;
}

QWidget* three(QList<QLineEdit*>& fields, const QString& name) {
    auto* w = new QWidget;
    auto* l = new QHBoxLayout(w);
    l->setContentsMargins(0, 0, 0, 0);
    l->setSpacing(4);
    for (int k = 0; k < 3; ++k) {
        auto* e = new QLineEdit;
        e->setObjectName(QString("%1%2").arg(name).arg(QChar('X' + k)));
        e->setPlaceholderText(QChar('x' + k));
        theme::fix(e, theme::Length::leastWidth, 76);  // three of them go below their name
        fields << e;
        l->addWidget(e);
    }
    return w;
}

}  // namespace

DutyPanel::DutyPanel(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    makeInputs();
    makeForm();
    layOut();
    connectInputs();
}

void DutyPanel::makeInputs() {
    setObjectName("dutyPanel");
    table_ = app::table({"What", "Kind", "Acts on", "Figures", "Use"});
    table_->setObjectName("dutyTable");
    auto button = [&](const QString& t, const char* name) {
        auto* b = new QPushButton(t);
        b->setObjectName(name);
        b->setSizePolicy(QSizePolicy::Minimum, QSizePolicy::Fixed);
        return b;
    };
    addCase_ = button("+ case", "addCase");
    addLoad_ = button("+ load", "addLoad");
    addSupport_ = button("+ support", "addSupport");
    addCombination_ = button("+ combination", "addCombination");
    remove_ = button("Remove", "removeDuty");
    import_ = button("Import CSV…", "importLoads");
    apply_ = button("Apply", "applyDuty");
    kind_ = new QComboBox;
    kind_->setObjectName("dutyKind");
    face_ = new QComboBox;
    face_->setObjectName("dutyFace");
    frame_ = new QComboBox;
    frame_->setObjectName("dutyFrame");
    set_ = new QComboBox;
    set_->setObjectName("dutySet");
    set_->setEditable(true);
    set_->setInsertPolicy(QComboBox::NoInsert);
    use_ = new QComboBox;
    use_->setObjectName("caseUse");
    use_->addItems({"checked", "in combinations only", "off"});
    share_ = new QComboBox;
    share_->setObjectName("dutyShare");
    share_->addItems({"total, shared evenly", "each gets all"});
    interfaces_ = new QListWidget;
    interfaces_->setObjectName("dutyInterfaces");
    held_ = new QListWidget;
    held_->setObjectName("dutyHeld");
    for (auto* l : {interfaces_, held_}) theme::fix(l, theme::Length::height, 74);
    name_ = new QLineEdit;
    name_->setObjectName("dutyName");
    factor_ = new QLineEdit;
    factor_->setObjectName("caseFactor");
    sum_ = new QLineEdit;
    sum_->setObjectName("combinationSum");
    sum_->setPlaceholderText("1.35 steady + 1.5 storm");
    on_ = new QCheckBox("on");
    on_->setObjectName("combinationOn");
    error_ = errorLabel();
    error_->setObjectName("dutyError");
    hint_ = label("", "muted");
}

void DutyPanel::makeForm() {
    form_ = new QWidget;
    auto* f = new QFormLayout(form_);
    f->setContentsMargins(0, 0, 0, 0);
    f->setVerticalSpacing(5);
    f->setRowWrapPolicy(QFormLayout::WrapLongRows);
    auto row = [&](const QString& key, QLabel* name, QWidget* w) {
        f->addRow(name, w);
        rows_.push_back({key, w});
    };
    auto plainRow = [&](const QString& key, const QString& name, QWidget* w) { row(key, label(name, "muted"), w); };
    plainRow("name", "Name", name_);
    plainRow("kind", "Kind", kind_);
    plainRow("interfaces", "Acts on", interfaces_);
    plainRow("face", "Face", face_);
    plainRow("frame", "Frame", frame_);
    for (std::size_t k = 0; k < mostFigures(); ++k) {
        FigureRow r;
        r.name = label("", "muted");
        r.row = three(r.edits, QString("duty") + figureNames[k]);
        r.yes = new QCheckBox;
        r.yes->setObjectName(QString("duty%1Yes").arg(figureNames[k]));
        r.row->layout()->addWidget(r.yes);
        row(figureNames[k], r.name, r.row);
        figures_ << r;
    }
    plainRow("share", "Total or each", share_);
    plainRow("held", "Holds", held_);
    plainRow("set", "Set of supports", set_);
    plainRow("use", "Use", use_);
    plainRow("factor", "Factor", factor_);
    plainRow("sum", "Sum", sum_);
    plainRow("on", "", on_);
    f->addRow(hint_);
    f->addRow(error_);
    f->addRow(apply_);
}

void DutyPanel::layOut() {
    auto* buttons = new FlowLayout;
    for (auto* b : {addCase_, addLoad_, addSupport_, addCombination_, remove_, import_}) buttons->addWidget(b);
    auto* list = briefOf(table_, {0, 1}, "dutyList");
    theme::fix(list, theme::Length::leastHeight, 30 + 26 * 5);
    theme::fix(list, theme::Length::mostHeight, 30 + 26 * 8);
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(8);
    column->addLayout(buttons);
    column->addWidget(list);
    column->addWidget(form_);
    column->addStretch(1);
}

void DutyPanel::connectInputs() {
    connect(table_, &QTableWidget::currentCellChanged, this, [this](int r) {
        if (!filling_) choose(r);
    });
    connect(kind_, &QComboBox::activated, this, [this] {
        putKind();
        showForm();
    });
    connect(interfaces_, &QListWidget::itemChanged, this, [this] {
        if (!filling_) showForm();
    });
    connect(addCase_, &QPushButton::clicked, this, [this] { add(Line::Kind::loadCase); });
    connect(addLoad_, &QPushButton::clicked, this, [this] { add(Line::Kind::load); });
    connect(addSupport_, &QPushButton::clicked, this, [this] { add(Line::Kind::support); });
    connect(addCombination_, &QPushButton::clicked, this, [this] { add(Line::Kind::combination); });
    connect(remove_, &QPushButton::clicked, this, &DutyPanel::remove);
    connect(apply_, &QPushButton::clicked, this, &DutyPanel::apply);
    connect(import_, &QPushButton::clicked, this, [this] {
        const QString path =
            QFileDialog::getOpenFileName(this, "Import loads", {}, "Tables (*.csv *.tsv *.txt);;All files (*)");
        if (!path.isEmpty()) importTable(path);
    });
}

void DutyPanel::refresh() {
    if (!session_.hasProject()) return;
    const Part& p = session_.project().part;
    lines_.clear();
    QList<QStringList> rows;
    auto useWords = [](const LoadCase& c) {
        QString s = c.use == LoadCase::Use::check ? "checked" : c.use == LoadCase::Use::off ? "off" : "in combinations";
        if (c.factor != 1) s += " × " + num(c.factor);
        if (!c.supportSet.empty()) s += ", supports " + text(c.supportSet);
        return s;
    };
    auto on = [](const Load& l) {
        return l.onFaces() ? text(listed(l.on.interfaces) + " (" + l.on.face + ")") : QString("whole part");
    };
    for (std::size_t c = 0; c < p.loadCases.size(); ++c) {
        const LoadCase& k = p.loadCases[c];
        lines_.push_back({Line::Kind::loadCase, static_cast<int>(c)});
        rows << QStringList{text(k.name), "load case", "", QString("%1 loads").arg(p.loadsOf(k).size()), useWords(k)};
        for (std::size_t l = 0; l < k.loads.size(); ++l) {
            lines_.push_back({Line::Kind::load, static_cast<int>(c), static_cast<int>(l)});
            rows << QStringList{"   " + text(k.name), text(words(k.loads[l].kind)), on(k.loads[l]),
                                text(describe(k.loads[l])), ""};
        }
    }
    for (std::size_t s = 0; s < p.sharedLoads.size(); ++s) {
        const SharedLoad& l = p.sharedLoads[s];
        lines_.push_back({Line::Kind::shared, static_cast<int>(s)});
        rows << QStringList{"shared load", text(words(l.load.kind)), on(l.load), text(describe(l.load)),
                            l.cases.empty() ? "all cases" : text(listed(l.cases))};
    }
    for (std::size_t c = 0; c < p.combinations.size(); ++c) {
        lines_.push_back({Line::Kind::combination, static_cast<int>(c)});
        rows << QStringList{text(p.combinations[c].name), "combination", "", text(combinationText(p.combinations[c])),
                            p.combinations[c].on ? "on" : "off"};
    }
    for (std::size_t s = 0; s < p.supports.size(); ++s) {
        const Support& k = p.supports[s];
        lines_.push_back({Line::Kind::support, static_cast<int>(s)});
        rows << QStringList{"support", text(words(k.kind)), text(listed(k.on.interfaces) + " (" + k.on.face + ")"),
                            text(describe(k)), k.set.empty() ? "every case" : "cases with supports " + text(k.set)};
    }
    filling_ = true;
    fill(table_, rows);
    chosen_ = std::min(chosen_, static_cast<int>(lines_.size()) - 1);
    if (chosen_ >= 0) table_->setCurrentCell(chosen_, 0);
    filling_ = false;
    choose(chosen_);
}

void DutyPanel::choose(int r) {
    chosen_ = r >= 0 && r < static_cast<int>(lines_.size()) ? r : -1;
    form_->setVisible(chosen_ >= 0);
    remove_->setEnabled(chosen_ >= 0);
    if (chosen_ < 0) return;
    showError(error_, "");
    const Part& p = session_.project().part;
    const Line& line = lines_[chosen_];
    filling_ = true;
    kind_->clear();
    frame_->clear();
    frame_->addItem("global", "");
    for (const Frame& f : p.frames) frame_->addItem(text(f.name), text(f.name));
    interfaces_->clear();
    auto fillInterfaces = [&](const FaceReference& on) {
        for (const Interface& i : p.interfaces) {
            auto* item = new QListWidgetItem(text(i.name), interfaces_);
            item->setFlags(Qt::ItemIsUserCheckable | Qt::ItemIsEnabled | Qt::ItemIsSelectable);
            item->setCheckState(std::count(on.interfaces.begin(), on.interfaces.end(), i.name) ? Qt::Checked
                                                                                               : Qt::Unchecked);
        }
        face_->clear();
        face_->addItems({"bore", "side", "start", "end", duty::keptFaceName, duty::edgeName, duty::pointName});
        face_->setCurrentText(on.face.empty() ? "bore" : text(on.face));
    };
    if (line.kind == Line::Kind::load || line.kind == Line::Kind::shared) {
        const Load& l =
            line.kind == Line::Kind::load ? p.loadCases[line.at].loads[line.load] : p.sharedLoads[line.at].load;
        kind_->addItems(wordsOf(loadKinds()));
        kind_->setCurrentIndex(static_cast<int>(l.kind));
        fillInterfaces(l.on);
        frame_->setCurrentIndex(std::max(0, frame_->findData(text(l.frame))));
        share_->setCurrentIndex(l.sharedTotal ? 0 : 1);
        putFigures(loadKind(l.kind).figures, l);
        for (int c = 0; c < static_cast<int>(p.loadCases.size()); ++c)
            if (line.kind == Line::Kind::load && c == line.at) emit loadCaseChosen(c);
    } else if (line.kind == Line::Kind::support) {
        const Support& s = p.supports[line.at];
        kind_->addItems(wordsOf(supportKinds()));
        kind_->setCurrentIndex(static_cast<int>(s.kind));
        fillInterfaces(s.on);
        frame_->setCurrentIndex(std::max(0, frame_->findData(text(s.frame))));
        putFigures(supportKind(s.kind).figures, s);
        fillSets(s.set);
    } else if (line.kind == Line::Kind::loadCase) {
        const LoadCase& c = p.loadCases[line.at];
        fillSets(c.supportSet);
        name_->setText(text(c.name));
        use_->setCurrentIndex(static_cast<int>(c.use));
        factor_->setText(plain(c.factor));
        emit loadCaseChosen(line.at);
    } else {
        name_->setText(text(p.combinations[line.at].name));
        sum_->setText(text(combinationText(p.combinations[line.at])));
        on_->setChecked(p.combinations[line.at].on);
    }
    filling_ = false;
    held_->clear();
    showForm();
}

void DutyPanel::fillSets(const std::string& chosen) {
    set_->clear();
    set_->addItem("");
    for (const Support& s : session_.project().part.supports)
        if (!s.set.empty() && set_->findText(text(s.set)) < 0) set_->addItem(text(s.set));
    set_->setCurrentText(text(chosen));
    const bool ofCase = lines_[chosen_].kind == Line::Kind::loadCase;
    set_->lineEdit()->setPlaceholderText(ofCase ? "only supports without a set" : "none: holds in every case");
}

void DutyPanel::showForm() {
    if (chosen_ < 0) return;
    const Line& line = lines_[chosen_];
    const Part& p = session_.project().part;
    QSet<QString> shown;
    QString hint;
    if (line.kind == Line::Kind::loadCase) shown = {"name", "set", "use", "factor"};
    if (line.kind == Line::Kind::combination) shown = {"name", "sum", "on"};
    const auto index = static_cast<std::size_t>(std::max(0, kind_->currentIndex()));
    if (line.kind == Line::Kind::load || line.kind == Line::Kind::shared) {
        const LoadKind& kind = loadKinds()[index];
        shown = nameFigures(kind.figures) + QSet<QString>{"kind"};
        if (kind.onFaces) shown += {"interfaces", "face"};
        if (kind.canShare) shown += "share";
        if (kind.hasFrame) shown += "frame";
        hint = kind.hint;
    }
    if (line.kind == Line::Kind::support) {
        const SupportKind& kind = supportKinds()[index];
        shown = nameFigures(kind.figures) + QSet<QString>{"kind", "interfaces", "face", "set"};
        if (kind.hasFrame) shown += "frame";
        if (!kind.motions.empty()) shown += "held";
        hint = kind.hint;
        const auto count = static_cast<int>(kind.motions.size());
        if (count > 0 && (held_->count() != count || held_->item(0)->text() != kind.motions.front())) {
            const Support& s = p.supports[line.at];
            held_->clear();
            for (int k = 0; k < count; ++k) {
                auto* item = new QListWidgetItem(kind.motions[k], held_);
                const bool on = s.kind != kind.kind || isHeld(s, static_cast<std::size_t>(k));
                item->setFlags(Qt::ItemIsUserCheckable | Qt::ItemIsEnabled);
                item->setCheckState(on ? Qt::Checked : Qt::Unchecked);
            }
        }
    }
    hint_->setText(hint);
    hint_->setVisible(!hint.isEmpty());
    auto* layout = static_cast<QFormLayout*>(form_->layout());
    for (const auto& [key, widget] : rows_) {
        widget->setVisible(shown.contains(key));
        if (auto* l = layout->labelForField(widget)) l->setVisible(shown.contains(key));
    }
}

template <class Owner>
void DutyPanel::putFigures(const std::vector<Figure<Owner>>& figures, const Owner& owner) {
    for (FigureRow& r : figures_) {
        for (QLineEdit* e : r.edits) e->clear();
        r.yes->setChecked(false);
    }
    for (int k = 0; k < std::min<int>(figures_.size(), static_cast<int>(figures.size())); ++k) {
        const Figure<Owner>& f = figures[k];
        if (const auto* yes = std::get_if<bool Owner::*>(&f.at)) figures_[k].yes->setChecked(owner.*(*yes));
        if (const auto* some = std::get_if<std::optional<Vec3> Owner::*>(&f.at); some && !(owner.*(*some))) continue;
        const std::string unit = f.shownUnit;
        const Vec3 v = valueOf(f, owner) / (unit.empty() ? 1.0 : unitScale(unit));
        for (int c = 0; c < (f.isVector() ? 3 : 1); ++c)
            figures_[k].edits[c]->setText(plain(v[c]) + (unit.empty() ? "" : " " + text(unit)));
    }
}

void DutyPanel::putKind() {
    if (chosen_ < 0) return;
    const Line& line = lines_[chosen_];
    const Part& p = session_.project().part;
    const auto index = static_cast<std::size_t>(std::max(0, kind_->currentIndex()));
    // what both kinds have is kept, the rest starts empty, in the units of the new kind
    if (line.kind == Line::Kind::support) putFigures(supportKinds()[index].figures, p.supports[line.at]);
    if (line.kind == Line::Kind::load) putFigures(loadKinds()[index].figures, p.loadCases[line.at].loads[line.load]);
    if (line.kind == Line::Kind::shared) putFigures(loadKinds()[index].figures, p.sharedLoads[line.at].load);
}

template <class Owner>
QSet<QString> DutyPanel::nameFigures(const std::vector<Figure<Owner>>& figures) {
    QSet<QString> shown;
    for (int k = 0; k < std::min<int>(figures_.size(), static_cast<int>(figures.size())); ++k) {
        const Figure<Owner>& f = figures[k];
        const FigureRow& r = figures_[k];
        r.name->setText(f.isYes() ? "" : f.label);
        r.yes->setText(f.isYes() ? f.label : "");
        r.yes->setVisible(f.isYes());
        for (int c = 0; c < 3; ++c) r.edits[c]->setVisible(!f.isYes() && (c == 0 || f.isVector()));
        shown += figureNames[k];
    }
    return shown;
}

template <class Owner>
void DutyPanel::takeFigures(const std::vector<Figure<Owner>>& figures, Owner& owner) const {
    for (int k = 0; k < std::min<int>(figures_.size(), static_cast<int>(figures.size())); ++k) {
        const Figure<Owner>& f = figures[k];
        if (const auto* yes = std::get_if<bool Owner::*>(&f.at)) {
            owner.*(*yes) = figures_[k].yes->isChecked();
            continue;
        }
        Vec3 v = Vec3::Zero();
        bool typed = false;
        for (int c = 0; c < (f.isVector() ? 3 : 1); ++c) {
            const std::string t = figures_[k].edits[c]->text().trimmed().toStdString();
            if (t.empty()) continue;
            typed = true;
            try {
                v[c] = parseQuantity(t, f.dimension, f.shownUnit);
            } catch (const InputError& e) {
                throw InputError(std::string(f.label) + ": type " + e.detail().expected + "; found '" + t + "'.");
            }
        }
        if (f.rule == Figure<Owner>::Rule::direction) {
            if (!(v.norm() > 0)) throw InputError(std::string(f.label) + ": type a direction that is not zero.");
            v.normalize();
        }
        if (const auto* some = std::get_if<std::optional<Vec3> Owner::*>(&f.at))
            owner.*(*some) = typed ? std::optional(v) : std::nullopt;
        else
            setValue(f, owner, v);
    }
}

FaceReference DutyPanel::formFaces() const {
    FaceReference on;
    for (int k = 0; k < interfaces_->count(); ++k)
        if (interfaces_->item(k)->checkState() == Qt::Checked)
            on.interfaces.push_back(interfaces_->item(k)->text().toStdString());
    on.face = face_->currentText().toStdString();
    if (on.interfaces.empty()) throw InputError("Tick at least one interface.");
    return on;
}

Load DutyPanel::formLoad() const {
    const LoadKind& kind = loadKinds()[static_cast<std::size_t>(std::max(0, kind_->currentIndex()))];
    Load l;
    l.kind = kind.kind;
    if (kind.onFaces) l.on = formFaces();
    if (kind.hasFrame) l.frame = frame_->currentData().toString().toStdString();
    l.sharedTotal = !kind.canShare || share_->currentIndex() == 0;
    takeFigures(kind.figures, l);
    return l;
}

Support DutyPanel::formSupport() const {
    const SupportKind& kind = supportKinds()[static_cast<std::size_t>(std::max(0, kind_->currentIndex()))];
    Support s;
    s.kind = kind.kind;
    s.on = formFaces();
    if (kind.hasFrame) s.frame = frame_->currentData().toString().toStdString();
    s.set = set_->currentText().trimmed().toStdString();
    for (std::size_t k = 0; k < kind.motions.size(); ++k)
        setHeld(s, k, held_->item(static_cast<int>(k))->checkState() == Qt::Checked);
    takeFigures(kind.figures, s);
    return s;
}

void DutyPanel::change(const QString& what, const std::function<std::string(const Part&)>& edit) {
    const Part part = session_.project().part;
    try {
        session_.editPart(what, [&](const std::string&) { return edit(part); });
        showError(error_, "");
    } catch (const InputError& e) {
        const auto& d = e.detail();
        showError(error_, d.expected.empty() ? QString::fromStdString(e.what())
                                             : text((d.place.empty() ? "" : d.place + ": ") + "expected " + d.expected +
                                                    "; found " + d.found));
    }
}

void DutyPanel::apply() {
    if (chosen_ < 0) return;
    const Line line = lines_[chosen_];
    change("Duty", [&](const Part& p) -> std::string {
        switch (line.kind) {
            case Line::Kind::load:
                return withLoad(p, p.loadCases[line.at].name, line.load, formLoad());
            case Line::Kind::shared:
                return withLoad(p, "", line.at, formLoad());
            case Line::Kind::support:
                return withSupport(p, line.at, formSupport());
            case Line::Kind::loadCase: {
                LoadCase c = p.loadCases[line.at];
                c.name = name_->text().trimmed().toStdString();
                if (c.name.empty()) throw InputError("Type a name.");
                c.use = static_cast<LoadCase::Use>(use_->currentIndex());
                c.supportSet = set_->currentText().trimmed().toStdString();
                try {
                    c.factor = parseQuantity(factor_->text().toStdString(), dimension::none, "");
                } catch (const InputError&) {
                    throw InputError("Factor: type a number; found '" + factor_->text().toStdString() + "'.");
                }
                return withCase(p, p.loadCases[line.at].name, c);
            }
            case Line::Kind::combination: {
                std::vector<std::string> cases;
                for (const LoadCase& c : p.loadCases) cases.push_back(c.name);
                const Combination c{name_->text().trimmed().toStdString(),
                                    parseCombination(sum_->text().toStdString(), cases), on_->isChecked()};
                return withCombination(p, p.combinations[line.at].name, c);
            }
        }
        return p.text;
    });
}

void DutyPanel::add(Line::Kind kind) {
    if (!session_.hasProject()) return;
    const Part& p = session_.project().part;
    if (p.interfaces.empty()) {
        emit failed("The part has no interface yet: loads and supports act on interfaces.");
        return;
    }
    const Interface& i = p.interfaces.back();
    const FaceReference on{{i.name},
                           i.kind == Interface::Kind::faces    ? duty::keptFaceName
                           : i.kind == Interface::Kind::edges  ? duty::edgeName
                           : i.kind == Interface::Kind::points ? duty::pointName
                           : i.boreDiameter > 0                ? "bore"
                           : i.kind == Interface::Kind::pin    ? "side"
                                                               : "start"};
    auto unused = [&](const std::string& base, const auto& list) {
        for (int n = 1;; ++n) {
            const std::string name = base + " " + std::to_string(n);
            if (std::none_of(list.begin(), list.end(), [&](const auto& x) { return x.name == name; })) return name;
        }
    };
    const bool inCase =
        chosen_ >= 0 && (lines_[chosen_].kind == Line::Kind::load || lines_[chosen_].kind == Line::Kind::loadCase);
    const int at = inCase ? lines_[chosen_].at : 0;  // the case that a new load goes to
    Load load;
    load.on = on;
    load.force = Vec3(0, 0, -1000);
    if (kind == Line::Kind::loadCase)
        change("Add load case", [&](const Part& part) {
            LoadCase c;
            c.name = unused("Case", part.loadCases);
            c.loads = {load};
            if (!part.loadCases.empty()) c.supportSet = part.loadCases[static_cast<std::size_t>(at)].supportSet;
            return withCase(part, "", c);
        });
    if (kind == Line::Kind::load) {
        if (p.loadCases.empty()) return add(Line::Kind::loadCase);
        change("Add load", [&](const Part& part) { return withLoad(part, part.loadCases[at].name, -1, load); });
    }
    if (kind == Line::Kind::support) {
        Support s;
        s.on = on;
        change("Add support", [&](const Part& part) { return withSupport(part, -1, s); });
    }
    if (kind == Line::Kind::combination) {
        if (p.loadCases.empty()) {
            emit failed("A combination needs load cases: add one first.");
            return;
        }
        change("Add combination", [&](const Part& part) {
            return withCombination(
                part, "", {unused("Combination", part.combinations), {{part.loadCases.front().name, 1.35}}, true});
        });
    }
    // the new line is the last of its kind (of its case)
    const int wantedCase = kind == Line::Kind::load ? at : -1;
    for (std::size_t r = 0; r < lines_.size(); ++r)
        if (lines_[r].kind == kind && (wantedCase < 0 || lines_[r].at == wantedCase)) chosen_ = static_cast<int>(r);
    table_->setCurrentCell(chosen_, 0);
}

void DutyPanel::remove() {
    if (chosen_ < 0) return;
    const Line line = lines_[chosen_];
    change("Remove from the duty", [&](const Part& p) -> std::string {
        switch (line.kind) {
            case Line::Kind::load:
                return withoutLoad(p, p.loadCases[line.at].name, line.load);
            case Line::Kind::shared:
                return withoutLoad(p, "", line.at);
            case Line::Kind::support:
                return withoutSupport(p, line.at);
            case Line::Kind::loadCase:
                return withoutCase(p, p.loadCases[line.at].name);
            case Line::Kind::combination:
                return withoutCombination(p, p.combinations[line.at].name);
        }
        return p.text;
    });
}

void DutyPanel::importTable(const QString& path) {
    if (!session_.hasProject()) return;
    LoadTable loads;
    try {
        std::ifstream in(path.toStdString());
        if (!in)
            throw InputError(ErrorDetail{"The table of loads cannot be opened.",
                                         path.toStdString(),
                                         {},
                                         "a text file",
                                         "no readable file there"});
        std::stringstream all;
        all << in.rdbuf();
        loads = readLoadTable(all.str(), path.toStdString(), session_.project().part);
    } catch (const std::exception& e) {
        emit failed(e.what());
        return;
    }
    QDialog dialog(this);
    dialog.setObjectName("importPreview");
    dialog.setWindowTitle("Import loads");
    dialog.resize(760, 360);
    auto* column = new QVBoxLayout(&dialog);
    column->addWidget(label(QString("What importing <b>%1</b> changes:").arg(path.section('/', -1).toHtmlEscaped())));
    auto* preview = app::table({"Load case", "Change", "Before", "After"});
    preview->setObjectName("importTable");
    QList<QStringList> rows;
    auto lines = [](const std::vector<std::string>& list) {
        QStringList l;
        for (const auto& s : list) l << text(s);
        return l.join("\n");
    };
    int changes = 0;
    for (const auto& c : loads.changes) {
        const bool same = c.kind == LoadTableChange::Kind::unchanged;
        changes += !same;
        rows << QStringList{text(c.loadCase),
                            same                                       ? "none"
                            : c.kind == LoadTableChange::Kind::newCase ? "new case"
                                                                       : "loads replaced",
                            lines(c.before), lines(c.after)};
    }
    for (const auto& u : loads.untouched) rows << QStringList{text(u), "not in the table: stays", "", ""};
    fill(preview, rows);
    preview->resizeRowsToContents();
    column->addWidget(preview, 1);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel);
    buttons->button(QDialogButtonBox::Ok)->setText(QString("Import %1 cases").arg(changes));
    buttons->button(QDialogButtonBox::Ok)->setEnabled(changes > 0);
    connect(buttons, &QDialogButtonBox::accepted, &dialog, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, &dialog, &QDialog::reject);
    column->addWidget(buttons);
    if (dialog.exec() == QDialog::Accepted)
        change("Import loads", [&](const Part& p) { return withLoadTable(p, loads); });
}

}  // namespace escultura::app
