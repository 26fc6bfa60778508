#include "dossier/making_panel.hpp"

#include <cmath>

#include "base/error.hpp"
#include "duty/part_edit.hpp"
#include "theme/theme.hpp"

namespace escultura::app {

using duty::MakingRule;
using duty::Optimisation;

namespace {

constexpr double none = std::numeric_limits<double>::quiet_NaN();

}  // namespace

MakingPanel::MakingPanel(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    makeInputs();
    layOut();
    connectInputs();
}

void MakingPanel::makeInputs() {
    setObjectName("makingPanel");
    aim_ = new QComboBox;
    aim_->setObjectName("makingAim");
    aim_->addItems({"stiffest with a given mass", "lightest within limits"});
    share_ = new QuantityEdit(dimension::none, "", 0.1, 99.9);
    share_->setObjectName("makingShare");
    mass_ = new QuantityEdit(dimension::mass, "kg", 0, 1e6);
    mass_->setObjectName("makingMass");
    mass_->setAutomatic("by the share");
    cases_ = new QComboBox;
    cases_->setObjectName("makingCases");
    cases_->addItems({"all cases together", "the worst case"});
    factor_ = new QuantityEdit(dimension::none, "", 0, 1000);
    factor_->setObjectName("makingFactor");
    factor_->setAutomatic("no limit");
    factor_->setToolTip("Least safety factor in every case, by the stresses of the grid: the check tells more exactly");
    compliance_ = new QuantityEdit(dimension::none, "", 0, 1e6);
    compliance_->setObjectName("makingCompliance");
    compliance_->setAutomatic("no limit");
    compliance_->setToolTip("Largest compliance of every case, as a multiple of the full design space's");
    cell_ = new QuantityEdit(dimension::length, "mm", 0, 1e5);
    cell_->setObjectName("makingCell");
    cell_->setAutomatic("automatic");
    radius_ = new QuantityEdit(dimension::length, "mm", 0, 1e5);
    radius_->setObjectName("makingRadius");
    radius_->setAutomatic("automatic");
    radius_->setToolTip("Densities are averaged over this radius: members end up about as thick as it");
    symmetric_ = new QCheckBox("Symmetric about the part's planes");
    symmetric_->setObjectName("makingSymmetric");
    rule_ = new QComboBox;
    rule_->setObjectName("makingRule");
    rule_->addItems({"no rule of making", "printed: no overhang beyond 45°", "cast or forged: no undercut"});
    direction_ = new DirectionEdit;
    direction_->setObjectName("makingDirection");
    steps_ = new QuantityEdit(dimension::none, "", 5, 1000);
    steps_->setObjectName("makingSteps");
    forecast_ = label("", "muted");
    forecast_->setObjectName("makingForecast");
    optimise_ = new QPushButton("Optimise");
    optimise_->setObjectName("optimise");
    keep_ = new QPushButton("Stop and keep");
    keep_->setObjectName("stopAndKeep");
    keep_->setToolTip("Ends the optimisation after this step and keeps the field as it is; Cancel drops it");
    state_ = label("");
    state_->setObjectName("makingState");
    error_ = errorLabel();
    curve_ = new Chart("Objective over steps");
    curve_->setObjectName("makingCurve");
}

void MakingPanel::layOut() {
    auto* l = new QVBoxLayout(this);
    l->setContentsMargins(0, 0, 0, 4);
    l->setSpacing(6);
    shareRow_ = field("Share of the design space, %", share_);
    massRow_ = field("or mass", mass_);
    casesRow_ = field("What counts", cases_);
    factorRow_ = field("Safety factor at least", factor_);
    complianceRow_ = field("Compliance at most, times the full", compliance_);
    auto column = [](std::initializer_list<QWidget*> widgets) {
        auto* w = new QWidget;
        auto* c = new QVBoxLayout(w);
        c->setContentsMargins(0, 0, 0, 0);
        c->setSpacing(6);
        for (QWidget* x : widgets) c->addWidget(x);
        return w;
    };
    showMore_ = new QPushButton("Cells and rules");
    showMore_->setObjectName("makingMore");
    showMore_->setCheckable(true);
    more_ = column({field("Cell size", cell_), field("Filter radius", radius_), symmetric_, row({rule_, direction_}),
                    field("Steps at most", steps_)});
    more_->hide();
    settings_ = column({field("Aim", aim_), shareRow_, massRow_, casesRow_, factorRow_, complianceRow_, more_});
    for (QWidget* w : std::initializer_list<QWidget*>{settings_, error_, forecast_, row({optimise_, keep_, showMore_}),
                                                      state_, curve_})
        l->addWidget(w);
    connect(showMore_, &QPushButton::toggled, this, [this](bool on) {
        more_->setVisible(on);
        refresh();
    });
}

void MakingPanel::connectInputs() {
    connect(aim_, &QComboBox::activated, this, [this](int i) {
        edit("Aim of the optimisation", [i](Optimisation& o) {
            o.aim = static_cast<Optimisation::Aim>(i);
            if (o.aim == Optimisation::Aim::lightest && !(o.safetyFactor > 0)) o.safetyFactor = 2;
        });
    });
    connect(share_, &QuantityEdit::valueEntered, this,
            [this](double v) { edit("Share to keep", [v](Optimisation& o) { o.share = 0.01 * v, o.mass = 0; }); });
    connect(mass_, &QuantityEdit::valueEntered, this,
            [this](double v) { edit("Mass to keep", [v](Optimisation& o) { o.mass = v; }); });
    connect(cases_, &QComboBox::activated, this,
            [this](int i) { edit("What counts", [i](Optimisation& o) { o.worstCase = i == 1; }); });
    connect(factor_, &QuantityEdit::valueEntered, this,
            [this](double v) { edit("Safety factor to keep", [v](Optimisation& o) { o.safetyFactor = v; }); });
    connect(compliance_, &QuantityEdit::valueEntered, this,
            [this](double v) { edit("Compliance to keep", [v](Optimisation& o) { o.compliance = v; }); });
    connect(cell_, &QuantityEdit::valueEntered, this,
            [this](double v) { edit("Cell size", [v](Optimisation& o) { o.cellSize = v; }); });
    connect(radius_, &QuantityEdit::valueEntered, this,
            [this](double v) { edit("Filter radius", [v](Optimisation& o) { o.filterRadius = v; }); });
    connect(steps_, &QuantityEdit::valueEntered, this, [this](double v) {
        edit("Steps at most", [v](Optimisation& o) { o.steps = static_cast<int>(std::round(v)); });
    });
    connect(symmetric_, &QCheckBox::clicked, this,
            [this](bool on) { edit("Symmetry", [on](Optimisation& o) { o.symmetric = on; }); });
    connect(rule_, &QComboBox::activated, this, &MakingPanel::readRule);
    connect(direction_, &DirectionEdit::valueEntered, this, [this](const Vec3& d) {
        edit("Direction of making", [d](Optimisation& o) {
            for (MakingRule& r : o.rules) r.direction = d;
        });
    });
    for (auto* q : {share_, mass_, factor_, compliance_, cell_, radius_, steps_})
        connect(q, &QuantityEdit::errorChanged, this, [this](const QString& e) { showError(error_, e); });
    connect(optimise_, &QPushButton::clicked, this, [this] { session_.optimise(); });
    connect(keep_, &QPushButton::clicked, this, [this] {
        session_.stopAndKeep();
        keep_->setEnabled(false);
    });
    connect(&session_, &Session::recorded, this, [this](const QString& curve, double x, double y) {
        if (curve != "objective" || !session_.isBusyHere()) return;
        if (x <= 1) curve_->setCurve({}, true, none, "steps");
        curve_->addPoint({x, y});
        curve_->setVisible(true);
    });
    connect(&session_, &Session::busyChanged, this, [this](bool, const QString&) { refresh(); });
}

void MakingPanel::edit(const QString& text, const std::function<void(Optimisation&)>& change) {
    try {
        Optimisation o = session_.project().part.optimisation;
        change(o);
        if (o == session_.project().part.optimisation) return;
        session_.editPart(text, [&](const std::string&) { return withOptimisation(session_.project().part, o); });
        showError(error_, {});
    } catch (const InputError& e) {
        showError(error_,
                  QString::fromStdString(e.detail().expected.empty() ? std::string(e.what())
                                                                     : "Expected " + e.detail().expected + "; found " +
                                                                           e.detail().found + "."));
        refresh();
    }
}

void MakingPanel::readRule() {
    edit("Rule of making", [this](Optimisation& o) {
        const Vec3 d = o.rules.empty() ? Vec3(Vec3::UnitZ()) : o.rules.front().direction;
        o.rules.clear();
        if (rule_->currentIndex() > 0) o.rules.push_back({static_cast<MakingRule::Kind>(rule_->currentIndex() - 1), d});
    });
}

QString MakingPanel::forecast() const {
    const duty::Part& part = session_.part();
    const auto field = session_.project().field();
    const auto original = session_.project().original(session_.recipe());
    Box3 box = part.designSpace;
    if (!(box.low.array() < box.high.array()).all()) {
        if (field && session_.recipe().field.how != duty::FieldChoice::How::made) {
            box = field->regions.designSpace;
        } else if (original && part.designBody && part.original && part.designBody->path == part.original->path) {
            box = {};
            for (const Vec3& p : original->position) box.include(p);
        } else {
            return "The grid's size is known once the design space has been read.";
        }
    }
    try {
        const stages::GridPlan plan = stages::planGrid(part, box);
        const QLocale locale(QLocale::English);
        const double minutes = plan.seconds / 60;
        return QString("%1 × %2 × %3 cells of %4 mm, %5 unknowns, %6, about %7 MB and %8")
            .arg(plan.grid.cells[0])
            .arg(plan.grid.cells[1])
            .arg(plan.grid.cells[2])
            .arg(num(plan.grid.spacing[0]), locale.toString(static_cast<qulonglong>(plan.unknowns)),
                 plan.cases == 1 ? QString("one case") : QString("%1 cases").arg(plan.cases), num(plan.memory / 1e6, 2),
                 minutes < 1 ? "less than a minute" : num(minutes, 2) + " min");
    } catch (const InputError& e) {
        return QString::fromStdString(e.detail().expected.empty() ? std::string(e.what())
                                                                  : "Too fine: expected " + e.detail().expected + ".");
    }
}

QString MakingPanel::outcome() const {
    const project::Project& p = session_.project();
    const auto made = p.made(session_.recipe());
    if (!made) return "<span style='color:" + theme::muted.name() + "'>Not made yet.</span>";
    QString words = QString("Made: %1, %2 steps, %3 s.")
                        .arg(QString::fromStdString(made->task).toHtmlEscaped())
                        .arg(made->steps.size())
                        .arg(num(made->seconds));
    if (!made->within) words += " " + theme::coloured("The limits are not met.", theme::clay);
    if (p.madeKey(session_.recipe()) != session_.recipe().field.made)
        words += " " + theme::coloured("◐ The duty has changed since: made for other loads, supports or rules.",
                                       theme::ochre);
    for (const std::string& n : made->notes)
        words += "<br/><span style='color:" + theme::muted.name() + "'>" + QString::fromStdString(n).toHtmlEscaped() +
                 "</span>";
    return words;
}

void MakingPanel::refresh() {
    if (!session_.hasProject()) return;
    const duty::Part& part = session_.project().part;
    const Optimisation& o = part.optimisation;
    const bool stiff = o.aim == Optimisation::Aim::stiffest, busy = session_.isBusy();
    aim_->setCurrentIndex(stiff ? 0 : 1);
    share_->setValue(std::round(1e5 * o.share) / 1e3);
    mass_->setValue(o.mass);
    cases_->setCurrentIndex(o.worstCase ? 1 : 0);
    factor_->setValue(o.safetyFactor);
    compliance_->setValue(o.compliance);
    cell_->setValue(o.cellSize);
    radius_->setValue(o.filterRadius);
    steps_->setValue(o.steps);
    for (QWidget* w : {shareRow_, massRow_, casesRow_}) w->setVisible(stiff);
    for (QWidget* w : {factorRow_, complianceRow_}) w->setVisible(!stiff);
    symmetric_->setVisible(!part.symmetry.empty());
    symmetric_->setChecked(o.symmetric);
    rule_->setCurrentIndex(o.rules.empty() ? 0 : 1 + static_cast<int>(o.rules.front().kind));
    direction_->setVisible(!o.rules.empty());
    if (!o.rules.empty()) direction_->setValue(o.rules.front().direction);
    forecast_->setText(forecast());
    for (QWidget* w : std::initializer_list<QWidget*>{aim_, share_, mass_, cases_, factor_, compliance_, cell_, radius_,
                                                      steps_, symmetric_, rule_, direction_})
        w->setEnabled(!session_.isOptimising());
    const bool fresh = session_.project().made(session_.recipe()) &&
                       session_.project().madeKey(session_.recipe()) == session_.recipe().field.made;
    optimise_->setEnabled(!busy && !fresh);
    optimise_->setToolTip(fresh ? "The field is as the duty and these numbers ask for" : "");
    optimise_->setProperty("primary", !fresh);
    optimise_->style()->unpolish(optimise_);
    optimise_->style()->polish(optimise_);
    keep_->setVisible(session_.isOptimising());
    if (!session_.isOptimising()) keep_->setEnabled(true);
    state_->setText(session_.isOptimising()
                        ? "Being optimised: " + QString::fromStdString(describe(o)).toHtmlEscaped() + "."
                        : outcome());
    if (!busy) {
        const auto made = session_.project().made(session_.recipe());
        std::vector<QPointF> points;
        if (made)
            for (const auto& s : made->steps) points.emplace_back(s.number, s.objective);
        curve_->setCurve(points, made && stiff, none, "steps");
        curve_->setVisible(!points.empty() && showMore_->isChecked());
    }
    settings_->setVisible(!session_.isOptimising());
    showMore_->setVisible(!session_.isOptimising());
    optimise_->setVisible(!session_.isOptimising());
    forecast_->setVisible(!fresh);
}

}  // namespace escultura::app
