#include "drawer/variants_panel.hpp"

#include <QHBoxLayout>
#include <QLabel>
#include <QSplitter>
#include <QVBoxLayout>
#include <cmath>

#include "project/comparison.hpp"
#include "project/state_text.hpp"
#include "widgets.hpp"

namespace escultura::app {

using namespace project;

namespace {

QString known(double v, const char* unit = "") {
    return std::isfinite(v) ? num(v) + unit : QString("–");
}

double requiredLimit(const Part& part, Requirement::Kind kind) {
    for (const Requirement& r : part.requirements)
        if (r.kind == kind && r.interface.empty() && !r.direction) return r.limit;
    return std::numeric_limits<double>::quiet_NaN();
}

}  // namespace

VariantsPanel::VariantsPanel(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    table_ = app::table({"Variant", "Mass, kg", "Safety factor", "Displacement, mm", "Peak stress, MPa", "State"});
    table_->setObjectName("variantsTable");
    quantity_ = new QComboBox;
    quantity_->setObjectName("variantsQuantity");
    quantity_->addItems({"Safety factor", "Mass", "Displacement", "Peak stress per case"});
    curve_ = new Plot;
    curve_->setObjectName("variantsCurve");
    scatter_ = new Plot;
    scatter_->setObjectName("variantsScatter");
    against_ = new QComboBox;
    against_->setObjectName("compareAgainst");
    compared_ = app::table({"Load case", "Figure", "Baseline", "Open variant", "Difference", "%"});
    compared_->setObjectName("comparisonTable");
    differs_ = app::table({"What differs", "Baseline", "Open variant"});
    differs_->setObjectName("differences");

    auto* left = new QWidget;
    auto* l = new QVBoxLayout(left);
    l->setContentsMargins(8, 6, 4, 6);
    l->addWidget(table_, 3);
    auto* line = new QHBoxLayout;
    line->addWidget(new QLabel("Open variant against"));
    line->addWidget(against_, 1);
    l->addLayout(line);
    auto* tables = new QSplitter;
    tables->addWidget(compared_);
    tables->addWidget(differs_);
    tables->setStretchFactor(0, 3);
    tables->setStretchFactor(1, 2);
    l->addWidget(tables, 4);
    auto* right = new QWidget;
    auto* r = new QVBoxLayout(right);
    r->setContentsMargins(4, 6, 8, 6);
    auto* charts = new QHBoxLayout;
    auto* first = new QVBoxLayout;
    first->addWidget(quantity_);
    first->addWidget(curve_, 1);
    charts->addLayout(first, 1);
    charts->addWidget(scatter_, 1);
    r->addLayout(charts, 1);
    auto* both = new QSplitter;
    both->addWidget(left);
    both->addWidget(right);
    both->setStretchFactor(0, 1);
    both->setStretchFactor(1, 1);
    both->setSizes({620, 420});
    auto* all = new QVBoxLayout(this);
    all->setContentsMargins(0, 0, 0, 0);
    all->addWidget(both);
    auto open = [this](int row) {
        if (row < 0 || row >= static_cast<int>(shown_.size()) || session_.isBusy()) return;
        const std::size_t v = shown_[static_cast<std::size_t>(row)];
        if (session_.project().open != v) session_.edit("Open variant", [v](Project& p) { p.open = v; });
    };
    connect(table_, &QTableWidget::cellDoubleClicked, this, [open](int row) { open(row); });
    connect(curve_, &Plot::chosen, this, open);
    connect(scatter_, &Plot::chosen, this, [this, open](int dot) {
        // dots are those with figures, in the order of the table
        int row = -1;
        for (int r = 0; r < table_->rowCount(); ++r)
            if (table_->item(r, 1)->text() != "–" && table_->item(r, 2)->text() != "–" && dot-- == 0) row = r;
        open(row);
    });
    connect(quantity_, &QComboBox::currentIndexChanged, this, [this] { refreshCharts(); });
    connect(against_, &QComboBox::currentIndexChanged, this, [this] { refreshComparison(); });
}

void VariantsPanel::refresh() {
    if (!session_.hasProject()) return;
    const Project& p = session_.project();
    QList<QStringList> rows;
    shown_.clear();
    const QVariant chosen = against_->currentData();
    const QSignalBlocker block(against_);
    against_->clear();
    for (std::size_t i = 0; i < p.variants.size(); ++i) {
        const Variant& v = p.variants[i];
        if (!v.archived) {
            const LastKnown k = session_.lastKnown(i);
            const VariantFigures f = figuresOf(p, v, k.check.get(), k.surface.get());
            double peak = std::numeric_limits<double>::quiet_NaN();
            for (const auto& [name, stress] : f.peaks) peak = std::isnan(peak) ? stress : std::max(peak, stress);
            rows << QStringList{text(v.name) + (i == p.baseline ? " (baseline)"
                                                : i == p.open   ? " (open)"
                                                                : ""),
                                known(f.mass),
                                known(f.safetyFactor),
                                known(f.displacement),
                                known(peak),
                                f.fresh   ? "fresh"
                                : k.check ? "out of date"
                                          : "not checked"};
            shown_.push_back(i);
        }
        against_->addItem("variant " + text(v.name) + (i == p.baseline ? " (baseline)" : ""), static_cast<int>(i));
    }
    const int at = against_->findData(chosen.isValid() ? chosen : QVariant(static_cast<int>(p.baseline)));
    against_->setCurrentIndex(at >= 0 ? at : static_cast<int>(p.baseline));
    table_->setSortingEnabled(false);
    fill(table_, rows);
    table_->setSortingEnabled(false);  // the rows are the order of the shelf
    refreshCharts();
    refreshComparison();
}

void VariantsPanel::refreshCharts() {
    const Project& p = session_.project();
    std::vector<VariantFigures> figures;
    QStringList ticks;
    for (std::size_t i : shown_) {
        const LastKnown k = session_.lastKnown(i);
        figures.push_back(figuresOf(p, p.variants[i], k.check.get(), k.surface.get()));
        ticks << text(p.variants[i].name);
    }
    markFront(figures);
    const int which = quantity_->currentIndex();
    std::vector<Plot::Series> series;
    auto add = [&](const QString& name, auto value) {
        Plot::Series s{name, {}};
        for (std::size_t i = 0; i < figures.size(); ++i)
            if (std::isfinite(value(figures[i]))) s.points.emplace_back(static_cast<double>(i), value(figures[i]));
        if (!s.points.empty()) series.push_back(std::move(s));
    };
    double limit = std::numeric_limits<double>::quiet_NaN();
    QString words;
    if (which == 0) {
        add("safety factor", [](const VariantFigures& f) { return f.safetyFactor; });
        limit = requiredLimit(session_.part(), Requirement::Kind::safetyFactor);
        words = "required " + num(limit);
    } else if (which == 1) {
        add("mass", [](const VariantFigures& f) { return f.mass; });
        limit = requiredLimit(session_.part(), Requirement::Kind::mass);
        words = "allowed " + num(limit) + " kg";
    } else if (which == 2) {
        add("displacement", [](const VariantFigures& f) { return f.displacement; });
        limit = requiredLimit(session_.part(), Requirement::Kind::displacement);
        words = "allowed " + num(limit) + " mm";
    } else {
        QStringList cases;
        for (const VariantFigures& f : figures)
            for (const auto& [name, stress] : f.peaks)
                if (!cases.contains(text(name))) cases << text(name);
        for (const QString& c : cases)
            add(c, [&](const VariantFigures& f) {
                for (const auto& [name, stress] : f.peaks)
                    if (text(name) == c) return stress;
                return std::numeric_limits<double>::quiet_NaN();
            });
        limit = allowableStress(session_.part());
        words = "allowable " + num(limit) + " MPa";
    }
    static const char* titles[] = {"Smallest safety factor", "Mass, kg", "Largest displacement, mm",
                                   "Peak stress, MPa"};
    curve_->setCurves(titles[which], "variants in order", std::move(series), ticks, limit, words);
    std::vector<Plot::Dot> dots;
    for (std::size_t i = 0; i < figures.size(); ++i)
        if (std::isfinite(figures[i].mass) && std::isfinite(figures[i].safetyFactor))
            dots.push_back({text(figures[i].name),
                            {figures[i].mass, figures[i].safetyFactor},
                            figures[i].onFront,
                            shown_[i] == p.open});
    const double required = requiredLimit(session_.part(), Requirement::Kind::safetyFactor);
    scatter_->setScatter("Safety factor over mass", "mass, kg", "filled: none beats it", std::move(dots), required,
                         "required " + num(required));
}

void VariantsPanel::refreshComparison() {
    const Project& p = session_.project();
    const int at = against_->currentData().isValid() ? against_->currentData().toInt() : -1;
    QList<QStringList> figures, lines;
    if (at >= 0 && at < static_cast<int>(p.variants.size())) {
        const Variant& base = p.variants[static_cast<std::size_t>(at)];
        for (const ComparedFigure& c : compareVariants(p, base, session_.variant())) {
            const QString unit = c.unit.empty() ? "" : " " + text(c.unit);
            figures << QStringList{c.loadCase.empty() ? "all" : text(c.loadCase),
                                   text(c.figure),
                                   num(c.baseline, 4) + unit,
                                   num(c.value, 4) + unit,
                                   (c.difference() > 0 ? "+" : "") + num(c.difference()) + unit,
                                   std::isfinite(c.share()) ? (c.share() > 0 ? "+" : "") + num(100 * c.share()) : ""};
        }
        for (const Difference& d : differences(p.part, base.recipe, session_.recipe()))
            lines << QStringList{text(d.what), d.before.empty() ? "not there" : text(d.before),
                                 d.after.empty() ? "not there" : text(d.after)};
        // the reasons typed for each stage, where they differ
        for (int stage = 0; stage < stageCount; ++stage) {
            auto reason = [&](const Variant& v) {
                const auto found = v.reasons.find(stage);
                return found == v.reasons.end() ? QString() : text(found->second);
            };
            if (reason(base) != reason(session_.variant()))
                lines << QStringList{QString("reason, %1").arg(name(static_cast<Stage>(stage))), reason(base),
                                     reason(session_.variant())};
        }
    }
    fill(compared_, figures);
    fill(differs_, lines);
}

}  // namespace escultura::app
