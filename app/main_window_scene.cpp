// What the window's view shows: options and results put together, what gives way to what, and drawing it once.

#include "main_window.hpp"
#include "widgets.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace judge;
using report::Show;

report::SceneOptions MainWindow::sceneOptions() {
    report::SceneOptions o = bar_->options();
    o.low = low_;
    o.high = high_;
    o.selectedFinding = selectedFinding_.toStdString();
    o.isolate = isolate_;
    o.mark = mark_;
    o.poorElement = poorElement_;
    const auto check = session_.hasProject() ? session_.lastKnown().check : nullptr;
    if (check && o.deformation < 0) o.deformation = report::automaticDeformation(*check, o.loadCase);
    return o;
}

void MainWindow::showScene(bool refit) {
    if (!session_.hasProject()) return;
    if (editor_->isOn()) {  // the view belongs to the cage
        painter_->drop();
        editor_->refresh();
        view_->setNotice("");
        shown_.reset();
        return;
    }
    if (const auto growing = session_.growing()) {
        painter_->drop();
        shown_.reset();
        view_->setNotice("");  // the caption says it
        view_->setScene(
            [part = session_.part(), growing, threshold = session_.recipe().threshold] {
                return report::growingScene(part, *growing, threshold);
            },
            refit);
        return;
    }
    report::SceneOptions o = sceneOptions();
    updateReadings();
    swing_.clear();  // an animation starts anew with the new options
    frame_ = 0;
    if (picking_) o = forPicking(o);
    if (tools_->current() == Tool::interfaces || (drawer_->isVisible() && drawer_->current() == Table::interfaces))
        o.handle = selectedInterface_.toStdString();
    o.selectedFeature = selectedFeature_.toStdString();
    ShownResults r = shownResults(o);
    giveWay(r, o);
    makeOriginal(r, o);
    const bool hasField = session_.project().field() != nullptr;
    if (o.show == Show::original && !r.original) o.show = r.known.surface ? Show::surface : Show::field;
    if (r.toBeMade && o.show != Show::original && !(o.show == Show::duty && (r.known.surface || r.original))) {
        view_->setNotice("");
        return;
    }
    if (!hasField && !r.toBeMade && (o.show == Show::field || o.show == Show::comparison)) {
        view_->setNotice("◐ out of date: the field is being read");
        return;
    }
    if (o.section.on && hasField) placeSection(o.section);
    const bool stale = isStale(r, o);
    const Stage shown = o.show == Show::check || o.show == Show::mesh || o.show == Show::analysis ? Stage::check
                        : o.show == Show::solid                                                   ? Stage::rebuild
                        : o.show == Show::field || o.show == Show::comparison                     ? Stage::field
                                                                                                  : Stage::surface;
    const QString since = stale ? session_.changedSince(shown) : QString();
    view_->setNotice(stale        ? "◐ out of date: " + (since.isEmpty() ? "from an earlier recipe" : since)
                     : r.toBeMade ? "the design space: its field is not made yet"
                                  : "");
    Shown now = shownOf(r, o);
    if (shown_ && *shown_ == now && !refit) return;
    shown_ = std::move(now);
    draw(r, o, stale, refit);
}

MainWindow::ShownResults MainWindow::shownResults(const report::SceneOptions& o) {
    const Project& all = session_.project();
    ShownResults r;
    r.known = session_.lastKnown();
    r.difference = o.show == Show::check && r.known.check ? differenceFor(o) : nullptr;
    if (bar_->showsBaselineGhost() && all.baseline != all.open)
        r.baselineSurface = session_.lastKnown(all.baseline).surface;
    r.process = all.process(session_.recipe());
    r.original = all.original(session_.recipe());
    // of the check that is shown: an earlier one has another mesh
    r.analysis = shapesShown(o);
    r.toBeMade = session_.recipe().field.how == duty::FieldChoice::How::made && !all.field();
    return r;
}

