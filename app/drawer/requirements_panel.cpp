#include "drawer/requirements_panel.hpp"

#include <QAbstractItemView>
#include <QFormLayout>
#include <QHBoxLayout>
#include <QRegularExpression>
#include <QVBoxLayout>
#include <cmath>

#include "base/quantity.hpp"
#include "base/text.hpp"
#include "dossier/card_parts.hpp"
#include "duty/duty_edit.hpp"
#include "duty/requirement_text.hpp"
#include "theme/theme.hpp"
#include "widgets.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace judge;
using Kind = Requirement::Kind;

namespace {

/// A limit with or without its unit.
double readLimit(const RequirementKind& kind, const QString& words) {
    const std::string unit = kind.unit;
    QString bare = words.trimmed();
    if (unit == "%" && bare.endsWith('%')) bare.chop(1);
    const bool pure = kind.dimension == dimension::none;
    return parseQuantity(bare.toStdString(), kind.dimension, pure ? "" : unit) / kind.unitOfLimit();
}

}  // namespace

RequirementsPanel::RequirementsPanel(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    makeInputs();
    layOut();
    connectInputs();
}

void RequirementsPanel::makeInputs() {
    table_ = app::table({"Requirement", "Limit", "Value", "State", "Source"});
    table_->setObjectName("requirementsTable");
    kind_ = new QComboBox;
    kind_->setObjectName("requirementKind");
    for (const RequirementKind& k : requirementKinds()) kind_->addItem(k.words);
    limit_ = new QLineEdit;
    limit_->setObjectName("requirementLimit");
    case_ = new QComboBox;
    case_->setObjectName("requirementCase");
    interface_ = new QComboBox;
    interface_->setObjectName("requirementInterface");
    direction_ = new QLineEdit;
    direction_->setObjectName("requirementDirection");
    direction_->setPlaceholderText("any, or 0 0 1");
    source_ = new QLineEdit;
    source_->setObjectName("requirementSource");
    source_->setPlaceholderText("specification and clause");
    add_ = new QPushButton("Add");
    add_->setObjectName("addRequirement");
    update_ = new QPushButton("Change");
    update_->setObjectName("changeRequirement");
    remove_ = new QPushButton("Remove");
    remove_->setObjectName("removeRequirement");
    templates_ = new QComboBox;
    templates_->setObjectName("requirementTemplates");
    for (const auto& t : requirementTemplates()) templates_->addItem(text(t.name));
    uses_ = new QComboBox;
    uses_->setObjectName("factorByUse");
    uses_->addItem("choose a use…");
    for (const FactorByUse& u : factorsByUse()) uses_->addItem(text(std::string(u.use) + ": " + u.range()));
    uses_->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
    uses_->setMinimumContentsLength(12);
    uses_->view()->setMinimumWidth(theme::px(460));  // the words are long, the box is not
    start_ = new QPushButton("Add the set");
    start_->setObjectName("useTemplate");
    start_->setToolTip("Adds what the part does not ask for yet; limits are proposals to be replaced");
}

void RequirementsPanel::layOut() {
    auto* form = new QWidget;
    auto* f = new QVBoxLayout(form);
    f->setContentsMargins(4, 6, 8, 6);
    f->setSpacing(5);
    f->addWidget(field("Kind", kind_));
    f->addWidget(field("Limit", limit_));
    f->addWidget(field("Load case", case_));
    f->addWidget(field("Interface", interface_));
    f->addWidget(field("Direction", direction_));
    f->addWidget(field("Source", source_));
    f->addWidget(row({add_, update_, remove_}));
    f->addStretch();
    f->addWidget(field("Factor by use", uses_));
    f->addWidget(field("Start from", templates_));
    f->addWidget(start_);
    theme::fix(form, theme::Length::width, 340);
    auto* all = new QHBoxLayout(this);
    all->setContentsMargins(8, 0, 0, 0);
    all->addWidget(table_, 1);
    all->addWidget(form);
}

void RequirementsPanel::connectInputs() {
    connect(table_, &QTableWidget::currentCellChanged, this, [this](int r) { fillForm(r); });
    connect(kind_, &QComboBox::currentIndexChanged, this, [this](int k) {
        const RequirementKind& kind = requirementKinds()[static_cast<std::size_t>(std::max(0, k))];
        limit_->setEnabled(kind.hasLimit);
        case_->setEnabled(kind.ofCase);
        interface_->setEnabled(kind.ofInterface);
        direction_->setEnabled(kind.hasDirection);
    });
    connect(uses_, &QComboBox::activated, this, [this](int k) {
        if (k <= 0) return;
        // into the form: it counts when it is added, or changes the chosen one
        const Requirement r = factorsByUse()[static_cast<std::size_t>(k - 1)].proposal();
        kind_->setCurrentIndex(static_cast<int>(indexOf(r)));
        limit_->setText(text(plainNumber(r.limit)));
        source_->setText(text(r.source));
        source_->setCursorPosition(0);
    });
    connect(add_, &QPushButton::clicked, this, [this] { apply(-1); });
    connect(update_, &QPushButton::clicked, this, [this] { apply(table_->currentRow()); });
    connect(remove_, &QPushButton::clicked, this, [this] {
        auto next = session_.project().part.requirements;
        const int r = table_->currentRow();
        if (r < 0 || r >= static_cast<int>(next.size())) {
            emit failed("Select the requirement that is to go.");
            return;
        }
        next.erase(next.begin() + r);
        change("Remove requirement", std::move(next));
    });
    connect(start_, &QPushButton::clicked, this, [this] {
        auto next = session_.project().part.requirements;
        const RequirementTemplate chosen = requirementTemplates()[static_cast<std::size_t>(templates_->currentIndex())];
        for (const Requirement& r : chosen.requirements) {
            const bool there = std::any_of(next.begin(), next.end(), [&](const auto& x) { return x.kind == r.kind; });
            if (!there) next.push_back(r);
        }
        change("Requirements: " + templates_->currentText(), std::move(next));
    });
    kind_->currentIndexChanged(0);
}

