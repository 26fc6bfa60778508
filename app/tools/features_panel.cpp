#include "tools/features_panel.hpp"

#include <QFileDialog>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QMenu>
#include <QTableView>
#include <QVBoxLayout>
#include <algorithm>
#include <cmath>

#include "base/error.hpp"
#include "theme/theme.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace judge;
using solid::Feature;

namespace {

using K = Feature::Kind;
constexpr K kinds[] = {K::bore, K::boss, K::pad,     K::flat,   K::slot,   K::pocket,
                       K::rib,  K::body, K::keepOut, K::fillet, K::chamfer};

/// A number of a feature in the form: its name, unit, and where it is kept.
struct Entry {
    QString title;
    std::function<QString(const Feature&)> get;
    std::function<void(Feature&, const QString&)> set;
    bool ofInterface = false;  ///< may be changed although the feature belongs to an interface
};

double lengthOf(const QString& t) {
    return parseQuantity(t.trimmed().toStdString(), dimension::length, "mm");
}

Vec3 vectorOf(const QString& text, bool unit) {
    const QStringList parts = text.split(text.contains(';') ? ';' : ',', Qt::SkipEmptyParts);
    if (parts.size() != 3)
        throw InputError(ErrorDetail{"Three numbers are needed.", {}, {}, "x, y, z", text.toStdString()});
    Vec3 v;
    for (int a = 0; a < 3; ++a)
        v[a] = unit ? parseQuantity(parts[a].trimmed().toStdString(), dimension::none, "") : lengthOf(parts[a]);
    if (unit) {
        if (v.norm() < 1e-9)
            throw InputError(ErrorDetail{"A direction needs a length.", {}, {}, "such as 0, 0, 1", text.toStdString()});
        v.normalize();
    }
    return v;
}

QString text(const Vec3& v) {
    auto n = [](double x) { return plain(std::abs(x) < 1e-12 ? 0 : x); };
    return QString("%1, %2, %3").arg(n(v[0]), n(v[1]), n(v[2]));
}

Entry number(const QString& title, double Feature::*member, bool ofInterface = false) {
    return {title, [member](const Feature& f) { return plain(f.*member); },
            [member](Feature& f, const QString& t) { f.*member = lengthOf(t); }, ofInterface};
}

Entry angle(const QString& title, double Feature::*member, bool ofInterface = false) {
    return {title, [member](const Feature& f) { return plain(f.*member); },
            [member](Feature& f, const QString& t) {
                f.*member = parseQuantity(t.trimmed().toStdString(), dimension::none, "");
            },
            ofInterface};
}

Entry yesNo(const QString& title, bool Feature::*member) {
    return {title, [member](const Feature& f) { return QString(f.*member ? "yes" : "no"); },
            [member](Feature& f, const QString& t) {
                const QString s = t.trimmed().toLower();
                if (s != "yes" && s != "no")
                    throw InputError(ErrorDetail{"Say yes or no.", {}, {}, "yes or no", t.toStdString()});
                f.*member = s == "yes";
            }};
}

Entry word(const QString& title, std::string Feature::*member) {
    return {title, [member](const Feature& f) { return QString::fromStdString(f.*member); },
            [member](Feature& f, const QString& t) { f.*member = t.trimmed().toStdString(); }};
}

std::vector<Entry> entriesOf(const Feature& f) {
    std::vector<Entry> e{word("name", &Feature::name)};
    if (f.kind == K::fillet || f.kind == K::chamfer) {
        e.push_back(number(f.kind == K::fillet ? "radius, mm" : "width, mm", &Feature::radius));
        e.push_back(word("edges of", &Feature::on1));
        e.push_back(word("with (empty: all)", &Feature::on2));
        return e;
    }
    if (f.kind == K::layer) {
        e.push_back(number("depth, mm", &Feature::length));
        e.push_back(word("file of the original", &Feature::path));
        return e;
    }
    if (f.kind == K::body) {
        e.push_back(word("file (STEP, STL, OBJ, PLY)", &Feature::path));
        e.push_back(word("unit of a mesh file", &Feature::unit));
        e.push_back(number("offset outward, mm", &Feature::offset));
        e.push_back(yesNo("adds material", &Feature::adds));
        return e;
    }
    e.push_back({"start, mm", [](const Feature& x) { return text(x.origin); },
                 [](Feature& x, const QString& t) { x.origin = vectorOf(t, false); }});
    e.push_back({"axis", [](const Feature& x) { return text(x.axis); },
                 [](Feature& x, const QString& t) {
                     x.axis = vectorOf(t, true);
                     // the long side stays at right angles
                     Vec3 a = x.along - x.along.dot(x.axis) * x.axis;
                     x.along = a.norm() > 1e-6 ? Vec3(a.normalized()) : perpendicular(x.axis)[0];
                 }});
    const bool sides = f.kind == K::pad || f.kind == K::slot || f.kind == K::pocket || f.kind == K::rib ||
                       (f.kind == K::keepOut && !f.round);
    if (sides) {
        e.push_back({"long side along", [](const Feature& x) { return text(x.along); },
                     [](Feature& x, const QString& t) { x.along = vectorOf(t, true); }});
        e.push_back(number(f.kind == K::rib ? "length, mm" : "long side, mm", &Feature::longSide));
        e.push_back(number(f.kind == K::rib ? "thickness, mm" : "short side, mm", &Feature::shortSide));
    } else {
        e.push_back(number(f.kind == K::flat ? "diameter, mm (0: side)" : "diameter, mm", &Feature::diameter));
    }
    const bool adds = solid::addsMaterial(f);
    e.push_back(number(adds ? "height, mm" : f.kind == K::flat ? "clearance, mm" : "depth, mm", &Feature::length));
    if (f.kind == K::bore || f.kind == K::slot || f.kind == K::pocket) e.push_back(yesNo("through", &Feature::through));
    if (f.kind != K::flat && f.kind != K::keepOut) e.push_back(number("also before the start, mm", &Feature::before));
    if (f.kind == K::pocket || f.kind == K::pad) e.push_back(number("corner radius, mm", &Feature::corner));
    if (f.kind == K::rib) e.push_back(angle("draft, degrees", &Feature::draft));
    if (f.kind == K::boss) e.push_back(number("turned: cleared to, mm", &Feature::outer));
    if (adds) {
        e.push_back(number("fillet to the body, mm", &Feature::radius));
        if (f.kind != K::boss || f.interface.empty()) e.push_back(yesNo("fillet in the cage", &Feature::blendInCage));
    }
    if (f.kind == K::keepOut) e.push_back(yesNo("round", &Feature::round));
    if (f.kind == K::bore) {
        e.push_back({"head", [](const Feature& x) { return QString(solid::name(x.head)); },
                     [](Feature& x, const QString& t) {
                         for (auto h : {Feature::Head::none, Feature::Head::counterbore, Feature::Head::countersink})
                             if (t.trimmed() == solid::name(h)) {
                                 x.head = h;
                                 return;
                             }
                         throw InputError(ErrorDetail{
                             "This head is not known.", {}, {}, "none, counterbore or countersink", t.toStdString()});
                     },
                     true});
        if (f.head != Feature::Head::none) e.push_back(number("head diameter, mm", &Feature::headDiameter, true));
        if (f.head == Feature::Head::counterbore) e.push_back(number("head depth, mm", &Feature::headDepth, true));
        if (f.head == Feature::Head::countersink) e.push_back(angle("head angle, degrees", &Feature::headAngle, true));
    }
    return e;
}

}  // namespace

