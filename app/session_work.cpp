/// What runs for the open project: one job at a time, those that wait for it, and tests in the background that give
/// way.

#include <QElapsedTimer>
#include <mutex>
#include <utility>

#include "base/quantity.hpp"
#include "judge/factor.hpp"
#include "project/run.hpp"
#include "session.hpp"
#include "stages/forecast.hpp"
#include "step_back.hpp"
#include "store/storage.hpp"

namespace escultura::app {

using project::Stage;

void Session::saveProject(const QString& path) {
    if (!hasProject()) return;
    queue({"Saving", "Saving"}, [this, path](const Job& job) {
        auto copy = std::make_shared<project::Project>(*project_);
        auto journal = std::make_shared<std::shared_ptr<store::Journal>>();
        auto problem = std::make_shared<QString>();
        work(
            job,
            [copy, path, journal, problem](Progress&) {
                store::saveProject(*copy, path.toStdString());
                try {
                    *journal = journalOf(*copy, path, true);
                } catch (const std::exception& e) {
                    *problem = e.what();
                }
            },
            [this, path, records = records_, journal, problem] {
                projectPath_ = path;
                modified_ = records_ != records;  // changed while it was written
                addLog("Saved " + path);
                replaceJournal(*journal);
                if (!problem->isEmpty()) tellNoRecovery(*problem);
                if (modified_) record("Changed while it was saved");
                emit changed();
            });
    });
}

std::optional<std::size_t> Session::indexOf(std::int64_t id) const {
    const project::Variant* v = project_->findVariant(id);
    return v ? std::optional(static_cast<std::size_t>(v - project_->variants.data())) : std::nullopt;
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
    return (isBusy() && covers(running_) && running_.recipe == recipe()) ||
           std::any_of(waiting_.begin(), waiting_.end(), covers);
}

void Session::queue(Job job, std::function<void(const Job&)> begin) {
    job.id = ++jobs_;
    if (!isBusy()) return begin(job);
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
        const Job job = waiting_.front();
        waiting_.erase(waiting_.begin());
        auto next = begin_.extract(job.id);
        emit waitingChanged();
        if (job.variant < 0 || indexOf(job.variant)) next.mapped()(job);  // else it is gone meanwhile
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
    queue({titleOf(what, variant().id), what, variant().id, upTo, forecastOf(*project_, variant(), upTo)},
          [this](const Job& job) { startRun(job); });
}

void Session::startRun(Job job) {
    auto copy = std::make_shared<project::Project>(*project_);
    copy->open = *indexOf(job.variant);
    job.recipe = copy->current().recipe;
    auto timings = std::make_shared<std::vector<project::Timing>>();
    work(
        job,
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
                const QString factor = QString("safety factor %1 (%2)")
                                           .arg(QString::fromStdString(judge::factorWords(
                                                    judge::factorOf(*project_, copy->current(), *check))),
                                                QString::fromStdString(check->governingCase));
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
    auto copy = std::make_shared<project::Project>(*project_);
    auto made = std::make_shared<std::string>();
    enough_ = false;
    toOptimise_ = true;
    work(
        Job{"Optimising", "Optimising", variant().id, Stage::field},
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

void Session::openVariant(std::size_t index) {
    if (project().open != index) edit("Open variant", [index](project::Project& p) { p.open = index; });
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
    const Job job{titleOf(what, variant().id), what, variant().id};
    auto same = [&](const Job& j) { return j.title == job.title; };
    if ((isBusy() && same(running_)) || std::any_of(waiting_.begin(), waiting_.end(), same)) return;
    queue(job, [this, ids](const Job& job) {
        auto copy = std::make_shared<project::Project>(*project_);
        copy->open = *indexOf(job.variant);
        work(
            job,
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

void Session::work(const QString& title, std::function<void(Progress&)> task, std::function<void()> done) {
    work(Job{title, title}, std::move(task), std::move(done));
}

void Session::work(Job job, std::function<void(Progress&)> task, std::function<void()> done) {
    if (isBusy()) return;
    running_ = std::move(job);
    if (isTesting()) {  // gives way
        next_ = [this, task = std::move(task), done = std::move(done)] { start(task, done); };
        progress_->cancel();
        return;
    }
    start(std::move(task), std::move(done));
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
    running_ = {"Testing what could govern", "Testing what could govern"};
    start([copy](Progress& progress) { judge::testWhatGoverns(*copy, copy->current().recipe, progress); },
          [this] {
              modified_ = true;
              record("Governing hotspots tested");
              remember();
              emit changed();
          });
}

void Session::start(std::function<void(Progress&)> task, std::function<void()> done) {
    const QString title = running_.title;
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
        stepBack(10);
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
    workClock_.begin(running_.kind, running_.forecast);
    emit busyChanged(true, title);
    worker_->start();
}

void Session::cancel() {
    if (isTesting()) givenUpKey_ = testedKey_;
    if (progress_) progress_->cancel();
}

}  // namespace escultura::app
