#include "drawer/studies_panel.hpp"

#include <QHBoxLayout>
#include <QSplitter>
#include <QVBoxLayout>
#include <cmath>

#include "base/quantity.hpp"
#include "dossier/card_parts.hpp"
#include "theme/theme.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace judge;

namespace {

/// Figures that a study may be judged by, in a steady order.
QStringList figureNames(const Study& study) {
    QStringList names{"safety factor", "mass", "displacement"};
    for (const Evaluation& e : study.done)
        for (const auto& [name, value] : e.figures)
            if (name.rfind("violation of ", 0) != 0 && !names.contains(text(name))) names << text(name);
    return names;
}

QString unitOf(const QString& figure) {
    if (figure == "mass") return " kg";
    if (figure.startsWith("displacement") || figure == "thinnest wall" || figure == "deviation") return " mm";
    if (figure.startsWith("peak stress")) return " MPa";
    return "";
}

}  // namespace

StudiesPanel::StudiesPanel(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    kind_ = new QComboBox;
    kind_->setObjectName("studyKind");
    kind_->addItem("Local: effect of a small step of each");
    kind_->addItem("Range: one number over a range");
    kind_->addItem("Search: lightest that meets everything");
    parameters_ = new QListWidget;
    parameters_->setObjectName("studyParameters");
    parameters_->setToolTip("Tick the numbers to vary: up to 5 for a search, one for a range");
    low_ = new QLineEdit;
    low_->setObjectName("studyLow");
    high_ = new QLineEdit;
    high_->setObjectName("studyHigh");
    for (QLineEdit* e : {low_, high_}) e->setPlaceholderText("by itself");
    range_ = field("Range", row({low_, new QLabel("to"), high_}));
    count_ = new QSpinBox;
    count_->setObjectName("studyCount");
    count_->setRange(2, 400);
    standard_ = new QCheckBox("level 'standard'");
    standard_->setToolTip("Slower; else evaluations run at level 'look'");
    standard_->setObjectName("studyStandard");
    run_ = new QPushButton("Run study");
    run_->setObjectName("runStudy");
    adopt_ = new QPushButton("Make the row a variant");
    adopt_->setObjectName("adoptEvaluation");
    note_ = label("", "muted");
    note_->setWordWrap(true);
    which_ = new QComboBox;
    which_->setObjectName("studyShown");
    figure_ = new QComboBox;
    figure_->setObjectName("studyFigure");
    table_ = app::table({"Evaluation"});
    table_->setObjectName("studyTable");
    plot_ = new PlotView;
    plot_->setObjectName("studyPlot");

    auto* left = new QWidget;
    auto* l = new QVBoxLayout(left);
    l->setContentsMargins(8, 6, 4, 6);
    l->setSpacing(5);
    l->addWidget(kind_);
    l->addWidget(parameters_, 1);
    l->addWidget(range_);
    l->addWidget(row({new QLabel("Evaluations"), count_, standard_}));
    l->addWidget(run_);
    theme::fix(left, theme::Length::leastWidth, 300);
    auto* middle = new QWidget;
    auto* m = new QVBoxLayout(middle);
    m->setContentsMargins(4, 6, 4, 6);
    m->setSpacing(5);
    m->addWidget(row({new QLabel("Study"), which_}));
    m->addWidget(table_, 1);
    m->addWidget(note_);
    m->addWidget(adopt_);
    auto* right = new QWidget;
    auto* r = new QVBoxLayout(right);
    r->setContentsMargins(4, 6, 8, 6);
    r->addWidget(row({new QLabel("Figure"), figure_}));
    r->addWidget(plot_, 1);
    auto* all = new QSplitter;
    all->addWidget(left);
    all->addWidget(middle);
    all->addWidget(right);
    all->setSizes({300, 260, 440});
    auto* page = new QVBoxLayout(this);
    page->setContentsMargins(0, 0, 0, 0);
    page->addWidget(all);
    connect(kind_, &QComboBox::currentIndexChanged, this, [this](int kind) {
        if (kind > 0) count_->setValue(kind == 1 ? 9 : 40);
        refresh();
    });
    connect(run_, &QPushButton::clicked, this, &StudiesPanel::start);
    connect(adopt_, &QPushButton::clicked, this, &StudiesPanel::adoptRow);
    connect(which_, &QComboBox::currentIndexChanged, this, [this] { showStudy(); });
    connect(figure_, &QComboBox::currentIndexChanged, this, [this] { showStudy(); });
}