void RequirementsPanel::refresh() {
    if (!session_.hasProject()) return;
    const LastKnown k = session_.lastKnown();
    QList<QStringList> rows;
    for (const RequirementState& s :
         requirementStates(session_.project(), session_.variant(), k.surface.get(), k.check.get())) {
        QStringList cells = requirementCells(s);
        if (!s.note.empty()) cells[3] += " (" + text(s.note) + ")";
        rows << cells + QStringList{text(s.source)};
    }
    {
        const QSignalBlocker block(table_);
        const int current = table_->currentRow();
        table_->setSortingEnabled(false);
        fill(table_, rows);
        table_->setSortingEnabled(false);  // the rows are those of the part file
        if (current >= 0 && current < rows.size()) table_->setCurrentCell(current, 0);
    }
    auto choices = [](QComboBox* box, const QString& any, const QStringList& names) {
        const QSignalBlocker block(box);
        const QString before = box->currentText();
        box->clear();
        box->addItem(any);
        box->addItems(names);
        box->setCurrentIndex(std::max(0, box->findText(before)));
    };
    QStringList cases, interfaces;
    const Part& part = session_.project().part;
    for (const LoadCase& c : part.loadCases) cases << text(c.name);
    for (const Combination& c : part.combinations) cases << text(c.name);
    for (const Interface& i : part.interfaces) interfaces << text(i.name);
    choices(case_, "every one", cases);
    choices(interface_, "anywhere", interfaces);
    for (QPushButton* b : {add_, update_, remove_, start_}) b->setEnabled(!session_.isBusy());
}

void RequirementsPanel::fillForm(int r) {
    const auto& all = session_.project().part.requirements;
    if (r < 0 || r >= static_cast<int>(all.size())) return;
    const Requirement& q = all[static_cast<std::size_t>(r)];
    const RequirementKind& kind = requirementKind(q);
    kind_->setCurrentIndex(static_cast<int>(indexOf(q)));
    limit_->setText(kind.hasLimit ? text(plainNumber(q.limit, 9) + (*kind.unit ? std::string(" ") + kind.unit : ""))
                                  : "");
    case_->setCurrentIndex(std::max(0, case_->findText(text(q.loadCase))));
    interface_->setCurrentIndex(std::max(0, interface_->findText(text(q.interface))));
    direction_->setText(q.direction
                            ? QString("%1 %2 %3").arg((*q.direction)[0]).arg((*q.direction)[1]).arg((*q.direction)[2])
                            : QString());
    source_->setText(text(q.source));
}

void RequirementsPanel::apply(int r) {
    auto next = session_.project().part.requirements;
    try {
        Requirement q;
        const RequirementKind& kind = requirementKinds().at(static_cast<std::size_t>(kind_->currentIndex()));
        q.kind = kind.kind;
        if (q.kind == Kind::figure) q.figure = kind.key;
        if (kind.hasLimit) {
            q.limit = readLimit(kind, limit_->text());
            if (!(q.limit > 0))
                throw InputError(ErrorDetail{"The requirement cannot be used.",
                                             {},
                                             "limit",
                                             "a value above zero",
                                             "'" + limit_->text().toStdString() + "'"});
        }
        if (case_->isEnabled() && case_->currentIndex() > 0) q.loadCase = case_->currentText().toStdString();
        if (interface_->isEnabled() && interface_->currentIndex() > 0)
            q.interface = interface_->currentText().toStdString();
        if (direction_->isEnabled() && !direction_->text().trimmed().isEmpty()) {
            const auto parts = direction_->text().split(QRegularExpression("[ ,;]+"), Qt::SkipEmptyParts);
            Vec3 d = Vec3::Zero();
            bool ok = parts.size() == 3;
            for (int k = 0; ok && k < 3; ++k) d[k] = parts[k].toDouble(&ok);
            if (!ok || !(d.norm() > 0))
                throw InputError(ErrorDetail{"The requirement cannot be used.",
                                             {},
                                             "direction",
                                             "three numbers that are not all zero",
                                             "'" + direction_->text().toStdString() + "'"});
            q.direction = d.normalized();
        }
        q.source = source_->text().trimmed().toStdString();
        if (r >= 0 && r < static_cast<int>(next.size()))
            next[static_cast<std::size_t>(r)] = q;
        else
            next.push_back(q);
    } catch (const std::exception& e) {
        emit failed(e.what());
        return;
    }
    change(r >= 0 ? "Change requirement" : "Add requirement", std::move(next));
}

void RequirementsPanel::change(const QString& what, std::vector<Requirement> next) {
    try {
        session_.editPart(what, [&](const std::string&) { return withRequirements(session_.project().part, next); });
    } catch (const std::exception& e) {
        emit failed(e.what());
    }
}

}  // namespace escultura::app
