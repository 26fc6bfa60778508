#include <QDate>
#include <cmath>

#include "dossier/cards.hpp"
#include "theme/theme.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace judge;

namespace {

int withoutDisposition(const Session& session) {
    int open = 0;
    for (const Finding& f : findingsOf(session.project(), session.recipe()))
        open += !dispositionState(session.project(), session.variant(), f).holds;
    return open;
}

/// What the list says of a disposition.
QString stateWords(const DispositionState& s, bool fresh) {
    if (!fresh) return "out of date";
    if (!s.disposition) return "open";
    return s.holds ? text(s.disposition->decision) : "◐ changed";
}

}  // namespace

FindingsCard::FindingsCard(Session& session) : Card(session, Stage::findings) {
    makeInputs();
    layOut();
    connectInputs();
}

void FindingsCard::makeInputs() {
    share_ = new QuantityEdit(dimension::none, "", 0.01, 1);
    share_->setObjectName("hotspotShare");
    theme::fix(share_, theme::Length::mostWidth, 64);
    share_->setToolTip(
        "Height of a peak over its saddle from which it is a hotspot, as a share of the allowable stress");
    slider_ = new QSlider(Qt::Horizontal);
    slider_->setObjectName("sensitivity");
    slider_->setRange(1, 60);
    slider_->setAccessibleName("Height of peaks: more hotspots to the left, fewer to the right");
    level_ = label("", "muted");
    level_->setObjectName("sensitivityLevel");
    list_ = table({"Id", "Class", "Peak", "SF", "State"});
    list_->setObjectName("findings");
    detail_ = label("", "muted");
    detail_->setObjectName("findingDetail");
    error_ = errorLabel();
    test_ = new QPushButton("Test this one");
    test_->setObjectName("testHotspot");
    test_->setToolTip("Refines the mesh around it twice and solves again: does the peak converge?");
    testAll_ = new QPushButton("Test all");
    testAll_->setObjectName("testAll");
    isolate_ = new QCheckBox("Only the neighbourhood");
    isolate_->setObjectName("isolate");
    isolate_->setToolTip("Only its neighbourhood, with its mesh; the rest as a ghost");
    chart_ = new Chart("peak over element size, MPa");
    proposals_ = label("");
    proposals_->setObjectName("proposals");
    amount_ = new QuantityEdit(dimension::length, "mm", 0, 100);
    amount_->setObjectName("thickenAmount");
    amount_->setToolTip("0: a sixth of the wall");
    amountRow_ = field("Thicken by", amount_);
    decision_ = new QComboBox;
    decision_->setObjectName("decision");
    decision_->addItems({"accept", "fix", "follow up"});
    why_ = new QLineEdit;
    why_->setObjectName("dispositionReason");
    why_->setPlaceholderText("Reason");
    who_ = new QLineEdit;
    who_->setObjectName("dispositionName");
    who_->setPlaceholderText("Name");
    sign_ = new QPushButton("Sign disposition");
    sign_->setObjectName("signDisposition");
}

void FindingsCard::layOut() {
    auto* sensitivity = new QWidget;
    auto* l = new QHBoxLayout(sensitivity);
    l->setContentsMargins(0, 0, 0, 0);
    l->addWidget(slider_, 1);
    l->addWidget(share_);
    body()->addWidget(field("Height of peaks", sensitivity));
    body()->addWidget(level_);
    body()->addWidget(list_);
    body()->addWidget(detail_);
    body()->addWidget(chart_);
    body()->addWidget(row({test_, testAll_}));
    body()->addWidget(isolate_);
    body()->addWidget(proposals_);
    body()->addWidget(amountRow_);
    signing_ = new QWidget;
    auto* signing = new QVBoxLayout(signing_);
    signing->setContentsMargins(0, 0, 0, 0);
    signing->setSpacing(6);
    signing->addWidget(field("Disposition", decision_));
    signing->addWidget(why_);
    signing->addWidget(row({who_, sign_}));
    body()->addWidget(signing_);
    body()->addWidget(error_);
    find_ = addAction("Find hotspots", "findHotspots");
}