FeaturesPanel::FeaturesPanel(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(8);
    column->addLayout(makeButtons());
    table_ = new QTableWidget(0, 5);
    table_->setObjectName("features");
    table_->setHorizontalHeaderLabels({"On", "Feature", "State", "Kind", "Figures"});
    table_->verticalHeader()->hide();
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setSelectionMode(QAbstractItemView::SingleSelection);
    table_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    table_->horizontalHeader()->setSectionResizeMode(QHeaderView::ResizeToContents);
    table_->horizontalHeader()->setStretchLastSection(true);
    table_->setFrameShape(QFrame::NoFrame);
    connect(table_, &QTableWidget::currentCellChanged, this, [this](int r, int, int before) {
        if (filling_ || r == before) return;
        fillForm();
        emit selectionChanged(selected());
    });
    connect(table_, &QTableWidget::cellChanged, this, [this](int r, int c) {
        if (filling_ || c != 0) return;
        const bool on = table_->item(r, 0)->checkState() == Qt::Checked;
        change("Switch feature", [&](auto& all) {
            if (r < static_cast<int>(all.size())) all[static_cast<std::size_t>(r)].on = on;
        });
    });
    auto* list = briefOf(table_, {0, 1, 2}, "featureList");
    theme::fix(list, theme::Length::leastHeight, 30 + 26 * 6);
    theme::fix(list, theme::Length::mostHeight, 30 + 26 * 10);
    column->addWidget(list);
    outcome_ = label("", "muted");
    outcome_->setObjectName("featureOutcome");
    column->addWidget(outcome_);
    form_ = new QTableWidget(0, 2);
    form_->setObjectName("featureForm");
    form_->horizontalHeader()->hide();
    form_->verticalHeader()->hide();
    form_->horizontalHeader()->setSectionResizeMode(0, QHeaderView::ResizeToContents);
    form_->horizontalHeader()->setStretchLastSection(true);
    form_->setFrameShape(QFrame::NoFrame);
    form_->verticalHeader()->setDefaultSectionSize(theme::px(26));
    form_->setShowGrid(false);
    connect(form_, &QTableWidget::cellChanged, this, [this] { accept(); });
    column->addWidget(form_);
    column->addStretch(1);
}

