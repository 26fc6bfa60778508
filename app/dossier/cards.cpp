#include "dossier/cards.hpp"

#include <QDate>
#include <QFormLayout>
#include <QHeaderView>
#include <cmath>

#include "dossier/card_parts.hpp"
#include "theme/theme.hpp"

namespace escultura::app {

using namespace project;

// ---- Duty
// ------------------------------------------------------------------------------------------------------------

DutyCard::DutyCard(Session& session) : Card(session, Stage::duty) {
    description_ = label("", "muted");
    material_ = label("");
    interfaces_ = table({"Interface", "Bore", "Ring", "Kind"});
    interfaces_->setObjectName("interfaces");
    cases_ = table({"Load case", "Total force, kN"});
    cases_->setObjectName("dutyCases");
    body()->addWidget(description_);
    body()->addWidget(material_);
    body()->addWidget(interfaces_);
    body()->addWidget(cases_);
    body()->addWidget(label("Duty is edited in the part file; reload it with Part, Reload part file.", "muted"));
    connect(cases_, &QTableWidget::currentCellChanged, this, [this](int r) {
        if (r >= 0) emit loadCaseChosen(r);
    });
}

QString DutyCard::summary() const {
    const Part& p = session_.project().part;
    return QString("%1 interfaces · %2 load cases · %3 requirements")
        .arg(p.interfaces.size())
        .arg(p.loadCases.size())
        .arg(p.requirements.size());
}

void DutyCard::refreshBody() {
    const Part& p = session_.project().part;
    description_->setText(QString::fromStdString(p.description));
    const auto& m = p.material;
    QList<QPair<QString, QString>> f{
        {"Material", QString::fromStdString(m.name)},        {"Young's modulus", plain(m.youngsModulus) + " MPa"},
        {"Poisson's ratio", plain(m.poissonsRatio)},         {"Density", num(m.density * 1e9, 4) + " kg/m³"},
        {"Yield strength", plain(m.yieldStrength) + " MPa"}, {"Source", QString::fromStdString(m.yieldSource)}};
    if (!p.optimisedWith.empty()) f.push_back({"Optimised with", QString::fromStdString(p.optimisedWith)});
    material_->setText(figures(f));
    QList<QStringList> rows;
    for (const Interface& i : p.interfaces)
        rows << QStringList{QString::fromStdString(i.name), i.boreDiameter > 0 ? plain(i.boreDiameter) + " mm" : "none",
                            i.ringDiameter > 0 ? plain(i.ringDiameter) + " mm" : "none",
                            i.kind == Interface::Kind::bore   ? "bore"
                            : i.kind == Interface::Kind::boss ? "boss"
                                                              : "pad"};
    fill(interfaces_, rows);
    fitHeight(interfaces_);
    rows.clear();
    for (const LoadCase& c : p.loadCases) {
        Vec3 sum = Vec3::Zero();
        for (const Load& l : c.loads)
            sum += l.force * (l.sharedTotal ? 1.0 : static_cast<double>(l.on.interfaces.size()));
        rows << QStringList{
            QString::fromStdString(c.name),
            QString("(%1, %2, %3)").arg(plain(sum[0] / 1000), plain(sum[1] / 1000), plain(sum[2] / 1000))};
    }
    const int current = cases_->currentRow();
    const QSignalBlocker block(cases_);
    fill(cases_, rows);
    fitHeight(cases_);
    if (current >= 0) cases_->setCurrentCell(current, 0);
}

// ---- Rebuild
// ---------------------------------------------------------------------------------------------------------

RebuildCard::RebuildCard(Session& session) : Card(session, Stage::rebuild) {
    body()->addWidget(
        label("The geometry that is checked is the implicit solid with its exact interfaces; an editable solid with "
              "machined features for CAD is not part of this version."));
}

QString RebuildCard::summary() const {
    return "implicit solid with exact interfaces";
}

// ---- Check
// -----------------------------------------------------------------------------------------------------------

CheckCard::CheckCard(Session& session) : Card(session, Stage::check) {
    size_ = new QuantityEdit(dimension::length, "mm", 0.2, 200);
    size_->setObjectName("elementSize");
    expected_ = label("", "muted");
    error_ = errorLabel();
    cases_ = table({"Case", "SF", "MPa", "mm", "Balance"});
    cases_->setObjectName("checkCases");
    last_ = label("", "muted");
    body()->addWidget(field("Element size", size_));
    body()->addWidget(expected_);
    body()->addWidget(error_);
    cases_->horizontalHeaderItem(1)->setToolTip("Smallest safety factor");
    cases_->horizontalHeaderItem(2)->setToolTip("Largest von Mises stress");
    cases_->horizontalHeaderItem(3)->setToolTip("Largest displacement");
    cases_->horizontalHeaderItem(4)->setToolTip(
        "Whether the applied resultant is the load that is meant, and the reactions balance it");
    body()->addWidget(cases_);
    body()->addWidget(last_);
    run_ = addAction("Run check", "runCheck");
    connect(size_, &QuantityEdit::valueEntered, this, [this](double v) {
        session_.edit("Element size", [v](Project& p) { p.variants[p.open].recipe.elementSize = v; });
    });
    connect(size_, &QuantityEdit::errorChanged, this, [this](const QString& e) { showError(error_, e); });
    connect(run_, &QPushButton::clicked, this, [this] { session_.run(Stage::findings); });
    connect(cases_, &QTableWidget::currentCellChanged, this, [this](int r) {
        if (r >= 0) emit loadCaseChosen(r);
    });
}

QString CheckCard::summary() const {
    const LastKnown k = session_.lastKnown();
    if (!k.check) return "not run yet";
    return QString("safety factor %1 · %2")
        .arg(num(k.check->minSafetyFactor), QString::fromStdString(k.check->governingCase));
}

void CheckCard::refreshBody() {
    size_->setValue(session_.recipe().elementSize);
    run_->setEnabled(!session_.isBusy());
    const auto f = session_.project().field();
    // twelve tetrahedra a lattice cube and a sixth more at the boundary; five unknowns an element; the factor grows
    // with n^(4/3)
    const double volume = f ? f->keptVolume->volume(session_.recipe().threshold) : 0;
    const double elements = 1.18 * 12 * volume / std::pow(session_.recipe().elementSize, 3);
    const double unknowns = 5 * elements;
    const double memory = 0.25 + 1.8 * std::pow(unknowns / 355e3, 4.0 / 3);
    expected_->setText(QString("about %1 elements, %2 unknowns, %3 GB")
                           .arg(num(elements / 1000, 2) + " k", num(unknowns / 1000, 3) + " k", num(memory, 2)));
    const LastKnown k = session_.lastKnown();
    cases_->setVisible(k.check != nullptr);
    last_->setVisible(k.check != nullptr);
    if (!k.check) return;
    QList<QStringList> rows;
    for (const CaseResult& c : k.check->cases) {
        const bool asMeant = c.equilibriumError <= 1e-6 && c.appliedAsMeant;
        rows << QStringList{QString::fromStdString(c.name), num(c.minSafetyFactor), num(c.maxVonMises),
                            num(c.maxDisplacement), asMeant ? "as meant" : "off"};
    }
    const QSignalBlocker block(cases_);
    const int current = cases_->currentRow();
    fill(cases_, rows);
    fitHeight(cases_);
    if (current >= 0) cases_->setCurrentCell(current, 0);
    double seconds = 0;
    for (const auto& t : session_.timings())
        if (t.stage == "Check") seconds = t.seconds;
    last_->setText(QString("%1%2 unknowns, angles from %3°")
                       .arg(seconds > 0 ? "last run " + num(seconds) + " s, " : QString())
                       .arg(k.check->unknowns)
                       .arg(num(k.check->quality.minDihedral)));
}

// ---- Findings
// --------------------------------------------------------------------------------------------------------

FindingsCard::FindingsCard(Session& session) : Card(session, Stage::findings) {
    share_ = new QuantityEdit(dimension::none, "", 0.01, 1);
    share_->setObjectName("hotspotShare");
    share_->setToolTip("Smallest height of a peak above its saddle, as a share of the allowable stress");
    list_ = table({"Id", "Class", "Peak", "SF", "State"});
    list_->setObjectName("findings");
    detail_ = label("", "muted");
    error_ = errorLabel();
    decision_ = new QComboBox;
    decision_->setObjectName("decision");
    decision_->addItems({"accept", "fix", "follow up"});
    why_ = new QLineEdit;
    why_->setObjectName("dispositionReason");
    why_->setPlaceholderText("Reason");
    who_ = new QLineEdit;
    who_->setObjectName("dispositionName");
    who_->setPlaceholderText("Name");
    auto* sign = new QPushButton("Sign disposition");
    sign->setObjectName("signDisposition");
    body()->addWidget(field("Sensitivity", share_));
    body()->addWidget(list_);
    body()->addWidget(detail_);
    body()->addWidget(field("Disposition", decision_));
    body()->addWidget(why_);
    body()->addWidget(row({who_, sign}));
    body()->addWidget(error_);
    find_ = addAction("Find hotspots", "findHotspots");
    connect(find_, &QPushButton::clicked, this, [this] { session_.run(Stage::findings); });
    connect(share_, &QuantityEdit::valueEntered, this, [this](double v) {
        session_.edit("Sensitivity", [v](Project& p) { p.variants[p.open].recipe.hotspotShare = v; });
    });
    connect(share_, &QuantityEdit::errorChanged, this, [this](const QString& e) { showError(error_, e); });
    connect(sign, &QPushButton::clicked, this, &FindingsCard::sign);
    connect(who_, &QLineEdit::returnPressed, this, &FindingsCard::sign);
    connect(list_, &QTableWidget::currentCellChanged, this, [this](int r) {
        if (r < 0) return;
        refreshBody();
        emit findingChosen(list_->item(r, 0)->text());
    });
}

QString FindingsCard::summary() const {
    const LastKnown k = session_.lastKnown();
    if (!k.findings) return "not looked for yet";
    int open = 0;
    for (const auto& f : k.findings->findings)
        open += dispositionOf(session_.project(), session_.variant(), f.id) == nullptr;
    return QString("%1 hotspots · %2 without disposition").arg(k.findings->findings.size()).arg(open);
}

QString FindingsCard::state(QColor& colour) const {
    const auto f = session_.project().findings(session_.recipe());
    if (!f) return Card::state(colour);
    int open = 0;
    for (const auto& x : f->findings) open += dispositionOf(session_.project(), session_.variant(), x.id) == nullptr;
    colour = open ? theme::clay : theme::teal;
    return open ? QString("%1 open").arg(open) : "fresh";
}

void FindingsCard::refreshBody() {
    share_->setValue(session_.recipe().hotspotShare);
    const LastKnown k = session_.lastKnown();
    const bool fresh = session_.project().findings(session_.recipe()) != nullptr;
    find_->setEnabled(!session_.isBusy() && !fresh);
    QList<QStringList> rows;
    if (k.findings)
        for (const Finding& f : k.findings->findings) {
            const Disposition* d = dispositionOf(session_.project(), session_.variant(), f.id);
            rows << QStringList{QString::fromStdString(f.id), QString::fromStdString(f.place), num(f.peak) + " MPa",
                                num(f.safetyFactor),
                                !fresh ? "out of date"
                                : d    ? QString::fromStdString(d->decision)
                                       : "open"};
        }
    const QSignalBlocker block(list_);
    const int current = list_->currentRow();
    fill(list_, rows);
    fitHeight(list_, 220);
    if (current >= 0 && current < rows.size()) list_->setCurrentCell(current, 0);
    QString detail = rows.isEmpty() ? (k.findings ? "No hotspot above the sensitivity." : "Run the check first.")
                                    : "Select a hotspot to see it and to sign its disposition.";
    if (k.findings && current >= 0 && current < rows.size()) {
        const Finding& f = k.findings->findings[current];
        detail = QString("%1: %2 · at (%3, %4, %5) mm · %6 mm from %7 · %8 mm² above 80 %% of the peak")
                     .arg(QString::fromStdString(f.id), QString::fromStdString(f.caseName), num(f.position[0], 4),
                          num(f.position[1], 4), num(f.position[2], 4), num(f.distance),
                          QString::fromStdString(f.nearestInterface), num(f.area))
                     .replace("%%", "%");
        if (const Disposition* d = dispositionOf(session_.project(), session_.variant(), f.id))
            detail += QString("\n%1 by %2, %3: %4")
                          .arg(QString::fromStdString(d->decision), QString::fromStdString(d->by),
                               QString::fromStdString(d->date), QString::fromStdString(d->reason));
    }
    detail_->setText(detail);
}

void FindingsCard::sign() {
    const auto findings = session_.project().findings(session_.recipe());
    const int r = list_->currentRow();
    QString error;
    if (!findings)
        error = "The findings are out of date: run the check again before signing.";
    else if (r < 0 || r >= static_cast<int>(findings->findings.size()))
        error = "Select the hotspot that the disposition is for.";
    else if (why_->text().trimmed().isEmpty())
        error = "Give a reason: it goes to the report.";
    else if (who_->text().trimmed().isEmpty())
        error = "Give the name of the engineer who signs.";
    showError(error_, error);
    if (!error.isEmpty()) return;
    const Disposition d{session_.project().keys(session_.recipe()).findings,
                        findings->findings[r].id,
                        decision_->currentText().toStdString(),
                        why_->text().trimmed().toStdString(),
                        who_->text().trimmed().toStdString(),
                        QDate::currentDate().toString(Qt::ISODate).toStdString()};
    session_.edit("Disposition of " + QString::fromStdString(d.finding), [&](Project& p) {
        auto& all = p.variants[p.open].dispositions;
        std::erase_if(all,
                      [&](const Disposition& x) { return x.finding == d.finding && x.findingsKey == d.findingsKey; });
        all.push_back(d);
    });
    why_->clear();
}

// ---- Release
// ---------------------------------------------------------------------------------------------------------

ReleaseCard::ReleaseCard(Session& session) : Card(session, Stage::release) {
    requirements_ = table({"Requirement", "Limit", "Value", "State"});
    requirements_->setObjectName("requirements");
    blockers_ = label("");
    blockers_->setObjectName("blockers");
    body()->addWidget(requirements_);
    body()->addWidget(blockers_);
    write_ = addAction("Write release folder…", "writeRelease");
    connect(write_, &QPushButton::clicked, this, &ReleaseCard::writeRelease);
}

QString ReleaseCard::summary() const {
    const auto blockers = releaseBlockers(session_.project(), session_.variant());
    if (blockers.empty()) return "every requirement met, every finding signed";
    return QString("%1 in the way")
        .arg(blockers.size() == 1 ? "1 point" : QString::number(blockers.size()) + " points");
}

QString ReleaseCard::state(QColor& colour) const {
    const bool open = releaseBlockers(session_.project(), session_.variant()).empty();
    colour = open ? theme::teal : theme::clay;
    return open ? "open" : "blocked";
}

void ReleaseCard::refreshBody() {
    const LastKnown k = session_.lastKnown();
    QList<QStringList> rows;
    for (const RequirementState& s :
         requirementStates(session_.project(), session_.recipe(), k.surface.get(), k.check.get()))
        rows << QStringList{QString::fromStdString(s.name),
                            (s.atLeast ? "≥ " : "≤ ") + num(s.limit) + " " + QString::fromStdString(s.unit),
                            std::isnan(s.value) ? "n/a" : num(s.value) + " " + QString::fromStdString(s.unit),
                            word(s.state)};
    fill(requirements_, rows);
    fitHeight(requirements_);
    const auto blockers = releaseBlockers(session_.project(), session_.variant());
    QString text;
    for (const auto& b : blockers) text += "<li>" + QString::fromStdString(b).toHtmlEscaped() + "</li>";
    blockers_->setText(
        blockers.empty()
            ? theme::coloured(
                  "Open: every requirement is met with fresh results and every finding has its disposition.",
                  theme::teal)
            : "In the way of the release:<ul style='margin-left:-24px'>" + text + "</ul>");
    write_->setEnabled(blockers.empty() && !session_.isBusy());
}

}  // namespace escultura::app
