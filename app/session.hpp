/// @file session.hpp
/// What the window works on: the project, its undo history, and the work that runs beside the interface.

#pragma once
#include <QObject>
#include <QPixmap>
#include <QThread>
#include <QUndoStack>
#include <atomic>
#include <functional>
#include <map>
#include <memory>
#include <optional>

#include "judge/findings.hpp"
#include "judge/requirements.hpp"
#include "judge/study.hpp"
#include "project/project.hpp"
#include "project/run.hpp"
#include "store/journal.hpp"
#include "store/storage.hpp"
#include "work_clock.hpp"

namespace escultura::app {

/// What was last known of a variant: shown, marked out of date, until new results are there.
struct LastKnown {
    std::shared_ptr<const stages::FieldResult> field;
    std::shared_ptr<const stages::SurfaceResult> surface;
    std::shared_ptr<const stages::CageResult> cage;
    std::shared_ptr<const stages::RebuildResult> rebuild;
    std::shared_ptr<const stages::CheckResult> check;
    std::shared_ptr<const stages::FindingsResult> findings;
};

enum class Freshness { fresh, outOfDate, missing };

class Session : public QObject {
    Q_OBJECT
  public:
    explicit Session(QObject* parent = nullptr);
    ~Session() override;

    bool hasProject() const { return project_.has_value(); }
    /// @throws InputError when nothing is open
    const project::Project& project() const;
    const project::Variant& variant() const { return project().current(); }
    const duty::Recipe& recipe() const { return variant().recipe; }
    /// The part with the open variant's own numbers.
    const duty::Part& part() const { return project().partOf(recipe()); }
    QUndoStack& undoStack() { return undo_; }
    const QString& projectPath() const { return projectPath_; }
    bool isModified() const { return modified_; }

    /// Latest results of a variant (fresh ones first).
    LastKnown lastKnown(std::size_t variant) const;
    LastKnown lastKnown() const { return hasProject() ? lastKnown(project_->open) : LastKnown{}; }
    Freshness freshness(project::Stage stage) const;
    Freshness freshness(std::size_t variant, project::Stage stage) const;
    /// What has changed in the open variant since a stage that is out of date was made, as in "threshold changed".
    QString changedSince(project::Stage stage) const;

    /// Changes variants as one step of the history; steps of the same non-empty kind that follow each other join.
    void edit(const QString& text, const std::function<void(project::Project&)>& change, const QString& joinKind = {});

    /// Changes the part file's text as one step of the history. @throws InputError when it is no part then
    void editPart(const QString& text, const std::function<std::string(const std::string&)>& change);
    /// Evaluates the open variant's field when it is missing.
    void refreshField();

    void openPart(const QString& path);
    /// A part that lives in memory until it is saved. @param path  that paths in the text start from; no file
    void openNewPart(const std::string& text, const QString& path);
    /// Reads the part file again and keeps variants and results; what the change touches is out of date.
    void reloadPart();
    void openProject(const QString& path);
    void saveProject(const QString& path);
    /// Runs what is missing up to a stage of the open variant on a worker thread; waits when other work runs.
    void run(project::Stage upTo);
    /// Work that runs, or waits for what runs.
    struct Job {
        QString title;
        QString kind{};             ///< of which the time is measured, whatever the variant
        std::int64_t variant = -1;  ///< whose results it makes; -1: none's
        project::Stage upTo = project::Stage::duty;
        double forecast = 0;  ///< seconds on the machine that forecasts were measured on; 0: none
        int id = 0;
        std::optional<duty::Recipe> recipe{};  ///< that results are made for, once it runs
    };
    /// Seconds that it is likely to take, from what was measured here; 0: not known.
    double likely(const Job& job) const { return workClock_.likely(job.kind, job.forecast); }
    /// What runs now; null: nothing that one has to wait for.
    const Job* running() const { return isBusy() ? &running_ : nullptr; }
    const std::vector<Job>& waiting() const { return waiting_; }
    /// Takes back what waits.
    void drop(int id);
    /// Whether a run of the open variant up to a stage or beyond runs or waits already.
    bool isAskedFor(project::Stage upTo) const;
    /// Whether what runs is for the open variant, or for none in particular.
    bool isBusyHere() const { return isBusy() && (running_.variant < 0 || running_.variant == variant().id); }
    /// Seconds that what runs still takes, from how long the same steps took before; none: not known.
    std::optional<double> remaining() const { return workClock_.remaining(); }
    /// Makes the field that the part's optimisation asks for, and chooses it for the open variant.
    void optimise();
    /// Ends a running optimisation after its step; what is there becomes the field.
    void stopAndKeep() { enough_ = true; }
    bool isOptimising() const { return optimising_; }
    /// The field of a running optimisation so far; null: none.
    std::shared_ptr<const field::DensityField> growing() const { return isBusyHere() ? growing_ : nullptr; }
    /// One key from a changed number to a safety factor: the rebuilt solid at level 'look'. When the open variant was
    /// checked with another recipe, that one stays on the shelf and the change becomes a variant of its own.
    void quickCheck();
    /// Opens a variant as one step of the history; nothing when it is open.
    void openVariant(std::size_t index);
    /// Index of a variant; none: it is gone.
    std::optional<std::size_t> indexOf(std::int64_t variant) const;
    /// Tests hotspots of the open variant. @param ids  empty: all
    void testHotspots(const std::vector<std::string>& ids);
    /// Starts or goes on with a study; evaluations appear as they are done, and stay when it is cancelled.
    void runStudy(project::Study study);
    /// Opens what a journal tells of unsaved work.
    void recover(const store::Unsaved& unsaved);
    /// Folder of the journals. Made when something is written.
    static QString recoveryFolder();
    /// Nothing of the open project is to be recovered later: it is saved, or given up on purpose.
    void forgetRecovery();
    /// Runs other work on the worker thread; `done` is called on the interface thread when it succeeds.
    void work(const QString& title, std::function<void(Progress&)> task, std::function<void()> done);
    /// Also ends tests in the background; they do not begin again by themselves until something has changed.
    void cancel();
    /// Whether work runs that others have to wait for; tests in the background give way at once.
    bool isBusy() const { return (worker_ != nullptr && !background_) || next_; }
    /// Whether the hotspots that could govern are being tested without having been asked for.
    bool isTesting() const { return worker_ != nullptr && background_; }
    /// Seconds of the stages of the open variant's last run.
    const std::vector<project::Timing>& timings() const { return timings_; }

