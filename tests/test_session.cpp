// What the window works on, without the window: history, work beside the interface, variants, recovery.
#include <QApplication>
#include <QSignalSpy>
#include <QTemporaryDir>
#include <QtTest>
#include <thread>

#include "duty/part_numbers.hpp"
#include "judge/factor.hpp"
#include "made_up_part.hpp"
#include "project/run.hpp"
#include "session.hpp"
#include "store/storage.hpp"

using namespace escultura;
using namespace escultura::app;
using project::Project;
using project::Stage;

class TestSession : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;
    std::unique_ptr<Session> s_;
    bool settle() {
        return QTest::qWaitFor([this] { return !s_->isBusy(); }, 120000);
    }
    void threshold(double t, const QString& join = {}) {
        s_->edit(
            "Threshold", [t](Project& p) { p.variants[p.open].recipe.threshold = t; }, join);
    }
    QString recovery() const { return dir_.filePath("recovery"); }

  private slots:
    /// What could govern is tested without being asked for; other work does not wait, and cancelling ends it.
    void governingHotspotsAreTestedByThemselves() {
        s_->run(Stage::findings);
        QVERIFY(settle());
        QVERIFY(!judge::hotspotsToTest(s_->project(), s_->variant()).empty());
        s_->setTestsByItself(true);
        QVERIFY(s_->isTesting() && !s_->isBusy());
        s_->cancel();
        QVERIFY(QTest::qWaitFor([&] { return !s_->isTesting(); }, 60000));
        QVERIFY(!judge::hotspotsToTest(s_->project(), s_->variant()).empty());
        // work that is asked for is done, then the tests go on
        s_->setTestsByItself(true);
        QVERIFY(s_->isTesting());
        bool done = false;
        s_->work(
            "Something else", [](Progress&) {}, [&] { done = true; });
        QVERIFY(s_->isBusy());
        QVERIFY(QTest::qWaitFor([&] { return done; }, 60000));
        QVERIFY(QTest::qWaitFor(
            [&] {
                return !s_->isTesting() && !s_->isBusy() && judge::hotspotsToTest(s_->project(), s_->variant()).empty();
            },
            300000));
        const auto check = s_->project().check(s_->recipe());
        QVERIFY(judge::factorOf(s_->project(), s_->variant(), *check).proves());
    }
    void init() {
        qputenv("ESCULTURA_RECOVERY_FOLDER", recovery().toLocal8Bit());
        qputenv("ESCULTURA_AUTOMATIC_TESTS", "0");  // whoever wants them turns them on
        s_ = std::make_unique<Session>();
        s_->openPart(QString::fromStdString(made_up::writeLever(dir_.path().toStdString())));
        QVERIFY(settle());
        QVERIFY(s_->hasProject());
        s_->edit("coarse", [](Project& p) {
            p.variants[0].recipe.elementSize = 4;
            p.variants[0].recipe.rebuild.faceSize = 6;
        });
        s_->undoStack().clear();
    }
    void cleanup() {
        s_->forgetRecovery();
        s_.reset();
        QDir(recovery()).removeRecursively();
    }

    void editsAreStepsOfTheHistory() {
        QSignalSpy changed(s_.get(), &Session::changed);
        threshold(0.4);
        threshold(0.4);  // the same again is no step
        QCOMPARE(s_->undoStack().count(), 1);
        QVERIFY(!changed.isEmpty() && s_->isModified());
        threshold(0.42, "slider");
        threshold(0.44, "slider");
        threshold(0.46, "slider");
        QCOMPARE(s_->undoStack().count(), 2);  // a dragged slider is one
        s_->undoStack().undo();
        QCOMPARE(s_->recipe().threshold, 0.4);
        s_->undoStack().undo();
        QCOMPARE(s_->recipe().threshold, 0.5);
        s_->undoStack().redo();
        s_->undoStack().redo();
        QCOMPARE(s_->recipe().threshold, 0.46);
        const auto& history = s_->project().history;
        QVERIFY(history.size() >= 4 && history.back().text == "Threshold");
        QVERIFY(!history.back().who.empty() && history.back().time.find('T') != std::string::npos);
    }
    void editsOfThePartAreChecked() {
        QVERIFY_EXCEPTION_THROWN(s_->editPart("Break", [](const std::string&) { return std::string("{"); }),
                                 InputError);
        QCOMPARE(s_->undoStack().count(), 0);
        s_->editPart("Density", [](const std::string& text) {
            auto j = nlohmann::json::parse(text);
            j["material"]["density"] = 2700;
            return j.dump();
        });
        QVERIFY(std::abs(s_->part().material.density / 2.7e-6 - 1) < 1e-12);
        QVERIFY(settle());
        s_->undoStack().undo();
        QVERIFY(settle());
        QVERIFY(std::abs(s_->part().material.density / 7.85e-6 - 1) < 1e-12);
    }
    /// Results are fresh, then out of date, then fresh again with the old recipe.
    void freshnessFollowsTheRecipe() {
        QVERIFY(s_->freshness(Stage::surface) == Freshness::missing);
        QSignalSpy ran(s_.get(), &Session::ran);
        s_->run(Stage::findings);
        QVERIFY(s_->isBusy());
        QVERIFY(settle());
        QCOMPARE(ran.count(), 1);
        for (Stage stage : {Stage::field, Stage::surface, Stage::check, Stage::findings})
            QVERIFY2(s_->freshness(stage) == Freshness::fresh, project::name(stage));
        QVERIFY(s_->freshness(Stage::rebuild) == Freshness::missing);
        const double factor = s_->lastKnown().check->minSafetyFactor;
        QVERIFY(s_->timings().size() >= 3);
        threshold(0.45);
        QVERIFY(s_->freshness(Stage::check) == Freshness::outOfDate);
        QCOMPARE(s_->lastKnown().check->minSafetyFactor, factor);  // still shown
        s_->undoStack().undo();
        QVERIFY(s_->freshness(Stage::check) == Freshness::fresh);
        QVERIFY(s_->project().history.back().text.find("Undone") == 0);
    }
    void oneWorkAtATime() {
        std::atomic<bool> go{false};
        int done = 0;
        QSignalSpy busy(s_.get(), &Session::busyChanged);
        s_->work(
            "Waiting",
            [&](Progress& p) {
                p.step("half", 0.5);
                while (!go) std::this_thread::sleep_for(std::chrono::milliseconds(1));
            },
            [&] { ++done; });
        s_->work(
            "Second", [](Progress&) { QFAIL("must not run"); }, [] {});
        QVERIFY(s_->isBusy());
        go = true;
        QVERIFY(settle());
        QCOMPARE(done, 1);
        QCOMPARE(busy.count(), 2);
        QCOMPARE(busy[0][1].toString(), QString("Waiting"));
    }
    /// Runs of several variants wait for each other; meanwhile any variant can be opened and changed.
    void runsOfVariantsWait() {
        QSignalSpy ended(s_.get(), &Session::finished), ran(s_.get(), &Session::ran);
        s_->edit("New variant", [](Project& p) { project::addVariant(p, p.open); });
        threshold(0.46);
        const auto first = s_->project().variants[0].id, second = s_->variant().id;
        s_->edit("Open variant", [](Project& p) { p.open = 0; });
        s_->run(Stage::surface);
        QVERIFY(s_->isBusy() && s_->isAskedFor(Stage::surface) && s_->isBusyHere());
        QVERIFY(!s_->isAskedFor(Stage::findings));
        s_->run(Stage::surface);  // the same again: nothing waits
        QVERIFY(s_->waiting().empty());
        s_->edit("Open variant", [](Project& p) { p.open = 1; });
        QVERIFY(!s_->isAskedFor(Stage::surface) && !s_->isBusyHere());
        s_->run(Stage::surface);
        s_->run(Stage::findings);
        const QString file = dir_.filePath("while-running.escultura");
        s_->saveProject(file);
        QCOMPARE(s_->waiting().size(), std::size_t(3));
        QVERIFY2(s_->waiting()[0].title.contains(" of " + QString::fromStdString(s_->variant().name)),
                 qPrintable(s_->waiting()[0].title));
        QVERIFY(s_->isAskedFor(Stage::findings));
        s_->drop(s_->waiting()[1].id);  // not the findings, then
        QVERIFY(!s_->isAskedFor(Stage::findings) && s_->isAskedFor(Stage::surface));
        threshold(0.44);  // what waits is run with the recipe that it finds
        s_->edit("Open variant", [](Project& p) { p.open = 0; });
        QVERIFY(settle());
        QVERIFY(s_->waiting().empty());
        const auto& variants = s_->project().variants;
        for (const auto& v : variants) QVERIFY(s_->project().surface(v.recipe));
        QVERIFY(!s_->project().check(variants[1].recipe));
        QCOMPARE(variants[1].recipe.threshold, 0.44);
        QVERIFY(s_->freshness(1, Stage::surface) == Freshness::fresh);
        QCOMPARE(ran.count(), 1);  // only the open one's is shown
        QCOMPARE(ended.count(), 2);
        QCOMPARE(ended[0][1].value<std::int64_t>(), first);
        QCOMPARE(ended[1][1].value<std::int64_t>(), second);
        QVERIFY(!s_->isModified() && QFileInfo(file).size() > 1000);
        // a run begins anew when the recipe has changed since it was asked for
        threshold(0.47);
        s_->run(Stage::surface);
        threshold(0.48);
        QVERIFY(!s_->isAskedFor(Stage::surface));
        s_->run(Stage::surface);
        QCOMPARE(s_->waiting().size(), std::size_t(1));
        QVERIFY(settle());
        QVERIFY(s_->freshness(Stage::surface) == Freshness::fresh);
    }
    /// The variant that a run waits for is gone: the next one's turn.
    void whatWaitsForAVariantThatIsGone() {
        s_->run(Stage::surface);
        s_->edit("New variant", [](Project& p) { project::addVariant(p, p.open); });
        threshold(0.4);
        s_->run(Stage::surface);
        QCOMPARE(s_->waiting().size(), std::size_t(1));
        s_->undoStack().undo();
        s_->undoStack().undo();
        QCOMPARE(s_->project().variants.size(), std::size_t(1));
        QVERIFY(settle());
        QVERIFY(s_->waiting().empty() && s_->freshness(Stage::surface) == Freshness::fresh);
    }
    /// Remaining time by how long the same steps took before, for a larger run as the forecasts compare.
    void remainingTimeIsMeasured() {
        static double now = 0;
        WorkClock clock;
        clock.setTime([] { return now; });
        clock.begin("Check", 0);
        QVERIFY(!clock.remaining());
        auto run = [&](double scale) {
            clock.step("mesh", 0);
            now += 10 * scale;
            clock.step("solve", 0.5);
            now += 20 * scale;
            clock.step("solve", 1);
            now += 10 * scale;
            clock.end(true);
        };
        clock.begin("Check", 5);  // forecast for another machine
        run(1);
        QCOMPARE(clock.likely("Check", 5), 40.);
        QCOMPARE(clock.likely("Check", 10), 80.);
        QCOMPARE(clock.likely("Surface", 7), 7.);
        clock.begin("Check", 10);
        clock.step("mesh", 0);
        QVERIFY(std::abs(*clock.remaining() - 80) < 1e-9);
        now += 15;
        QVERIFY(std::abs(*clock.remaining() - 65) < 1e-9);
        now += 25;  // meshing took twice as long as it should: what follows is not there yet
        QVERIFY(std::abs(*clock.remaining() - 60) < 1e-9);
        clock.step("solve", 0.5);  // half of thirty seconds twice over
        QVERIFY(std::abs(*clock.remaining() - 30) < 1e-9);
        clock.end(false);  // cancelled: no measure
        QCOMPARE(clock.likely("Check", 10), 80.);
        QVERIFY(!clock.remaining());
        QCOMPARE(timeWords(42), QString("about 40 s"));
        QCOMPARE(timeWords(200), QString("about 3 min"));
    }
    /// Work tells its steps from several threads at once; what the window shows is one of them, whole.
    void stepsFromSeveralThreads() {
        const std::string words[] = {std::string(40, 'a'), std::string(4000, 'b'), std::string(400, 'c')};
        std::atomic<int> told = 0;
        s_->work(
            "Telling",
            [&](Progress& p) {
                std::vector<std::thread> threads;
                for (const std::string& w : words)
                    threads.emplace_back([&p, &w, &told] {
                        for (int i = 0; i < 30000; ++i, ++told) p.step(w, 1e-5 * i);
                    });
                for (auto& t : threads) t.join();
            },
            [] {});
        QStringList seen;
        const auto connection =
            connect(s_.get(), &Session::progressed, this, [&](const QString& text, double) { seen << text; });
        QVERIFY(settle());
        disconnect(connection);
        QCOMPARE(told.load(), 90000);
        for (const QString& text : seen)
            QVERIFY2(std::any_of(std::begin(words), std::end(words),
                                 [&](const std::string& w) { return text.contains(QString::fromStdString(w)); }),
                     qPrintable(text.left(80)));
    }
    void cancelledAndFailedWorkChangesNothing() {
        QSignalSpy failed(s_.get(), &Session::failed);
        int done = 0;
        s_->work(
            "Endless",
            [](Progress& p) {
                for (;;) {
                    p.check();
                    std::this_thread::sleep_for(std::chrono::milliseconds(1));
                }
            },
            [&] { ++done; });
        s_->cancel();
        QVERIFY(settle());
        QCOMPARE(done, 0);
        QCOMPARE(failed.count(), 0);
        QVERIFY(s_->log().back().contains("cancelled; nothing was changed"));
        s_->work(
            "Broken", [](Progress&) { throw InputError("It cannot be done."); }, [&] { ++done; });
        QVERIFY(settle());
        QCOMPARE(failed.count(), 1);
        QVERIFY(failed[0][0].toString().contains("It cannot be done."));
        s_->work(
            "Hungry", [](Progress&) { throw std::bad_alloc(); }, [&] { ++done; });
        QVERIFY(settle());
        QVERIFY(failed.back()[0].toString().contains("not enough memory"));
        QCOMPARE(done, 0);
    }
    /// A changed number and one key: the checked recipe stays as it was, the change becomes a variant.
    void quickChecksKeepWhatWasChecked() {
        s_->quickCheck();
        QVERIFY(settle());
        QVERIFY(s_->recipe().check.rebuilt && s_->recipe().check.level == duty::Level::look);
        QCOMPARE(s_->project().variants.size(), std::size_t(1));
        const auto before = s_->recipe();
        s_->edit("Load",
                 [](Project& p) { duty::setNumber(p.variants[p.open].recipe.numbers, "/load_cases/down/factor", 2); });
        QVERIFY(settle());
        s_->quickCheck();
        QVERIFY(settle());
        QCOMPARE(s_->project().variants.size(), std::size_t(2));
        QVERIFY(s_->project().variants[0].recipe == before);
        const double first = s_->project().check(before)->minSafetyFactor,
                     second = s_->project().check(s_->recipe())->minSafetyFactor;
        QVERIFY2(second < first && second > 0.45 * first, qPrintable(QString("%1 %2").arg(first).arg(second)));
    }
    void reloadingFollowsTheFile() {
        s_->run(Stage::surface);
        QVERIFY(settle());
        threshold(0.45);
        auto part = made_up::leverPart();
        part["load_cases"][0]["name"] = "renamed";
        made_up::writeLever(dir_.path().toStdString(), part);
        s_->reloadPart();
        QVERIFY(settle());
        QCOMPARE(s_->part().loadCases[0].name, std::string("renamed"));
        QCOMPARE(s_->recipe().threshold, 0.45);  // variants stay
        QVERIFY(s_->lastKnown().surface != nullptr);
        // a file that is no part any more is refused, and what is open stays
        QSignalSpy failed(s_.get(), &Session::failed);
        std::ofstream(dir_.filePath("lever.json").toStdString()) << "{ broken";
        s_->reloadPart();
        QVERIFY(settle());
        QCOMPARE(failed.count(), 1);
        QCOMPARE(s_->part().loadCases[0].name, std::string("renamed"));
    }
    void savedProjectsOpenAsTheyWere() {
        s_->run(Stage::findings);
        QVERIFY(settle());
        const double factor = s_->lastKnown().check->minSafetyFactor;
        const QString file = dir_.filePath("kept.escultura");
        s_->saveProject(file);
        QVERIFY(settle());
        QVERIFY(!s_->isModified() && s_->projectPath() == file);
        Session other;
        QSignalSpy opened(&other, &Session::projectOpened);
        other.openProject(file);
        QVERIFY(QTest::qWaitFor([&] { return !other.isBusy(); }, 60000));
        QCOMPARE(opened.count(), 1);
        QVERIFY(other.freshness(Stage::findings) == Freshness::fresh);
        QCOMPARE(other.lastKnown().check->minSafetyFactor, factor);
        other.forgetRecovery();
        QSignalSpy failed(&other, &Session::failed);
        other.openProject(dir_.filePath("lever.npy"));
        QVERIFY(QTest::qWaitFor([&] { return !other.isBusy(); }, 60000));
        QCOMPARE(failed.count(), 1);
        QCOMPARE(other.lastKnown().check->minSafetyFactor, factor);  // what was open stays
    }
    /// A session that ends without a word leaves its steps and its results.
    void workIsRecoveredWithItsResults() {
        s_->run(Stage::findings);
        QVERIFY(settle());
        const double factor = s_->lastKnown().check->minSafetyFactor;
        s_->edit("Rename", [](Project& p) { p.variants[0].name = "Unsaved"; });
        s_.reset();  // as if it were killed: nothing is discarded; results that are being written are finished
        const auto found = store::unsavedWork(recovery().toStdString());
        QCOMPARE(found.size(), std::size_t(1));
        s_ = std::make_unique<Session>();
        s_->recover(found.front());
        QVERIFY(settle());
        QCOMPARE(s_->variant().name, std::string("Unsaved"));
        QVERIFY(s_->freshness(Stage::findings) == Freshness::fresh);
        QCOMPARE(s_->lastKnown().check->minSafetyFactor, factor);
        QVERIFY(s_->isModified());
        QCOMPARE(store::unsavedWork(recovery().toStdString()).size(), std::size_t(0));  // the old one is gone
    }
    /// A journal that is given up while results are written to it goes all the same, and nobody waits.
    void givenUpWhileResultsAreWritten() {
        s_->run(Stage::findings);
        QVERIFY(settle());
        s_->forgetRecovery();  // the writer has just begun
        s_->edit("Rename", [](Project& p) { p.variants[0].name = "without a journal"; });
        QTRY_VERIFY(QDir(recovery()).entryList(QDir::Files).isEmpty());
        s_->run(Stage::surface);
        QVERIFY(settle());
        s_.reset();
        QVERIFY(QDir(recovery()).entryList(QDir::Files).isEmpty());
        s_ = std::make_unique<Session>();
    }
    void aStudyStaysWhenItIsCancelled() {
        auto study =
            judge::newStudy(s_->project(), s_->variant(), project::Study::Kind::range, {"/load_cases/pull/factor"});
        study.axes[0].low = 1;
        study.axes[0].high = 2;
        study.evaluations = 5;
        QSignalSpy changed(s_.get(), &Session::changed);
        s_->runStudy(study);
        QTRY_VERIFY_WITH_TIMEOUT(!s_->project().studies.empty() && s_->project().studies[0].done.size() >= 2, 60000);
        s_->cancel();
        QVERIFY(settle());
        QCoreApplication::processEvents();
        const auto& kept = s_->project().studies[0];
        QVERIFY(kept.done.size() >= 2 && kept.done.size() <= 5);
        QVERIFY(!changed.isEmpty());
        const auto done = kept.done.size();
        s_->runStudy(study);  // goes on where it was
        QVERIFY(settle());
        QCOMPARE(s_->project().studies.size(), std::size_t(1));
        QCOMPARE(s_->project().studies[0].done.size(), std::size_t(5));
        QVERIFY(s_->project().studies[0].done.size() >= done);
    }
};

QTEST_MAIN(TestSession)
#include "test_session.moc"
