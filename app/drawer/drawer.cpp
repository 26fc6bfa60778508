#include "drawer/drawer.hpp"

#include <QApplication>
#include <QClipboard>
#include <QPushButton>
#include <QScrollArea>
#include <algorithm>
#include <cmath>

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace judge;

Drawer::Drawer(Session& session, QWidget* parent) : QTabWidget(parent), session_(session) {
    setObjectName("drawer");
    setDocumentMode(true);
    setStyleSheet("QTabBar::tab { padding: 8px 9px; }");
    findings_ = table({"Id", "Class", "Peak, MPa", "Safety factor", "Load case", "Above 80 %, mm²", "Nearest interface",
                       "Distance, mm", "Sharpest edge, °", "Hollow radius, mm", "Exponent", "x, mm", "y, mm", "z, mm",
                       "What", "Disposition"});
    findings_->setObjectName("drawerFindings");
    resultants_ = table({"Load case", "Interface", "What", "x, N", "y, N", "z, N", "Size, N", "Moment x, N m", "y, N m",
                         "z, N m", "As meant"});
    resultants_->setObjectName("drawerResultants");
    quality_ =
        table({"Element", "Smallest angle, °", "Aspect ratio", "Scaled Jacobian", "x, mm", "y, mm", "z, mm", "State"});
    quality_->setObjectName("drawerQuality");
    readings_ = table({"Place", "x, mm", "y, mm", "z, mm"});
    readings_->setObjectName("drawerReadings");
    log_ = new QPlainTextEdit;
    log_->setObjectName("log");
    log_->setReadOnly(true);
    log_->setFrameShape(QFrame::NoFrame);
    interfaces_ = new InterfacesPanel(session_);
    duty_ = new DutyPanel(session_);
    cage_ = new CagePanel(session_);
    features_ = new FeaturesPanel(session_);
    requirements_ = new RequirementsPanel(session_);
    variants_ = new VariantsPanel(session_);
    studies_ = new StudiesPanel(session_);
    history_ = table({"Time", "Who", "What"});
    history_->setObjectName("drawerHistory");
    setUsesScrollButtons(true);
    addTab(findings_, "Findings");
    // forms that are taller than the drawer scroll: they must not take the view's room
    auto scrolled = [](QWidget* page) {
        auto* area = new QScrollArea;
        area->setFrameShape(QFrame::NoFrame);
        area->setWidgetResizable(true);
        area->setWidget(page);
        return area;
    };
    addTab(scrolled(variants_), "Variants");
    addTab(scrolled(studies_), "Studies");
    addTab(scrolled(requirements_), "Requirements");
    addTab(duty_, "Loads and supports");
    addTab(interfaces_, "Interfaces");
    addTab(cage_, "Cage");
    addTab(features_, "Features");
    addTab(resultants_, "Reactions");
    addTab(quality_, "Worst elements");
    addTab(readings_, "Readings");
    addTab(history_, "History");
    addTab(log_, "Log");
    auto* copy = new QPushButton("Copy as CSV");
    copy->setObjectName("copyCsv");
    connect(copy, &QPushButton::clicked, this, [this] {
        if (const auto* t = qobject_cast<QTableWidget*>(currentWidget()))
            QApplication::clipboard()->setText(tableAsCsv(t));
        else if (const auto* t = currentWidget()->findChild<QTableWidget*>())
            QApplication::clipboard()->setText(tableAsCsv(t));
        else
            QApplication::clipboard()->setText(log_->toPlainText());
    });
    setCornerWidget(copy);
    connect(findings_, &QTableWidget::currentCellChanged, this, [this](int r) {
        if (r >= 0 && findings_->item(r, 0)) emit findingChosen(findings_->item(r, 0)->text());
    });
    connect(quality_, &QTableWidget::currentCellChanged, this, [this](int r) {
        if (r >= 0) emit poorElementChosen(r);
    });
    connect(this, &QTabWidget::currentChanged, this, [this] {
        if (qobject_cast<QScrollArea*>(currentWidget())) emit roomAsked(330);
        if (isVisible() && (currentWidget()->isAncestorOf(variants_) || currentWidget()->isAncestorOf(studies_)))
            refresh();
    });
    connect(requirements_, &RequirementsPanel::failed, this, &Drawer::failed);
    connect(studies_, &StudiesPanel::failed, this, &Drawer::failed);
    connect(&session_, &Session::logged, log_, &QPlainTextEdit::appendPlainText);
}

