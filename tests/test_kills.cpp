#include <sys/wait.h>
#include <unistd.h>

#include <QProcess>
#include <filesystem>
#include <set>

#include "base/digest.hpp"
#include "judge/factor.hpp"
#include "judge/findings.hpp"
#include "judge/releases.hpp"
#include "project/run.hpp"
#include "report/report.hpp"
#include "store/storage.hpp"
#include "window_driver.hpp"

using namespace escultura;
using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using namespace escultura::judge;
using namespace escultura::store;
namespace fs = std::filesystem;

namespace {

std::vector<std::string> linesOf(const std::string& path) {
    std::ifstream in(path);
    std::vector<std::string> lines;
    for (std::string line; std::getline(in, line);) lines.push_back(line);
    return lines;
}

/// The other half of the test: this program again, doing in a real window what is killed.
struct Writer : app::WindowDriver {
    QString folder_;

    explicit Writer(QString folder) : folder_(std::move(folder)) {}
    /// The lever, everything signed: it could be released.
    void prepare() {
        auto part = made_up::leverPart();
        part["requirements"] = nlohmann::json::array({{{"kind", "mass"}, {"limit", 5}, {"source", "test"}}});
        Progress progress;
        const std::string own = folder_.toStdString();
        Project p = openPart(made_up::writeLever(own, part), progress);
        p.variants[0].recipe.elementSize = 4;
        run(p, p.current().recipe, Stage::findings, progress);
        testHotspots(p, p.current().recipe, {}, progress);
        for (const Finding& f : findingsOf(p, p.current().recipe))
            sign(p.variants[0],
                 signedDisposition(p, p.current().recipe, f, "accept", "test", "A. Tester", "2026-01-01"));
        for (const auto& b : releaseBlockers(p, p.current())) qFatal("in the way: %s", b.text.c_str());
        saveProject(p, own + "/lever.escultura");
    }
    /// Opens the project, moves its threshold and saves it in its place.
    void save() {
        openWindow(folder_ + "/target/lever.escultura");
        w_->session().edit("threshold", [](Project& p) { p.variants[p.open].recipe.threshold = 0.52; });
        QTest::keyClick(w_.get(), Qt::Key_S, Qt::ControlModifier);
        settle();
        closeWindow();
    }
    void release() {
        openWindow(folder_ + "/lever.escultura");
        w_->releaseTo(folder_ + "/target/release", SignOff{"A. Tester", "engineer", "2026-01-01", ""});
        settle();
        closeWindow();
    }
};

}  // namespace

