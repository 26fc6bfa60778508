#include <cmath>
#include <limits>

#include "dossier/card_parts.hpp"
#include "dossier/cards.hpp"
#include "judge/factor.hpp"
#include "project/run.hpp"
#include "report/part_scene.hpp"
#include "stages/forecast.hpp"
#include "stages/ready.hpp"
#include "theme/theme.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace judge;

namespace {
constexpr double none = std::numeric_limits<double>::quiet_NaN();
}

CheckCard::CheckCard(Session& session) : Card(session, Stage::check) {
    makeResults();
    makeInputs();
    layOut();
    connectInputs();
    connectResults();
}

void CheckCard::makeInputs() {
    checked_ = new QComboBox;
    checked_->setObjectName("checkedBody");
    checked_->addItems({"the variant's surface", "the original design", "the rebuilt solid"});
    checked_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Fixed);
    level_ = new QComboBox;
    level_->setObjectName("level");
    level_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Fixed);
    level_->addItem("Look: coarse, in seconds");
    level_->addItem("Standard: the chosen elements");
    level_->addItem("Converged: refined until stable");
    size_ = new QuantityEdit(dimension::length, "mm", 0.2, 200);
    size_->setObjectName("elementSize");
    through_ = new QComboBox;
    through_->setObjectName("elementsThrough");
    through_->addItem("as the size gives", 0);
    through_->addItem("at least 2", 2);
    through_->addItem("at least 3", 3);
    around_ = new QComboBox;
    around_->setObjectName("aroundCircle");
    around_->setToolTip("Elements around a full circle of the surface's curvature");
    around_->addItem("as the size gives", 0);
    for (const int n : {8, 12, 16, 24}) around_->addItem(QString("at least %1").arg(n), n);
    share_ = new QuantityEdit(dimension::none, "%", 0.001, 0.5);
    share_->setObjectName("convergenceShare");
    expected_ = label("", "muted");
    expected_->setObjectName("expected");
    error_ = errorLabel();
    place_ = new QComboBox;
    place_->setObjectName("localPlace");
    place_->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
    place_->setMinimumContentsLength(5);
    place_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Fixed);
    localSize_ = new QuantityEdit(dimension::length, "mm", 0.1, 200);
    localSize_->setObjectName("localSize");
    addLocal_ = new QPushButton("Add");
    theme::fix(addLocal_, theme::Length::width, 52);
    addLocal_->setStyleSheet("padding: 5px 4px;");
    addLocal_->setObjectName("addLocalSize");
    local_ = label("");
    local_->setObjectName("localSizes");
    ready_ = label("");
    ready_->setObjectName("checkReady");
    expertFold_ = new QPushButton("▸ Expert");
    expertFold_->setObjectName("expertFold");
    expertFold_->setCheckable(true);
    expertFold_->setFlat(true);
    expertFold_->setStyleSheet("text-align:left; padding-left:0; border:0;");
    method_ = new QComboBox;
    method_->setObjectName("solver");
    method_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Fixed);
    for (const auto& m : elastic::methodKinds) method_->addItem(m.words);
    tolerance_ = new QuantityEdit(dimension::none, "", 1e-12, 1e-3);
    tolerance_->setObjectName("tolerance");
    expertFigures_ = label("", "muted");
    expert_ = new QWidget;
    auto* inside = new QVBoxLayout(expert_);
    inside->setContentsMargins(0, 0, 0, 0);
    inside->addWidget(field("Solver", method_));
    inside->addWidget(field("Residual", tolerance_));
    inside->addWidget(label("Elements: tetrahedra with ten nodes, quadratic displacement.", "muted"));
    inside->addWidget(expertFigures_);
    inside->addWidget(residual_);
    expert_->hide();
}