/// What cannot be shown yet gives way to what can.
void MainWindow::giveWay(ShownResults& r, report::SceneOptions& o) {
    const LastKnown& k = r.known;
    if (o.show == Show::analysis && !r.analysis) o.show = Show::check;
    if ((o.show == Show::check || o.show == Show::mesh) && !k.check) o.show = k.surface ? Show::surface : Show::field;
    if (o.show == Show::solid && !k.rebuild) o.show = k.cage ? Show::cage : Show::surface;
    if ((o.show == Show::cage || o.show == Show::cageDeviation) && !k.cage) o.show = Show::surface;
    if ((o.show == Show::deviation || o.show == Show::surface || o.show == Show::thickness) && !k.surface)
        o.show = Show::field;
    if (o.show == Show::draft || o.show == Show::overhang || o.show == Show::curvature) {
        if (!r.process) showProcess();
        if (!r.process || !k.surface) o.show = k.surface ? Show::surface : Show::field;
    }
    // what is still to be made shows the body that it is made in
    if (r.toBeMade && !k.surface && o.show != Show::duty) o.show = Show::original;
}

/// Reads or makes the original when it is to be shown and not there.
void MainWindow::makeOriginal(const ShownResults& r, const report::SceneOptions& o) {
    using Beside = report::SceneOptions::Beside;
    const bool wanted = o.show == Show::original || o.original != Beside::nothing || r.toBeMade;
    const std::string key = session_.project().keys(session_.recipe()).original;
    if (!wanted || r.original || session_.isBusy() || originalFailed_ == key) return;
    if (!session_.project().field() && !r.toBeMade) return;
    originalFailed_ = key;  // a body that cannot be read is told once
    auto copy = std::make_shared<Project>(session_.project());
    session_.work(
        "Original", [copy](Progress& p) { runOriginal(*copy, copy->current().recipe, p); },
        [this] { emit session_.changed(); });
}

bool MainWindow::isStale(const ShownResults& r, const report::SceneOptions& o) const {
    switch (o.show) {
        case Show::check:
        case Show::mesh:
            return session_.freshness(Stage::check) != Freshness::fresh;
        case Show::cage:
        case Show::cageDeviation:
            return !session_.project().cage(session_.recipe());
        case Show::solid:
            return !session_.project().rebuild(session_.recipe());
        case Show::duty:
            return r.known.surface && session_.freshness(Stage::surface) != Freshness::fresh;
        case Show::surface:
        case Show::deviation:
        case Show::thickness:
        case Show::curvature:
            return session_.freshness(Stage::surface) != Freshness::fresh;
        default:
            return false;
    }
}

MainWindow::Shown MainWindow::shownOf(const ShownResults& r, const report::SceneOptions& o) const {
    const Project& p = session_.project();
    const Recipe& recipe = session_.recipe();
    Shown s;
    s.options = o;
    s.results = {r.known.surface, r.known.check, r.known.cage,      r.known.rebuild,
                 r.process,       r.original,    r.baselineSurface, r.analysis};
    s.sampled = r.difference ? sampledKey_ : QString();
    if (o.show == Show::field || o.show == Show::comparison || o.fieldGhost) s.threshold = recipe.threshold;
    s.largestPieceOnly = recipe.largestPieceOnly;
    s.smallestIsland = recipe.smallestIsland;
    s.texts = {session_.part().geometryText, session_.part().dutyText, p.keys(recipe).field};
    if (!o.selectedFinding.empty() && p.findings(recipe)) {  // label and zone of the finding follow its test
        const auto list = findingsOf(p, recipe);
        if (const Finding* f = findFinding(list, o.selectedFinding)) s.texts.push_back(classOf(*f));
    }
    s.companions = shownCompanions();
    return s;
}