/// The program is killed at each call that changes something under the target, writes after half of their bytes: what
/// is there afterwards is the old or the new, whole. ESCULTURA_KILLS is the most calls tried for each kind of writing.
class TestKills : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;

    std::string own() const { return dir_.path().toStdString(); }
    std::string target() const { return own() + "/target"; }

    QStringList command(const QString& kind) const {
        const QString own = dir_.path(), self = QCoreApplication::applicationFilePath();
        if (kind == "window save") return {self, "--save", own};
        if (kind == "window release") return {self, "--release", own};
        QStringList run{ESCULTURA_CLI,    "run", own + "/lever.json", "--level", "look",
                        "--element-size", "5",   "--untested",        "--quiet"};
        if (kind == "run --out")
            return run << "--replace"
                       << "--threshold"
                       << "0.52"
                       << "--out" << own + "/target/release";
        return run << "--threshold"
                   << "0.52"
                   << "--out" << own + "/beside"
                   << "--replace"
                   << "--save" << own + "/target/lever.escultura";
    }
    /// @param at  call to be killed at; 0: none
    /// @return whether it was killed
    bool carryOut(const QString& kind, long at) {
        fs::remove(own() + "/calls");
        QProcess p;
        QProcessEnvironment e = QProcessEnvironment::systemEnvironment();
        e.insert("LD_PRELOAD", ESCULTURA_KILL_AT);
        e.insert("KILL_UNDER", QString::fromStdString(target()));
        e.insert("KILL_LOG", QString::fromStdString(own() + "/calls"));
        e.insert("KILL_AT", QString::number(at));
        p.setProcessEnvironment(e);
        const QStringList c = command(kind);
        p.start(c[0], c.mid(1));
        if (!p.waitForFinished(300000)) qFatal("%s does not end", qPrintable(kind));
        if (p.exitStatus() == QProcess::CrashExit) return true;
        if (p.exitCode() != 0)
            qFatal("%s ends with %d: %s", qPrintable(kind), p.exitCode(), p.readAllStandardError().constData());
        return false;
    }
    /// Which of the two is there; empty: something broken.
    std::string whatIsThere(const QString& kind) {
        try {
            if (kind.contains("save")) {
                const Project p = loadProject(target() + "/lever.escultura");
                return p.current().recipe.threshold == 0.52 ? "new" : "old";
            }
            const std::string release = target() + "/release";
            if (!fs::exists(release)) return kind == "window release" ? "old" : "";
            Progress progress;
            for (const auto& i : report::verifyRelease(release, false, progress))
                if (!i.holds) return "";
            if (kind == "window release") return "new";
            return sha256OfFile(release + "/surface.stl") == sha256OfFile(own() + "/old/release/surface.stl") ? "old"
                                                                                                              : "new";
        } catch (const std::exception& e) {
            qWarning("%s", e.what());
            return "";
        }
    }
    void startAnew(const QString& kind) {
        fs::remove_all(target());
        fs::create_directory(target());
        if (kind.contains("save")) fs::copy_file(own() + "/lever.escultura", target() + "/lever.escultura");
        if (kind == "run --out") fs::copy(own() + "/old", target(), fs::copy_options::recursive);
    }
    std::set<std::string> beside() const {
        std::set<std::string> names;
        for (const auto& e : fs::directory_iterator(target())) names.insert(e.path().filename().string());
        return names;
    }

  private slots:
    void initTestCase() {
        QProcess p;
        p.start(QCoreApplication::applicationFilePath(), {"--prepare", dir_.path()});
        QVERIFY(p.waitForFinished(300000));
        QCOMPARE(p.exitCode(), 0);
        p.start(ESCULTURA_CLI, {"run", dir_.path() + "/lever.json", "--level", "look", "--element-size", "5",
                                "--untested", "--quiet", "--out", dir_.path() + "/old/release"});
        QVERIFY(p.waitForFinished(300000));
        QVERIFY(fs::exists(own() + "/old/release/manifest.json"));
    }
    void kills_data() {
        QTest::addColumn<QString>("kind");
        for (const char* kind : {"run --out", "run --save", "window save", "window release"})
            QTest::newRow(kind) << kind;
    }
    void kills() {
        QFETCH(QString, kind);
        startAnew(kind);
        QVERIFY(!carryOut(kind, 0));
        QCOMPARE(whatIsThere(kind), std::string("new"));
        const auto left = beside();
        const auto calls = linesOf(own() + "/calls");
        // writes are alike; everything else is tried, as far as the number allows
        std::vector<long> others, writes, tried;
        for (std::size_t k = 0; k < calls.size(); ++k)
            (calls[k].starts_with("write ") ? writes : others).push_back(static_cast<long>(k + 1));
        QVERIFY2(!others.empty() && !writes.empty(), "nothing was counted");
        const auto most = static_cast<std::size_t>(std::max(4, qEnvironmentVariableIntValue("ESCULTURA_KILLS")));
        auto spread = [&](const std::vector<long>& from, std::size_t count) {
            count = std::min(count, from.size());
            for (std::size_t k = 0; k < count; ++k) tried.push_back(from[k * from.size() / count]);
        };
        spread(others, most - std::max<std::size_t>(1, most / 4));
        spread(writes, most - tried.size());
        if (std::find(tried.begin(), tried.end(), others.back()) == tried.end()) tried.back() = others.back();
        int old = 0;
        for (const long at : tried) {
            startAnew(kind);
            QVERIFY2(carryOut(kind, at), "it was not killed");
            const std::string there = whatIsThere(kind);
            QVERIFY2(
                !there.empty(),
                qPrintable(
                    QString("killed at '%1'").arg(QString::fromStdString(calls[static_cast<std::size_t>(at - 1)]))));
            old += there == "old";
        }
        QVERIFY(old > 0);
        qInfo("%s: %zu calls, %zu killed, %d left the old, %zu the new", qPrintable(kind), calls.size(), tried.size(),
              old, tried.size() - static_cast<std::size_t>(old));
        // whoever goes on after the last kill ends where everybody does, with nothing beside
        startAnew(kind);
        QVERIFY(carryOut(kind, writes[writes.size() / 2]));
        QVERIFY(!carryOut(kind, 0));
        QCOMPARE(whatIsThere(kind), std::string("new"));
        QVERIFY2(beside() == left, "leftovers");
    }
};

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    if (argc == 3 && argv[1][0] == '-' && argv[1][1] == '-') {
        Writer writer{QString(argv[2])};
        const std::string mode = argv[1];
        if (mode == "--prepare") writer.prepare();
        if (mode == "--save") writer.save();
        if (mode == "--release") writer.release();
        return 0;
    }
    TestKills test;
    return QTest::qExec(&test, argc, argv);
}
#include "test_kills.moc"