void CheckCard::layOut() {
    body()->addWidget(field("Body", checked_));
    body()->addWidget(field("Level", level_));
    body()->addWidget(field("Element size", size_));
    body()->addWidget(field("Through members", through_));
    body()->addWidget(field("Around a circle", around_));
    shareRow_ = field("Change at most", share_);
    body()->addWidget(shareRow_);
    body()->addWidget(expected_);
    body()->addWidget(field("Finer at", place_));
    body()->addWidget(field("with elements of", row({localSize_, addLocal_})));
    body()->addWidget(local_);
    body()->addWidget(heading("Further analyses"));
    body()->addWidget(analyses_);
    body()->addWidget(error_);
    body()->addWidget(ready_);
    cases_->horizontalHeaderItem(1)->setToolTip("Smallest safety factor");
    cases_->horizontalHeaderItem(2)->setToolTip("Largest von Mises stress");
    cases_->horizontalHeaderItem(3)->setToolTip("Largest displacement");
    cases_->horizontalHeaderItem(4)->setToolTip(
        "Whether the applied resultant is the load as stated, and load and reactions are in equilibrium");
    body()->addWidget(cases_);
    body()->addWidget(last_);
    body()->addWidget(convergence_);
    body()->addWidget(angles_);
    body()->addWidget(quality_);
    body()->addWidget(row({mesh_, reactions_}));
    body()->addWidget(expertFold_);
    body()->addWidget(expert_);
    run_ = addAction("Run check", "runCheck");
}

void CheckCard::connectInputs() {
    connect(size_, &QuantityEdit::valueEntered, this, [this](double v) {
        session_.edit("Element size", [v](Project& p) { p.variants[p.open].recipe.elementSize = v; });
    });
    for (auto* e : {size_, share_, localSize_, tolerance_})
        connect(e, &QuantityEdit::errorChanged, this, [this](const QString& t) { showError(error_, t); });
    connect(analyses_, &AnalysisRows::errorChanged, this, [this](const QString& t) { showError(error_, t); });
    connect(analyses_, &AnalysisRows::shapeAsked, this, &CheckCard::shapeAsked);
    connect(level_, &QComboBox::activated, this,
            [this](int i) { edit("Level of the check", [i](CheckChoice& c) { c.level = static_cast<Level>(i); }); });
    connect(checked_, &QComboBox::activated, this, [this](int i) {
        edit("Checked body", [i](CheckChoice& c) {
            c.original = i == 1;
            c.rebuilt = i == 2;
        });
    });
    connect(through_, &QComboBox::activated, this, [this](int i) {
        const int n = through_->itemData(i).toInt();
        edit("Elements through members", [n](CheckChoice& c) { c.elementsThrough = n; });
    });
    connect(around_, &QComboBox::activated, this, [this](int i) {
        const int n = around_->itemData(i).toInt();
        edit("Elements around a circle", [n](CheckChoice& c) { c.aroundCircle = n; });
    });
    connect(share_, &QuantityEdit::valueEntered, this,
            [this](double v) { edit("Convergence", [v](CheckChoice& c) { c.convergence = v; }); });
    connect(method_, &QComboBox::activated, this,
            [this](int i) { edit("Solver", [i](CheckChoice& c) { c.method = static_cast<elastic::Method>(i); }); });
    connect(tolerance_, &QuantityEdit::valueEntered, this,
            [this](double v) { edit("Residual", [v](CheckChoice& c) { c.tolerance = v; }); });
    connect(addLocal_, &QPushButton::clicked, this, [this] {
        const QVariantList d = place_->currentData().toList();
        if (d.isEmpty()) return;
        LocalSize s;
        s.size = localSize_->value();
        s.name = place_->currentText().toStdString();
        if (d[0].toInt() == 0) {
            s.kind = LocalSize::Kind::interface;
            s.interface = d[1].toString().toStdString();
            s.radius = 1.5 * session_.recipe().elementSize;
        } else {
            s.kind = LocalSize::Kind::sphere;
            s.centre = Vec3(d[1].toDouble(), d[2].toDouble(), d[3].toDouble());
            s.radius = 3 * session_.recipe().elementSize;
        }
        addLocalSize(s);
    });
    connect(local_, &QLabel::linkActivated, this, [this](const QString& key) {
        const auto at = static_cast<std::size_t>(key.toInt());
        edit("Remove local size", [at](CheckChoice& c) {
            if (at < c.localSizes.size()) c.localSizes.erase(c.localSizes.begin() + static_cast<std::ptrdiff_t>(at));
        });
    });
    connect(expertFold_, &QPushButton::toggled, this, [this](bool on) {
        expertFold_->setText(on ? "▾ Expert" : "▸ Expert");
        expert_->setVisible(on);
    });
    connect(mesh_, &QPushButton::clicked, this, [this] { emit showAsked(static_cast<int>(report::Show::mesh)); });
    connect(reactions_, &QPushButton::clicked, this, [this] { emit tableAsked(Table::reactions); });
    connect(run_, &QPushButton::clicked, this, [this] { session_.run(Stage::findings); });
}