namespace {
/// What a scene is made from, held until it is made.
struct SceneOrder {
    Project project;
    report::SceneOptions options;
    MainWindow::ShownResults results;
    bool stale = false;
    std::shared_ptr<const FieldResult> drawn;  ///< in place of the field

    std::shared_ptr<const render::Scene> make(const std::optional<double>& low,
                                              const std::optional<double>& high) const {
        const LastKnown& k = results.known;
        const Recipe& recipe = project.current().recipe;
        report::SceneOptions o = options;
        if (low) o.low = low;
        if (high) o.high = high;
        FindingsResult classed;  // hotspots with what their tests have found
        if (k.findings) {
            classed = *k.findings;
            if (project.findings(recipe)) classed.findings = findingsOf(project, recipe);
        }
        report::SceneInputs inputs{k.surface.get(),       k.check.get(),          k.findings ? &classed : nullptr,
                                   results.process.get(), results.original.get(), k.cage.get(),
                                   k.rebuild.get()};
        std::vector<char> zone;
        if (const Finding* chosen = findFinding(classed.findings, o.selectedFinding); chosen && !stale)
            zone = zoneOf(project, recipe, *chosen);
        if (!zone.empty()) inputs.zone = &zone;
        inputs.baseline = results.difference.get();
        inputs.baselineName = project.variants.at(project.baseline).name;
        inputs.beside = results.baselineSurface ? &results.baselineSurface->mesh : nullptr;
        inputs.analysis = results.analysis.get();
        inputs.drawn = drawn.get();
        return report::makeScene(project, recipe, o, inputs);
    }
};
}  // namespace

void MainWindow::draw(const ShownResults& r, const report::SceneOptions& o, bool stale, bool refit) {
    const Project& all = session_.project();
    auto order = std::make_shared<SceneOrder>(SceneOrder{all, o, r, stale, nullptr});
    painter_->drop();
    const auto field = all.field(session_.recipe());
    if (field && !field->drawn.empty() && (o.show == Show::field || o.fieldGhost)) {
        // a large field: at once in few cells, and in more when nothing moves any more
        order->drawn = field->drawn.back();
        if (o.show == Show::field && panes_->companions().empty())
            painter_->ask(all, o, field->drawn.size() > 1 ? field->drawn.front() : nullptr);
    }
    const auto range =
        sharedRange(o, [order](const report::SceneOptions&) { return order->make(std::nullopt, std::nullopt); });
    std::optional<Drawing::Small> small;
    if (r.known.surface && !stale && o.show != Show::analysis)
        small = Drawing::Small{
            66, 56, 0.9, [this, id = session_.variant().id](const QImage& image) { shelf_->setThumbnail(id, image); }};
    view_->setDeformed(o.show == Show::analysis || (o.show == Show::check && o.loadCase >= 0 && o.deformation != 0));
    view_->setScene([order, range] { return order->make(range->low(), range->high()); }, refit, small);
    showCompanions(o, range);
    std::vector<View::Handle> handles;
    if (o.section.on) addSectionHandles(o.section, handles);
    if (const Interface* i = session_.part().findInterface(o.handle)) handles.push_back({1, i->origin, Vec3::Zero()});
    view_->setHandles(handles);
}

void MainWindow::placeSection(render::Scene::Section& s) {
    using Kind = render::Scene::Section::Kind;
    const Box3 space = session_.project().field()->regions.designSpace;
    if (s.kind == Kind::box) {
        if (!sectionBox_) {  // around the chosen interface, else the middle of the part
            const Interface* i = session_.part().findInterface(selectedInterface_.toStdString());
            if (i) {
                Box3 box;
                box.include(i->origin);
                box.include(i->origin + i->length * i->axis);
                sectionBox_ = box.grown(std::max(i->ringDiameter, i->boreDiameter));
            } else {
                sectionBox_ = Box3{space.centre() - 0.3 * space.size(), space.centre() + 0.3 * space.size()};
            }
        }
        s.low = sectionBox_->low;
        s.high = sectionBox_->high;
        return;
    }
    const double across = space.size().dot(s.normal.cwiseAbs());
    const Vec3 middle = space.centre();
    if (!sectionPoint_) sectionPoint_ = s.kind == Kind::slab ? Vec3(middle - 0.1 * across * s.normal) : middle;
    if (!sectionDepth_) sectionDepth_ = 0.2 * across;
    s.point = *sectionPoint_;
    s.depth = *sectionDepth_;
}

