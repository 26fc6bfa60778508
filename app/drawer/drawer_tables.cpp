// The drawer's tables filled with what the session holds.

#include <algorithm>
#include <cmath>

#include "drawer/drawer.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace judge;

void Drawer::refreshFields() {
    QList<QStringList> rows;
    const Project& p = session_.project();
    const auto& choice = session_.recipe().field;
    const auto now = p.field();
    for (std::size_t f = 0; f < p.part.fields.size(); ++f) {
        const NamedField& field = p.part.fields[f];
        using How = FieldChoice::How;
        const bool used = choice.how == How::one ? choice.which == static_cast<int>(f) : choice.how != How::made;
        rows << QStringList{QString::fromStdString(field.name), QString::fromStdString(field.source.path),
                            used ? (choice.how == How::one ? "used" : "used with others") : "not used"};
    }
    if (choice.how == FieldChoice::How::made) rows << QStringList{"optimised here", "", "used"};
    if (now && !rows.isEmpty()) {
        const field::DensityField& cells = now->field;
        const ThresholdFigures t = thresholdFigures(session_.part(), *now, session_.recipe());
        for (QStringList& row : rows)
            if (row[2] == "used")
                row << QString("%1 × %2 × %3").arg(cells.cells[0]).arg(cells.cells[1]).arg(cells.cells[2])
                    << num(cells.spacing.minCoeff()) << num(100 * t.share) << num(t.mass) << num(100 * t.grey);
    }
    fill(fields_, rows);
}

void Drawer::refreshLosses(const LastKnown& k) {
    QList<QStringList> rows;
    lossPlaces_.clear();
    const bool fresh = session_.freshness(Stage::surface) == Freshness::fresh;
    const QString state = fresh ? QString() : QString("◐ out of date");
    auto add = [&](const QString& what, const QString& before, const QString& after, const Vec3& at,
                   const QString& words) {
        rows << QStringList{what, before, after, num(at[0], 4), num(at[1], 4), num(at[2], 4), words, state};
        lossPlaces_.push_back({at, what});
    };
    if (k.surface) {
        for (const GeometryFinding& f : k.surface->findings)
            add(name(f.kind), f.before > 0 ? num(f.before) : "", f.after > 0 ? num(f.after) : "", f.position,
                QString::fromStdString(f.text));
        for (const ThinMember& m : k.surface->members)
            add("thin member", num(m.thickness), m.after > 0 ? num(m.after) : "left out", m.at,
                QString("%1 mm long; %2").arg(num(m.length), text(duty::name(m.fate))));
    }
    if (rows.isEmpty()) rows << QStringList{k.surface ? "nothing lost" : "no surface yet"};
    fill(losses_, rows);
}

void Drawer::refreshReleases() {
    QList<QStringList> rows;
    const Project& p = session_.project();
    for (auto r = p.releases.rbegin(); r != p.releases.rend(); ++r)
        rows << QStringList{QString::number(r->number),
                            text(r->variantName),
                            text(r->name),
                            text(r->role),
                            text(r->date),
                            text(r->remark)};
    fill(releases_, rows);
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
            line(c, "all (about the origin)", "stated", c.meant, c.meantMoment, "");
            line(c, "all (about the origin)", "applied", c.applied, c.appliedMoment,
                 c.appliedAsMeant ? "as stated" : "not as stated");
            for (const auto& r : c.reactions)
                line(c, QString::fromStdString(r.interface), "reaction", r.force, r.moment, "");
            line(c, "all (about the origin)", "reaction", c.reaction, c.reactionMoment,
                 c.equilibriumError <= 1e-6 ? "in equilibrium" : "not in equilibrium");
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
