/// The open project: edits with undo, what is known of its variants, opening, the journal.

#include "session.hpp"

#include <unistd.h>

#include <QDateTime>
#include <QDir>
#include <QPointer>
#include <QStandardPaths>
#include <QThreadPool>
#include <QUndoCommand>
#include <filesystem>
#include <utility>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "duty/part_numbers.hpp"
#include "project/run.hpp"
#include "step_back.hpp"
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
    ++records_;
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

std::shared_ptr<store::Journal> Session::journalOf(const project::Project& project, const QString& savedAs,
                                                   bool resultsSaved) {
    const QString path =
        QString("%1/%2-%3.journal").arg(recoveryFolder()).arg(QDateTime::currentMSecsSinceEpoch()).arg(::getpid());
    return std::make_shared<store::Journal>(path.toStdString(), project, savedAs.toStdString(), resultsSaved);
}

void Session::startJournal(bool resultsSaved) {
    forgetRecovery();
    try {
        journal_ = journalOf(*project_, projectPath_, resultsSaved);
    } catch (const std::exception& e) {
        tellNoRecovery(e.what());
    }
}

void Session::tellNoRecovery(const QString& why) {
    addLog(QString("Work cannot be recovered after a crash: %1").arg(why.section('\n', 0, 0)));
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
        stepBack(10);
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

void Session::replaceJournal(std::shared_ptr<store::Journal> next) {
    if (journal_ && journal_ != keeping_)  // large files take a while to go
        QThreadPool::globalInstance()->start([old = std::exchange(journal_, nullptr)] { old->discard(); });
    forgetRecovery();
    journal_ = std::move(next);
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

}  // namespace escultura::app