void Drawer::refreshFindings(const LastKnown& k) {
    QList<QStringList> rows;
    const Project& p = session_.project();
    const bool fresh = p.findings(session_.recipe()) != nullptr;
    const std::vector<Finding> findings = fresh        ? findingsOf(p, session_.recipe())
                                          : k.findings ? k.findings->findings
                                                       : std::vector<Finding>{};
    for (const Finding& f : findings) {
        const DispositionState s = dispositionState(p, session_.variant(), f);
        const bool hot = f.kind == Finding::Kind::hotspot;
        const assess::Evidence& e = f.evidence;
        const bool tested = e.verdict != assess::HotspotClass::untested;
        rows << QStringList{QString::fromStdString(f.id),
                            QString::fromStdString(classOf(f)),
                            hot ? num(f.peak, 4) : QString(),
                            hot ? num(f.safetyFactor) : QString(),
                            QString::fromStdString(f.caseName),
                            hot ? num(f.area) : QString(),
                            QString::fromStdString(f.nearestInterface),
                            num(f.distance),
                            tested ? (e.angle < 179.5 ? num(e.angle) : QString("smooth")) : QString(),
                            tested ? (std::isfinite(e.radius) ? num(e.radius, 2) : QString("none")) : QString(),
                            tested ? num(e.exponent, 2) : QString(),
                            num(f.position[0], 4),
                            num(f.position[1], 4),
                            num(f.position[2], 4),
                            QString::fromStdString(tested ? e.reason : f.text),
                            !fresh ? QString("out of date")
                            : s.disposition
                                ? (s.holds ? QString() : QString("◐ changed since: ")) +
                                      QString::fromStdString(s.disposition->decision + ": " + s.disposition->reason)
                                : QString("open")};
    }
    {
        const QSignalBlocker block(findings_);
        fill(findings_, rows);
        findings_->setSortingEnabled(true);
    }
}

void Drawer::refreshResultants(const LastKnown& k) {
    QList<QStringList> rows;
    auto line = [&](const CaseResult& c, const QString& interface, const QString& what, const Vec3& f, const Vec3& m,
                    const QString& state) {
        auto n = [](double x, double size) { return num(std::abs(x) < 1e-6 * (size + 1e-9) ? 0 : x, 5); };
        rows << QStringList{QString::fromStdString(c.name),
                            interface,
                            what,
                            n(f[0], f.norm()),
                            n(f[1], f.norm()),
                            n(f[2], f.norm()),
                            n(f.norm(), f.norm()),
                            n(m[0] / 1000, m.norm() / 1000),
                            n(m[1] / 1000, m.norm() / 1000),
                            n(m[2] / 1000, m.norm() / 1000),
                            state};
    };
    if (k.check)
        for (const CaseResult& c : k.check->cases) {
            line(c, "all (about the origin)", "meant", c.meant, c.meantMoment, "");
            line(c, "all (about the origin)", "applied", c.applied, c.appliedMoment, c.appliedAsMeant ? "yes" : "no");
            for (const auto& r : c.reactions)
                line(c, QString::fromStdString(r.interface), "reaction", r.force, r.moment, "");
            line(c, "all (about the origin)", "reaction", c.reaction, c.reactionMoment,
                 c.equilibriumError <= 1e-6 ? "balanced" : "not balanced");
        }
    fill(resultants_, rows);
}

void Drawer::refreshHistory() {
    QList<QStringList> rows;
    const Project& p = session_.project();
    for (auto e = p.history.rbegin(); e != p.history.rend() && rows.size() < 500; ++e)
        rows << QStringList{QString::fromStdString(e->time).replace('T', ' '), QString::fromStdString(e->who),
                            QString::fromStdString(e->text)};
    fill(history_, rows);
}

