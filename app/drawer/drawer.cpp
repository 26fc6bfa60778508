#include "drawer/drawer.hpp"

#include <QApplication>
#include <QClipboard>
#include <QPushButton>

namespace escultura::app {

using namespace project;

Drawer::Drawer(Session& session, QWidget* parent) : QTabWidget(parent), session_(session) {
    setObjectName("drawer");
    setDocumentMode(true);
    findings_ = table({"Id", "Class", "Peak, MPa", "Safety factor", "Load case", "x, mm", "y, mm", "z, mm",
                       "Nearest interface", "Distance, mm", "Above 80 %, mm²", "Disposition"});
    findings_->setObjectName("drawerFindings");
    resultants_ = table({"Load case", "Interface", "Applied or reaction", "x, N", "y, N", "z, N", "Size, N"});
    resultants_->setObjectName("drawerResultants");
    quality_ = table({"Smallest dihedral angle of an element", "Elements", "Share, %"});
    log_ = new QPlainTextEdit;
    log_->setObjectName("log");
    log_->setReadOnly(true);
    log_->setFrameShape(QFrame::NoFrame);
    interfaces_ = new InterfacesPanel(session_);
    addTab(findings_, "Findings");
    addTab(interfaces_, "Interfaces");
    addTab(resultants_, "Load resultants");
    addTab(quality_, "Mesh quality");
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
    connect(&session_, &Session::logged, log_, &QPlainTextEdit::appendPlainText);
}

void Drawer::refresh() {
    if (!session_.hasProject()) return;
    interfaces_->refresh();
    const LastKnown k = session_.lastKnown();
    QList<QStringList> rows;
    const bool fresh = session_.project().findings(session_.recipe()) != nullptr;
    if (k.findings)
        for (const Finding& f : k.findings->findings) {
            const Disposition* d = dispositionOf(session_.project(), session_.variant(), f.id);
            rows << QStringList{QString::fromStdString(f.id),
                                QString::fromStdString(f.place),
                                num(f.peak, 4),
                                num(f.safetyFactor),
                                QString::fromStdString(f.caseName),
                                num(f.position[0], 4),
                                num(f.position[1], 4),
                                num(f.position[2], 4),
                                QString::fromStdString(f.nearestInterface),
                                num(f.distance),
                                num(f.area),
                                !fresh ? "out of date"
                                : d    ? QString::fromStdString(d->decision + ": " + d->reason)
                                       : "open"};
        }
    {
        const QSignalBlocker block(findings_);
        fill(findings_, rows);
        findings_->setSortingEnabled(true);
    }
    rows.clear();
    auto force = [&](const std::string& loadCase, const QString& interface, const QString& kind, const Vec3& f) {
        auto n = [&](double x) { return num(std::abs(x) < 1e-6 * (f.norm() + 1e-9) ? 0 : x, 5); };
        rows << QStringList{QString::fromStdString(loadCase), interface, kind, n(f[0]), n(f[1]), n(f[2]), n(f.norm())};
    };
    if (k.check)
        for (const CaseResult& c : k.check->cases) {
            force(c.name, "all", "meant", c.meant);
            force(c.name, "all", "applied", c.applied);
            for (const auto& r : c.reactions) force(c.name, QString::fromStdString(r.interface), "reaction", r.force);
            force(c.name, "all", "reaction", c.reaction);
            force(c.name, "all", "applied + reaction", c.applied + c.reaction);
        }
    fill(resultants_, rows);
    rows.clear();
    if (k.check) {
        const auto& h = k.check->quality.dihedralHistogram;
        for (std::size_t b = 0; b < h.size(); ++b)
            if (h[b])
                rows << QStringList{QString("%1° to %2°").arg(5 * b).arg(5 * b + 5), QString::number(h[b]),
                                    num(100.0 * h[b] / static_cast<double>(k.check->mesh.tet.size()), 2)};
    }
    fill(quality_, rows);
}

}  // namespace escultura::app
