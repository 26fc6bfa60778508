#include "dossier/cards.hpp"

#include <QDate>
#include <QFormLayout>
#include <QHeaderView>
#include <cmath>

#include "dossier/card_parts.hpp"
#include "theme/theme.hpp"

namespace escultura::app {

using namespace project;

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
