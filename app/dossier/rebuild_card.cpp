#include <cmath>

#include "dossier/card_parts.hpp"
#include "dossier/cards.hpp"
#include "report/part_scene.hpp"
#include "theme/theme.hpp"

namespace escultura::app {

namespace {
/// Two digits, also of very small numbers.
QString brief(double v) {
    return QString::number(v, 'g', 2);
}
}  // namespace

using namespace duty;
using namespace project;
using report::Show;

RebuildCard::RebuildCard(Session& session) : Card(session, Stage::rebuild) {
    makeInputs();
    layOut();
    connectInputs();
}

void RebuildCard::makeInputs() {
    tolerance_ = new QuantityEdit(dimension::length, "mm", 0, 1e3);
    tolerance_->setObjectName("cageTolerance");
    tolerance_->setToolTip(
        "Largest distance between the cage's smooth body and the surface that matters to you; its root mean square may "
        "be a fifth of that. The cage gets the fewest faces that keep it. Automatic: half a cell of the field");
    size_ = new QuantityEdit(dimension::length, "mm", 0, 1e3);
    size_->setObjectName("faceSize");
    size_->setToolTip("Edge length of the cage's faces. Automatic: the largest that keep the tolerance");
    size_->setAutomatic("automatic");
    count_ = new QuantityEdit(dimension::none, "", 0, 100000);
    count_->setObjectName("faceCount");
    count_->setToolTip("Wanted count of faces. Automatic: the fewest that keep the tolerance");
    count_->setAutomatic("automatic");
    adapt_ = new QCheckBox("smaller faces where the fit deviates");
    adapt_->setObjectName("adaptCage");
    error_ = errorLabel();
    cage_ = label("");
    cage_->setObjectName("cageFigures");
    solid_ = label("");
    solid_->setObjectName("solidFigures");
    problems_ = label("");
    problems_->setObjectName("rebuildProblems");
    fit_ = new QPushButton("Fit cage");
    fit_->setObjectName("fitCage");
    edit_ = new QPushButton("Edit cage…");
    edit_->setObjectName("openCageTools");
    features_ = new QPushButton("Features…");
    features_->setObjectName("openFeatures");
    deviation_ = new QPushButton("Show deviation");
    deviation_->setObjectName("showCageDeviation");
    step_ = new QPushButton("Write STEP…");
    step_->setObjectName("writeStep");
    quick_ = new QPushButton("Quick check");
    quick_->setObjectName("quickCheck");
    quick_->setToolTip(
        "Rebuild the solid and check it at level look (Ctrl+L). The shelf keeps what was checked before");
}

void RebuildCard::layOut() {
    body()->addWidget(heading("Control cage"));
    body()->addWidget(field("Tolerance", tolerance_));
    body()->addWidget(field("Face size", size_));
    body()->addWidget(field("Face count", count_));
    body()->addWidget(adapt_);
    body()->addWidget(error_);
    body()->addWidget(row({fit_, edit_}));
    body()->addWidget(cage_);
    body()->addWidget(deviation_);
    body()->addWidget(heading("Solid"));
    body()->addWidget(row({features_, step_}));
    body()->addWidget(solid_);
    body()->addWidget(problems_);
    body()->addWidget(quick_);
    rebuild_ = addAction("Rebuild solid", "rebuildSolid");
}

void RebuildCard::connectInputs() {
    auto change = [this](const QString& text, const std::function<void(Rebuild&)>& how) {
        session_.edit(text, [&](Project& p) { how(p.variants[p.open].recipe.rebuild); });
    };
    connect(tolerance_, &QuantityEdit::valueEntered, this, [change](double v) {
        change("Cage tolerance", [v](Rebuild& r) {
            r.tolerance = v;
            r.faceSize = r.faceCount = 0;
        });
    });
    connect(size_, &QuantityEdit::valueEntered, this,
            [change](double v) { change("Face size", [v](Rebuild& r) { r.faceSize = v; }); });
    connect(count_, &QuantityEdit::valueEntered, this, [change](double v) {
        change("Face count", [v](Rebuild& r) {
            r.faceCount = static_cast<int>(std::lround(v));
            if (r.faceCount > 0) r.faceSize = 0;
        });
    });
    for (auto* e : {tolerance_, size_, count_})
        connect(e, &QuantityEdit::errorChanged, this, [this](const QString& text) { showError(error_, text); });
    connect(adapt_, &QCheckBox::clicked, this,
            [change](bool on) { change("Smaller faces", [on](Rebuild& r) { r.adapt = on; }); });
    connect(fit_, &QPushButton::clicked, this, [this] {
        auto copy = std::make_shared<Project>(session_.project());
        session_.work(
            "Control cage", [copy](Progress& p) { runCage(*copy, copy->current().recipe, p); },
            [this] {
                emit session_.changed();
                emit showAsked(static_cast<int>(Show::cage));
            });
    });
    connect(edit_, &QPushButton::clicked, this, [this] { emit toolAsked(Tool::cage); });
    connect(features_, &QPushButton::clicked, this, [this] { emit toolAsked(Tool::features); });
    connect(deviation_, &QPushButton::clicked, this, [this] { emit showAsked(static_cast<int>(Show::cageDeviation)); });
    connect(step_, &QPushButton::clicked, this, &RebuildCard::exportSolid);
    connect(quick_, &QPushButton::clicked, this, [this] { session_.quickCheck(); });
    connect(rebuild_, &QPushButton::clicked, this, [this] { session_.run(Stage::rebuild); });
}

QString RebuildCard::summary() const {
    const LastKnown k = session_.lastKnown();
    if (!k.rebuild && !k.cage) return "no cage yet";
    if (!k.rebuild) return QString("cage of %1 faces · no solid yet").arg(k.cage->cage.face.size());
    int failed = 0;
    for (const auto& f : k.rebuild->solid.features) failed += !f.built;
    return QString("%1 · %2 faces · %3")
        .arg(mass(k.rebuild->mass))
        .arg(k.rebuild->solid.solid.faces)
        .arg(!k.rebuild->problems.empty() ? QString("%1 to repair").arg(k.rebuild->problems.size())
             : failed                     ? QString("%1 features failed").arg(failed)
                                          : "valid and closed");
}

/// What is known of the cage.
QString RebuildCard::cageWords(const LastKnown& k, bool hasSurface) const {
    QString text;
    if (k.cage) {
        const auto& d = k.cage->deviation;
        auto share = [&](double v) { return brief(v) + " mm · " + brief(100 * v / d.edge) + " % of edge"; };
        text = figures({{"faces", QString("%1, edges of %2 mm").arg(k.cage->cage.face.size()).arg(num(d.edge))},
                        {"tolerance", k.cage->tolerance > 0
                                          ? num(k.cage->tolerance) + " mm, " + (k.cage->within ? "kept" : "NOT kept")
                                          : QString("none: faces given, or changed afterwards")},
                        {"irregular vertices", QString::number(k.cage->irregular)},
                        {"pieces, handles", QString("%1, %2 (target %3, %4)")
                                                .arg(k.cage->report.pieces)
                                                .arg(k.cage->report.genus)
                                                .arg(k.cage->targetPieces)
                                                .arg(k.cage->targetGenus)},
                        {"deviation, RMS", share(d.rms)},
                        {"largest", share(d.largest)},
                        {"from the surface back", share(d.backLargest)},
                        {"at interfaces", brief(d.zoneLargest) + " mm, then exact"},
                        {"folds", k.cage->folded.empty() ? "none" : QString::number(k.cage->folded.size())}});
        if (k.cage->byHand) text += "<br/>Edited by hand.";
        for (const auto& n : k.cage->notes) text += "<br/>" + QString::fromStdString(n).toHtmlEscaped();
        if (!session_.project().cage(session_.recipe()))
            text += "<br/>" + theme::coloured("◐ out of date", theme::ochre);
    } else {
        text = hasSurface ? "Fit the cage: it wraps the surface in quads that drive a smooth body."
                          : "Build the surface first.";
    }
    return text;
}

/// What is known of the solid.
QString RebuildCard::solidWords(const LastKnown& k) const {
    QString words;
    const auto solid = session_.project().rebuild(session_.recipe());
    if (k.rebuild) {
        const auto& b = *k.rebuild;
        int built = 0;
        for (const auto& f : b.solid.features) built += f.built;
        words =
            figures({{"mass", mass(b.mass)},
                     {"volume", num(b.solid.solid.volume, 6) + " mm³"},
                     {"patches to limit surface",
                      brief(100 * std::abs(b.solid.free.volume / b.limit.volume - 1)) + " % of volume"},
                     {"faces, handles",
                      QString("%1, %2 (surface %3)").arg(b.solid.solid.faces).arg(b.genus).arg(b.surfaceGenus)},
                     {"kinks between patches", brief(b.irregularJump) + "° (regular " +
                                                   (b.regularJump < 1e-6 ? QString("0") : num(b.regularJump)) + "°)"},
                     {"features", QString("%1 of %2 built").arg(built).arg(b.solid.features.size())}});
        if (k.check && session_.recipe().check.rebuilt && solid && session_.project().check(session_.recipe()))
            words +=
                "<br/>" +
                figures({{"mesh of the check to solid",
                          brief(100 * std::abs(k.check->quality.volume / b.solid.solid.volume - 1)) + " % of volume"}});
        if (!solid) words += "<br/>" + theme::coloured("◐ out of date", theme::ochre);
    } else {
        words = "Rebuild makes patches of the cage, joins them to a solid and works the features.";
    }
    return words;
}

void RebuildCard::refreshBody() {
    const Rebuild& r = session_.recipe().rebuild;
    const LastKnown k = session_.lastKnown();
    const bool surface = session_.project().surface(session_.recipe()) != nullptr;
    const bool busy = session_.isBusy();
    const auto cage = session_.project().cage(session_.recipe());
    const auto field = session_.project().field(session_.recipe());
    const bool byTolerance = r.faceSize == 0 && r.faceCount == 0;
    tolerance_->setAutomatic(!byTolerance ? "not used: faces are given below"
                             : field      ? "automatic: " + num(stages::cageTolerance(*field, Recipe{})) + " mm"
                                          : QString("automatic"));
    tolerance_->setValue(byTolerance ? r.tolerance : 0);
    const QString chosen = cage && byTolerance && !cage->byHand ? "automatic: " : "automatic";
    size_->setAutomatic(chosen == "automatic" ? chosen : chosen + num(cage->faceSize) + " mm");
    count_->setAutomatic(chosen == "automatic" ? chosen : chosen + QString::number(cage->cage.face.size()));
    size_->setValue(r.faceSize);
    count_->setValue(r.faceCount);
    adapt_->setChecked(r.adapt);
    const auto solid = session_.project().rebuild(session_.recipe());
    fit_->setEnabled(surface && !busy && !cage);
    edit_->setEnabled(surface);
    deviation_->setEnabled(k.cage != nullptr);
    step_->setEnabled(solid && !busy);
    quick_->setEnabled(!session_.isAskedFor(Stage::findings));
    rebuild_->setEnabled(!session_.isAskedFor(Stage::rebuild) && !solid);
    cage_->setText(cageWords(k, surface));
    solid_->setText(solidWords(k));
    QString problems;
    if (solid)
        for (const auto& p : solid->problems) problems += "<li>" + QString::fromStdString(p).toHtmlEscaped() + "</li>";
    problems_->setText(problems.isEmpty() ? ""
                                          : theme::coloured("To repair before release:", theme::clay) +
                                                "<ul style='margin-left:-24px'>" + problems + "</ul>");
    problems_->setVisible(!problems.isEmpty());
}

}  // namespace escultura::app