void FindingsCard::connectInputs() {
    connect(find_, &QPushButton::clicked, this, [this] { session_.run(Stage::findings); });
    connect(slider_, &QSlider::valueChanged, this, &FindingsCard::previewShare);
    connect(slider_, &QSlider::sliderReleased, this, [this] { applyShare(slider_->value() / 100.0); });
    connect(share_, &QuantityEdit::valueEntered, this, &FindingsCard::applyShare);
    connect(share_, &QuantityEdit::errorChanged, this, [this](const QString& e) { showError(error_, e); });
    connect(amount_, &QuantityEdit::valueEntered, this, [this] { showDetail(); });
    connect(amount_, &QuantityEdit::errorChanged, this, [this](const QString& e) { showError(error_, e); });
    connect(sign_, &QPushButton::clicked, this, &FindingsCard::sign);
    connect(who_, &QLineEdit::returnPressed, this, &FindingsCard::sign);
    connect(test_, &QPushButton::clicked, this, [this] {
        if (const Finding* f = chosen()) session_.testHotspots({f->id});
    });
    connect(testAll_, &QPushButton::clicked, this, [this] { session_.testHotspots({}); });
    connect(isolate_, &QCheckBox::toggled, this, &FindingsCard::isolateChanged);
    connect(proposals_, &QLabel::linkActivated, this, &FindingsCard::followProposal);
    connect(list_, &QTableWidget::currentCellChanged, this, [this](int r) {
        if (r < 0) return;
        showDetail();
        told_ = list_->item(r, 0)->text();
        emit findingChosen(told_);
    });
    // one that was chosen without a click can be pointed at too
    connect(list_, &QTableWidget::cellClicked, this, [this](int r) {
        if (const QString id = list_->item(r, 0)->text(); id != told_) emit findingChosen(told_ = id);
    });
}

void FindingsCard::choose(const QString& id) {
    for (int r = 0; r < list_->rowCount(); ++r)
        if (list_->item(r, 0)->text() == id) list_->setCurrentCell(r, 0);
}

QString FindingsCard::summary() const {
    const LastKnown k = session_.lastKnown();
    if (!k.findings) return "not looked for yet";
    if (!session_.project().findings(session_.recipe()))
        return QString(k.findings->findings.size() == 1 ? "%1 finding of an earlier recipe"
                                                        : "%1 findings of an earlier recipe")
            .arg(k.findings->findings.size());
    return QString(k.findings->findings.size() == 1 ? "%1 finding · %2 without disposition"
                                                    : "%1 findings · %2 without disposition")
        .arg(k.findings->findings.size())
        .arg(withoutDisposition(session_));
}

QString FindingsCard::state(QColor& colour) const {
    if (!session_.project().findings(session_.recipe())) return Card::state(colour);
    const int open = withoutDisposition(session_);
    colour = open ? theme::clay : theme::teal;
    return open ? QString("%1 open").arg(open) : "fresh";
}

const Finding* FindingsCard::chosen() const {
    const int r = list_->currentRow();
    return r >= 0 && list_->item(r, 0) ? findFinding(findings_, list_->item(r, 0)->text().toStdString()) : nullptr;
}

void FindingsCard::previewShare(int percent) {
    const LastKnown k = session_.lastKnown();
    const double least = 0.01 * percent * allowableStress(session_.part());
    QString words = QString("peaks at least %1 MPa over their saddle").arg(num(least));
    if (k.findings) {
        // the highest peak of all is always one
        const auto count =
            std::count_if(k.findings->heights.begin(), k.findings->heights.end(), [&](double h) { return h >= least; });
        words += QString(": %1 %2").arg(count).arg(count == 1 ? "hotspot" : "hotspots");
    }
    level_->setText(words);
}

void FindingsCard::applyShare(double share) {
    if (std::abs(share - session_.recipe().hotspotShare) < 1e-9) return;
    session_.edit("Height of peaks", [share](Project& p) { p.variants[p.open].recipe.hotspotShare = share; });
    if (session_.project().check(session_.recipe())) session_.run(Stage::findings);
}

