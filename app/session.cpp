/// The open project and the one worker that computes for it: edits with undo, runs, the journal. Long because all of
/// them guard the same state against each other.

#include "session.hpp"

#include <unistd.h>

#include <QDateTime>
#include <QDir>
#include <QElapsedTimer>
#include <QPointer>
#include <QStandardPaths>
#include <QUndoCommand>
#include <filesystem>
#include <mutex>
#include <utility>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "duty/part_numbers.hpp"
#include "judge/factor.hpp"
#include "project/run.hpp"
#include "stages/forecast.hpp"
#include "store/shelter.hpp"
#include "store/state_text.hpp"
#include "store/storage.hpp"

namespace escultura::app {

using project::Stage;

namespace {
struct Snapshot {
    std::vector<project::Variant> variants;
    std::vector<project::NamedView> views;
    std::size_t open, baseline;
    std::string partText;
    std::size_t releases;  ///< signed ones stay signed: only told apart, never taken back
    bool operator==(const Snapshot&) const = default;
};
Snapshot snapshot(const project::Project& p) {
    return {p.variants, p.views, p.open, p.baseline, p.part.text, p.releases.size()};
}
void apply(project::Project& p, const Snapshot& s) {
    p.variants = s.variants;
    p.views = s.views;
    p.open = s.open;
    p.baseline = s.baseline;
    if (p.part.text != s.partText) p.part = duty::parsePart(s.partText, p.part.path);
}
}  // namespace

/// One step of the history: the variants before and after.
class EditCommand : public QUndoCommand {
  public:
    EditCommand(Session& session, const QString& text, Snapshot before, Snapshot after, const QString& kind)
        : QUndoCommand(text), session_(session), before_(std::move(before)), after_(std::move(after)), kind_(kind) {}
    void undo() override { restore(before_, "Undone: " + text()); }
    void redo() override { restore(after_, text()); }
    int id() const override { return kind_.isEmpty() ? -1 : 1; }
    bool mergeWith(const QUndoCommand* other) override {
        const auto* next = static_cast<const EditCommand*>(other);
        if (next->kind_ != kind_) return false;
        after_ = next->after_;
        return true;
    }

  private:
    void restore(const Snapshot& s, const QString& words) {
        apply(*session_.project_, s);
        session_.record(words);
        session_.modified_ = true;
        session_.remember();
        emit session_.changed();
        session_.refreshField();
    }
    Session& session_;
    Snapshot before_, after_;
    QString kind_;
};

/// A step of an earlier session: the states before and after, as the history keeps them.
class StoredCommand : public QUndoCommand {
  public:
    StoredCommand(Session& session, const QString& text, std::string before, std::string after)
        : QUndoCommand(text), session_(session), before_(std::move(before)), after_(std::move(after)) {}
    void undo() override { restore(before_, "Undone: " + text()); }
    void redo() override {
        if (!session_.restoring_) restore(after_, text());
    }

