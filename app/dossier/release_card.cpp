#include <QDate>
#include <QFileDialog>
#include <cmath>

#include "base/signature.hpp"
#include "dossier/cards.hpp"
#include "settings.hpp"
#include "theme/theme.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace judge;

namespace {
constexpr std::size_t listedBlockers = 10;
}

ReleaseCard::ReleaseCard(Session& session) : Card(session, Stage::release) {
    requirements_ = table({"Requirement", "Limit", "Value", "State"});
    requirements_->setObjectName("requirements");
    edit_ = new QPushButton("Edit requirements…");
    edit_->setObjectName("editRequirements");
    blockers_ = label("");
    blockers_->setObjectName("blockers");
    name_ = new QLineEdit;
    name_->setObjectName("releaseName");
    name_->setPlaceholderText("Name");
    role_ = new QLineEdit;
    role_->setObjectName("releaseRole");
    role_->setPlaceholderText("Role");
    remark_ = new QLineEdit;
    remark_->setObjectName("releaseRemark");
    remark_->setPlaceholderText("Remark");
    key_ = new QLineEdit(settings()->value("release/key").toString());
    key_->setObjectName("releaseKey");
    key_->setPlaceholderText("Key file (none: no cryptographic signature)");
    key_->setToolTip("Secret key (Ed25519, PEM) that signs the release; its public half goes with it");
    chooseKey_ = new QPushButton("Choose key…");
    chooseKey_->setObjectName("chooseKey");
    newKey_ = new QPushButton("New key…");
    newKey_->setObjectName("newKey");
    error_ = errorLabel();
    releases_ = label("");
    releases_->setObjectName("releases");
    body()->addWidget(requirements_);
    body()->addWidget(edit_);
    body()->addWidget(blockers_);
    body()->addWidget(heading("Sign-off"));
    body()->addWidget(row({name_, role_}));
    body()->addWidget(remark_);
    body()->addWidget(key_);
    body()->addWidget(row({chooseKey_, newKey_}));
    body()->addWidget(error_);
    body()->addWidget(releases_);
    write_ = addAction("Sign and write release…", "writeRelease");
    connect(edit_, &QPushButton::clicked, this, [this] { emit tableAsked(Table::requirements); });
    connect(blockers_, &QLabel::linkActivated, this, [this](const QString& key) {
        if (key.startsWith('f'))
            emit findingAsked(key.mid(1));
        else
            emit stageAsked(static_cast<Stage>(key.toInt()));
    });
    connect(write_, &QPushButton::clicked, this, [this] {
        const bool named = !name_->text().trimmed().isEmpty();
        showError(error_, named ? "" : "Give the name of the engineer who releases the part.");
        if (!named) return;
        emit writeRelease(
            {name_->text().trimmed().toStdString(), role_->text().trimmed().toStdString(),
             QDate::currentDate().toString(Qt::ISODate).toStdString(), remark_->text().trimmed().toStdString()},
            key_->text().trimmed());
    });
    connect(chooseKey_, &QPushButton::clicked, this, [this] {
        const QString path = QFileDialog::getOpenFileName(this, "Secret key", {}, "Keys (*.pem);;All files (*)");
        if (path.isEmpty()) return;
        key_->setText(path);
        keepKey();
    });
    connect(newKey_, &QPushButton::clicked, this, [this] {
        const QString path =
            QFileDialog::getSaveFileName(this, "Where the secret key goes", "signer.pem", "Keys (*.pem)");
        if (path.isEmpty()) return;
        try {
            writeNewKey(path.toStdString());
            key_->setText(path);
            keepKey();
            showError(error_, "");
        } catch (const std::exception& e) {
            showError(error_, e.what());
        }
    });
    connect(key_, &QLineEdit::editingFinished, this, &ReleaseCard::keepKey);
}

void ReleaseCard::keepKey() {
    settings()->setValue("release/key", key_->text());
}