    /// Whether the hotspots that could govern are tested without being asked for. On, unless the environment variable
    /// ESCULTURA_AUTOMATIC_TESTS is 0.
    bool testsByItself() const { return testsByItself_; }
    void setTestsByItself(bool on);

    void addLog(const QString& line);
    const QStringList& log() const { return log_; }

  signals:
    void projectOpened();
    void changed();  ///< recipe, variants or results
    void busyChanged(bool busy, const QString& title);
    void ran(escultura::project::Stage upTo);  ///< run() of the open variant has ended well
    /// Work that took a while has ended. @param variant  whose results are new; -1: none's
    void finished(const QString& words, std::int64_t variant);
    void waitingChanged();
    void progressed(const QString& step, double share);
    /// A point of a curve of the running work, such as "residual".
    void recorded(const QString& curve, double x, double y);
    /// growing() has changed.
    void grew();
    void failed(const QString& message);
    void logged(const QString& line);

  private:
    /// Begins to test what could govern, when a check that counts is fresh and nothing else runs.
    void testInBackground();
    /// Begins a job unless another runs; tests in the background give way.
    void work(Job job, std::function<void(Progress&)> task, std::function<void()> done);
    /// Begins what running_ tells.
    void start(std::function<void(Progress&)> task, std::function<void()> done);
    /// Begins at once or when all that was asked for before has ended.
    void queue(Job job, std::function<void(const Job&)> begin);
    void beginNext();
    void startRun(Job job);
    /// Names the variant where there are several.
    QString titleOf(const QString& what, std::int64_t variant) const;
    friend class EditCommand;
    friend class StoredCommand;
    /// @param resultsSaved  all its results are in the file of that path
    void adopt(std::shared_ptr<project::Project> project, const QString& path, bool resultsSaved = true);
    void remember();
    void noteFresh();
    /// Writes a step to history and journal.
    void record(const QString& text);
    void startJournal(bool resultsSaved = true);
    /// A journal that begins with a project as it is, made in any thread. @throws InputError
    static std::shared_ptr<store::Journal> journalOf(const project::Project& project, const QString& savedAs,
                                                     bool resultsSaved);
    /// Goes on with another journal; the one before is removed in a thread of its own.
    void replaceJournal(std::shared_ptr<store::Journal> next);
    void tellNoRecovery(const QString& why);
    /// Writes new results beside the journal, in a thread of its own.
    void keepResults();
    void stopKeeping();
    void restoreUndo();

    std::optional<project::Project> project_;
    QUndoStack undo_;
    std::map<std::int64_t, LastKnown> last_;
    std::map<std::int64_t, duty::Recipe> checked_;  ///< recipe of each variant's last check
    /// Recipe that each stage of each variant was last fresh with.
    std::map<std::pair<std::int64_t, project::Stage>, duty::Recipe> fresh_;
    std::vector<project::Timing> timings_;
    QThread *worker_ = nullptr, *keeper_ = nullptr;
    std::atomic<bool> enough_{false};
    bool toOptimise_ = false, optimising_ = false;  ///< asked for; running
    std::shared_ptr<const field::DensityField> growing_;
    bool background_ = false;  ///< the worker tests without having been asked
    bool testsByItself_ = qgetenv("ESCULTURA_AUTOMATIC_TESTS") != "0";
    std::function<void()> next_;  ///< asked for while the worker gives way
    Job running_;
    std::vector<Job> waiting_;
    std::map<int, std::function<void(const Job&)>> begin_;  ///< of those that wait
    int jobs_ = 0;
    WorkClock workClock_;
    std::string testedKey_, givenUpKey_;  ///< findings that are tested; whose tests were cancelled or failed
    bool keepAgain_ = false;
    std::shared_ptr<Progress> progress_;
    QString projectPath_;
    bool modified_ = false;
    std::uint64_t records_ = 0;  ///< steps that were written to the history so far
    QStringList log_;
    std::shared_ptr<store::Journal> journal_;
    std::shared_ptr<store::Journal> keeping_;  ///< that results are being written to
    bool keptInVain_ = false;                  ///< it was given up meanwhile
    bool restoring_ = false;                   ///< commands of earlier sessions are pushed without being carried out
};

}  // namespace escultura::app
