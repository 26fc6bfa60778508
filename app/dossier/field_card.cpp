#include <QStandardItemModel>
#include <cmath>

#include "base/error.hpp"
#include "dossier/card_parts.hpp"
#include "dossier/cards.hpp"
#include "dossier/making_panel.hpp"
#include "report/part_scene.hpp"
#include "theme/theme.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace judge;

FieldCard::FieldCard(Session& session) : Card(session, Stage::field) {
    makeInputs();
    layOut();
    connectInputs();
}

void FieldCard::makeInputs() {
    field_ = new QComboBox;
    field_->setObjectName("fieldChoice");
    field_->setToolTip("The field that this variant is made from, or a combination of all");
    addField_ = new QPushButton("Add field…");
    addField_->setObjectName("addField");
    weights_ = new QLineEdit;
    weights_->setObjectName("fieldWeights");
    weights_->setToolTip("One factor a field, in their order: 0.6, 0.4");
    control_ = new ThresholdControl;
    threshold_ = new QuantityEdit(dimension::none, "", 0.005, 0.995);
    threshold_->setObjectName("thresholdEdit");
    mass_ = new QuantityEdit(dimension::mass, "kg", 1e-9, 1e6);
    mass_->setObjectName("wantedMass");
    mass_->setToolTip("Type a wanted mass: the threshold that keeps it is solved for");
    share_ = new QuantityEdit(dimension::none, "", 0.001, 100);
    share_->setObjectName("wantedShare");
    share_->setToolTip("Per cent of the design space: the threshold that keeps it is solved for");
    largest_ = new QCheckBox("Keep the largest piece only");
    largest_->setObjectName("largestOnly");
    island_ = new QuantityEdit({3, 0, 0}, "mm^3", 0, 1e12);
    island_->setObjectName("smallestIsland");
    compare_ = new QComboBox;
    compare_->setObjectName("compareWith");
    figures_ = label("");
    figures_->setObjectName("fieldFigures");
    interfaces_ = label("");
    interfaces_->setObjectName("fieldInterfaces");
    comparison_ = label("");
    comparison_->setObjectName("comparisonFigures");
    error_ = errorLabel();
}

void FieldCard::layOut() {
    auto* choice = new QWidget;
    auto* choiceRow = new QHBoxLayout(choice);
    choiceRow->setContentsMargins(0, 0, 0, 0);
    choiceRow->addWidget(field_, 1);
    choiceRow->addWidget(addField_);
    body()->addWidget(choice);
    weightsRow_ = field("Weights", weights_);
    body()->addWidget(weightsRow_);
    making_ = new MakingPanel(session_);
    body()->addWidget(making_);
    body()->addWidget(control_);
    thresholdRow_ = field("Threshold", threshold_);
    massRow_ = field("or mass kept", mass_);
    shareRow_ = field("or share kept, %", share_);
    for (QWidget* w : {thresholdRow_, massRow_, shareRow_}) body()->addWidget(w);
    body()->addWidget(largest_);
    islandRow_ = field("Drop pieces below", island_);
    body()->addWidget(islandRow_);
    body()->addWidget(error_);
    body()->addWidget(figures_);
    body()->addWidget(interfaces_);
    compareRow_ = field("Compare with", compare_);
    body()->addWidget(compareRow_);
    body()->addWidget(comparison_);
    build_ = addAction("Build surface", "buildFromField");
}