void CheckCard::connectResults() {
    connect(cases_, &QTableWidget::currentCellChanged, this, [this](int r) {
        if (r >= 0) emit loadCaseChosen(r);
    });
    connect(&session_, &Session::busyChanged, this, [this](bool busy) {
        if (busy) residual_->clear(), convergence_->clear();
    });
    connect(&session_, &Session::recorded, this, [this](const QString& curve, double x, double y) {
        if (!session_.isBusyHere() || (curve != "residual" && curve != "safety factor")) return;
        Chart* chart = curve == "residual" ? residual_ : convergence_;
        if (curve == "residual" && x == 0) chart->clear();
        if (chart->isEmpty())
            chart->setCurve({}, curve == "residual", curve == "residual" ? session_.recipe().check.tolerance : none,
                            curve == "residual" ? "iterations" : "unknowns");
        chart->addPoint({x, y});
        chart->show();
    });
}

void CheckCard::makeResults() {
    residual_ = new Chart("Residual over iterations");
    residual_->setObjectName("residualChart");
    convergence_ = new Chart("Safety factor over unknowns");
    convergence_->setObjectName("convergenceChart");
    cases_ = table({"Case", "SF", "Peak, MPa", "Displ., mm", "Load"});
    cases_->setObjectName("checkCases");
    last_ = label("", "muted");
    analyses_ = new AnalysisRows(session_);
    quality_ = label("", "muted");
    quality_->setObjectName("quality");
    angles_ = new Chart("Smallest dihedral angle of the elements");
    mesh_ = new QPushButton("Show mesh");
    mesh_->setObjectName("showMesh");
    reactions_ = new QPushButton("Reactions…");
    reactions_->setObjectName("showReactions");
}

void CheckCard::edit(const QString& text, const std::function<void(CheckChoice&)>& change) {
    session_.edit(text, [change](Project& p) { change(p.variants[p.open].recipe.check); });
}

void CheckCard::addLocalSize(LocalSize size) {
    edit("Local element size", [size](CheckChoice& c) { c.localSizes.push_back(size); });
}

QString CheckCard::summary() const {
    const LastKnown k = session_.lastKnown();
    if (!k.check) return "not run yet";
    return QString("safety factor %1 · %2")
        .arg(text(factorWords(factorOf(session_.project(), session_.variant(), *k.check))),
             QString::fromStdString(k.check->governingCase));
}

void CheckCard::fillPlaces() {
    const QString current = place_->currentText();
    place_->clear();
    for (const Interface& i : session_.part().interfaces)
        place_->addItem(QString::fromStdString(i.name), QVariantList{0, QString::fromStdString(i.name)});
    const LastKnown k = session_.lastKnown();
    auto sphere = [&](const QString& words, const Vec3& p) {
        place_->addItem(words, QVariantList{1, p[0], p[1], p[2]});
    };
    if (k.findings)
        for (const Finding& f : k.findings->findings) sphere("finding " + QString::fromStdString(f.id), f.position);
    if (k.surface)
        for (std::size_t g = 0; g < k.surface->findings.size() && g < 8; ++g)
            sphere(QString("%1 %2").arg(name(k.surface->findings[g].kind)).arg(g + 1), k.surface->findings[g].position);
    place_->setCurrentIndex(std::max(0, place_->findText(current)));
}