  private:
    void restore(const std::string& state, const QString& words) {
        try {
            store::applyState(*session_.project_, state);
        } catch (const std::exception& e) {
            emit session_.failed(e.what());
            return;
        }
        session_.record(words);
        session_.modified_ = true;
        session_.remember();
        emit session_.changed();
        session_.refreshField();
    }
    Session& session_;
    std::string before_, after_;
};

QString Session::recoveryFolder() {
    const QByteArray chosen = qgetenv("ESCULTURA_RECOVERY_FOLDER");
    if (!chosen.isEmpty()) return QString::fromLocal8Bit(chosen);
    return QStandardPaths::writableLocation(QStandardPaths::GenericDataLocation) + "/escultura/recovery";
}

void Session::record(const QString& text) {
    const QString who = qEnvironmentVariable("USER", "engineer");
    // a slider that is dragged is one step
    auto& history = project_->history;
    if (history.size() > 1 && history.back().text == text.toStdString()) {
        const auto last = QDateTime::fromString(QString::fromStdString(history.back().time), Qt::ISODate);
        if (last.secsTo(QDateTime::currentDateTime()) < 4) history.pop_back();
    }
    const auto entry = store::record(*project_, text.toStdString(), who.toStdString(),
                                     QDateTime::currentDateTime().toString(Qt::ISODate).toStdString());
    if (!journal_) return;
    try {
        journal_->append(entry);
    } catch (const std::exception& e) {
        addLog(QString("The recovery file cannot be written: %1").arg(QString(e.what()).section('\n', 0, 0)));
        journal_.reset();
    }
}

void Session::startJournal(bool resultsSaved) {
    forgetRecovery();
    const QString path =
        QString("%1/%2-%3.journal").arg(recoveryFolder()).arg(QDateTime::currentMSecsSinceEpoch()).arg(::getpid());
    try {
        journal_ =
            std::make_shared<store::Journal>(path.toStdString(), *project_, projectPath_.toStdString(), resultsSaved);
    } catch (const std::exception& e) {
        addLog(QString("Work cannot be recovered after a crash: %1").arg(QString(e.what()).section('\n', 0, 0)));
    }
}

void Session::keepResults() {
    if (!journal_ || !project_) return;
    if (keeper_) {
        keepAgain_ = true;
        return;
    }
    keepAgain_ = false;
    keeping_ = journal_;
    auto problem = std::make_shared<QString>();
    keeper_ = QThread::create([journal = journal_, results = project_->results, problem] {
        try {
            journal->keep(*results);
        } catch (const std::exception& e) {
            *problem = QString(e.what()).section('\n', 0, 0);
        }
    });
    connect(keeper_, &QThread::finished, this, [this, problem] {
        keeper_->deleteLater();
        keeper_ = nullptr;
        stopKeeping();
        if (!problem->isEmpty()) addLog("Results cannot be kept for recovery: " + *problem);
        if (keepAgain_ && problem->isEmpty()) keepResults();
    });
    keeper_->start(QThread::LowPriority);
}

void Session::stopKeeping() {
    if (keptInVain_ && keeping_) keeping_->discard();
    keptInVain_ = false;
    keeping_.reset();
}

void Session::forgetRecovery() {
    if (journal_ && journal_ == keeping_)
        keptInVain_ = true;  // goes when its results are written: nobody waits for that
    else if (journal_)
        journal_->discard();
    journal_.reset();
}

void Session::restoreUndo() {
    restoring_ = true;
    const auto& history = project_->history;
    for (std::size_t i = 1; i < history.size(); ++i)
        if (!history[i - 1].state.empty() && !history[i].state.empty() && history[i].state != history[i - 1].state)
            undo_.push(new StoredCommand(*this, QString::fromStdString(history[i].text), history[i - 1].state,
                                         history[i].state));
    restoring_ = false;
}

Session::Session(QObject* parent) : QObject(parent) {
    // tests of a recipe that is not open any more give way to those of the open one
    connect(this, &Session::changed, this, [this] {
        if (!hasProject()) return;
        if (isTesting() && project_->keys(recipe()).findings != testedKey_)
            progress_->cancel();
        else
            QMetaObject::invokeMethod(this, &Session::testInBackground, Qt::QueuedConnection);
    });
}

Session::~Session() {
    next_ = {};
    cancel();
    for (QThread* thread : {worker_, keeper_})
        if (thread) {
            thread->wait();
            delete thread;
        }
    stopKeeping();
}

const project::Project& Session::project() const {
    if (!project_) throw InputError("Nothing is open: open a part, a project or a demo first.");
    return *project_;
}

void Session::addLog(const QString& line) {
    log_ << QDateTime::currentDateTime().toString("hh:mm:ss  ") + line;
    emit logged(log_.back());
}

LastKnown Session::lastKnown(std::size_t index) const {
    const project::Variant& v = project_->variants.at(index);
    const auto at = last_.find(v.id);
    LastKnown k = at == last_.end() ? LastKnown{} : at->second;
    if (auto f = project_->field(v.recipe)) k.field = f;
    if (auto s = project_->surface(v.recipe)) k.surface = s;
    if (auto c = project_->cage(v.recipe)) k.cage = c;
    if (auto b = project_->rebuild(v.recipe)) k.rebuild = b;
    if (auto c = project_->check(v.recipe)) k.check = c;
    if (auto f = project_->findings(v.recipe)) k.findings = f;
    return k;
}

void Session::remember() {
    for (std::size_t i = 0; i < project_->variants.size(); ++i) last_[project_->variants[i].id] = lastKnown(i);
    noteFresh();
}

void Session::noteFresh() {
    for (int s = 0; s < project::stageCount; ++s)
        if (const auto stage = static_cast<Stage>(s); freshness(stage) == Freshness::fresh)
            fresh_[{variant().id, stage}] = recipe();
}

QString Session::changedSince(Stage stage) const {
    if (!hasProject()) return {};
    const auto then = fresh_.find({variant().id, stage});
    if (then == fresh_.end()) return {};
    const auto changes = store::differences(project_->part, then->second, recipe());
    if (changes.empty()) return "the part changed";
    const QString first = QString::fromStdString(changes.front().what);
    return changes.size() == 1 ? first + " changed"
                               : QString("%1 and %2 more changed").arg(first).arg(changes.size() - 1);
}

Freshness Session::freshness(Stage stage) const {
    if (!hasProject()) return Freshness::missing;
    return freshness(project_->open, stage);
}

Freshness Session::freshness(std::size_t index, Stage stage) const {
    const duty::Recipe& r = project_->variants.at(index).recipe;
    const LastKnown k = lastKnown(index);
    auto state = [](bool fresh, bool known) {
        return fresh ? Freshness::fresh : known ? Freshness::outOfDate : Freshness::missing;
    };
    switch (stage) {
        case Stage::duty:
            return Freshness::fresh;
        case Stage::field:
            // made for other loads, supports or rules: still a field, but not the one that is asked for
            if (project_->made(r) && project_->madeKey(r) != r.field.made) return Freshness::outOfDate;
            return state(project_->field(r) != nullptr, k.field != nullptr);
        case Stage::rebuild:
            return state(project_->rebuild(r) != nullptr, k.rebuild != nullptr);
        case Stage::surface:
            return state(project_->surface(r) != nullptr, k.surface != nullptr);
        case Stage::check:
            return state(project_->check(r) != nullptr, k.check != nullptr);
        case Stage::findings:
        case Stage::release:
            return state(project_->findings(r) != nullptr, k.findings != nullptr);
    }
    return Freshness::missing;
}

void Session::edit(const QString& text, const std::function<void(project::Project&)>& change, const QString& joinKind) {
    if (!hasProject()) return;
    noteFresh();
    const Snapshot before = snapshot(*project_);
    project::Project& p = *project_;
    change(p);
    const Snapshot after = snapshot(p);
    if (before == after) return;
    apply(p, before);
    undo_.push(new EditCommand(*this, text, before, after, joinKind));
}

void Session::adopt(std::shared_ptr<project::Project> opened, const QString& path, bool resultsSaved) {
    project_ = std::move(*opened);
    project_->results->setShelter(store::diskShelter(store::cacheFolder()), store::resultBudget());
    projectPath_ = path;
    last_.clear();
    checked_.clear();
    fresh_.clear();
    timings_.clear();
    waiting_.clear();
    begin_.clear();
    undo_.clear();
    modified_ = false;
    restoreUndo();
    remember();
    addLog("Opened " + QString::fromStdString(project_->part.name));
    startJournal(resultsSaved);
    if (project_->history.empty()) record("Opened " + QString::fromStdString(project_->part.path));
    emit projectOpened();
    emit changed();
}

void Session::editPart(const QString& text, const std::function<std::string(const std::string&)>& change) {
    if (!hasProject()) return;
    const std::string next = change(project_->part.text);
    duty::Part part = duty::parsePart(next, project_->part.path);  // refuses before anything changes
    QStringList dropped;
    edit(text, [&](project::Project& p) {
        for (project::Variant& v : p.variants)
            for (const std::string& label : duty::followNames(p.part, part, v.recipe.numbers))
                dropped
                    << QString("%1 of variant %2").arg(QString::fromStdString(label), QString::fromStdString(v.name));
        p.part = std::move(part);
    });
    if (!dropped.isEmpty()) addLog("Numbers that went with what they belonged to: " + dropped.join(", "));
}

void Session::refreshField() {
    if (!hasProject() || isBusy() || project_->field()) return;
    // one that is to be made here is made when it is asked for
    if (recipe().field.how == duty::FieldChoice::How::made && !project_->made(recipe())) return;
    run(project::Stage::field);
}

void Session::openPart(const QString& path) {
    auto opened = std::make_shared<project::Project>();
    work(
        "Opening", [opened, path](Progress& progress) { *opened = project::openPart(path.toStdString(), progress); },
        [this, opened] { adopt(opened, {}); });
}

void Session::openNewPart(const std::string& text, const QString& path) {
    auto opened = std::make_shared<project::Project>();
    work(
        "Opening",
        [opened, text, path](Progress& progress) {
            *opened = project::openPartText(text, path.toStdString(), progress);
        },
        [this, opened] {
            adopt(opened, {});
            record("New part");
            modified_ = true;
            emit changed();
        });
}

void Session::reloadPart() {
    if (!hasProject()) return;
    auto opened = std::make_shared<project::Project>();
    const std::string path = project_->part.path;
    work(
        "Reloading", [opened, path](Progress& progress) { *opened = project::openPart(path, progress); },
        [this, opened] {
            remember();
            project_->part = opened->part;
            for (std::size_t f = 0; f < project_->part.fields.size(); ++f)
                if (const auto source = opened->source(f)) project::adoptField(*project_, f, source->field);
            modified_ = true;
            addLog("Reloaded " + QString::fromStdString(project_->part.path));
            emit changed();
        });
}

void Session::openProject(const QString& path) {
    auto opened = std::make_shared<project::Project>();
    work(
        "Opening", [opened, path](Progress&) { *opened = store::loadProject(path.toStdString()); },
        [this, opened, path] { adopt(opened, path); });
}

void Session::saveProject(const QString& path) {
    if (!hasProject()) return;
    queue({0, "Saving", -1, Stage::duty, 0}, [this, path] {
        auto copy = std::make_shared<project::Project>(*project_);
        work(
            "Saving", [copy, path](Progress&) { store::saveProject(*copy, path.toStdString()); },
            [this, path, steps = undo_.count(), history = project_->history.size()] {
                projectPath_ = path;
                modified_ =
                    undo_.count() != steps || project_->history.size() != history;  // changed while it was written
                addLog("Saved " + path);
                startJournal();
                if (modified_) record("Changed while it was saved");
                emit changed();
            });
    });
}

std::optional<std::size_t> Session::indexOf(std::int64_t id) const {
    for (std::size_t i = 0; i < project_->variants.size(); ++i)
        if (project_->variants[i].id == id) return i;
    return std::nullopt;
}

QString Session::titleOf(const QString& what, std::int64_t id) const {
    const auto i = indexOf(id);
    return i && project_->variants.size() > 1
               ? QString("%1 of %2").arg(what, QString::fromStdString(project_->variants[*i].name))
               : what;
}

bool Session::isAskedFor(Stage upTo) const {
    if (!hasProject()) return false;
    auto covers = [&](const Job& j) { return j.variant == variant().id && j.upTo >= upTo; };
    // what runs was asked for with the recipe as it was then
    return (isBusy() && covers(running_) && runningRecipe_ == recipe()) ||
           std::any_of(waiting_.begin(), waiting_.end(), covers);
}

void Session::queue(Job job, std::function<void()> begin) {
    job.id = ++jobs_;
    if (!isBusy()) {
        running_ = job;
        begin();
        return;
    }
    waiting_.push_back(job);
    begin_[job.id] = std::move(begin);
    emit waitingChanged();
}

void Session::drop(int id) {
    waiting_.erase(std::remove_if(waiting_.begin(), waiting_.end(), [id](const Job& j) { return j.id == id; }),
                   waiting_.end());
    begin_.erase(id);
    emit waitingChanged();
    emit changed();  // what waited can be asked for again
}

void Session::beginNext() {
    while (!waiting_.empty() && !isBusy()) {
        running_ = waiting_.front();
        waiting_.erase(waiting_.begin());
        auto next = begin_.extract(running_.id);
        emit waitingChanged();
        if (running_.variant < 0 || indexOf(running_.variant)) next.mapped()();  // else it is gone meanwhile
    }
}

namespace {
/// Seconds that a run is forecast to take on the machine that the forecast was measured on; 0: not known.
double forecastOf(const project::Project& p, const project::Variant& v, Stage upTo) {
    const auto field = p.field(v.recipe);
    if (!field || upTo < Stage::surface) return 0;
    const auto surface = p.surface(v.recipe);
    const auto f = stages::forecastRun(p.partOf(v.recipe), v.recipe, *field, surface.get());
    double seconds = surface ? 0 : f.surfaceSeconds;
    if (upTo >= Stage::check && !p.check(v.recipe)) seconds += f.checkSeconds;
    return seconds;
}
}  // namespace

void Session::run(Stage upTo) {
    if (!hasProject() || isAskedFor(upTo)) return;
    // findings are looked for after each check, at no cost
    const QString what = project::name(upTo == Stage::findings ? Stage::check : upTo);
    Job job{0, titleOf(what, variant().id), variant().id, upTo, 0};
    job.seconds = workClock_.likely(project::name(upTo), forecastOf(*project_, variant(), upTo));
    queue(job, [this, job] { startRun(job); });
}

void Session::startRun(const Job& job) {
    auto copy = std::make_shared<project::Project>(*project_);
    copy->open = *indexOf(job.variant);
    running_.seconds = forecastOf(*copy, copy->current(), job.upTo);
    runningRecipe_ = copy->current().recipe;
    auto timings = std::make_shared<std::vector<project::Timing>>();
    work(
        job.title,
        [copy, timings, upTo = job.upTo](Progress& progress) {
            *timings = project::run(*copy, copy->current().recipe, upTo, progress);
        },
        [this, timings, job, copy] {
            const duty::Recipe& as = copy->current().recipe;
            const bool isOpen = job.variant == variant().id;
            for (const auto& t : *timings) {
                if (isOpen) {
                    timings_.erase(std::remove_if(timings_.begin(), timings_.end(),
                                                  [&](const auto& old) { return old.stage == t.stage; }),
                                   timings_.end());
                    timings_.push_back(t);
                }
                addLog(QString("%1 done in %2 s")
                           .arg(titleOf(QString::fromStdString(t.stage), job.variant))
                           .arg(QString::fromStdString(formatNumber(t.seconds, 3))));
            }
            modified_ = true;
            remember();
            for (int s = 0; s < project::stageCount && !isOpen; ++s)
                if (const auto i = indexOf(job.variant); i && freshness(*i, static_cast<Stage>(s)) == Freshness::fresh)
                    fresh_[{job.variant, static_cast<Stage>(s)}] = project_->variants[*i].recipe;
            const auto check = job.upTo >= Stage::check ? project_->check(as) : nullptr;
            if (project_->check(as)) checked_[job.variant] = as;
            QString words = job.title + " done";
            if (check) {
                const judge::Factor f = judge::factorOf(*project_, copy->current(), *check);
                const std::string doubt = judge::doubtWords(f);
                QString factor = "safety factor " + QString::fromStdString(formatNumber(f.value, 3));
                if (!doubt.empty()) factor += ", " + QString::fromStdString(doubt);
                factor += " (" + QString::fromStdString(check->governingCase) + ")";
                words += ": " + factor;
                if (!timings->empty())
                    record(QString("%1 run for variant %2: %3")
                               .arg(project::name(job.upTo), QString::fromStdString(copy->current().name), factor));
            } else if (!timings->empty() && job.upTo != Stage::field) {
                record(QString("%1 run for variant %2")
                           .arg(project::name(job.upTo), QString::fromStdString(copy->current().name)));
            }
            emit changed();
            if (isOpen) emit ran(job.upTo);
            if (!timings->empty() && job.upTo != Stage::field) emit finished(words, job.variant);
        });
}

void Session::optimise() {
    if (!hasProject() || isBusy()) return;
    running_ = {++jobs_, "Optimising", variant().id, Stage::field, 0};
    auto copy = std::make_shared<project::Project>(*project_);
    auto made = std::make_shared<std::string>();
    enough_ = false;
    toOptimise_ = true;
    work(
        "Optimising",
        [this, copy, made](Progress& progress) {
            duty::Recipe recipe = copy->current().recipe;
            auto shown = std::make_shared<QElapsedTimer>();
            *made = project::runMadeField(
                *copy, recipe,
                [this, shown](const optimise::Step&, const field::DensityField& f) {
                    if (!shown->isValid() || shown->elapsed() > 1500) {
                        shown->start();
                        auto field = std::make_shared<const field::DensityField>(f);
                        QMetaObject::invokeMethod(this, [this, field] {
                            if (!optimising_) return;
                            growing_ = field;
                            emit grew();
                        });
                    }
                    return !enough_;
                },
                progress);
            recipe.field.how = duty::FieldChoice::How::made;
            recipe.field.made = *made;
            progress.step("Reading the field");
            project::run(*copy, recipe, Stage::field, progress);
        },
        [this, made, id = variant().id] {
            const auto index = indexOf(id);
            if (!index) return;
            edit("Optimise", [made, index](project::Project& p) {
                duty::FieldChoice& field = p.variants[*index].recipe.field;
                field.how = duty::FieldChoice::How::made;
                field.made = *made;
            });
            modified_ = true;
            const auto field = project_->made(project_->variants[*index].recipe);
            addLog(
                QString("Optimised: %1 in %2 s")
                    .arg(QString::fromStdString(field->task), QString::fromStdString(formatNumber(field->seconds, 3))));
            if (id == variant().id) emit ran(Stage::field);
            emit finished("Optimisation done", id);
        });
}

void Session::quickCheck() {
    if (!hasProject() || isAskedFor(Stage::check)) return;
    const auto checked = checked_.find(variant().id);
    const bool recorded =
        checked != checked_.end() && !(checked->second == recipe()) && project_->check(checked->second);
    edit("Quick check", [&](project::Project& p) {
        duty::Recipe now = p.variants[p.open].recipe;
        now.check.rebuilt = true;
        now.check.original = false;
        now.check.level = duty::Level::look;
        if (recorded && !(now == checked->second)) {
            p.variants[p.open].recipe = checked->second;
            addVariant(p, p.open);
        }
        p.variants[p.open].recipe = now;
    });
    run(Stage::findings);
}

void Session::testHotspots(const std::vector<std::string>& ids) {
    if (!hasProject()) return;
    const QString what = ids.size() == 1 ? "Testing " + QString::fromStdString(ids[0]) : QString("Testing hotspots");
    Job job{0, titleOf(what, variant().id), variant().id, Stage::duty, workClock_.likely(what, 0)};
    auto same = [&](const Job& j) { return j.title == job.title; };
    if ((isBusy() && same(running_)) || std::any_of(waiting_.begin(), waiting_.end(), same)) return;
    queue(job, [this, job, ids] {
        auto copy = std::make_shared<project::Project>(*project_);
        copy->open = *indexOf(job.variant);
        work(
            job.title,
            [copy, ids](Progress& progress) {
                judge::testHotspots(*copy, copy->current().recipe, ids, progress);
                // all of them: also the places beside them that could govern
                if (ids.empty()) judge::testWhatGoverns(*copy, copy->current().recipe, progress);
            },
            [this, ids, job] {
                modified_ = true;
                record(ids.empty() ? titleOf("Hotspots", job.variant) + " tested"
                                   : "Hotspot " + QString::fromStdString(ids[0]) + " tested");
                remember();
                emit changed();
                emit finished(job.title + " done", job.variant);
            });
    });
}

void Session::runStudy(project::Study study) {
    if (isBusy()) return;
    auto copy = std::make_shared<project::Project>(*project_);
    // the study takes its place among the project's when its first evaluation is there
    const std::size_t index = [&] {
        for (std::size_t i = 0; i < project_->studies.size(); ++i)
            if (project_->studies[i].kind == study.kind && project_->studies[i].axes == study.axes &&
                project_->studies[i].variant == study.variant && project_->studies[i].standard == study.standard)
                return i;
        return project_->studies.size();
    }();
    if (index == project_->studies.size())
        project_->studies.push_back(study);
    else
        study.done = project_->studies[index].done, study.digest = project_->studies[index].digest;
    auto running = std::make_shared<project::Study>(study);
    auto keep = [this, index](const project::Study& s) {
        if (!project_ || index >= project_->studies.size()) return;
        project_->studies[index] = s;
        modified_ = true;
        emit changed();
    };
    work(
        QString("Study (%1)").arg(project::name(study.kind)),
        [this, copy, running, keep](Progress& progress) {
            judge::runStudy(*copy, *running, progress, [&](const project::Study& s) {
                QMetaObject::invokeMethod(
                    this, [keep, s] { keep(s); }, Qt::QueuedConnection);
            });
        },
        [this, running, keep] {
            keep(*running);
            record(
                QString("Study (%1) done: %2 evaluations").arg(project::name(running->kind)).arg(running->done.size()));
        });
}

void Session::recover(const store::Unsaved& unsaved) {
    auto opened = std::make_shared<project::Project>();
    work(
        "Recovering", [opened, unsaved](Progress& progress) { *opened = store::recover(unsaved, progress); },
        [this, opened, unsaved] {
            adopt(opened, QString::fromStdString(unsaved.projectPath), false);
            record("Recovered unsaved work");
            modified_ = true;
            store::discard(unsaved);
            emit changed();
        });
}

void Session::work(const QString& title, std::function<void(Progress&)> task, std::function<void()> done) {
    if (isBusy() || next_) return;
    if (running_.title != title) running_ = {++jobs_, title, -1, Stage::duty, 0};
    if (isTesting()) {  // gives way
        next_ = [this, title, task = std::move(task), done = std::move(done)] { start(title, task, done); };
        progress_->cancel();
        return;
    }
    start(title, std::move(task), std::move(done));
}

void Session::setTestsByItself(bool on) {
    testsByItself_ = on;
    givenUpKey_.clear();
    if (on)
        testInBackground();
    else if (isTesting())
        progress_->cancel();
}

void Session::testInBackground() {
    if (!hasProject() || worker_ || !testsByItself_) return;
    const auto check = project_->check(recipe());
    if (!check || check->level == duty::Level::look || recipe().check.original) return;
    const std::string key = project_->keys(recipe()).findings;
    if (key == givenUpKey_ || !project_->findings(recipe())) return;
    if (recipe().check.rebuilt && !project_->rebuild(recipe())) return;  // stored without its solid
    if (judge::hotspotsToTest(*project_, variant()).empty()) return;
    auto copy = std::make_shared<project::Project>(*project_);
    testedKey_ = key;
    background_ = true;
    start(
        "Testing what could govern",
        [copy](Progress& progress) { judge::testWhatGoverns(*copy, copy->current().recipe, progress); },
        [this] {
            modified_ = true;
            record("Governing hotspots tested");
            remember();
            emit changed();
        });
}

void Session::start(const QString& title, std::function<void(Progress&)> task, std::function<void()> done) {
    auto clock = std::make_shared<QElapsedTimer>();
    clock->start();
    struct Told {  // steps come from any thread
        std::mutex mutex;
        std::string step;
        qint64 time = -1000;
    };
    auto told = std::make_shared<Told>();
    progress_ = std::make_shared<Progress>(
        [this, clock, told](const std::string& step, double share) {
            {
                const std::lock_guard lock(told->mutex);
                const qint64 now = clock->elapsed();
                if (step == told->step && now - told->time < 60) return;
                told->step = step;
                told->time = now;
            }
            emit progressed(QString::fromStdString(step), share);
            QMetaObject::invokeMethod(
                this, [this, step, share] { workClock_.step(QString::fromStdString(step), share); },
                Qt::QueuedConnection);
        },
        [this](const std::string& curve, double x, double y) { emit recorded(QString::fromStdString(curve), x, y); });
    auto error = std::make_shared<QString>();
    auto cancelled = std::make_shared<bool>(false);
    worker_ = QThread::create([task, progress = progress_, error, cancelled] {
        try {
            task(*progress);
        } catch (const Cancelled&) {
            *cancelled = true;
        } catch (const std::bad_alloc&) {
            *error = "There is not enough memory for this. Use larger elements.";
        } catch (const std::exception& e) {
            *error = QString::fromStdString(e.what());
        }
    });
    connect(worker_, &QThread::finished, this, [this, done, error, cancelled, title] {
        worker_->deleteLater();
        worker_ = nullptr;
        const bool background = std::exchange(background_, false);
        optimising_ = false;
        growing_.reset();
        workClock_.end(!*cancelled && error->isEmpty());
        emit busyChanged(false, title);
        if (background && (*cancelled || !error->isEmpty())) {
            // nobody asked for it: what failed is told in the log, and the figures stay untested
            if (!error->isEmpty()) {
                addLog(title + ": " + error->section('\n', 0, 0));
                givenUpKey_ = testedKey_;
            }
            emit changed();
        } else if (*cancelled) {
            addLog(title + " cancelled; nothing was changed");
            emit changed();
        } else if (!error->isEmpty()) {
            addLog(title + ": " + error->section('\n', 0, 0));
            emit failed(*error);
            emit changed();
        } else {
            done();
            keepResults();
        }
        if (auto next = std::exchange(next_, {})) {
            next();
            return;
        }
        beginNext();
        if (worker_) return;
        // a change made while this ran may ask for another field; one that failed is not tried again by itself
        if (error->isEmpty() && (!*cancelled || background)) refreshField();
        if (error->isEmpty()) testInBackground();
    });
    optimising_ = std::exchange(toOptimise_, false);
    // runs of all variants are of one kind
    const bool run = running_.title == title && running_.upTo != Stage::duty && !optimising_ && !background_;
    workClock_.begin(run ? project::name(running_.upTo) : title.section(" of ", 0, 0), run ? running_.seconds : 0);
    emit busyChanged(true, title);
    worker_->start();
}

void Session::cancel() {
    if (isTesting()) givenUpKey_ = testedKey_;
    if (progress_) progress_->cancel();
}

}  // namespace escultura::app