void FieldCard::connectInputs() {
    auto set = [this](double v) {
        session_.edit(
            "Threshold", [v](Project& p) { p.variants[p.open].recipe.threshold = v; }, "threshold");
    };
    auto setVolume = [this, set](double volume) {
        if (const auto f = session_.project().field()) set(thresholdForVolume(*f, volume));
        refresh();
    };
    connect(control_, &ThresholdControl::valueMoved, this, set);
    connect(threshold_, &QuantityEdit::valueEntered, this, set);
    connect(mass_, &QuantityEdit::valueEntered, this,
            [this, setVolume](double kg) { setVolume(kg / session_.part().material.density); });
    connect(share_, &QuantityEdit::valueEntered, this, [this, setVolume](double percent) {
        if (const auto f = session_.project().field()) setVolume(0.01 * percent * f->designVolume);
    });
    connect(largest_, &QCheckBox::clicked, this, [this](bool on) {
        session_.edit(on ? "Keep the largest piece" : "Keep smaller pieces",
                      [on](Project& p) { p.variants[p.open].recipe.largestPieceOnly = on; });
    });
    connect(island_, &QuantityEdit::valueEntered, this, [this](double v) {
        session_.edit("Smallest piece", [v](Project& p) { p.variants[p.open].recipe.smallestIsland = v; });
    });
    for (auto* q : {mass_, threshold_, share_, island_})
        connect(q, &QuantityEdit::errorChanged, this, [this](const QString& e) { showError(error_, e); });
    connect(field_, &QComboBox::activated, this, &FieldCard::chooseField);
    connect(weights_, &QLineEdit::editingFinished, this, [this] {
        if (!weights_->isModified()) return;
        std::vector<double> w;
        bool good = true;
        for (const QString& part : weights_->text().split(',')) {
            bool isNumber = false;
            w.push_back(part.trimmed().toDouble(&isNumber));
            good &= isNumber && w.back() >= 0;
        }
        const std::size_t wanted = session_.project().part.fields.size();
        if (!good || w.size() != wanted) {
            showError(error_, QString("Type %1 weights of zero or more, with commas between them.").arg(wanted));
            return;
        }
        weights_->setModified(false);
        session_.edit("Weights", [w](Project& p) { p.variants[p.open].recipe.field.weights = w; });
    });
    connect(compare_, &QComboBox::activated, this, [this](int i) {
        emit compareAsked(compare_->itemData(i).toInt());
        refresh();
    });
    connect(addField_, &QPushButton::clicked, this, &FieldCard::addFieldAsked);
    connect(build_, &QPushButton::clicked, this, [this] { session_.run(Stage::surface); });
}

void FieldCard::chooseField(int index) {
    const auto fields = static_cast<int>(session_.project().part.fields.size());
    FieldChoice c = session_.recipe().field;
    const int how = field_->itemData(index).toInt();
    if (how == static_cast<int>(FieldChoice::How::one)) {
        c.how = FieldChoice::How::one;
        c.which = index;
        c.weights.clear();
    } else {
        c.how = static_cast<FieldChoice::How>(how);
        if (fieldSources().at(static_cast<std::size_t>(how)).hasWeights && static_cast<int>(c.weights.size()) != fields)
            c.weights.assign(static_cast<std::size_t>(fields), 1.0 / fields);
    }
    session_.edit("Field", [c](Project& p) { p.variants[p.open].recipe.field = c; });
}

QString FieldCard::state(QColor& colour) const {
    if (!session_.isOptimising()) return Card::state(colour);
    colour = theme::ochre;
    return "being optimised";
}

QString FieldCard::summary() const {
    const auto f = session_.project().field();
    if (!f && session_.recipe().field.how == FieldChoice::How::made)
        return session_.isOptimising() ? "being optimised" : "not made yet: optimise";
    if (!f) return session_.isBusy() ? "reading" : "not read";
    const double t = session_.recipe().threshold;
    return QString("threshold %1 · keeps %2 % · %3")
        .arg(num(t), num(100 * f->keptVolume->volume(t) / f->designVolume),
             mass(f->keptVolume->volume(t) * session_.part().material.density));
}

void FieldCard::refreshChoices() {
    const Project& project = session_.project();
    const Recipe& recipe = session_.recipe();
    {
        const QSignalBlocker block(field_);
        field_->clear();
        using How = FieldChoice::How;
        for (const NamedField& f : project.part.fields)
            field_->addItem(QString::fromStdString(f.name), static_cast<int>(How::one));
        for (const FieldSourceKind& source : fieldSources())
            if (source.words && (!source.isCombined || project.part.fields.size() > 1))
                field_->addItem(source.words, static_cast<int>(source.how));
        field_->setCurrentIndex(recipe.field.how == How::one ? recipe.field.which
                                                             : field_->findData(static_cast<int>(recipe.field.how)));
        making_->setVisible(recipe.field.how == How::made);
        making_->refresh();
        weightsRow_->setVisible(fieldSources().at(static_cast<std::size_t>(recipe.field.how)).hasWeights);
        QStringList w;
        for (double x : recipe.field.weights) w << num(x);
        if (!weights_->hasFocus()) weights_->setText(w.join(", "));
    }
    const int chosen = compare_->currentData().isValid() ? compare_->currentData().toInt() : -1;
    {
        const QSignalBlocker block(compare_);
        compare_->clear();
        compare_->addItem("nothing", -1);
        for (std::size_t v = 0; v < project.variants.size(); ++v)
            if (v != project.open)
                compare_->addItem("variant " + QString::fromStdString(project.variants[v].name), static_cast<int>(v));
        compare_->setCurrentIndex(std::max(0, compare_->findData(chosen)));
        compareRow_->setVisible(project.variants.size() > 1);
    }
}