namespace {
constexpr int planeHandle = 0, slabHandle = 2, boxHandle = 3;  // 1 is that of an interface; from 10 on the cage's
constexpr double thinnestSection = 0.1;                        // mm
}  // namespace

void MainWindow::addSectionHandles(const render::Scene::Section& s, std::vector<View::Handle>& handles) const {
    using Kind = render::Scene::Section::Kind;
    if (s.kind != Kind::box) handles.push_back({planeHandle, s.point, s.normal});
    if (s.kind == Kind::slab) handles.push_back({slabHandle, s.point + s.depth * s.normal, s.normal});
    if (s.kind != Kind::box) return;
    for (int a = 0; a < 3; ++a)
        for (int side = 0; side < 2; ++side) {
            Vec3 at = 0.5 * (s.low + s.high);
            at[a] = (side ? s.high : s.low)[a];
            handles.push_back({boxHandle + 2 * a + side, at, Vec3::Unit(a)});
        }
}

bool MainWindow::moveSection(int handle, const Vec3& place) {
    const render::Scene::Section s = bar_->options().section;
    if (!s.on) return false;
    if (handle == planeHandle && sectionPoint_ && sectionDepth_) {
        const double far = (*sectionPoint_).dot(s.normal) + *sectionDepth_;
        sectionPoint_ = place;
        if (s.kind == render::Scene::Section::Kind::slab)
            sectionDepth_ = std::max(thinnestSection, far - place.dot(s.normal));
    } else if (handle == slabHandle && sectionPoint_) {
        sectionDepth_ = std::max(thinnestSection, (place - *sectionPoint_).dot(s.normal));
    } else if (handle >= boxHandle && handle < boxHandle + 6 && sectionBox_) {
        const int a = (handle - boxHandle) / 2;
        if ((handle - boxHandle) % 2)
            sectionBox_->high[a] = std::max(place[a], sectionBox_->low[a] + thinnestSection);
        else
            sectionBox_->low[a] = std::min(place[a], sectionBox_->high[a] - thinnestSection);
    } else {
        return false;
    }
    showScene();
    return true;
}

report::SceneOptions MainWindow::forPicking(report::SceneOptions o) {
    const Project& p = session_.project();
    const auto field = p.field();
    pickRoughness_ = 0;
    const auto surface = p.surface(session_.recipe());
    const bool designed = p.part.original || p.part.designBody || !field;
    // the body of a designer first; else the surface where it is looked at, else the field as it is
    if (designed || o.show == Show::original) {
        o.show = Show::original;
        pickedFrom_ = {};
        pickBody_ = p.original(session_.recipe());
    } else if (o.show == Show::surface && surface) {
        pickedFrom_ = {};
        pickRoughness_ = 0.2 * field->field.spacing.minCoeff();
        pickBody_ = std::shared_ptr<const surface::TriMesh>(surface, &surface->mesh);
    } else {
        o.show = Show::field;
        o.fieldAsSurface = true;
        pickRoughness_ = 0.4 * field->field.spacing.minCoeff();
        const std::pair<const void*, double> from{field.get(), session_.recipe().threshold};
        if (pickBody_ && pickedFrom_ == from) return o;  // made already
        pickedFrom_ = from;
        pickBody_ =
            std::make_shared<const surface::TriMesh>(rawSurface(field->field, session_.recipe().threshold, true));
    }
    return o;
}

}  // namespace escultura::app
