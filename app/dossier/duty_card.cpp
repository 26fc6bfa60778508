#include <algorithm>
#include <cmath>

#include "dialogs/material_dialog.hpp"
#include "dossier/card_parts.hpp"
#include "dossier/cards.hpp"
#include "duty/duty_edit.hpp"
#include "duty/materials.hpp"
#include "duty/part_numbers.hpp"
#include "stages/ready.hpp"
#include "theme/theme.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace judge;

/// The ready list as lines with what to do.
QString readyText(const Session& session) {
    const auto& p = session.project();
    const auto field = p.field();
    const auto surface = p.surface(session.recipe());
    QStringList lines;
    for (const ReadyNote& n : readyNotes(session.part(), session.recipe(), field.get(), surface.get())) {
        const bool blocks = n.severity == ReadyNote::Severity::blocker;
        lines << QString("<p style='margin:2px 0'><b style='color:%1'>%2</b> %3 <span style='color:" +
                         theme::muted.name() + "'>%4</span></p>")
                     .arg((blocks ? theme::clay : theme::ochre).name(),
                          blocks ? "✕ missing:" : "◐ look at:", QString::fromStdString(n.text).toHtmlEscaped(),
                          QString::fromStdString(n.fix).toHtmlEscaped());
    }
    return lines.isEmpty() ? QString("<span style='color:" + theme::teal.name() + "'>✓ ready for a check</span>")
                           : lines.join("");
}

DutyCard::DutyCard(Session& session) : Card(session, Stage::duty) {
    description_ = label("", "muted");
    material_ = new QComboBox;
    material_->setObjectName("material");
    material_->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
    material_->setMinimumContentsLength(6);
    figures_ = label("");
    error_ = errorLabel();
    ready_ = label("");
    ready_->setObjectName("ready");
    interfaces_ = table({"Interface", "Bore", "Ring", "Kind"});
    interfaces_->setObjectName("interfaces");
    cases_ = table({"Load case", "Total force, kN"});
    cases_->setObjectName("dutyCases");
    auto* loads = new QPushButton("Loads and supports…");
    loads->setObjectName("editLoads");
    auto* places = new QPushButton("Interfaces…");
    body()->addWidget(description_);
    auto* own = new QPushButton("Own…");
    own->setObjectName("ownMaterial");
    own->setToolTip("Type a material's constants and strength; it is kept with the part");
    auto* choice = new QWidget;
    auto* beside = new QHBoxLayout(choice);
    beside->setContentsMargins(0, 0, 0, 0);
    beside->addWidget(material_, 1);
    beside->addWidget(own);
    body()->addWidget(field("Material", choice));
    numbers_ = table({"Own number", "Here", "In the part"});
    numbers_->setObjectName("ownNumbers");
    numbers_->setSelectionBehavior(QAbstractItemView::SelectRows);
    numbers_->setSelectionMode(QAbstractItemView::ExtendedSelection);
    drop_ = new QPushButton("Take the part's");
    drop_->setObjectName("dropNumbers");
    own_ = new QWidget;
    auto* numbers = new QVBoxLayout(own_);
    numbers->setContentsMargins(0, 0, 0, 0);
    numbers->addWidget(heading("Numbers of this variant"));
    numbers->addWidget(numbers_);
    numbers->addWidget(row({drop_}));
    body()->addWidget(own_);
    body()->addWidget(figures_);
    body()->addWidget(error_);
    body()->addWidget(interfaces_);
    body()->addWidget(cases_);
    body()->addWidget(row({loads, places}));
    body()->addWidget(heading("Before a check"));
    body()->addWidget(ready_);
    connect(material_, &QComboBox::activated, this, &DutyCard::chooseMaterial);
    connect(own, &QPushButton::clicked, this, &DutyCard::typeMaterial);
    connect(loads, &QPushButton::clicked, this, [this] { emit toolAsked(Tool::loads); });
    connect(places, &QPushButton::clicked, this, [this] { emit toolAsked(Tool::interfaces); });
    connect(drop_, &QPushButton::clicked, this, &DutyCard::dropNumbers);
    connect(numbers_, &QTableWidget::itemSelectionChanged, this,
            [this] { drop_->setEnabled(!numbers_->selectedItems().isEmpty()); });
    connect(cases_, &QTableWidget::currentCellChanged, this, [this](int r) {
        if (r >= 0) emit loadCaseChosen(r);
    });
}

