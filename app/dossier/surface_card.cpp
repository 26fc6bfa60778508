#include <cmath>

#include "dossier/card_parts.hpp"
#include "dossier/cards.hpp"
#include "report/part_scene.hpp"
#include "theme/theme.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace judge;
using report::Show;

SurfaceCard::SurfaceCard(Session& session) : Card(session, Stage::surface) {
    makeInputs();
    makeCasting();
    makePrinting();
    connectInputs();
}

void SurfaceCard::makeInputs() {
    smoothing_ = new QuantityEdit(dimension::length, "mm", 0, 100);
    smoothing_->setObjectName("smoothing");
    keepMembers_ = new QCheckBox("keep thin members");
    keepMembers_->setObjectName("keepMembers");
    keepMembers_->setToolTip(
        "Keeps the volume of the field locally: thin members stay, and are smoothed less than the rest.\nWithout it "
        "one threshold keeps the volume of the whole part, and thick members take what thin ones lose.");
    spacing_ = new QuantityEdit(dimension::length, "mm", 0.2, 50);
    spacing_->setObjectName("surfaceSpacing");
    triangles_ = new QComboBox;
    triangles_->setObjectName("triangles");
    triangles_->addItems({"as extracted", "even, finer where curved", "to a budget"});
    budget_ = new QuantityEdit(dimension::none, "", 500, 5e6);
    budget_->setObjectName("triangleBudget");
    figures_ = label("");
    figures_->setObjectName("surfaceFigures");
    bores_ = label("", "muted");
    findings_ = label("");
    findings_->setObjectName("geometryFindings");
    error_ = errorLabel();
    body()->addWidget(field("Smoothing", smoothing_));
    body()->addWidget(field("", keepMembers_));
    smoothing_->setAccessibleName("Smoothing");
    body()->addWidget(field("Edge length", spacing_));
    body()->addWidget(field("Triangles", triangles_));
    budgetRow_ = field("Budget", budget_);
    body()->addWidget(budgetRow_);
    makeMembers();
    body()->addWidget(error_);
    body()->addWidget(figures_);
    body()->addWidget(findings_);
    body()->addWidget(bores_);
    auto toggle = [&](const QString& text, const char* name, Show show) {
        auto* b = new QPushButton(text);
        b->setObjectName(name);
        b->setCheckable(true);
        connect(b, &QPushButton::toggled, this, [this, b, show](bool on) {
            if (on)
                for (auto* other : {deviation_, thickness_, curvature_, draft_, overhangs_})
                    if (other != b) {
                        const QSignalBlocker block(other);
                        other->setChecked(false);
                    }
            emit showAsked(static_cast<int>(on ? show : Show::surface));
        });
        return b;
    };
    deviation_ = toggle("Deviation", "showDeviation", Show::deviation);
    thickness_ = toggle("Thickness", "showThickness", Show::thickness);
    curvature_ = toggle("Curvature", "showCurvature", Show::curvature);
    curvature_->setToolTip("Shows how the surface bends: ripples appear as stripes");
    draft_ = toggle("Show draft", "showDraft", Show::draft);
    overhangs_ = toggle("Show overhangs", "showOverhangs", Show::overhang);
    body()->addWidget(row({deviation_, thickness_, curvature_}));
    export_ = new QPushButton("Export…");
    export_->setObjectName("exportStl");
    export_->setToolTip("STL, 3MF, OBJ or PLY, by the file's ending");
}