void CheckCard::refreshExpected() {
    const Recipe& r = session_.recipe();
    const CheckChoice& c = r.check;
    const Project& p = session_.project();
    const auto f = p.field();
    const LastKnown k = session_.lastKnown();
    if (c.original) {
        expected_->setText("the size of the original's mesh is known once it is made");
    } else if (f) {
        try {
            const RunForecast m = forecastRun(session_.part(), r, *f, k.surface.get());
            QString words = QString::fromStdString(checkWords(m));
            if (!k.surface) words += "; known better once the surface is built";
            if (m.thinWalls > 0.005)
                words += QString("; %1 % of the walls are thinner than an element").arg(num(100 * m.thinWalls, 2));
            expected_->setText(words);
        } catch (const std::exception& e) {
            expected_->setText(e.what());
        }
    } else {
        expected_->setText("known once there is a field");
    }
    QStringList missing;
    for (const ReadyNote& n : readyNotes(session_.part(), r, f.get(), nullptr))
        if (n.severity == ReadyNote::Severity::blocker)
            missing << QString("<b style='color:" + theme::clay.name() +
                               "'>✕ missing:</b> %1 <span style='color:" + theme::muted.name() + "'>%2</span>")
                           .arg(QString::fromStdString(n.text).toHtmlEscaped(),
                                QString::fromStdString(n.fix).toHtmlEscaped());
    ready_->setText(missing.join("<br/>"));
    ready_->setVisible(!missing.isEmpty());
}

void CheckCard::refreshCases(const CheckResult& check) {
    QList<QStringList> rows;
    for (const CaseResult& x : check.cases) {
        const bool asStated = x.equilibriumError <= 1e-6 && x.appliedAsMeant;
        const Factor factor = factorOf(session_.project(), session_.variant(), check, x.name);
        rows << QStringList{QString::fromStdString(x.name),
                            num(factor.value) + (factor.proves()   ? ""
                                                 : factor.resolved ? " ◔"
                                                                   : " ◔ low"),
                            num(x.maxVonMises), num(x.maxDisplacement), asStated ? "yes" : "no"};
    }
    {
        const QSignalBlocker block(cases_);
        const int current = cases_->currentRow();
        fill(cases_, rows);
        fitHeight(cases_);
        if (current >= 0) cases_->setCurrentCell(current, 0);
    }
}

/// What the figures rest on, and what the run was.
QString CheckCard::restWords(const CheckResult& check) const {
    const Factor factor = factorOf(session_.project(), session_.variant(), check);
    QString rests = factor.basis == Factor::Basis::tested      ? QString("safety factor tested")
                    : factor.basis == Factor::Basis::converged ? QString("safety factor converged")
                    : factor.basis == Factor::Basis::look      ? QString("level look: proves nothing")
                    : session_.isTesting()
                        ? QString("◔ %1 hotspots that could govern are being tested").arg(factor.toTest.size())
                        : QString("◔ %1 hotspots could govern and are not tested").arg(factor.toTest.size());
    for (const std::string& gap : meshGaps(session_.project(), session_.recipe())) rests += "<br/>" + text(gap);
    double seconds = 0;
    for (const auto& t : session_.timings())
        if (t.stage == "Check") seconds = t.seconds;
    double error = 0;
    for (const CaseResult& x : check.cases) error = std::max(error, x.energyError);
    return rests + "<br/>" +
           QString("%1%2 unknowns, level %3, energy error %4 %")
               .arg(seconds > 0 ? "last run " + num(seconds) + " s, " : QString())
               .arg(check.unknowns)
               .arg(name(check.level))
               .arg(num(100 * error));
}

