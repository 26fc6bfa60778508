#include <signal.h>

#include <QProcess>
#include <QRandomGenerator>
#include <QTemporaryDir>
#include <QtTest>
#include <cstdio>
#include <iostream>

#include "made_up_part.hpp"
#include "project/run.hpp"
#include "store/journal.hpp"
#include "store/state_text.hpp"
#include "store/storage.hpp"

using namespace escultura;
using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using namespace escultura::store;

namespace {

/// Edits a project for ever, a step at a time, and says each step that is complete.
int workForEver(const std::string& part, const std::string& journalPath) {
    Progress progress;
    Project p = openPart(part, progress);
    Journal journal(journalPath, p, "");
    for (int step = 1;; ++step) {
        p.variants[0].reasons[1] = "step " + std::to_string(step);
        p.variants[0].recipe.threshold = 0.3 + 0.0001 * (step % 1000);
        if (step % 10 == 0) addVariant(p, 0);
        if (p.variants.size() > 6) p.variants.resize(1), p.open = 0;
        journal.append(record(p, "Step " + std::to_string(step), "tester", "2026-01-01T00:00:00"));
        std::printf("%d\n", step);
        std::fflush(stdout);
    }
}

}  // namespace

class TestJournal : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;
    std::string part_;
  private slots:
    void initTestCase() { part_ = made_up::writeLever(dir_.path().toStdString()); }

    void keepsStepsAndGoesWhenAllIsSaved() {
        Progress progress;
        Project p = openPart(part_, progress);
        const std::string path = dir_.filePath("a.journal").toStdString();
        {
            Journal j(path, p, "");
            QVERIFY(made_up::messageOf([&] { Journal second(path, p, ""); }).find("locked") != std::string::npos);
            QVERIFY(!readJournal(path));  // held by this process
            p.variants[0].name = "Renamed";
            j.append(record(p, "Rename", "tester", "2026-01-01T10:00:00"));
            addVariant(p, 0);
            j.append(record(p, "New variant", "tester", "2026-01-01T10:00:05"));
        }
        const auto found = unsavedWork(dir_.path().toStdString());
        QCOMPARE(found.size(), std::size_t(1));
        QCOMPARE(found[0].partName, std::string("Lever"));
        QCOMPARE(found[0].steps.size(), std::size_t(3));
        const Project back = recover(found[0], progress);
        QVERIFY(back.variants == p.variants);
        QCOMPARE(back.open, std::size_t(1));
        QCOMPARE(back.history.size(), std::size_t(2));
        QCOMPARE(back.history[0].text, std::string("Rename"));
        QVERIFY(back.field() != nullptr);
        Journal again(path, p, "");
        again.discard();
        QVERIFY(!QFile::exists(QString::fromStdString(path)));
        QVERIFY(unsavedWork(dir_.path().toStdString()).empty());
    }
    void recoversOverASavedProject() {
        Progress progress;
        Project p = openPart(part_, progress);
        run(p, p.current().recipe, Stage::surface, progress);
        const std::string file = dir_.filePath("lever.escultura").toStdString(),
                          path = dir_.filePath("b.journal").toStdString();
        saveProject(p, file);
        {
            Journal j(path, p, file);
            p.variants[0].reasons[2] = "after saving";
            j.append(record(p, "Reason", "tester", "2026-01-01T10:00:00"));
        }
        const Project back = recover(*readJournal(path), progress);
        QCOMPARE(back.variants[0].reasons.at(2), std::string("after saving"));
        QVERIFY(back.surface(back.current().recipe) != nullptr);  // what was saved is not computed again
        std::filesystem::remove(path);
    }
    void historyIsKeptAndLimited() {
        Progress progress;
        Project p = openPart(part_, progress);
        for (int i = 0; i < 130; ++i) {
            p.variants[0].reasons[1] = std::to_string(i);
            record(p, "Step", "tester", "2026-01-01T10:00:00");
        }
        QCOMPARE(p.history.size(), std::size_t(130));
        QVERIFY(p.history[29].state.empty() && !p.history[30].state.empty());
        const std::string file = dir_.filePath("history.escultura").toStdString();
        saveProject(p, file);
        Project back = loadProject(file);
        QVERIFY(back.history == p.history);
        applyState(back, back.history[100].state);
        QCOMPARE(back.variants[0].reasons.at(1), std::string("100"));
    }
    void notAJournal() {
        const std::string path = dir_.filePath("c.journal").toStdString();
        std::ofstream(path) << "no database";
        QVERIFY(made_up::messageOf([&] { readJournal(path); }) != "no error");
        QVERIFY(unsavedWork(dir_.path().toStdString()).empty());
        std::filesystem::remove(path);
    }
    /// Killed at random moments, two hundred times: the last complete step is always there.
    void killedAtRandomMoments() {
        Progress progress;
        QRandomGenerator random(7);
        const QString path = dir_.filePath("k.journal");
        int empty = 0, most = 0;
        for (int round = 0; round < 200; ++round) {
            QProcess worker;
            worker.start(QCoreApplication::applicationFilePath(), {"worker", QString::fromStdString(part_), path});
            QVERIFY(worker.waitForStarted());
            if (round % 8) worker.waitForReadyRead(20000);  // some are killed while they open the project
            const int patience = static_cast<int>(random.bounded(15));
            worker.waitForReadyRead(1);
            QTest::qWait(patience);
            ::kill(static_cast<pid_t>(worker.processId()), SIGKILL);
            QVERIFY(worker.waitForFinished(20000));
            const QByteArray said = worker.readAllStandardOutput();
            const auto complete = said.left(said.lastIndexOf('\n') + 1).trimmed();
            const int last = complete.isEmpty() ? 0 : complete.split('\n').back().toInt();
            most = std::max(most, last);
            std::optional<Unsaved> found;
            try {
                if (QFile::exists(path)) found = readJournal(path.toStdString());
            } catch (const std::exception& e) {
                QVERIFY2(last == 0, e.what());  // killed before the journal's start was complete
            }
            if (!found) {
                QCOMPARE(last, 0);
                ++empty;
            } else {
                const Project back = recover(*found, progress);
                const int step = QString::fromStdString(back.variants[0].reasons.at(1)).section(' ', 1).toInt();
                QVERIFY2(step >= last, qPrintable(QString("round %1: %2 of %3").arg(round).arg(step).arg(last)));
                QCOMPARE(static_cast<int>(back.history.size()), step);
            }
            for (const char* end : {"", "-wal", "-shm", ".lock"}) QFile::remove(path + end);
        }
        QVERIFY2(empty < 60 && most > 10, qPrintable(QString("%1 %2").arg(empty).arg(most)));
    }
};

int main(int argc, char** argv) {
    if (argc == 4 && std::string(argv[1]) == "worker") return workForEver(argv[2], argv[3]);
    QCoreApplication application(argc, argv);
    TestJournal test;
    return QTest::qExec(&test, argc, argv);
}
#include "test_journal.moc"