void FindingsCard::refreshBody() {
    share_->setValue(session_.recipe().hotspotShare);
    if (!slider_->isSliderDown()) {
        const QSignalBlocker block(slider_);
        slider_->setValue(static_cast<int>(std::lround(100 * session_.recipe().hotspotShare)));
        previewShare(slider_->value());
    }
    const LastKnown k = session_.lastKnown();
    const bool fresh = session_.project().findings(session_.recipe()) != nullptr;
    find_->setEnabled(!session_.isAskedFor(Stage::findings) && !fresh);
    findings_ = fresh        ? findingsOf(session_.project(), session_.recipe())
                : k.findings ? k.findings->findings
                             : std::vector<Finding>{};
    QList<QStringList> rows;
    for (const Finding& f : findings_) {
        const bool hot = f.kind == Finding::Kind::hotspot;
        rows << QStringList{text(f.id),
                            text(hot && f.evidence.verdict == assess::HotspotClass::untested ? f.place : classOf(f)),
                            hot ? num(f.peak) : QString(), hot ? num(f.safetyFactor) : QString(),
                            stateWords(dispositionState(session_.project(), session_.variant(), f), fresh)};
    }
    QString current = chosen() ? text(chosen()->id)
                      : list_->currentRow() >= 0 && list_->item(list_->currentRow(), 0)
                          ? list_->item(list_->currentRow(), 0)->text()
                          : QString();
    if (current.isEmpty() && fresh && isOpen()) {  // the first one that nobody has judged yet is the next to look at
        const auto next = std::find_if(findings_.begin(), findings_.end(), [this](const Finding& f) {
            return !dispositionState(session_.project(), session_.variant(), f).holds;
        });
        if (next != findings_.end()) current = text(next->id);
        told_.clear();
    }
    {
        const QSignalBlocker block(list_);
        fill(list_, rows);
        fitHeight(list_, 200);
        list_->clearSelection();
        list_->setCurrentCell(-1, -1);
        if (!current.isEmpty()) choose(current);
    }
    bool untested = false;
    for (const Finding& f : findings_)
        untested =
            untested || (f.kind == Finding::Kind::hotspot && f.evidence.verdict == assess::HotspotClass::untested);
    testAll_->setEnabled(fresh && untested && !session_.isBusyHere());
    showDetail();
}

/// Where a finding lies, what it is and what was said of it. Fills the curve of its test.
QString FindingsCard::words(const Finding* f) {
    const bool hot = f->kind == Finding::Kind::hotspot;
    const bool tested = hot && f->evidence.verdict != assess::HotspotClass::untested;
    QString detail = QString("<b>%1</b> at (%2, %3, %4) mm, %5 mm from %6")
                         .arg(text(f->id), num(f->position[0], 4), num(f->position[1], 4), num(f->position[2], 4),
                              num(f->distance), text(f->nearestInterface).toHtmlEscaped());
    if (hot)
        detail +=
            QString("<br/>%1 · %2 mm² above 80 % of the peak").arg(text(f->caseName).toHtmlEscaped(), num(f->area));
    if (!f->text.empty()) detail += "<br/>" + text(f->text).toHtmlEscaped();
    if (tested) {
        const assess::Evidence& e = f->evidence;
        detail += QString("<br/><b>%1</b>: %2").arg(assess::name(e.verdict), text(e.reason).toHtmlEscaped());
        detail += QString("<br/>growth exponent %1 · %2 · %3")
                      .arg(num(e.exponent, 2),
                           e.angle < 179.5 ? QString("edge of %1°").arg(num(e.angle)) : QString("no edge near"),
                           e.radius == 0             ? QString("sharp")
                           : std::isfinite(e.radius) ? QString("notch of radius %1 mm").arg(num(e.radius, 2))
                                                     : QString("not hollow"));
        detail +=
            QString("<br/>counts with %1 MPa · cut matters by %2 %").arg(num(e.counts()), num(100 * e.cutError, 2));
        if (e.verdict == assess::HotspotClass::singular || e.verdict == assess::HotspotClass::artefact)
            detail += "<br/>Marked in the view: what the safety factor leaves out when this is accepted.";
        std::vector<QPointF> points;
        for (std::size_t i = e.peak.size(); i-- > 0;) points.emplace_back(e.size[i], e.peak[i]);
        chart_->setCurve(points, false, std::numeric_limits<double>::quiet_NaN(), "mm");
    } else if (hot) {
        detail += QString("<br/>Not tested: nobody knows yet whether this peak is real. It counts with %1 MPa.")
                      .arg(num(f->upper()));
    }
    const DispositionState s = dispositionState(session_.project(), session_.variant(), *f);
    if (const Disposition* d = s.disposition)
        detail +=
            QString("<br/>%1%2 by %3, %4: %5")
                .arg(s.holds ? QString() : theme::coloured("◐ signed before a change: ", theme::ochre),
                     text(d->decision), text(d->by).toHtmlEscaped(), text(d->date), text(d->reason).toHtmlEscaped());
    return detail;
}