void SurfaceCard::makeMembers() {
    smallest_ = new QuantityEdit(dimension::length, "mm", 0, 1000);
    smallest_->setObjectName("smallestMember");
    smallest_->setToolTip("Members of the field that are thinner are listed, and you decide what becomes of each");
    members_ = new MemberList;
    edgeSide_ = new QComboBox;
    edgeSide_->setObjectName("edgeSide");
    edgeSide_->addItems({"all sides", "x low", "x high", "y low", "y high", "z low", "z high"});
    edgeSide_->setAccessibleName("Side of the design space");
    edgeRadius_ = new QuantityEdit(dimension::length, "mm", 0, 1000);
    edgeRadius_->setObjectName("edgeRadius");
    edgeRadius_->setToolTip(
        "Rounding of the edges where the free surface meets a side of the design space; 0: sharp edges");
    edgeError_ = new QuantityEdit(dimension::length, "mm", 0, 50);
    edgeError_->setObjectName("edgeError");
    edgeError_->setToolTip(
        "Most that triangles leave these edges, fillets and rims by: they get shorter there; 0: as they come. "
        "With one threshold they stay as they come.");
    body()->addWidget(field("Edges of the design space", row({edgeSide_, edgeRadius_})));
    body()->addWidget(field("Their chord error", edgeError_));
    body()->addWidget(field("Smallest member", smallest_));
    body()->addWidget(members_);
    connect(smallest_, &QuantityEdit::valueEntered, this,
            [this](double v) { edit("Smallest member", [v](Recipe& r) { r.thin.smallest = v; }); });
    connect(edgeSide_, &QComboBox::activated, this, [this] { refreshBody(); });
    connect(edgeRadius_, &QuantityEdit::valueEntered, this, [this](double v) {
        edit("Edge radius", [v, side = edgeSide_->currentIndex()](Recipe& r) {
            if (side == 0) {
                r.edges.radius = v;
                r.edges.side.fill(-1);
            } else {
                r.edges.side[static_cast<std::size_t>(side - 1)] = v;
            }
        });
    });
    connect(edgeError_, &QuantityEdit::valueEntered, this,
            [this](double v) { edit("Chord error", [v](Recipe& r) { r.edgeError = v; }); });
    connect(members_, &MemberList::placeAsked, this, &SurfaceCard::placeAsked);
    connect(members_, &MemberList::othersDecided, this,
            [this](MemberFate f) { edit("Decision on thin members", [f](Recipe& r) { r.thin.others = f; }); });
    connect(members_, &MemberList::decided, this, [this](const Vec3& at, MemberFate f) {
        edit("Decision on a thin member", [&](Recipe& r) {
            std::erase_if(r.thin.decisions, [&](const MemberDecision& d) { return d.at == at; });
            if (f != MemberFate::undecided || r.thin.others != MemberFate::undecided)
                r.thin.decisions.push_back({at, f});
        });
    });
}

void SurfaceCard::makeCasting() {
    body()->addWidget(heading("Casting"));
    pull_ = new DirectionEdit;
    pull_->setObjectName("pull");
    parting_ = new QuantityEdit(dimension::length, "mm", -1e5, 1e5);
    parting_->setObjectName("parting");
    parting_->setToolTip("Place of the parting plane along the pull direction");
    draftAngle_ = new QuantityEdit(dimension::none, "", 0, 30);
    draftAngle_->setObjectName("draftAngle");
    addDraft_ = new QCheckBox("Add draft (fills undercuts)");
    addDraft_->setObjectName("addDraft");
    casting_ = label("");
    casting_->setObjectName("castingFigures");
    body()->addWidget(field("Pull direction", pull_));
    body()->addWidget(field("Parting plane at", parting_));
    body()->addWidget(field("Wanted draft, °", draftAngle_));
    body()->addWidget(addDraft_);
    body()->addWidget(casting_);
    body()->addWidget(draft_);
}

void SurfaceCard::makePrinting() {
    body()->addWidget(heading("Printing"));
    up_ = new DirectionEdit;
    up_->setObjectName("buildDirection");
    overhang_ = new QuantityEdit(dimension::none, "", 1, 89);
    overhang_->setObjectName("overhangAngle");
    overhang_->setToolTip("Least angle between a surface and the plate that stands without support");
    printing_ = label("");
    printing_->setObjectName("printingFigures");
    best_ = new QPushButton("Use the best");
    best_->setObjectName("bestDirection");
    body()->addWidget(field("Build direction", up_));
    body()->addWidget(field("Overhang limit, °", overhang_));
    body()->addWidget(printing_);
    body()->addWidget(row({overhangs_, best_}));
    body()->addWidget(heading("File"));
    body()->addWidget(export_);
    build_ = addAction("Build surface", "buildSurface");
}

