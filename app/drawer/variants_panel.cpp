#include "drawer/variants_panel.hpp"

#include <QHBoxLayout>
#include <QLabel>
#include <QSplitter>
#include <QVBoxLayout>
#include <cmath>

#include "judge/comparison.hpp"
#include "report/variant_plots.hpp"
#include "store/state_text.hpp"
#include "widgets.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace store;
using namespace judge;

namespace {

QString known(double v, const char* unit = "") {
    return std::isfinite(v) ? num(v) + unit : QString("–");
}

}  // namespace

VariantsPanel::VariantsPanel(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    table_ = app::table({"Variant", "Mass, kg", "Safety factor", "Displacement, mm", "Peak stress, MPa", "State"});
    table_->setObjectName("variantsTable");
    quantity_ = new QComboBox;
    quantity_->setObjectName("variantsQuantity");
    quantity_->addItems({"Safety factor", "Mass", "Displacement", "Peak stress per case"});
    curve_ = new PlotView;
    curve_->setObjectName("variantsCurve");
    scatter_ = new PlotView;
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
        if (row < 0 || row >= static_cast<int>(shown_.size())) return;
        session_.openVariant(shown_[static_cast<std::size_t>(row)]);
    };
    connect(table_, &QTableWidget::cellDoubleClicked, this, [open](int row) { open(row); });
    connect(curve_, &PlotView::chosen, this, open);
    connect(scatter_, &PlotView::chosen, this, [this, open](int dot) {
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
    for (std::size_t i : shown_) {
        const LastKnown k = session_.lastKnown(i);
        figures.push_back(figuresOf(p, p.variants[i], k.check.get(), k.surface.get()));
    }
    curve_->setPlot(
        report::variantCurves(session_.part(), figures, static_cast<report::VariantFigure>(quantity_->currentIndex())));
    scatter_->setPlot(report::variantScatter(session_.part(), figures, session_.variant().id));
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