QString DutyCard::summary() const {
    const Part& p = session_.project().part;
    return QString("%1 interfaces · %2 load cases · %3 requirements")
        .arg(p.interfaces.size())
        .arg(p.loadCases.size())
        .arg(p.requirements.size());
}

void DutyCard::chooseMaterial(int index) {
    const auto& own = session_.project().part.ownMaterials;
    const auto& library = materialLibrary();
    const int at = material_->itemData(index).toInt();
    if (at < 0) return;  // the part's own, as it is
    const elastic::Material chosen =
        at < 1000 ? library.at(static_cast<std::size_t>(at)).material : own.at(static_cast<std::size_t>(at - 1000));
    try {
        const Part part = session_.project().part;
        session_.editPart("Material", [&](const std::string&) { return withMaterial(part, chosen); });
        showError(error_, "");
    } catch (const std::exception& e) {
        showError(error_, e.what());
    }
}

void DutyCard::typeMaterial() {
    auto* dialog = new MaterialDialog(session_.project().part.material, window());
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    connect(dialog, &QDialog::accepted, this, [this, dialog] {
        try {
            const Part part = session_.project().part;
            session_.editPart("Own material", [&](const std::string&) {
                return withMaterial(parsePart(withOwnMaterial(part, dialog->material()), part.path),
                                    dialog->material());
            });
            showError(error_, "");
        } catch (const std::exception& e) {
            showError(error_, e.what());
        }
    });
    dialog->open();
}

void DutyCard::refreshNumbers() {
    const auto& numbers = session_.recipe().numbers;
    own_->setVisible(!numbers.empty());
    if (numbers.empty()) return;
    const auto known = partNumbers(session_.project().part);
    QList<QStringList> rows;
    int lost = -1;
    for (const PartNumber& n : numbers) {
        const auto at = std::find_if(known.begin(), known.end(), [&](const auto& k) { return k.place == n.place; });
        if (at == known.end()) {
            if (lost < 0) lost = static_cast<int>(rows.size());
            rows << QStringList{QString::fromStdString(n.place).mid(1).replace('/', ": "), plain(n.value),
                                "no such number"};
            continue;
        }
        const QString unit = at->unit.empty() ? QString() : " " + QString::fromStdString(at->unit);
        rows << QStringList{QString::fromStdString(at->label), plain(n.value) + unit, plain(at->value) + unit};
    }
    fill(numbers_, rows);
    fitHeight(numbers_);
    if (lost >= 0)  // it stops the variant from running
        numbers_->selectionModel()->select(numbers_->model()->index(lost, 0),
                                           QItemSelectionModel::ClearAndSelect | QItemSelectionModel::Rows);
    drop_->setEnabled(!numbers_->selectedItems().isEmpty());
    drop_->setToolTip("The variant has the part's number again where a row is selected; one step to undo");
}

void DutyCard::dropNumbers() {
    std::vector<std::size_t> rows;
    for (const QModelIndex& i : numbers_->selectionModel()->selectedRows())
        rows.push_back(static_cast<std::size_t>(i.row()));
    std::sort(rows.rbegin(), rows.rend());
    session_.edit("The part's numbers", [&](Project& p) {
        auto& numbers = p.variants[p.open].recipe.numbers;
        for (const std::size_t r : rows)
            if (r < numbers.size()) numbers.erase(numbers.begin() + static_cast<std::ptrdiff_t>(r));
    });
}