void Drawer::refreshQuality(const LastKnown& k) {
    QList<QStringList> rows;
    const mesh::QualityLimits limits;
    if (k.check)
        for (const auto& w : k.check->quality.worst) {
            const bool bad =
                w.dihedral < limits.failDihedral || w.aspect > limits.failAspect || !(w.jacobian > limits.failJacobian);
            const bool poor =
                w.dihedral < limits.warnDihedral || w.aspect > limits.warnAspect || w.jacobian < limits.warnJacobian;
            rows << QStringList{QString::number(w.element + 1),
                                num(w.dihedral),
                                num(w.aspect),
                                num(w.jacobian),
                                num(w.middle[0], 4),
                                num(w.middle[1], 4),
                                num(w.middle[2], 4),
                                bad    ? "bad"
                                : poor ? "poor"
                                       : "good"};
        }
    {
        const QSignalBlocker block(quality_);
        fill(quality_, rows);
    }
}

void Drawer::refresh() {
    if (!session_.hasProject()) return;
    interfaces_->refresh();
    duty_->refresh();
    cage_->refresh();
    features_->refresh();
    const LastKnown k = session_.lastKnown();
    requirements_->refresh();
    if (currentWidget()->isAncestorOf(variants_)) variants_->refresh();
    if (currentWidget()->isAncestorOf(studies_)) studies_->refresh();
    refreshFindings(k);
    refreshResultants(k);
    refreshHistory();
    refreshQuality(k);
    refreshReadings();
}

void Drawer::openTable(int which) {
    QWidget* pages[] = {duty_,         interfaces_, resultants_, cage_,    features_,
                        requirements_, variants_,   studies_,    findings_};
    QWidget* page = pages[std::clamp(which, 0, 8)];
    for (int tab = 0; tab < count(); ++tab)
        if (widget(tab)->isAncestorOf(page) || widget(tab) == page) setCurrentIndex(tab);
    if (isVisible()) refresh();
}

void Drawer::setReadings(std::vector<Vec3> places, Quantity quantity, const std::string& unit,
                         const std::string& frame) {
    places_ = std::move(places);
    quantity_ = quantity;
    unit_ = unit;
    frame_ = frame;
    if (isVisible()) refreshReadings();
}

void Drawer::refreshReadings() {
    if (!session_.hasProject()) return;
    const Project& p = session_.project();
    QStringList head{"Place", "x, mm", "y, mm", "z, mm"};
    struct Column {
        std::shared_ptr<const CheckResult> check;
        int loadCase;
        const Part* part;
    };
    std::vector<Column> columns;
    const Measure kind = measure(quantity_);
    const std::string unit = unit_.empty() ? unitsOf(kind).front() : unit_;
    for (std::size_t v = 0; v < p.variants.size(); ++v) {
        const auto check = session_.lastKnown(v).check;
        if (!check) continue;
        const QString variant = p.variants.size() > 1 ? QString::fromStdString(p.variants[v].name) + ": " : "";
        for (int c = -1; c < static_cast<int>(check->cases.size()); ++c) {
            columns.push_back({check, c, &p.partOf(p.variants[v].recipe)});
            head << variant + (c < 0 ? "worst" : QString::fromStdString(check->cases[c].name)) +
                        (unit.empty() ? "" : ", " + QString::fromStdString(unit));
        }
    }
    readings_->setColumnCount(static_cast<int>(head.size()));
    readings_->setHorizontalHeaderLabels(head);
    QList<QStringList> rows;
    for (std::size_t k = 0; k < places_.size(); ++k) {
        const Vec3& at = places_[k];
        QStringList cells{QString("%1").arg(k + 1), num(at[0], 4), num(at[1], 4), num(at[2], 4)};
        const CheckResult* last = nullptr;
        std::size_t node = 0;
        for (const Column& c : columns) {
            if (c.check.get() != last) {
                last = c.check.get();
                double best = 1e300;
                for (const auto& f : last->mesh.boundary)
                    for (auto n : f) {
                        const double d = (last->mesh.position[n] - at).squaredNorm();
                        if (d < best) {
                            best = d;
                            node = static_cast<std::size_t>(n);
                        }
                    }
            }
            cells << num(
                inUnit(quantityAt(*c.part, *c.check, quantity_, c.loadCase, node, c.part->axesOf(frame_)), kind, unit),
                4);
        }
        rows << cells;
    }
    fill(readings_, rows);
}

}  // namespace escultura::app