void CheckCard::refreshCurves(const CheckResult& check) {
    if (!check.passes.empty() && !session_.isBusyHere()) {
        std::vector<QPointF> points;
        for (const auto& pass : check.passes)
            points.emplace_back(static_cast<double>(pass.unknowns),
                                *std::min_element(pass.minSafetyFactor.begin(), pass.minSafetyFactor.end()));
        convergence_->setCurve(points, false, none, "unknowns");
        last_->setText(last_->text() + QString("; %1: last change %2 %")
                                           .arg(check.converged ? "converged" : "not converged",
                                                num(100 * check.passes.back().change)));
    }
    if (!session_.isBusyHere() && !check.residual.empty()) {
        std::vector<QPointF> points;
        double x = 0;
        for (const auto& row : check.residual) {
            double worst = 0;
            for (float v : row) worst = std::max<double>(worst, v);
            if (worst >= 1 && !points.empty()) points.clear(), x = 0;  // a later group of cases
            points.emplace_back(x++, worst);
        }
        residual_->setCurve(points, true, session_.recipe().check.tolerance, "iterations");
    }
    residual_->setVisible(!residual_->isEmpty());
}

void CheckCard::refreshBody() {
    const Recipe& r = session_.recipe();
    const CheckChoice& c = r.check;
    size_->setValue(r.elementSize);
    checked_->setCurrentIndex(c.original ? 1 : c.rebuilt ? 2 : 0);
    level_->setCurrentIndex(static_cast<int>(c.level));
    through_->setCurrentIndex(std::max(0, through_->findData(c.elementsThrough)));
    around_->setCurrentIndex(std::max(0, around_->findData(c.aroundCircle)));
    share_->setValue(c.convergence);
    shareRow_->setVisible(c.level == Level::converged);
    method_->setCurrentIndex(static_cast<int>(c.method));
    tolerance_->setValue(c.tolerance);
    if (!localSize_->hasFocus()) localSize_->setValue(std::round(5 * r.elementSize) / 10);
    fillPlaces();
    QStringList finer;
    for (std::size_t k = 0; k < c.localSizes.size(); ++k)
        finer << QString("%1 mm at %2 %3")
                     .arg(num(c.localSizes[k].size), QString::fromStdString(c.localSizes[k].name).toHtmlEscaped(),
                          link(QString::number(k), "remove"));
    local_->setText(finer.join("<br/>"));
    local_->setVisible(!finer.isEmpty());
    run_->setEnabled(!session_.isAskedFor(Stage::findings));

    refreshExpected();
    analyses_->refresh();
    const LastKnown k = session_.lastKnown();
    const bool known = k.check != nullptr;
    for (QWidget* w : {static_cast<QWidget*>(cases_), static_cast<QWidget*>(last_), static_cast<QWidget*>(quality_),
                       static_cast<QWidget*>(angles_), static_cast<QWidget*>(mesh_), static_cast<QWidget*>(reactions_)})
        w->setVisible(known);
    convergence_->setVisible((known && !k.check->passes.empty()) ||
                             (session_.isBusyHere() && !convergence_->isEmpty()));
    if (!known) return;
    refreshCases(*k.check);
    const CheckResult& check = *k.check;
    last_->setText(restWords(check));
    refreshCurves(check);
    expertFigures_->setText(QString("%1; %2 GB, set-up %3 s, solution %4 s")
                                .arg(QString::fromStdString(check.solver), num(check.solverMemory / 1e9, 2),
                                     num(check.setupSeconds), num(check.solveSeconds)));
    const mesh::QualityLimits limits;
    std::vector<double> bars(check.quality.dihedralHistogram.begin(), check.quality.dihedralHistogram.end());
    bars.resize(14);  // beyond 70 degrees there is none
    angles_->setBars(bars, 0, 5, limits.warnDihedral, none, "°");
    quality_->setText(
        QString("%1 elements, angles from %2°, scaled Jacobian from %3, aspect ratio to %4; %5 poor, %6 bad")
            .arg(check.mesh.tet.size())
            .arg(num(check.quality.minDihedral), num(check.quality.minScaledJacobian),
                 num(check.quality.maxAspectRatio))
            .arg(check.quality.warned)
            .arg(check.quality.failed));
}

}  // namespace escultura::app