/// The fixes that are offered, and what came of the one that the variant was made by.
QString FindingsCard::offers() const {
    QString offers;
    for (std::size_t i = 0; i < offered_.size(); ++i) {
        const Proposal& p = offered_[i];
        QString expected;
        if (p.high > 0 && p.kind != Proposal::Kind::refine && p.kind != Proposal::Kind::exclude)
            expected = QString(" <span style='color:" + theme::muted.name() + "'>SF %1 → %2 to %3, %4%5 g</span>")
                           .arg(num(p.before), num(p.low), num(p.high), p.mass < 0 ? "−" : "+",
                                QString::number(std::lround(std::abs(1000 * p.mass))));
        offers += QString("<p style='margin:3px 0'>%1%2<br/>%3</p>")
                      .arg(text(p.text).toHtmlEscaped(), expected,
                           link(QString::number(i), p.kind == Proposal::Kind::exclude ? "fill in the disposition"
                                                                                      : "apply as a new variant"));
    }
    if (const auto effect = measuredEffect(session_.project(), session_.variant())) {
        const Origin& o = session_.variant().origin;
        offers = QString("<p style='margin:3px 0'><b>Made from:</b> %1<br/>SF there %2, expected %3, %4</p>")
                     .arg(text(o.proposal).toHtmlEscaped(), num(effect->before),
                          effect->high > 0 ? QString("%1 to %2").arg(num(effect->low), num(effect->high)) : "no change",
                          effect->after
                              ? QString("measured <b>%1</b>%2")
                                    .arg(num(*effect->after), effect->mass ? QString(", %1 g").arg(QString::number(
                                                                                 std::lround(1000 * *effect->mass)))
                                                                           : QString())
                              : QString("not measured yet: run the check")) +
                 offers;
    }
    return offers;
}

void FindingsCard::showDetail() {
    const bool fresh = session_.project().findings(session_.recipe()) != nullptr;
    const Finding* f = chosen();
    const LastKnown k = session_.lastKnown();
    QString detail = findings_.empty() ? (k.findings ? "No peak is that high over its saddle." : "Run the check first.")
                                       : "Select a finding to see it, to test it and to sign its disposition.";
    const bool hot = f && f->kind == Finding::Kind::hotspot;
    const bool tested = hot && f->evidence.verdict != assess::HotspotClass::untested;
    test_->setEnabled(hot && !tested && fresh && !session_.isBusyHere());
    chart_->setVisible(tested);
    offered_.clear();
    if (f) {
        detail = words(f);
        if (fresh) offered_ = proposalsFor(session_.project(), session_.variant(), *f, amount_->value());
    }
    detail_->setText(detail);
    const QString offers = this->offers();
    const bool thickens = std::any_of(offered_.begin(), offered_.end(),
                                      [](const Proposal& p) { return p.kind == Proposal::Kind::thicken; });
    proposals_->setText(offers.isEmpty() ? "" : "<b>Proposals</b>" + offers);
    proposals_->setVisible(!offers.isEmpty());
    amountRow_->setVisible(thickens);
    signing_->setVisible(f != nullptr && fresh);
}

void FindingsCard::followProposal(const QString& key) {
    const auto i = static_cast<std::size_t>(key.toInt());
    if (i >= offered_.size()) return;
    const Proposal p = offered_[i];
    if (p.kind == Proposal::Kind::exclude) {
        decision_->setCurrentText("accept");
        why_->setText(text(p.basis));
        who_->setFocus();
        return;
    }
    session_.edit("Apply: " + text(p.text), [&](Project& project) { applyProposal(project, project.open, p); });
}

void FindingsCard::sign() {
    const bool fresh = session_.project().findings(session_.recipe()) != nullptr;
    const Finding* f = chosen();
    QString error;
    if (!fresh)
        error = "The findings are out of date: run the check again before signing.";
    else if (!f)
        error = "Select the finding that the disposition is for.";
    else if (why_->text().trimmed().isEmpty())
        error = "Give a reason: it goes to the report.";
    else if (who_->text().trimmed().isEmpty())
        error = "Give the name of the engineer who signs.";
    showError(error_, error);
    if (!error.isEmpty()) return;
    const Disposition d =
        signedDisposition(session_.project(), session_.recipe(), *f, decision_->currentText().toStdString(),
                          why_->text().trimmed().toStdString(), who_->text().trimmed().toStdString(),
                          QDate::currentDate().toString(Qt::ISODate).toStdString());
    session_.edit("Disposition of " + text(d.finding), [&](Project& p) { judge::sign(p.variants[p.open], d); });
    why_->clear();
    // on to the next one that nobody has decided on
    for (int r = 0; r < list_->rowCount(); ++r)
        if (list_->item(r, 4)->text() == "open" || list_->item(r, 4)->text() == "◐ changed") {
            list_->setCurrentCell(r, 0);
            list_->scrollToItem(list_->item(r, 0));
            break;
        }
}

}  // namespace escultura::app
