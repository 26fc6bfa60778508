#include "dossier/dossier.hpp"

#include <algorithm>

#include "dossier/cards.hpp"
#include "theme/theme.hpp"

namespace escultura::app {

using project::Stage;

Dossier::Dossier(Session& session, QWidget* parent) : QFrame(parent), session_(session) {
    setObjectName("dossier");
    theme::fix(this, theme::Length::width, 384);
    auto* duty = new DutyCard(session);
    auto* field = new FieldCard(session);
    auto* surface = new SurfaceCard(session);
    auto* rebuild = new RebuildCard(session);
    auto* check = new CheckCard(session);
    auto* findings = new FindingsCard(session);
    auto* release = new ReleaseCard(session);
    cards_ = {duty, field, surface, rebuild, check, findings, release};
    column_ = new QVBoxLayout(this);
    column_->setContentsMargins(12, 8, 8, 8);
    column_->setSpacing(5);
    for (Card* c : cards_) {
        column_->addWidget(c);
        connect(c, &Card::headerClicked, this, [this, c] {
            if (c->isOpen()) {
                c->setOpen(false);
                arrange();
            } else {
                openCard(c->stage());
            }
        });
    }
    column_->addStretch();
    setEnabled(session.hasProject());
    // cards are filled one by one while nothing else happens, so that they open at once
    filling_.setInterval(0);
    connect(&filling_, &QTimer::timeout, this, [this] {
        if (toFill_ < cards_.size() && session_.hasProject()) cards_[toFill_++]->fillAhead();
        if (toFill_ >= cards_.size() || !session_.hasProject()) filling_.stop();
    });
    connect(&session, &Session::projectOpened, this, [this] {
        toFill_ = 0;
        filling_.start();
    });
    connect(duty, &DutyCard::loadCaseChosen, this, &Dossier::loadCaseChosen);
    connect(check, &CheckCard::loadCaseChosen, this, &Dossier::loadCaseChosen);
    connect(duty, &DutyCard::toolAsked, this, &Dossier::toolAsked);
    connect(check, &CheckCard::tableAsked, this, &Dossier::tableAsked);
    connect(check, &CheckCard::showAsked, this, &Dossier::showAsked);
    connect(check, &CheckCard::shapeAsked, this, &Dossier::shapeAsked);
    connect(surface, &SurfaceCard::showAsked, this, &Dossier::showAsked);
    connect(surface, &SurfaceCard::placeAsked, this, &Dossier::placeAsked);
    connect(field, &FieldCard::compareAsked, this, &Dossier::compareAsked);
    connect(field, &FieldCard::addFieldAsked, this, &Dossier::addFieldAsked);
    connect(surface, &SurfaceCard::exportSurface, this, &Dossier::exportSurface);
    connect(rebuild, &RebuildCard::showAsked, this, &Dossier::showAsked);
    connect(rebuild, &RebuildCard::toolAsked, this, &Dossier::toolAsked);
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
    column_->setEnabled(false);  // each part that comes in sight would lay out all the others anew
    for (Card* c : cards_) c->setOpen(c->stage() == stage);
    arrange();
    column_->setEnabled(true);
    column_->activate();
    emit cardOpened(stage);
}

void Dossier::arrange() {
    const bool any = std::any_of(cards_.begin(), cards_.end(), [](const Card* c) { return c->isOpen(); });
    for (Card* c : cards_) {
        c->setCompact(any);
        column_->setStretchFactor(c, c->isOpen() ? 1 : 0);
    }
    column_->setStretch(column_->count() - 1, any ? 0 : 1);
}

void Dossier::showEnd() {
    for (Card* c : cards_)
        if (c->isOpen()) c->showEnd();
}

void Dossier::chooseFinding(const QString& id) {
    findings_->choose(id);
}

void Dossier::refresh() {
    // without a part there is nothing that a control could change
    setEnabled(session_.hasProject());
    for (Card* c : cards_) c->refresh();
}

}  // namespace escultura::app