QString ReleaseCard::summary() const {
    const Project& p = session_.project();
    if (const Release* r = lastRelease(p, session_.variant())) {
        const bool changed = !changesSince(p, *r, session_.variant()).empty();
        return QString(changed ? "changed since release %1" : "release %1, unchanged").arg(r->number);
    }
    const auto blockers = releaseBlockers(p, session_.variant());
    if (blockers.empty()) return "every requirement met, every finding signed";
    return QString("%1 in the way")
        .arg(blockers.size() == 1 ? "1 point" : QString::number(blockers.size()) + " points");
}

QString ReleaseCard::state(QColor& colour) const {
    const Project& p = session_.project();
    if (const Release* r = lastRelease(p, session_.variant()))
        if (changesSince(p, *r, session_.variant()).empty()) {
            colour = theme::teal;
            return "released";
        }
    const bool open = releaseBlockers(p, session_.variant()).empty();
    colour = open ? theme::teal : theme::clay;
    return open ? "open" : "blocked";
}

void ReleaseCard::refreshBody() {
    const LastKnown k = session_.lastKnown();
    const Project& p = session_.project();
    QList<QStringList> rows;
    for (const RequirementState& s : requirementStates(p, session_.variant(), k.surface.get(), k.check.get()))
        rows << requirementCells(s);
    fill(requirements_, rows);
    fitHeight(requirements_);
    const auto blockers = releaseBlockers(p, session_.variant());
    QString list;
    for (std::size_t i = 0; i < blockers.size(); ++i) {
        const Blocker& b = blockers[i];
        if (i == listedBlockers && blockers.size() > i + 1) {
            list += "<li>" +
                    link(QString::number(static_cast<int>(b.stage)), QString("and %1 more").arg(blockers.size() - i)) +
                    "</li>";
            break;
        }
        list += "<li>" +
                link(b.finding.empty() ? QString::number(static_cast<int>(b.stage)) : "f" + text(b.finding),
                     text(b.text).toHtmlEscaped()) +
                "</li>";
    }
    blockers_->setText(
        blockers.empty()
            ? theme::coloured(
                  "Open: every requirement is met with fresh results and every finding has its disposition.",
                  theme::teal)
            : "In the way of the release:<ul style='margin-left:-24px'>" + list + "</ul>");
    QString releases;
    for (const Release& r : p.releases) {
        const Variant* v = p.findVariant(r.variant);
        releases += QString("<p style='margin:3px 0'><b>Release %1</b> · variant %2 · %3, %4%5")
                        .arg(r.number)
                        .arg(text(r.variantName).toHtmlEscaped(), text(r.name).toHtmlEscaped(), text(r.date),
                             r.remark.empty() ? "" : " · " + text(r.remark).toHtmlEscaped());
        if (!v) {
            releases += "<br/>the variant is gone";
        } else {
            const auto changes = changesSince(p, r, *v);
            if (changes.empty()) {
                releases += "<br/>" + theme::coloured("● unchanged since", theme::teal);
            } else {
                releases +=
                    "<br/>" + theme::coloured(QString("◐ changed since release %1:").arg(r.number), theme::ochre);
                for (std::size_t i = 0; i < changes.size() && i < 5; ++i)
                    releases +=
                        QString("<br/>%1: %2 → %3")
                            .arg(text(changes[i].what).toHtmlEscaped(),
                                 changes[i].before.empty() ? "not there" : text(changes[i].before).toHtmlEscaped(),
                                 changes[i].after.empty() ? "not there" : text(changes[i].after).toHtmlEscaped());
                if (changes.size() > 5) releases += QString("<br/>and %1 more").arg(changes.size() - 5);
            }
        }
        releases += "</p>";
    }
    releases_->setText(releases);
    releases_->setVisible(!releases.isEmpty());
    write_->setEnabled(blockers.empty() && !session_.isBusy());
}

}  // namespace escultura::app
