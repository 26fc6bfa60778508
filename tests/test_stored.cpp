// What a project file and a journal hold of results: cage and solid as they were, tests of hotspots, and how damage is
// met.
#include <sqlite3.h>

#include <QFile>
#include <QTemporaryDir>
#include <QtTest>
#include <atomic>
#include <cmath>
#include <filesystem>
#include <thread>

#include "base/digest.hpp"
#include "judge/findings.hpp"
#include "made_up_part.hpp"
#include "project/project.hpp"
#include "project/run.hpp"
#include "store/database.hpp"
#include "store/journal.hpp"
#include "store/shelter.hpp"
#include "store/storage.hpp"

using namespace escultura;
using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using namespace escultura::store;
using namespace escultura::judge;
using made_up::messageOf;

class TestStored : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;
    Project project_;
    const Recipe& recipe() const { return project_.variants[0].recipe; }
    std::string path(const char* name) const { return dir_.filePath(name).toStdString(); }
    /// Runs a statement on a file.
    static void change(const std::string& file, const char* sql) {
        sqlite3* db = nullptr;
        QCOMPARE(sqlite3_open(file.c_str(), &db), SQLITE_OK);
        QCOMPARE(sqlite3_exec(db, sql, nullptr, nullptr, nullptr), SQLITE_OK);
        sqlite3_close(db);
    }

  private slots:
    void initTestCase() {
        Progress progress;
        project_ = openPart(made_up::writeLever(dir_.path().toStdString()), progress);
        Recipe& r = project_.variants[0].recipe;
        r.rebuild.faceSize = 6;
        r.elementSize = 4;
        r.check.rebuilt = true;
        run(project_, r, Stage::findings, progress);
        QVERIFY(project_.rebuild(r) && project_.check(r));
    }

    void theSolidIsKept() {
        const std::string file = path("solid.escultura");
        saveProject(project_, file);
        Project back = loadProject(file);
        const auto a = project_.rebuild(recipe()), b = back.rebuild(recipe());
        QVERIFY(b);
        QCOMPARE(b->solid.solid.volume, a->solid.solid.volume);
        QCOMPARE(b->solid.solid.faces, a->solid.solid.faces);
        QCOMPARE(b->solid.mesh.position.size(), a->solid.mesh.position.size());
        QVERIFY(b->solid.mesh.owner == a->solid.mesh.owner);
        QCOMPARE(b->solid.surfaces.size(), a->solid.surfaces.size());
        for (std::size_t s = 0; s < a->solid.surfaces.size(); ++s) {
            QCOMPARE(b->solid.surfaces[s].feature, a->solid.surfaces[s].feature);
            QCOMPARE(b->solid.surfaces[s].radius, a->solid.surfaces[s].radius);
            QVERIFY(b->solid.surfaces[s].kind == a->solid.surfaces[s].kind);
        }
        QVERIFY(b->features == a->features);
        QCOMPARE(b->genus, a->genus);
        QCOMPARE(b->irregularJump, a->irregularJump);
        QCOMPARE(b->faces.size(), a->faces.size());
        // the boundary representation is whole: STEP written from it is the same solid, with its names
        const std::string step = path("back.step");
        QVERIFY(writeCheckedStep(step, back.part, *b).empty());
        const auto figures = solid::readStepFigures(step);
        QVERIFY(std::abs(figures.figures.volume / a->solid.solid.volume - 1) < 1e-4);
        QVERIFY(std::count(figures.faceNames.begin(), figures.faceNames.end(), "eye bore: bore") == 1);
    }
    void theCageIsKept() {
        const std::string file = path("cage.escultura");
        saveProject(project_, file);
        Project back = loadProject(file);
        const auto a = project_.cage(recipe()), b = back.cage(recipe());
        QVERIFY(b && a->target && !b->target);
        QVERIFY(b->cage == a->cage);
        QCOMPARE(b->deviation.rms, a->deviation.rms);
        QCOMPARE(b->deviation.backLargest, a->deviation.backLargest);
        QVERIFY(b->deviation.atVertex == a->deviation.atVertex && b->deviation.faceOf == a->deviation.faceOf);
        QCOMPARE(b->report.genus, a->report.genus);
        QVERIFY(b->report.valences == a->report.valences);
        QVERIFY(b->notes == a->notes && b->agrees == a->agrees);
        // what it was fitted to is made again when it is to be edited, with the same cage
        Progress progress;
        runCage(back, recipe(), progress);
        QVERIFY(!back.cage(recipe())->target);
        runCage(back, recipe(), progress, true);
        QVERIFY(back.cage(recipe())->target);
        QVERIFY(back.cage(recipe())->cage == a->cage);
    }
    /// A hotspot of a check on the solid can be tested after the project was opened again.
    void hotspotsAreTestedAfterOpening() {
        const std::string file = path("tests.escultura");
        saveProject(project_, file);
        Project back = loadProject(file);
        const auto findings = findingsOf(back, recipe());
        QVERIFY(!findings.empty());
        QCOMPARE(findings.size(), findingsOf(project_, recipe()).size());
        Progress progress;
        testHotspots(back, recipe(), {findings[0].id}, progress);
        const auto tested = findingsOf(back, recipe());
        QVERIFY(tested[0].evidence.verdict != assess::HotspotClass::untested);
        QVERIFY(tested[0].evidence.peak.size() >= 2);
        saveProject(back, file);
        const auto again = findingsOf(loadProject(file), recipe());
        QVERIFY(again[0].evidence.verdict == tested[0].evidence.verdict);
        QVERIFY(again[0].evidence.peak == tested[0].evidence.peak);
    }
    /// With a budget results that nobody holds leave the memory, oldest first, and come back as they were; saving has
    /// them all; what somebody holds stays.
    void resultsLeaveTheMemory() {
        const std::string file = path("shelter.escultura");
        saveProject(project_, file);
        Project p = loadProject(file);
        const std::string folder = path("cache");
        const auto held = p.check(recipe());
        const double all = [&] {
            p.results->setShelter(diskShelter(folder), 1e12);
            return p.results->bytesHeld();
        }();
        // a tetrahedron has ten nodes of four bytes: the figures are no guesses
        QVERIFY(all > 40.0 * static_cast<double>(held->mesh.tet.size()));
        p.results->setShelter(diskShelter(folder), 1);
        QVERIFY2(p.results->bytesHeld() < 0.9 * all, qPrintable(QString::number(p.results->bytesHeld() / all)));
        QCOMPARE(p.check(recipe()).get(), held.get());  // held: not even another copy
        const auto surface = p.surface(recipe());
        const auto before = project_.surface(recipe());
        QVERIFY(surface && surface->mesh.position == before->mesh.position);
        QVERIFY(surface->thickness.value == before->thickness.value);
        QVERIFY(p.rebuild(recipe()) &&
                p.rebuild(recipe())->solid.solid.volume == project_.rebuild(recipe())->solid.solid.volume);
        // a save has what is on disk, and does not bring it into memory
        Project other = loadProject(file);
        other.results->setShelter(diskShelter(folder), 1);
        QCOMPARE(other.results->bytesHeld(), 0.0);
        const std::string again = path("sheltered.escultura");
        saveProject(other, again);
        QCOMPARE(other.results->bytesHeld(), 0.0);
        const Project back = loadProject(again);
        QVERIFY(back.check(recipe()) && back.check(recipe())->envelope.stress == held->envelope.stress);
        QVERIFY(back.findings(recipe()) != nullptr);
    }
    /// The least recently used goes first.
    void theOldestGoesFirst() {
        Results results;
        auto fieldOf = [](float v) {
            MadeField m;
            m.field.density.assign(100000, v);
            return m;
        };
        results.setShelter(diskShelter(path("cache")), 1e6);  // room for two of 400 kB
        results.store("a", fieldOf(1));
        results.store("b", fieldOf(2));
        QCOMPARE(results.all<MadeField>().size(), 2u);
        QVERIFY(results.find<MadeField>("a"));  // now b is the oldest
        results.store("c", fieldOf(3));
        const auto inMemory = results.all<MadeField>();
        QVERIFY(inMemory.contains("a") && inMemory.contains("c") && !inMemory.contains("b"));
        QCOMPARE(results.keys<MadeField>().size(), 3u);
        QCOMPARE(results.find<MadeField>("b")->field.density.at(5), 2.0f);
    }
    /// A file in the shelter that another program has changed or removed is no result: out of date, no more. The folder
    /// goes with the shelter.
    void whatIsLostOnDiskIsOutOfDate() {
        const std::string folder = path("lost");
        {
            Results results;
            results.setShelter(diskShelter(folder), 1);
            for (const char* key : {"changed", "gone", "whole", "last"}) {
                MadeField m;
                m.field.density.assign(50000, 0.25f);
                results.store(key, std::move(m));
            }
            QCOMPARE(results.all<MadeField>().size(), 1u);  // what has just been stored is held by whoever stores it
            std::vector<std::filesystem::path> files;
            for (const auto& f : std::filesystem::recursive_directory_iterator(folder))
                if (f.is_regular_file() && f.path().extension() != ".lock") files.push_back(f.path());
            QCOMPARE(files.size(), 3u);
            for (const char* key : {"changed", "gone", "whole"}) {
                const auto file = files.front().parent_path() / sha256("made field 1 " + std::string(key));
                if (std::string(key) == "gone") std::filesystem::remove(file);
                if (std::string(key) != "changed") continue;
                QFile f(QString::fromStdString(file.string()));
                QVERIFY(f.open(QIODevice::ReadWrite) && f.seek(1000) && f.write("x", 1) == 1);
            }
            QVERIFY(!results.find<MadeField>("changed"));
            QVERIFY(!results.find<MadeField>("gone"));
            QVERIFY(results.find<MadeField>("whole"));
            QCOMPARE(results.keys<MadeField>().size(), 2u);
        }
        QVERIFY(std::filesystem::is_empty(folder));
    }
    /// What a program left that ended without cleaning up goes with the next one; what another one holds stays.
    void foldersOfTheDeadGo() {
        const std::string folder = path("orphans"), dead = folder + "/results-abcdef";
        std::filesystem::create_directories(dead);
        for (const std::string& file : {dead + "/result", dead + ".lock", folder + "/results.txt"}) {
            QFile f(QString::fromStdString(file));
            QVERIFY(f.open(QIODevice::WriteOnly));
        }
        auto folders = [&] {
            int n = 0;
            for (const auto& f : std::filesystem::directory_iterator(folder)) n += f.is_directory();
            return n;
        };
        auto first = diskShelter(folder);
        QVERIFY(!std::filesystem::exists(dead) && !std::filesystem::exists(dead + ".lock"));
        auto second = diskShelter(folder);
        QCOMPARE(folders(), 2);  // each leaves the other's alone
        MadeField m;
        m.field.density.assign(100, 0.5f);
        QVERIFY(first->put(typeid(MadeField), "k", &m) && second->put(typeid(MadeField), "k", &m));
        first.reset();
        second.reset();
        QCOMPARE(folders(), 0);
        QVERIFY(std::filesystem::exists(folder + "/results.txt"));  // not ours
    }
    /// Where nothing can be written everything stays in memory.
    void withoutAFolderEverythingStays() {
        const std::string notAFolder = path("a file");
        QFile f(QString::fromStdString(notAFolder));
        QVERIFY(f.open(QIODevice::WriteOnly));
        f.close();
        Results results;
        results.setShelter(diskShelter(notAFolder), 1);
        MadeField m;
        m.field.density.assign(1000, 0.5f);
        results.store("kept", std::move(m));
        QCOMPARE(results.all<MadeField>().size(), 1u);
    }
    /// Four threads store and find under a budget that holds almost nothing: each finds what was stored.
    void threadsShareAShelter() {
        Results results;
        results.setShelter(diskShelter(path("shared")), 5e4);
        std::atomic<int> wrong = 0;
        std::vector<std::thread> threads;
        for (int t = 0; t < 4; ++t)
            threads.emplace_back([&, t] {
                for (int k = 0; k < 60; ++k) {
                    const std::string key = std::to_string((7 * t + k) % 9);
                    MadeField m;
                    m.field.density.assign(4000, std::stof(key));
                    if (k % 3 == 0) results.store(key, std::move(m));
                    if (const auto found = results.find<MadeField>(key))
                        wrong += found->field.density.at(17) != std::stof(key);
                }
            });
        for (auto& t : threads) t.join();
        QCOMPARE(wrong.load(), 0);
    }
    void damagedResultsAreRefused() {
        const std::string file = path("damaged.escultura");
        for (const char* kind : {"solid 4", "cage 2", "check 6"}) {
            saveProject(project_, file);
            change(file, ("UPDATE result SET data = substr(data, 1, length(data) / 2) WHERE kind = '" +
                          std::string(kind) + "'")
                             .c_str());
            const std::string why = messageOf([&] { loadProject(file); });
            QVERIFY2(why.find("damaged") != std::string::npos, (kind + (": " + why)).c_str());
        }
        saveProject(project_, file);
        change(file, "UPDATE result SET data = x'' WHERE kind = 'solid 4'");
        QVERIFY(messageOf([&] { loadProject(file); }) != "no error");
        // kinds that this version does not know are left alone
        saveProject(project_, file);
        change(file, "INSERT INTO result VALUES('k', 'weather', x'00')");
        QVERIFY(loadProject(file).check(recipe()));
    }
    /// Results survive a process that ends without saving.
    /// What is larger than a row may be is kept in pieces, and comes back as it was.
    void largeResultsAreKeptInPieces() {
        const std::size_t before = Database::pieceSize;
        Database::pieceSize = 30'011;
        const auto back = qScopeGuard([&] { Database::pieceSize = before; });
        const std::string file = path("pieces.escultura");
        saveProject(project_, file);
        int pieces = 0;
        Database(file, SQLITE_OPEN_READONLY)
            .forRows("SELECT key, kind, data FROM result", [&](auto&, auto& kind, auto, auto) {
                QVERIFY(!QString::fromStdString(kind).contains("piece"));
                ++pieces;
            });
        QVERIFY(pieces >= 5);
        const Project opened = loadProject(file);
        const auto a = project_.check(recipe()), b = opened.check(recipe());
        QVERIFY(b && a->mesh.position == b->mesh.position && a->cases[0].counts == b->cases[0].counts);
        QVERIFY(opened.source(0)->field.density == project_.source(0)->field.density);
        for (const char* harm :
             {"DELETE FROM result WHERE key LIKE '%#2/%'", "DELETE FROM result WHERE key LIKE '%#1/%'",
              "UPDATE result SET data = zeroblob(length(data)) WHERE key LIKE '%#2/%'"}) {
            const std::string harmed = path("harmed.escultura");
            std::filesystem::copy_file(file, harmed, std::filesystem::copy_options::overwrite_existing);
            change(harmed, harm);
            QVERIFY2(messageOf([&] { loadProject(harmed); }).find("damaged") != std::string::npos, harm);
        }
    }
    void resultsAreRecovered() {
        const std::string journal = path("lever.journal");
        Progress progress;
        Project p = project_;
        {
            Journal j(journal, p, "");
            p.variants[0].reasons[1] = "before the crash";
            j.append(record(p, "Reason", "tester", "2026-01-01T10:00:00"));
            j.keep(*p.results);
            j.keep(*p.results);  // nothing new
        }
        const auto found = readJournal(journal);
        QVERIFY(found);
        const Project back = recover(*found, progress);
        QCOMPARE(back.variants[0].reasons.at(1), std::string("before the crash"));
        QVERIFY(back.check(recipe()) && back.rebuild(recipe()) && back.findings(recipe()));
        QCOMPARE(back.check(recipe())->minSafetyFactor, project_.check(recipe())->minSafetyFactor);
        // without the results the steps are still there
        const auto results = journal + ".results";
        std::ofstream(results, std::ios::binary) << "not a database, because the disk was full at that moment";
        for (const char* end : {"-wal", "-shm"}) std::filesystem::remove(results + end);
        const Project bare = recover(*found, progress);
        QCOMPARE(bare.variants[0].reasons.at(1), std::string("before the crash"));
        QVERIFY(!bare.check(recipe()));
        discard(*found);
        QVERIFY(!std::filesystem::exists(journal) && !std::filesystem::exists(results));
    }
    /// Results that the project's own file has are not written a second time.
    void onlyNewResultsAreKept() {
        const std::string file = path("saved.escultura"), journal = path("saved.journal");
        saveProject(project_, file);
        Progress progress;
        Project p = loadProject(file);
        Journal j(journal, p, file);
        j.keep(*p.results);
        const auto before = std::filesystem::file_size(journal + ".results");
        Recipe other = recipe();
        other.elementSize = 5;
        other.check.rebuilt = false;
        run(p, other, Stage::findings, progress);
        j.append(record(p, "Check", "tester", "2026-01-01T10:00:00"));
        j.keep(*p.results);
        auto size = [&] {
            std::uintmax_t bytes = 0;
            for (const char* end : {"", "-wal"})
                if (std::filesystem::exists(journal + ".results" + end))
                    bytes += std::filesystem::file_size(journal + ".results" + end);
            return bytes;
        };
        QVERIFY2(before < 100000 && size() > 500000, qPrintable(QString("%1 %2").arg(before).arg(size())));
        j.discard();
        j.keep(*p.results);  // given up: does nothing
        QVERIFY(!std::filesystem::exists(journal + ".results"));
    }
};

QTEST_GUILESS_MAIN(TestStored)
#include "test_stored.moc"