void SurfaceCard::connectInputs() {
    connect(smoothing_, &QuantityEdit::valueEntered, this,
            [this](double v) { edit("Smoothing", [v](Recipe& r) { r.smoothing = v; }); });
    connect(keepMembers_, &QCheckBox::clicked, this,
            [this](bool on) { edit("Keep thin members", [on](Recipe& r) { r.keepMembers = on; }); });
    connect(spacing_, &QuantityEdit::valueEntered, this,
            [this](double v) { edit("Edge length", [v](Recipe& r) { r.surfaceSpacing = v; }); });
    connect(triangles_, &QComboBox::activated, this,
            [this](int i) { edit("Triangles", [i](Recipe& r) { r.triangles = static_cast<Triangles>(i); }); });
    connect(budget_, &QuantityEdit::valueEntered, this,
            [this](double v) { edit("Budget", [v](Recipe& r) { r.triangleBudget = static_cast<int>(v); }); });
    connect(pull_, &DirectionEdit::valueEntered, this,
            [this](const Vec3& v) { edit("Pull direction", [v](Recipe& r) { r.draft.pull = v; }); });
    connect(parting_, &QuantityEdit::valueEntered, this,
            [this](double v) { edit("Parting plane", [v](Recipe& r) { r.draft.parting = v; }); });
    connect(draftAngle_, &QuantityEdit::valueEntered, this,
            [this](double v) { edit("Draft", [v](Recipe& r) { r.draft.angle = v; }); });
    connect(addDraft_, &QCheckBox::clicked, this,
            [this](bool on) { edit("Add draft", [on](Recipe& r) { r.draft.add = on; }); });
    connect(up_, &DirectionEdit::valueEntered, this,
            [this](const Vec3& v) { edit("Build direction", [v](Recipe& r) { r.printing.up = v; }); });
    connect(overhang_, &QuantityEdit::valueEntered, this,
            [this](double v) { edit("Overhang limit", [v](Recipe& r) { r.printing.overhang = v; }); });
    connect(best_, &QPushButton::clicked, this, [this] {
        if (const auto p = session_.project().process(session_.recipe()); p && !p->directions.empty())
            edit("Build direction", [v = p->directions.front().up](Recipe& r) { r.printing.up = v; });
    });
    for (auto* q :
         {smoothing_, spacing_, budget_, smallest_, edgeRadius_, edgeError_, parting_, draftAngle_, overhang_})
        connect(q, &QuantityEdit::errorChanged, this, [this](const QString& e) { showError(error_, e); });
    for (auto* l : {figures_, findings_, casting_, printing_}) {
        l->setTextInteractionFlags(Qt::TextBrowserInteraction);
        connect(l, &QLabel::linkActivated, this, &SurfaceCard::follow);
    }
    connect(build_, &QPushButton::clicked, this, [this] { session_.run(Stage::surface); });
    connect(export_, &QPushButton::clicked, this, &SurfaceCard::exportSurface);
}

void SurfaceCard::edit(const QString& text, const std::function<void(Recipe&)>& change) {
    session_.edit(text, [&](Project& p) { change(p.variants[p.open].recipe); });
}