FlowLayout* FeaturesPanel::makeButtons() {
    auto* buttons = new FlowLayout;
    auto* addMenu = new QMenu(this);
    for (K k : kinds) {
        auto* a = addMenu->addAction(QString(solid::name(k)));
        a->setObjectName(QString("addFeature %1").arg(solid::name(k)));
        connect(a, &QAction::triggered, this, [this, k] {
            if (k != K::body) {
                add(k);
                return;
            }
            const QString path = QFileDialog::getOpenFileName(
                this, "Body of the feature", {}, "Bodies (*.step *.stp *.stl *.obj *.ply *.3mf);;All files (*)");
            if (!path.isEmpty()) add(k, {}, path);
        });
    }
    auto* plus = new QPushButton("Add feature");
    plus->setObjectName("addFeature");
    plus->setMenu(addMenu);
    up_ = new QPushButton("Earlier");
    up_->setObjectName("featureUp");
    down_ = new QPushButton("Later");
    down_->setObjectName("featureDown");
    remove_ = new QPushButton("Remove");
    remove_->setObjectName("featureRemove");
    connect(up_, &QPushButton::clicked, this, [this] { move(-1); });
    connect(down_, &QPushButton::clicked, this, [this] { move(1); });
    connect(remove_, &QPushButton::clicked, this, [this] {
        const QString name = selected();
        change("Remove feature", [&](auto& all) {
            std::erase_if(all, [&](const Feature& f) { return f.name == name.toStdString() && f.interface.empty(); });
        });
    });
    buttons->addWidget(plus);
    buttons->addWidget(up_);
    buttons->addWidget(down_);
    buttons->addWidget(remove_);
    return buttons;
}

std::vector<Feature> FeaturesPanel::list() const {
    const auto field = session_.hasProject() ? session_.project().field() : nullptr;
    if (!field) return {};
    return effectiveFeatures(session_.part(), field->regions, session_.recipe().rebuild);
}

QString FeaturesPanel::selected() const {
    const int r = table_->currentRow();
    return r >= 0 && table_->item(r, 1) ? table_->item(r, 1)->text() : QString();
}

void FeaturesPanel::change(const QString& text, const std::function<void(std::vector<Feature>&)>& edit) {
    auto all = list();
    edit(all);
    session_.edit(text, [&](Project& p) {
        auto& rebuild = p.variants[p.open].recipe.rebuild;
        rebuild.ownFeatures = true;
        rebuild.features = all;
    });
    refresh();
}

void FeaturesPanel::add(K kind, std::optional<Vec3> at, const QString& path) {
    const auto surface = session_.lastKnown().surface;
    Box3 box;
    if (surface)
        for (const Vec3& p : surface->mesh.position) box.include(p);
    else
        box = session_.part().designSpace;
    Feature f;
    f.kind = kind;
    const bool adds = solid::addsMaterial(f);
    f.origin = at.value_or(
        Vec3(box.centre().x(), box.centre().y(), adds || kind == K::flat ? box.high.z() - 2 : box.high.z() + 1));
    f.axis = adds || kind == K::flat || kind == K::keepOut ? Vec3(Vec3::UnitZ()) : Vec3(-Vec3::UnitZ());
    f.along = Vec3::UnitX();
    f.path = path.toStdString();
    f.through = kind == K::bore || kind == K::slot;
    const auto all = list();
    if ((kind == K::fillet || kind == K::chamfer) && !all.empty())
        f.on1 = selected().isEmpty() ? all.front().name : selected().toStdString();
    for (int n = 1;; ++n) {
        f.name = std::string(solid::name(kind)) + " " + std::to_string(n);
        if (std::none_of(all.begin(), all.end(), [&](const Feature& g) { return g.name == f.name; })) break;
    }
    change("Add feature", [&](auto& features) { features.push_back(f); });
    table_->setCurrentCell(table_->rowCount() - 1, 1);
}