std::vector<std::string> StudiesPanel::chosenPlaces() const {
    std::vector<std::string> places;
    for (int i = 0; i < parameters_->count(); ++i)
        if (parameters_->item(i)->checkState() == Qt::Checked)
            places.push_back(parameters_->item(i)->data(Qt::UserRole).toString().toStdString());
    return places;
}

const Study* StudiesPanel::shown() const {
    const int i = which_->currentIndex();
    const auto& all = session_.project().studies;
    return i >= 0 && i < static_cast<int>(all.size()) ? &all[static_cast<std::size_t>(i)] : nullptr;
}

void StudiesPanel::refresh() {
    if (!session_.hasProject() || !session_.project().field()) return;
    const auto all = parametersOf(session_.project(), session_.recipe());
    QString now = text(session_.variant().name);
    for (const Parameter& p : all) now += text(p.place) + QString::number(p.value, 'g', 9);
    if (now != listed_) {
        const auto ticked = chosenPlaces();
        parameters_->clear();
        for (const Parameter& p : all) {
            const QString unit = p.unit.empty() ? "" : " " + text(p.unit);
            auto* item = new QListWidgetItem(text(p.label) + "   " + num(p.value, 4) + unit, parameters_);
            item->setData(Qt::UserRole, text(p.place));
            item->setFlags(item->flags() | Qt::ItemIsUserCheckable);
            item->setCheckState(std::count(ticked.begin(), ticked.end(), p.place) ? Qt::Checked : Qt::Unchecked);
        }
        listed_ = now;
    }
    range_->setVisible(kind_->currentIndex() == 1);
    count_->setEnabled(kind_->currentIndex() != 0);
    run_->setEnabled(!session_.isBusy());
    const auto& studies = session_.project().studies;
    {
        const QSignalBlocker block(which_);
        const int before = which_->currentIndex(), count = which_->count();
        which_->clear();
        for (std::size_t i = 0; i < studies.size(); ++i) {
            QStringList axes;
            for (const auto& a : studies[i].axes) axes << text(a.label);
            const Variant* v = session_.project().findVariant(studies[i].variant);
            which_->addItem(QString("%1 · %2, variant %3: %4")
                                .arg(i + 1)
                                .arg(name(studies[i].kind), v ? text(v->name) : "gone", axes.join(", ")));
        }
        const int last = static_cast<int>(studies.size()) - 1;
        which_->setCurrentIndex(static_cast<int>(studies.size()) > count ? last
                                                                         : std::clamp(before, std::min(0, last), last));
    }
    showStudy();
}

void StudiesPanel::start() {
    if (session_.isBusy()) return;
    try {
        const auto kind = static_cast<Study::Kind>(kind_->currentIndex());
        Study s = newStudy(session_.project(), session_.variant(), kind, chosenPlaces());
        s.standard = standard_->isChecked();
        if (kind != Study::Kind::local) s.evaluations = count_->value();
        if (kind == Study::Kind::range) {
            const std::string unit = s.axes[0].unit;
            auto bound = [&](const QLineEdit* e, double& value) {
                const std::string typed = e->text().trimmed().toStdString();
                if (typed.empty()) return;
                value = unit.empty() ? parseQuantity(typed, dimension::none, "")
                                     : parseQuantity(typed, dimensionOf(unit), unit) / unitScale(unit);
            };
            bound(low_, s.axes[0].low);
            bound(high_, s.axes[0].high);
            if (!(s.axes[0].low < s.axes[0].high))
                throw InputError(
                    ErrorDetail{"The study cannot be run.", {}, "range", "an end above its start", "an empty one"});
        }
        session_.runStudy(std::move(s));
    } catch (const std::exception& e) {
        emit failed(e.what());
    }
}

QString StudiesPanel::noteOf(const Study& s) const {
    double seconds = 0;
    for (const Evaluation& e : s.done) seconds += e.seconds;
    QString note = QString("%1 evaluations at level %2, %3 s")
                       .arg(s.done.size())
                       .arg(s.standard ? "standard" : "look", num(seconds));
    if (s.kind == Study::Kind::search)
        note += s.best >= 0 ? QString("; lightest that meets everything: no. %1").arg(s.best + 1)
                            : QString("; none meets everything yet");
    if (!isComplete(s) && !session_.isBusy()) note += "; not complete: run it again to go on";
    return note;
}

