#include "requirement_strip.hpp"

#include <QLabel>
#include <QPushButton>
#include <QRegularExpression>
#include <cmath>

#include "theme/theme.hpp"
#include "widgets.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace judge;

RequirementStrip::RequirementStrip(Session& session, QWidget* parent) : QFrame(parent), session_(session) {
    setObjectName("requirementStrip");
    row_ = new FlowLayout(8);
    auto* whole = new QHBoxLayout(this);
    whole->setContentsMargins(12, 6, 12, 6);
    whole->addLayout(row_, 1);
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
            theme::fix(b, theme::Length::height, 32);
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
            const QString colour = s.state == State::met         ? theme::onDarkTeal
                                   : s.state == State::metSoFar  ? theme::onDarkOchre
                                   : s.state == State::notMet    ? theme::onDarkClay
                                   : s.state == State::outOfDate ? theme::onDarkOchre
                                                                 : theme::onDarkMuted;
            const QString unit = s.unit.empty() ? "" : " " + QString::fromStdString(s.unit);
            if (s.kind == Requirement::Kind::findingsDisposed) continue;  // told below, always
            const QString limit =
                s.hasLimit ? QString(" %1 %2%3").arg(s.atLeast ? "≥" : "≤", num(s.limit), unit) : QString();
            QString tip = "Source: " + QString::fromStdString(s.source);
            if (!s.note.empty()) tip += "\n" + QString::fromStdString(s.note);
            QString value = std::isnan(s.value) || !s.hasLimit ? QString() : "<b>" + num(s.value) + "</b>";
            if (!s.doubt.empty() && !std::isnan(s.value))
                value += QString(" <span style='color:%1'>%2</span>")
                             .arg(theme::onDarkMuted, QString::fromStdString(s.doubt));
            add(glyph, colour, QString("%1%2 &nbsp;%3").arg(QString::fromStdString(s.name), limit, value), tip,
                s.evidence);
        }
        const Project& p = session_.project();
        if (p.findings(session_.recipe())) {
            const auto findings = findingsOf(p, session_.recipe());
            int signedCount = 0;
            for (const auto& x : findings) signedCount += dispositionState(p, session_.variant(), x).holds;
            const bool all = signedCount == static_cast<int>(findings.size());
            add(all ? "● met" : "○ not met", all ? theme::onDarkTeal : theme::onDarkClay,
                QString("findings signed &nbsp;<b>%1 of %2</b>").arg(signedCount).arg(findings.size()),
                "Every finding needs a disposition", Stage::findings);
        } else {
            add(k.findings ? "◐ out of date" : "· not yet known", k.findings ? theme::onDarkOchre : theme::onDarkMuted,
                "findings signed", "Every finding needs a disposition", Stage::findings);
        }
    }
}

}  // namespace escultura::app