void FieldCard::showFigures(const FieldResult& f) {
    try {
        const ThresholdFigures k = thresholdFigures(session_.project().part, f, session_.recipe());
        mass_->setValue(std::round(1e5 * k.mass) / 1e5);
        share_->setValue(std::round(1e4 * k.share) / 100);
        figures_->setText(figures(
            {{"Mass kept", mass(k.mass)},
             {"Share of the design space", num(100 * k.share) + " %"},
             {"Grey share (density below 0.9)", num(100 * k.grey) + " %"},
             {"Pieces", k.pieces == 1 ? QString("one")
                                      : QString("%1, of which %2 %3 kept")
                                            .arg(k.pieces)
                                            .arg(k.keptPieces)
                                            .arg(k.keptPieces == 1 ? "is" : "are")},
             {"Cells", QString("%1 × %2 × %3").arg(f.field.cells[0]).arg(f.field.cells[1]).arg(f.field.cells[2])}}));
        QStringList marks;
        for (const auto& n : k.connected) marks << theme::coloured("✓ " + QString::fromStdString(n), theme::teal);
        for (const auto& n : k.cutOff)
            marks << theme::coloured("✕ " + QString::fromStdString(n) + " cut off", theme::clay);
        interfaces_->setText(marks.isEmpty() ? "<span style='color:" + theme::muted.name() +
                                                   "'>The part has no interface yet.</span>"
                                             : "<span style='color:" + theme::muted.name() +
                                                   "'>Interfaces connected</span><br/>" + marks.join(" &nbsp; "));
        showError(error_, k.cutOff.empty()
                              ? QString()
                              : "A check is refused while an interface is cut off: lower the threshold to " +
                                    num(f.largestConnectingThreshold) + " or less.");
    } catch (const InputError&) {
        figures_->setText({});
        interfaces_->setText({});
        showError(error_, "This threshold keeps nothing: lower it.");
        build_->setEnabled(false);
    }
}

void FieldCard::showComparison() {
    const int other = compare_->currentData().toInt();
    comparison_->setVisible(other >= 0);
    if (other < 0) return;
    try {
        const field::Comparison c = report::compareFields(
            session_.project(), session_.recipe(), session_.project().variants[static_cast<std::size_t>(other)].recipe);
        comparison_->setText(figures({{"Overlap", num(100 * c.overlap()) + " %"},
                                      {"In both", num(c.both / 1000) + " cm³"},
                                      {"Only in this variant", num(c.onlyFirst / 1000) + " cm³"},
                                      {"Only in the other", num(c.onlySecond / 1000) + " cm³"}}));
    } catch (const InputError&) {
        comparison_->setText("Open the other variant once to read its field.");
    }
}

void FieldCard::refreshBody() {
    const Project& project = session_.project();
    const Recipe& recipe = session_.recipe();
    refreshChoices();
    const auto f = project.field();
    build_->setEnabled(!session_.isAskedFor(Stage::surface) && f);
    addField_->setEnabled(!session_.isBusy());
    control_->setEnabled(f != nullptr);
    const bool toBeMade = !f && recipe.field.how == FieldChoice::How::made;
    for (QWidget* w : std::initializer_list<QWidget*>{control_, thresholdRow_, massRow_, shareRow_, largest_,
                                                      islandRow_, interfaces_, compareRow_, comparison_})
        w->setVisible(!toBeMade);
    if (!f) {
        figures_->setText(toBeMade ? "<span style='color:" + theme::muted.name() +
                                         "'>Threshold and mass are set when the field is made.</span>"
                                   : "<span style='color:" + theme::muted.name() + "'>The field is being read.</span>");
        showError(error_, {});
        return;
    }
    compareRow_->setVisible(project.variants.size() > 1);
    const double t = recipe.threshold;
    constexpr int bins = 40;
    std::vector<double> kept;
    for (int b = 0; b < bins; ++b)
        kept.push_back(f->keptVolume->volume(static_cast<double>(b) / bins) /
                       (static_cast<double>(f->field.count()) * f->field.cellVolume()));
    control_->setData(f->keptVolume->histogram(bins), kept, f->largestConnectingThreshold);
    control_->setVolumeFraction(  // of the optimiser that a file came from
        project.part.volumeFraction && recipe.field.how != FieldChoice::How::made
            ? thresholdForVolume(*f, *project.part.volumeFraction * f->designVolume)
            : -1);
    control_->setValue(t);
    threshold_->setValue(t);
    largest_->setChecked(recipe.largestPieceOnly);
    islandRow_->setVisible(!recipe.largestPieceOnly);
    island_->setValue(recipe.smallestIsland);
    showFigures(*f);
    showComparison();
}

}  // namespace escultura::app