void StudiesPanel::showStudy() {
    const Study* s = shown();
    adopt_->setEnabled(s && !session_.isBusy() && !s->done.empty());
    note_->setVisible(s != nullptr);
    if (!s) {
        table_->setRowCount(0);
        plot_->clear();
        return;
    }
    {
        const QSignalBlocker block(figure_);
        const QString before = figure_->currentText();
        figure_->clear();
        figure_->addItems(figureNames(*s));
        figure_->setCurrentIndex(std::max(0, figure_->findText(before)));
    }
    const QString figure = figure_->currentText();
    QStringList head{"No."};
    for (const auto& a : s->axes) head << text(a.label) + (a.unit.empty() ? "" : ", " + text(a.unit));
    head << "Mass, kg"
         << "Safety factor"
         << "Meets all";
    table_->setColumnCount(static_cast<int>(head.size()));
    table_->setHorizontalHeaderLabels(head);
    QList<QStringList> rows;
    for (std::size_t i = 0; i < s->done.size(); ++i) {
        const Evaluation& e = s->done[i];
        QStringList cells{QString::number(i + 1)};
        for (double v : e.values) cells << num(v, 4);
        auto of = [&](const char* key) {
            const auto at = e.figures.find(key);
            return at == e.figures.end() ? QString("–") : num(at->second);
        };
        cells << of("mass") << of("safety factor")
              << (!e.problem.empty()               ? text(e.problem).section('\n', 0, 0)
                  : static_cast<int>(i) == s->best ? "yes, lightest"
                  : e.meetsAll                     ? "yes"
                                                   : "no");
        rows << cells;
    }
    fill(table_, rows);
    note_->setText(noteOf(*s));
    const std::string key = figure.toStdString();
    if (s->kind == Study::Kind::local) {
        std::vector<report::PlotBar> bars;
        for (const Effect& e : rankedEffects(*s, key)) {
            const auto& a = s->axes[e.axis];
            const QString unit = a.unit.empty() ? "" : " " + text(a.unit);
            bars.push_back({text(a.label) + " +" + num(e.step) + unit,
                            (e.change > 0 ? "+" : "") + num(e.change) + unitOf(figure), e.change});
        }
        plot_->setPlot(report::rankedBars("Effect on " + figure, std::move(bars)));
        return;
    }
    double limit = std::numeric_limits<double>::quiet_NaN();
    for (const RequirementState& r : requirementStates(session_.project(), session_.variant(), nullptr, nullptr))
        if (text(r.name) == figure && r.hasLimit) limit = r.limit;
    report::PlotSeries series{figure, {}};
    QStringList ticks;
    const bool search = s->kind == Study::Kind::search;
    for (std::size_t i = 0; i < s->done.size(); ++i) {
        const auto at = s->done[i].figures.find(key);
        if (at == s->done[i].figures.end()) continue;
        series.points.emplace_back(search ? static_cast<double>(i + 1) : s->done[i].values[0], at->second);
    }
    if (!search) std::sort(series.points.begin(), series.points.end(), [](auto& a, auto& b) { return a.x() < b.x(); });
    const QString across = search
                               ? QString("evaluation")
                               : text(s->axes[0].label) + (s->axes[0].unit.empty() ? "" : ", " + text(s->axes[0].unit));
    plot_->setPlot(
        report::curves(figure + unitOf(figure), across, {series}, {}, limit, "limit " + num(limit) + unitOf(figure)));
}

void StudiesPanel::adoptRow() {
    const Study* s = shown();
    if (!s || session_.isBusy()) return;
    int index = s->best;
    const int row = table_->currentRow();
    if (row >= 0 && table_->item(row, 0)) index = table_->item(row, 0)->text().toInt() - 1;
    if (index < 0 || index >= static_cast<int>(s->done.size())) {
        emit failed("Select the evaluation that is to become a variant.");
        return;
    }
    try {
        const Recipe recipe = recipeOf(session_.project(), *s, s->done[static_cast<std::size_t>(index)]);
        const std::int64_t id = s->variant;
        const QString words = QString("From study: %1, evaluation %2").arg(name(s->kind)).arg(index + 1);
        session_.edit(words, [&](Project& p) {
            std::size_t from = p.open;
            for (std::size_t i = 0; i < p.variants.size(); ++i)
                if (p.variants[i].id == id) from = i;
            addVariant(p, from).recipe = recipe;
        });
    } catch (const std::exception& e) {
        emit failed(e.what());
    }
}

}  // namespace escultura::app
