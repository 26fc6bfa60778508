#include <signal.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <QGuiApplication>
#include <QtTest>
#include <filesystem>

#include "base/digest.hpp"
#include "base/signature.hpp"
#include "exchange/writers.hpp"
#include "judge/factor.hpp"
#include "judge/findings.hpp"
#include "made_up_part.hpp"
#include "project/run.hpp"
#include "report/report.hpp"

using namespace escultura;
using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using namespace escultura::judge;
using made_up::messageOf;
using nlohmann::json;
namespace fs = std::filesystem;

namespace {

json readJson(const std::string& path) {
    std::ifstream in(path);
    return json::parse(in);
}

std::string readText(const std::string& path) {
    std::ifstream in(path, std::ios::binary);
    return {std::istreambuf_iterator<char>(in), {}};
}

void writeText(const std::string& path, const std::string& text) {
    std::ofstream(path, std::ios::binary) << text;
}

/// Makes the manifest's sums right again, as somebody does who wants to hide a change.
void sumAnew(const std::string& folder) {
    json manifest = readJson(folder + "/manifest.json");
    for (auto& f : manifest["files"]) {
        const std::string path = folder + "/" + f["path"].get<std::string>();
        if (!fs::is_regular_file(path)) continue;
        f["bytes"] = fs::file_size(path);
        f["sha256"] = sha256OfFile(path);
    }
    manifest.erase("sum");
    manifest["sum"] = sha256(manifest.dump());
    writeText(folder + "/manifest.json", manifest.dump(2) + "\n");
}

/// Every file and its contents.
std::map<std::string, std::string> contentsOf(const std::string& folder) {
    std::map<std::string, std::string> all;
    for (const auto& e : fs::recursive_directory_iterator(folder))
        if (e.is_regular_file()) all[e.path().lexically_relative(folder).string()] = sha256OfFile(e.path().string());
    return all;
}

}  // namespace