void DutyCard::refreshBody() {
    const Part& p = session_.project().part;
    description_->setText(QString::fromStdString(p.description));
    description_->setVisible(!p.description.empty());
    refreshNumbers();
    {
        const QSignalBlocker block(material_);
        material_->clear();
        material_->addItem(QString::fromStdString(p.material.name), -1);
        for (std::size_t k = 0; k < p.ownMaterials.size(); ++k)
            if (p.ownMaterials[k].name != p.material.name)
                material_->addItem(QString::fromStdString(p.ownMaterials[k].name) + " (kept with the part)",
                                   1000 + static_cast<int>(k));
        for (std::size_t k = 0; k < materialLibrary().size(); ++k)
            if (materialLibrary()[k].material.name != p.material.name)
                material_->addItem(QString::fromStdString(materialLibrary()[k].material.name), static_cast<int>(k));
        material_->setToolTip("The part's material; the library's values say their standard");
    }
    const auto& m = p.material;
    QList<QPair<QString, QString>> f;
    if (m.orthotropic) {
        auto three = [](const Vec3& v) { return QString("%1, %2, %3").arg(plain(v[0]), plain(v[1]), plain(v[2])); };
        f << QPair<QString, QString>{"Young's moduli", three(m.orthotropic->youngs) + " MPa"}
          << QPair<QString, QString>{"Poisson's ratios", three(m.orthotropic->poissons)}
          << QPair<QString, QString>{"Shear moduli", three(m.orthotropic->shear) + " MPa"};
    } else {
        f << QPair<QString, QString>{"Young's modulus", plain(m.youngsModulus) + " MPa"}
          << QPair<QString, QString>{"Poisson's ratio", plain(m.poissonsRatio)};
    }
    f << QPair<QString, QString>{"Density", num(m.density * 1e9, 4) + " kg/m³"};
    if (p.isBrittle())
        f << QPair<QString, QString>{"Ultimate strength",
                                     plain(m.ultimateStrength) + " MPa, against the maximum principal stress"};
    else
        f << QPair<QString, QString>{"Yield strength", plain(m.yieldStrength) + " MPa, against von Mises"};
    f << QPair<QString, QString>{"Source", QString::fromStdString(m.yieldSource)};
    if (!p.optimisedWith.empty()) f.push_back({"Optimised with", QString::fromStdString(p.optimisedWith)});
    figures_->setText(figures(f));
    ready_->setText(readyText(session_));
    QList<QStringList> rows;
    for (const Interface& i : p.interfaces)
        rows << QStringList{QString::fromStdString(i.name), i.boreDiameter > 0 ? plain(i.boreDiameter) + " mm" : "none",
                            i.isOfLines() ? QString("around %1 mm").arg(plain(i.length))
                            : i.kind == duty::Interface::Kind::faces
                                ? QString("%1 %2").arg(i.places.size()).arg(i.places.size() == 1 ? "face" : "faces")
                            : !i.outline.empty() ? QString("outline")
                            : i.ringDiameter > 0 ? plain(i.ringDiameter) + " mm"
                                                 : "none",
                            name(i.kind)};
    fill(interfaces_, rows);
    fitHeight(interfaces_);
    rows.clear();
    for (const LoadCase& c : p.loadCases) {
        Vec3 sum = Vec3::Zero();
        bool body = false;
        for (const Load& l : p.loadsOf(c)) {
            sum += p.axesOf(l.frame) * l.force * (l.sharedTotal ? 1.0 : static_cast<double>(l.on.interfaces.size()));
            body = body || !l.onFaces();
        }
        sum *= c.factor;
        QString figures = QString("(%1, %2, %3)").arg(plain(sum[0] / 1000), plain(sum[1] / 1000), plain(sum[2] / 1000));
        if (body) figures += " + mass";
        if (c.use != LoadCase::Use::check) figures += c.use == LoadCase::Use::off ? " · off" : " · combined";
        rows << QStringList{QString::fromStdString(c.name), figures};
    }
    for (const Combination& c : p.combinations)
        rows << QStringList{QString::fromStdString(c.name),
                            QString::fromStdString(combinationText(c)) + (c.on ? "" : " · off")};
    const int current = cases_->currentRow();
    const QSignalBlocker block(cases_);
    fill(cases_, rows);
    fitHeight(cases_);
    if (current >= 0) cases_->setCurrentCell(current, 0);
}

}  // namespace escultura::app