void SurfaceCard::follow(const QString& key) {
    const LastKnown k = session_.lastKnown();
    if (!k.surface) return;
    if (key == "deviation") {
        deviation_->setChecked(true);
        emit placeAsked(k.surface->deviationMaxAt, "largest deviation, " + num(k.surface->deviationMax) + " mm");
    } else if (key == "wall") {
        thickness_->setChecked(true);
        emit placeAsked(k.surface->thickness.leastAt, "thin wall, " + num(k.surface->thickness.least) + " mm");
    } else if (key == "gravity") {
        emit placeAsked(k.surface->measures.centroid, "centre of gravity");
    } else if (key.startsWith("finding ")) {
        const auto i = static_cast<std::size_t>(key.section(' ', 1).toInt());
        if (i < k.surface->findings.size())
            emit placeAsked(k.surface->findings[i].position, name(k.surface->findings[i].kind));
    } else if (const auto p = session_.project().process(session_.recipe())) {
        if (key == "draft") {
            draft_->setChecked(true);
            emit placeAsked(p->draft.worstAt, "worst draft");
        }
        if (key == "overhang") {
            overhangs_->setChecked(true);
            emit placeAsked(p->overhang.worstAt, "largest overhang");
        }
    }
}

QString SurfaceCard::summary() const {
    const LastKnown k = session_.lastKnown();
    if (!k.surface) return "not built yet";
    const std::size_t warnings = k.surface->findings.size();
    return QString("off by %1 mm · %2 · %3")
        .arg(num(k.surface->deviationRms), mass(k.surface->measures.volume * session_.part().material.density),
             warnings == 0   ? QString("nothing lost")
             : warnings == 1 ? QString("1 warning")
                             : QString("%1 warnings").arg(warnings));
}

void SurfaceCard::showFigures(const SurfaceResult& s) {
    const QString muted = "<span style='color:" + theme::muted.name() + "'>%1</span>";
    const auto& m = s.measures;
    const Vec3& g = m.centroid;
    auto rounded = [](double v) { return std::abs(v) < 0.05 ? QString("0") : num(v); };
    figures_->setText(
        figures({{"Mass", mass(m.volume * session_.part().material.density)},
                 {"Volume", num(m.volume / 1000, 5) + " cm³"},
                 {"Asked volume", num(s.askedVolume / 1000, 5) + " cm³ (" +
                                      QString::number(100 * (m.volume / s.askedVolume - 1), 'f', 2) + " %)"},
                 {"Deviation, RMS and 95 %", num(s.deviationRms) + " / " + num(s.deviation95) + " mm"},
                 {"Largest deviation", link("deviation", num(s.deviationMax) + " mm")},
                 {"0.1 % of the walls thinner than",
                  s.thickness.least > 0 ? link("wall", num(s.thickness.least) + " mm") : QString("none")},
                 {"5 %, half thinner than", num(s.thickness.low5) + " / " + num(s.thickness.median) + " mm"},
                 {"Centre of gravity",
                  link("gravity", QString("%1, %2, %3 mm").arg(rounded(g[0]), rounded(g[1]), rounded(g[2])))},
                 {"Closed, pieces, handles",
                  QString("%1, %2, %3").arg(m.watertight ? "yes" : "no").arg(m.pieces).arg(m.genus) +
                      (m.cavities > 0 ? QString(", closed cavities: %1").arg(m.cavities) : QString())},
                 {"Triangles",
                  QString::number(s.mesh.triangle.size()) +
                      (s.finerSpacing > 0 ? QString(", edges of %1 mm to keep the handles").arg(num(s.finerSpacing))
                                          : QString())}}));
    QStringList lines;
    for (std::size_t i = 0; i < s.findings.size(); ++i)
        lines << "! " + link(QString("finding %1").arg(i), QString::fromStdString(s.findings[i].text).toHtmlEscaped());
    findings_->setText(lines.isEmpty()
                           ? theme::coloured("✓ No member, gap or interface of the field is lost.", theme::teal)
                           : muted.arg("Compared with the raw field") + "<br/>" + lines.join("<br/>"));
    double worst = 0;
    for (const auto& b : s.bores) worst = std::max(worst, b.error);
    bores_->setText(s.bores.empty() ? QString()
                                    : QString("%1 bores, round and to size within %2 mm")
                                          .arg(s.bores.size())
                                          .arg(worst < 1e-6 ? "0.000001" : num(worst, 2)));
}

