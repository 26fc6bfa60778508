#include "dossier/dossier.hpp"

#include <QScrollBar>
#include <QTimer>

#include "dossier/cards.hpp"

namespace escultura::app {

using project::Stage;

Dossier::Dossier(Session& session, QWidget* parent) : QScrollArea(parent), session_(session) {
    setObjectName("dossier");
    setWidgetResizable(true);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    setFixedWidth(364);
    auto* duty = new DutyCard(session);
    auto* field = new FieldCard(session);
    auto* surface = new SurfaceCard(session);
    auto* rebuild = new RebuildCard(session);
    auto* check = new CheckCard(session);
    auto* findings = new FindingsCard(session);
    auto* release = new ReleaseCard(session);
    cards_ = {duty, field, surface, rebuild, check, findings, release};
    auto* column = new QWidget;
    auto* layout = new QVBoxLayout(column);
    layout->setContentsMargins(12, 8, 8, 8);
    layout->setSpacing(6);
    for (Card* c : cards_) {
        layout->addWidget(c);
        connect(c, &Card::headerClicked, this, [this, c] {
            if (c->isOpen())
                c->setOpen(false);
            else
                openCard(c->stage());
        });
    }
    layout->addStretch();
    setWidget(column);
    column->setEnabled(session.hasProject());
    connect(duty, &DutyCard::loadCaseChosen, this, &Dossier::loadCaseChosen);
    connect(check, &CheckCard::loadCaseChosen, this, &Dossier::loadCaseChosen);
    connect(duty, &DutyCard::tableAsked, this, &Dossier::tableAsked);
    connect(check, &CheckCard::tableAsked, this, &Dossier::tableAsked);
    connect(check, &CheckCard::showAsked, this, &Dossier::showAsked);
    connect(surface, &SurfaceCard::showAsked, this, &Dossier::showAsked);
    connect(surface, &SurfaceCard::placeAsked, this, &Dossier::placeAsked);
    connect(field, &FieldCard::compareAsked, this, &Dossier::compareAsked);
    connect(field, &FieldCard::addFieldAsked, this, &Dossier::addFieldAsked);
    connect(surface, &SurfaceCard::exportSurface, this, &Dossier::exportSurface);
    connect(rebuild, &RebuildCard::showAsked, this, &Dossier::showAsked);
    connect(rebuild, &RebuildCard::tableAsked, this, &Dossier::tableAsked);
    connect(rebuild, &RebuildCard::exportSolid, this, &Dossier::exportSolid);
    connect(findings, &FindingsCard::findingChosen, this, &Dossier::findingChosen);
    findings_ = findings;
    connect(findings, &FindingsCard::isolateChanged, this, &Dossier::isolateChanged);
    connect(release, &ReleaseCard::writeRelease, this, &Dossier::writeRelease);
    connect(release, &ReleaseCard::stageAsked, this, &Dossier::openCard);
    connect(release, &ReleaseCard::tableAsked, this, &Dossier::tableAsked);
    connect(release, &ReleaseCard::findingAsked, this, [this](const QString& id) {
        openCard(Stage::findings);
        findings_->choose(id);
    });
}

void Dossier::openCard(Stage stage) {
    if (!session_.hasProject()) return;
    for (Card* c : cards_) c->setOpen(c->stage() == stage);
    Card* card = cards_[static_cast<int>(stage)];
    QTimer::singleShot(0, this, [this, card] { ensureWidgetVisible(card, 0, 0); });
    emit cardOpened(stage);
}

void Dossier::chooseFinding(const QString& id) {
    findings_->choose(id);
}

void Dossier::refresh() {
    // without a part there is nothing that a control could change
    widget()->setEnabled(session_.hasProject());
    for (Card* c : cards_) c->refresh();
}

}  // namespace escultura::app
