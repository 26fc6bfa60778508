#include "requirement_strip.hpp"

#include <QLabel>
#include <QPushButton>
#include <QRegularExpression>
#include <cmath>

#include "widgets.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace judge;

RequirementStrip::RequirementStrip(Session& session, QWidget* parent) : QFrame(parent), session_(session) {
    setObjectName("requirementStrip");
    setFixedHeight(46);
    setStyleSheet(
        "QFrame#requirementStrip { background: #2B2A27; border: 0; }"
        "QFrame#requirementStrip QLabel { color: #F6F2EA; font-weight: 600; }"
        "QFrame#requirementStrip QPushButton { background: #35332F; border: 1px solid #55514A; color: #F6F2EA; "
        "border-radius: 6px; padding: 4px 10px; }"
        "QFrame#requirementStrip QPushButton:hover, QFrame#requirementStrip QPushButton:focus { border-color: #C9BEAA; "
        "}");
    row_ = new QHBoxLayout(this);
    row_->setContentsMargins(12, 6, 12, 6);
    row_->setSpacing(8);
}

void RequirementStrip::refresh() {
    clearLayout(row_);
    row_->addWidget(new QLabel("Requirements"));
    if (session_.hasProject()) {
        const LastKnown k = session_.lastKnown();
        auto add = [&](const QString& glyph, const QString& colour, const QString& text, const QString& tip,
                       Stage stage) {
            auto* b = new QPushButton;
            auto* l = new QHBoxLayout(b);
            l->setContentsMargins(10, 0, 10, 0);
            auto* t =
                new QLabel(QString("<span style='color:%1'>%2</span>&nbsp; <span style='font-weight:400'>%3</span>")
                               .arg(colour, glyph, text));
            t->setAttribute(Qt::WA_TransparentForMouseEvents);
            l->addWidget(t);
            b->setMinimumWidth(t->sizeHint().width() + 22);
            b->setFixedHeight(32);
            b->setToolTip(tip);
            b->setAccessibleName(t->text().remove(QRegularExpression("<[^>]*>")));
            b->setObjectName("requirement");
            connect(b, &QPushButton::clicked, this, [this, stage] { emit evidenceAsked(stage); });
            row_->addWidget(b);
        };
        for (const RequirementState& s :
             requirementStates(session_.project(), session_.variant(), k.surface.get(), k.check.get())) {
            using State = RequirementState::State;
            const QString soFar = session_.isTesting() ? "◔ met so far, testing"
                                  : s.doubt.empty()    ? "◔ met so far, " + QString::fromStdString(s.note)
                                                       : QString("◔ met so far");
            const QString glyph = s.state == State::met         ? "● met"
                                  : s.state == State::metSoFar  ? soFar
                                  : s.state == State::notMet    ? "○ not met"
                                  : s.state == State::outOfDate ? "◐ out of date"
                                                                : "· not yet known";
            const QString colour = s.state == State::met         ? "#79C7BD"
                                   : s.state == State::metSoFar  ? "#E8B95A"
                                   : s.state == State::notMet    ? "#F09A78"
                                   : s.state == State::outOfDate ? "#E8B95A"
                                                                 : "#B9B1A2";
            const QString unit = s.unit.empty() ? "" : " " + QString::fromStdString(s.unit);
            if (s.kind == Requirement::Kind::findingsDisposed) continue;  // told below, always
            const QString limit =
                s.hasLimit ? QString(" %1 %2%3").arg(s.atLeast ? "≥" : "≤", num(s.limit), unit) : QString();
            QString tip = "Source: " + QString::fromStdString(s.source);
            if (!s.note.empty()) tip += "\n" + QString::fromStdString(s.note);
            QString value = std::isnan(s.value) || !s.hasLimit ? QString() : "<b>" + num(s.value) + "</b>";
            if (!s.doubt.empty() && !std::isnan(s.value))
                value += QString(" <span style='color:#B9B1A2'>%1</span>").arg(QString::fromStdString(s.doubt));
            add(glyph, colour, QString("%1%2 &nbsp;%3").arg(QString::fromStdString(s.name), limit, value), tip,
                s.evidence);
        }
        const Project& p = session_.project();
        if (p.findings(session_.recipe())) {
            const auto findings = findingsOf(p, session_.recipe());
            int signedCount = 0;
            for (const auto& x : findings) signedCount += dispositionState(p, session_.variant(), x).holds;
            const bool all = signedCount == static_cast<int>(findings.size());
            add(all ? "● met" : "○ not met", all ? "#79C7BD" : "#F09A78",
                QString("findings signed &nbsp;<b>%1 of %2</b>").arg(signedCount).arg(findings.size()),
                "Every finding needs a disposition", Stage::findings);
        } else {
            add(k.findings ? "◐ out of date" : "· not yet known", k.findings ? "#E8B95A" : "#B9B1A2", "findings signed",
                "Every finding needs a disposition", Stage::findings);
        }
    }
    row_->addStretch();
}

}  // namespace escultura::app