void SurfaceCard::showMaking(const SurfaceResult& s, const ProcessResult& process) {
    const auto& d = process.draft;
    QList<QPair<QString, QString>> casting{
        {"Draft too small", link("draft", num(d.tooSteepArea / 100) + " cm² (" +
                                              num(d.freeArea > 0 ? 100 * d.tooSteepArea / d.freeArea : 0) + " %)")},
        {"Of this undercut", num(d.undercutArea / 100) + " cm²"}};
    if (session_.recipe().draft.add) casting.push_back({"Added by draft", num(s.draftVolume / 1000) + " cm³"});
    casting_->setText(figures(casting));
    const auto& o = process.overhang;
    QList<QPair<QString, QString>> printing{{"Overhanging area", link("overhang", num(o.area / 100) + " cm²")},
                                            {"Support volume", num(o.supportVolume / 1000) + " cm³"},
                                            {"Surface touched by supports", num(100 * o.touchedShare) + " %"}};
    if (!process.directions.empty()) {
        const auto& b = process.directions.front();
        printing.push_back({"Best of " + QString::number(process.directions.size()) + " directions",
                            QString("(%1, %2, %3), %4 cm³")
                                .arg(num(b.up[0], 2), num(b.up[1], 2), num(b.up[2], 2), num(b.supportVolume / 1000))});
    }
    printing_->setText(figures(printing));
}

void SurfaceCard::refreshBody() {
    const Recipe& r = session_.recipe();
    smoothing_->setValue(r.smoothing);
    keepMembers_->setChecked(r.keepMembers);
    if (const auto field = session_.project().field(r))
        smallest_->setAutomatic("one cell: " + num(field->field.spacing.maxCoeff()) + " mm");
    smallest_->setValue(r.thin.smallest);
    edgeRadius_->setValue(edgeSide_->currentIndex() == 0 ? r.edges.radius : r.edges.at(edgeSide_->currentIndex() - 1));
    edgeError_->setValue(r.edgeError);
    edgeError_->setEnabled(r.keepMembers);
    spacing_->setValue(r.surfaceSpacing);
    triangles_->setCurrentIndex(static_cast<int>(r.triangles));
    budgetRow_->setVisible(r.triangles == Triangles::budget);
    budget_->setValue(r.triangleBudget);
    pull_->setValue(r.draft.pull);
    parting_->setValue(r.draft.parting);
    draftAngle_->setValue(r.draft.angle);
    addDraft_->setChecked(r.draft.add);
    up_->setValue(r.printing.up);
    overhang_->setValue(r.printing.overhang);
    const LastKnown k = session_.lastKnown();
    members_->show(k.surface.get(), r.thin);
    build_->setEnabled(!session_.isAskedFor(Stage::surface));
    for (auto* b : {deviation_, thickness_, curvature_, draft_, overhangs_, export_})
        b->setEnabled(k.surface != nullptr);
    const auto process = session_.project().process(r);
    best_->setEnabled(process && !process->directions.empty() &&
                      (process->directions.front().up - r.printing.up).norm() > 1e-6);
    const QString muted = "<span style='color:" + theme::muted.name() + "'>%1</span>";
    if (!k.surface) {
        figures_->setText(muted.arg("Build the surface to see its figures."));
        findings_->setText({});
        bores_->setText({});
        casting_->setText({});
        printing_->setText({});
        return;
    }
    const SurfaceResult& s = *k.surface;
    showFigures(s);
    if (!process) {
        const QString hint = muted.arg("Show it to measure.");
        casting_->setText(hint);
        printing_->setText(hint);
        return;
    }
    showMaking(s, *process);
}

}  // namespace escultura::app