void FeaturesPanel::move(int by) {
    const int r = table_->currentRow();
    if (r < 0 || r + by < 0 || r + by >= table_->rowCount()) return;
    change("Reorder features",
           [&](auto& all) { std::swap(all[static_cast<std::size_t>(r)], all[static_cast<std::size_t>(r + by)]); });
    table_->setCurrentCell(r + by, 1);
}

void FeaturesPanel::fillForm() {
    filling_ = true;
    const auto all = list();
    const int r = table_->currentRow();
    form_->setRowCount(0);
    outcome_->clear();
    form_->setVisible(r >= 0 && r < static_cast<int>(all.size()));
    if (r >= 0 && r < static_cast<int>(all.size())) {
        const Feature& f = all[static_cast<std::size_t>(r)];
        const auto entries = entriesOf(f);
        form_->setRowCount(static_cast<int>(entries.size()));
        theme::fix(form_, theme::Length::height, 26 * static_cast<int>(entries.size()) + 4);
        for (std::size_t i = 0; i < entries.size(); ++i) {
            auto* title = new QTableWidgetItem(entries[i].title);
            title->setFlags(Qt::ItemIsEnabled);
            title->setForeground(theme::muted);
            auto* value = new QTableWidgetItem(entries[i].get(f));
            if (!f.interface.empty() && !entries[i].ofInterface) value->setFlags(Qt::ItemIsEnabled);
            form_->setItem(static_cast<int>(i), 0, title);
            form_->setItem(static_cast<int>(i), 1, value);
        }
        const auto built = session_.lastKnown().rebuild;
        QString words = f.interface.empty() ? ""
                                            : "Its place and size belong to '" + QString::fromStdString(f.interface) +
                                                  "': change them under Interfaces.";
        if (built)
            for (const auto& o : built->solid.features)
                if (o.name == f.name && !o.problem.empty()) words = QString::fromStdString(o.problem);
        outcome_->setText(words);
        remove_->setEnabled(f.interface.empty());
    }
    filling_ = false;
}

void FeaturesPanel::accept() {
    if (filling_) return;
    const int r = table_->currentRow(), i = form_->currentRow();
    auto all = list();
    if (r < 0 || r >= static_cast<int>(all.size()) || i < 0) return;
    Feature f = all[static_cast<std::size_t>(r)];
    const auto entries = entriesOf(f);
    if (i >= static_cast<int>(entries.size())) return;
    try {
        entries[static_cast<std::size_t>(i)].set(f, form_->item(i, 1)->text());
        auto changed = all;
        changed[static_cast<std::size_t>(r)] = f;
        const std::string problem = solid::problemOf(f, changed);
        if (!problem.empty()) throw InputError(problem);
        change("Edit feature", [&](auto& features) { features[static_cast<std::size_t>(r)] = f; });
    } catch (const std::exception& e) {
        emit failed(QString::fromStdString(e.what()));
    }
    fillForm();
}

void FeaturesPanel::refresh() {
    if (!session_.hasProject()) return;
    filling_ = true;
    const auto all = list();
    const auto fresh = session_.project().rebuild(session_.recipe());
    const int current = table_->currentRow();
    table_->setRowCount(static_cast<int>(all.size()));
    for (std::size_t r = 0; r < all.size(); ++r) {
        const Feature& f = all[r];
        QString state = !f.on ? "off" : "not built yet";
        if (fresh && f.on)
            for (const auto& o : fresh->solid.features)
                if (o.name == f.name)
                    state = !o.built ? "✕ failed" : o.problem.empty() ? "✓ built" : "◐ built, see below";
        const QStringList texts{"", QString::fromStdString(f.name), state, solid::name(f.kind),
                                QString::fromStdString(solid::describe(f))};
        for (int c = 0; c < 5; ++c) {
            auto* item = new QTableWidgetItem(texts[c]);
            item->setFlags(Qt::ItemIsEnabled | Qt::ItemIsSelectable);
            if (c == 0) {
                item->setFlags(item->flags() | Qt::ItemIsUserCheckable);
                item->setCheckState(f.on ? Qt::Checked : Qt::Unchecked);
            }
            if (c == 2 && state.startsWith("✕")) item->setForeground(theme::clay);
            table_->setItem(static_cast<int>(r), c, item);
        }
    }
    if (current >= 0 && current < table_->rowCount()) table_->setCurrentCell(current, 1);
    filling_ = false;
    fillForm();
}

}  // namespace escultura::app