/// A release folder is written whole or not at all, over nothing, and its verification believes only what it makes.
class TestRelease : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;
    Project project_;
    std::unique_ptr<render::Renderer> renderer_;
    int count_ = 0;

    std::string place(const char* name = "release") {
        const std::string path = (dir_.path() + "/" + QString::number(++count_)).toStdString();
        fs::create_directory(path);
        return path + "/" + name;
    }
    void write(const std::string& folder, const Release* release = nullptr, bool replace = false,
               const std::string& key = {}) {
        Progress progress;
        report::writeRelease(project_, project_.current(), {}, *renderer_, folder, progress, release, replace, key);
    }
    static Release signedBy(const std::string& name) {
        Release r;
        r.number = 3;
        r.name = name;
        r.date = "2026-01-15";
        return r;
    }
    /// What does not hold. @param rerun  everything made again
    static QStringList differences(const std::string& folder, bool rerun, const std::string& key = {}) {
        Progress progress;
        QStringList list;
        for (const auto& i : report::verifyRelease(folder, rerun, progress, key))
            if (!i.holds) list << QString::fromStdString(i.what + ": " + i.expected + " / " + i.found);
        return list;
    }
    static bool tells(const QStringList& list, const QString& what) {
        for (const QString& line : list)
            if (line.contains(what)) return true;
        qWarning("'%s' is not in: %s", qPrintable(what), qPrintable(list.join('\n')));
        return false;
    }

  private slots:
    void initTestCase() {
        renderer_ = std::make_unique<render::Renderer>();
        Progress progress;
        project_ = openPart(made_up::writeLever(dir_.path().toStdString()), progress);
        project_.variants[0].recipe.elementSize = 4;
        run(project_, project_.current().recipe, Stage::findings, progress);
        testWhatGoverns(project_, project_.current().recipe, progress);
    }
    void isWrittenIntoNothingElse() {
        // the part's own folder: nothing of it may be touched
        const std::string own = fs::path(place()).parent_path().string();
        made_up::writeLever(own);
        const auto before = contentsOf(own);
        QVERIFY(messageOf([&] { write(own); }).find("lever.") != std::string::npos);
        QVERIFY(contentsOf(own) == before);
        // an empty folder is one to write into
        const std::string empty = place();
        fs::create_directory(empty);
        write(empty + "/");
        QVERIFY(fs::exists(empty + "/manifest.json"));
        // an unsigned release gives way when that is asked for, and only then
        const auto first = contentsOf(empty);
        QVERIFY(messageOf([&] { write(empty); }).find("--replace") != std::string::npos);
        QVERIFY(contentsOf(empty) == first);
        writeText(empty + "/notes.txt", "mine");
        QVERIFY(messageOf([&] { write(empty, nullptr, true); }).find("notes.txt") != std::string::npos);
        fs::remove(empty + "/notes.txt");
        const Release release = signedBy("A. Tester");
        write(empty, &release, true);
        QCOMPARE(readJson(empty + "/manifest.json")["release"]["number"].get<int>(), 3);
        // a signed one never does
        const auto kept = contentsOf(empty);
        for (const bool replace : {false, true})
            QVERIFY(messageOf([&] { write(empty, nullptr, replace); }).find("signed by A. Tester") !=
                    std::string::npos);
        QVERIFY(contentsOf(empty) == kept);
        QVERIFY(differences(empty, false).isEmpty());
        // nothing is left beside
        for (const auto& e : fs::directory_iterator(fs::path(empty).parent_path())) QCOMPARE(e.path().string(), empty);
    }
    void aDiskThatRefusesLeavesNothing() {
        rlimit before{};
        getrlimit(RLIMIT_FSIZE, &before);
        signal(SIGXFSZ, SIG_IGN);
        std::uintmax_t largest = 0, results = 0;
        const std::string whole = place();
        write(whole);
        for (const auto& e : fs::recursive_directory_iterator(whole))
            if (e.is_regular_file()) largest = std::max(largest, e.file_size());
        results = fs::file_size(whole + "/results.vtu");
        for (const std::uintmax_t limit : {std::uintmax_t(1000), results / 2, results - 1, largest - 1}) {
            rlimit tight = before;
            tight.rlim_cur = limit;
            setrlimit(RLIMIT_FSIZE, &tight);
            const std::string folder = place();
            const std::string said = messageOf([&] { write(folder); });
            setrlimit(RLIMIT_FSIZE, &before);
            QVERIFY2(said.find("cannot be written") != std::string::npos, said.c_str());
            QVERIFY(fs::is_empty(fs::path(folder).parent_path()));
        }
    }
    void aKillLeavesTheOldOrTheNew() {
        const std::string folder = place();
        write(folder);
        const auto before = contentsOf(folder);
        double seconds = 0;
        {
            QElapsedTimer timer;
            timer.start();
            write(folder, nullptr, true);
            seconds = 0.001 * static_cast<double>(timer.elapsed());
        }
        for (int k = 0; k < 8; ++k) {
            const pid_t child = fork();
            if (child == 0) {
                execl("/proc/self/exe", "test_release", "--write", dir_.path().toUtf8().constData(), folder.c_str(),
                      nullptr);
                _exit(1);
            }
            // most of the child's time goes into the check; the last share is the writing
            QThread::msleep(static_cast<unsigned long>(1000 * seconds * (0.6 + 0.25 * k)));
            kill(child, SIGKILL);
            int status = 0;
            waitpid(child, &status, 0);
            QVERIFY2(fs::exists(folder + "/manifest.json"), "the folder must always be there");
            QVERIFY2(differences(folder, false).isEmpty(), "and whole");
        }
        // what the killed ones left beside it goes with the next writing
        write(folder, nullptr, true);
        int beside = 0;
        for (const auto& e : fs::directory_iterator(fs::path(folder).parent_path()))
            beside += e.path().string() != folder;
        QCOMPARE(beside, 0);
        QVERIFY(differences(folder, false).isEmpty());
    }
    void everythingHoldsWhenNothingWasChanged() {
        const std::string folder = place();
        write(folder);
        const QStringList list = differences(folder, true);
        QVERIFY2(list.isEmpty(), qPrintable(list.join('\n')));
    }
    /// Whoever changes a figure and makes the sums right again is found out, since everything is made again.
    void falsifiedFiguresAreFound() {
        const std::string folder = place();
        write(folder);
        json s = readJson(folder + "/summary.json");
        s["surface"]["mass_kg"] = s["surface"]["mass_kg"].get<double>() * 0.9;
        s["check"]["cases"][0]["reactions"][0]["force_N"][1] = 1.0;
        s["check"]["envelope"]["governing_case"] = "another";
        s["check"]["envelope"]["judged_max_MPa"] = 1;
        s["requirements"].erase(0);
        writeText(folder + "/summary.json", s.dump(2) + "\n");
        json manifest = readJson(folder + "/manifest.json");
        manifest["part"] = "Other part";
        manifest["open_for_release"] = true;
        writeText(folder + "/manifest.json", manifest.dump(2));
        auto none = exchange::readStl(folder + "/surface.stl");
        none.triangle.resize(10);
        none.position.resize(30);
        exchange::writeStl(folder + "/surface.stl", none, "Lever");
        std::string html = readText(folder + "/report.html");
        const auto at = html.find("<b>");
        html.replace(at, html.find("</b>") - at, "<b>Every requirement is met.");
        writeText(folder + "/report.html", html);
        sumAnew(folder);
        QVERIFY(differences(folder, false).isEmpty());  // sums alone say nothing
        const QStringList list = differences(folder, true);
        for (const char* what :
             {"summary/surface/mass_kg", "force_N/1", "governing_case", "judged_max_MPa", "summary/requirements",
              "manifest/part", "manifest/open_for_release", "surface.stl, contents", "report: "})
            QVERIFY2(tells(list, what), what);
    }
    void foreignThingsAreTold() {
        const std::string folder = place();
        write(folder);
        fs::create_symlink("/etc/hostname", folder + "/link");
        QCOMPARE(mkfifo((folder + "/pipe").c_str(), 0600), 0);
        fs::create_directory(folder + "/more");
        json manifest = readJson(folder + "/manifest.json");
        manifest["files"].push_back({{"path", "../outside.txt"}, {"bytes", 1}, {"sha256", "0"}});
        manifest["files"].push_back({{"path", "/etc/hostname"}, {"bytes", 1}, {"sha256", "0"}});
        manifest["files"].push_back(manifest["files"][0]);
        writeText(folder + "/manifest.json", manifest.dump(2));
        fs::remove(folder + "/results.vtu");
        fs::create_symlink(folder + "/report.html", folder + "/results.vtu");
        sumAnew(folder);
        const QStringList list = differences(folder, false);
        for (const char* what :
             {"link: only what the manifest names / a link", "pipe: only what the manifest names / a pipe",
              "more: only what the manifest names / a folder", "../outside.txt: a plain path",
              "/etc/hostname: a plain path", "named twice", "results.vtu: SHA-256"})
            QVERIFY2(tells(list, what), what);
        QVERIFY(tells(list, "a link"));
    }
    void aSignOffIsCovered() {
        const std::string folder = place();
        const Release release = signedBy("A. Tester");
        const KeyPair key = newKeyPair(), other = newKeyPair();
        write(folder, &release, false, key.secret);
        QVERIFY(differences(folder, false).isEmpty());
        QVERIFY(differences(folder, false, key.open).isEmpty());
        QVERIFY(tells(differences(folder, false, other.open), "signature"));
        // another name, with every sum made right: only the signature tells
        json manifest = readJson(folder + "/manifest.json");
        manifest["release"]["name"] = "Somebody Else";
        writeText(folder + "/manifest.json", manifest.dump(2));
        QVERIFY(tells(differences(folder, false), "manifest and sign-off"));
        sumAnew(folder);
        QVERIFY(tells(differences(folder, false), "signature"));
        QVERIFY(tells(differences(folder, false, key.open), "signature"));
        // a release without a signature is told as such when a key is asked for
        fs::remove(folder + "/manifest.sig");
        QVERIFY(tells(differences(folder, false, key.open), "not signed cryptographically"));
    }
};

int main(int argc, char** argv) {
    qputenv("QT_QPA_PLATFORM", "offscreen");
    QGuiApplication application(argc, argv);
    if (argc == 4 && std::string(argv[1]) == "--write") {  // a process to be killed
        Progress progress;
        Project p = openPart(std::string(argv[2]) + "/lever.json", progress);
        p.variants[0].recipe.elementSize = 4;
        run(p, p.current().recipe, Stage::findings, progress);
        render::Renderer renderer;
        while (true) report::writeRelease(p, p.current(), {}, renderer, argv[3], progress, nullptr, true);
    }
    TestRelease test;
    return QTest::qExec(&test, argc, argv);
}
#include "test_release.moc"
