// Variants side by side: panes with one camera and one legend, the difference to the baseline.

#include <algorithm>

#include "judge/comparison.hpp"
#include "main_window.hpp"
#include "widgets.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace store;
using namespace judge;
using report::Show;

namespace {

/// The compared range of two legends.
void widen(std::optional<double>& low, std::optional<double>& high, const render::Legend& legend) {
    if (!legend.shown) return;
    low = std::min(low.value_or(legend.scale.low), legend.scale.low);
    high = std::max(high.value_or(legend.scale.high), legend.scale.high);
}

}  // namespace

void MainWindow::connectComparison() {
    connect(shelf_, &Shelf::besideAsked, this, &MainWindow::putBeside);
    connect(panes_, &Panes::companionsChanged, this, [this] {
        shown_.reset();
        if (!session_.hasProject()) return;
        const Project& p = session_.project();
        const std::int64_t base = p.variants.at(p.baseline).id;
        bar_->setBaselineBeside(std::count(panes_->companions().begin(), panes_->companions().end(), base) > 0);
        showScene();
        for (std::size_t i = 0; i < panes_->companions().size(); ++i) panes_->companion(i).setCamera(view_->camera());
    });
    connect(bar_, &ViewBar::baselineBesideAsked, this, [this](bool on) {
        if (!session_.hasProject()) return;
        const Project& p = session_.project();
        const std::int64_t base = p.variants.at(p.baseline).id;
        const auto& shown = panes_->companions();
        if ((std::count(shown.begin(), shown.end(), base) > 0) != on) panes_->toggle(base);
    });
    connect(&session_, &Session::projectOpened, this, [this] {
        panes_->setCompanions({});
        sampledKey_.clear();
    });
}

void MainWindow::putBeside(std::size_t variant) {
    const Project& p = session_.project();
    if (variant >= p.variants.size()) return;
    const std::int64_t id = p.variants[variant].id;
    if (variant == p.open) return;
    panes_->toggle(id);
}

std::vector<MainWindow::ShownCompanion> MainWindow::shownCompanions() const {
    std::vector<ShownCompanion> shown;
    const Project& p = session_.project();
    for (std::int64_t id : panes_->companions())
        for (std::size_t i = 0; i < p.variants.size(); ++i)
            if (p.variants[i].id == id) {
                const LastKnown k = session_.lastKnown(i);
                shown.push_back({id, k.check, k.surface, p.variants[i].recipe.threshold});
            }
    return shown;
}

MainWindow::MakeScene MainWindow::companionScene(std::size_t pane) const {
    const Project& p = session_.project();
    for (std::size_t i = 0; i < p.variants.size(); ++i) {
        if (p.variants[i].id != panes_->companions()[pane]) continue;
        return [all = std::make_shared<const Project>(p), i, k = session_.lastKnown(i)](report::SceneOptions o) {
            const Recipe& recipe = all->variants[i].recipe;
            o.selectedFinding.clear();  // its id means another place here
            o.isolate = false;
            o.poorElement = -1;
            const auto analysis = all->check(recipe) ? all->analysis(recipe, o.analysis) : nullptr;
            if (o.show == Show::analysis && !analysis) o.show = Show::check;
            if ((o.show == Show::check || o.show == Show::mesh) && !k.check)
                o.show = k.surface ? Show::surface : Show::field;
            const auto process = all->process(recipe);
            const auto original = all->original(recipe);
            report::SceneInputs inputs{k.surface.get(), k.check.get(), nullptr,        process.get(),
                                       original.get(),  k.cage.get(),  k.rebuild.get()};
            inputs.analysis = analysis.get();
            return report::makeScene(*all, recipe, o, inputs);
        };
    }
    return {};
}

void MainWindow::SharedRange::find() {
    std::call_once(found_, [this] {
        if (scenes.empty()) return;
        const auto main = scenes.front()(options);
        widen(low_, high_, main->legend);
        for (std::size_t i = 1; i < scenes.size(); ++i)
            if (const auto scene = scenes[i](options); scene->legend.title == main->legend.title)
                widen(low_, high_, scene->legend);
        scenes.clear();
    });
}

std::shared_ptr<MainWindow::SharedRange> MainWindow::sharedRange(const report::SceneOptions& o, MakeScene main) const {
    auto range = std::make_shared<SharedRange>();
    if (panes_->companions().empty() || low_ || high_ || o.show != Show::check) return range;
    range->options = o;
    range->scenes.push_back(std::move(main));
    for (std::size_t i = 0; i < panes_->companions().size(); ++i)
        if (auto make = companionScene(i)) range->scenes.push_back(std::move(make));
    return range;
}

void MainWindow::showCompanions(const report::SceneOptions& o, const std::shared_ptr<SharedRange>& range) {
    const Project& p = session_.project();
    const auto& shown = panes_->companions();
    auto words = [&](std::size_t i) {
        const LastKnown k = session_.lastKnown(i);
        const VariantFigures f = figuresOf(p, p.variants[i], k.check.get(), k.surface.get());
        QString text = "<b>" + QString::fromStdString(p.variants[i].name).toHtmlEscaped() + "</b>";
        if (i == p.baseline) text += " · baseline";
        if (std::isfinite(f.mass)) text += " · " + num(f.mass) + " kg";
        if (std::isfinite(f.safetyFactor)) text += " · SF " + num(f.safetyFactor);
        if (k.check && !f.fresh) text += " · ◐ out of date";
        if (!k.check) text += " · not checked";
        return text;
    };
    panes_->setCaption(-1, shown.empty() ? QString() : words(p.open));
    for (std::size_t pane = 0; pane < shown.size(); ++pane)
        for (std::size_t i = 0; i < p.variants.size(); ++i)
            if (p.variants[i].id == shown[pane]) {
                panes_->setCaption(static_cast<int>(pane), words(i));
                if (const MakeScene make = companionScene(pane)) {
                    panes_->companion(pane).setScene(
                        [make, o, range]() -> std::shared_ptr<const render::Scene> {
                            report::SceneOptions shared = o;
                            if (const auto low = range->low()) shared.low = low;
                            if (const auto high = range->high()) shared.high = high;
                            auto plain = std::make_shared<render::Scene>(*make(shared));
                            plain->legend.shown = false;  // the open variant's stands for all
                            return plain;
                        },
                        false);
                    panes_->companion(pane).setCamera(view_->camera());
                }
            }
}

std::shared_ptr<const std::vector<double>> MainWindow::differenceFor(const report::SceneOptions& o) {
    const Project& p = session_.project();
    if (!bar_->showsDifference() || p.open == p.baseline) return nullptr;
    const auto own = session_.lastKnown().check, base = session_.lastKnown(p.baseline).check;
    if (!own || !base) return nullptr;
    // the same case by its name
    int other = -1;
    if (o.loadCase >= 0 && o.loadCase < static_cast<int>(own->cases.size())) {
        for (std::size_t c = 0; c < base->cases.size(); ++c)
            if (base->cases[c].name == own->cases[o.loadCase].name) other = static_cast<int>(c);
        if (other < 0) return nullptr;
    }
    const QString key = QString("%1|%2|%3|%4")
                            .arg(reinterpret_cast<quintptr>(own.get()))
                            .arg(reinterpret_cast<quintptr>(base.get()))
                            .arg(static_cast<int>(o.quantity))
                            .arg(other);
    if (key == sampledKey_) return sampled_;
    if (session_.isBusy()) return nullptr;
    const Part part = p.partOf(p.variants[p.baseline].recipe);
    auto result = std::make_shared<std::vector<double>>();
    const Mat3 axes = part.axesOf(o.frame);
    const auto quantity = o.quantity;
    const double reach = 3 * session_.recipe().elementSize;
    session_.work(
        "Difference to the baseline",
        [=](Progress& progress) {
            *result =
                sampledOn(own->mesh, base->mesh, quantityField(part, *base, quantity, other, axes), reach, progress);
        },
        [this, key, result] {
            sampledKey_ = key;
            sampled_ = result;
            showScene();
        });
    return nullptr;
}

}  // namespace escultura::app
