#include <QProcess>
#include <QtTest>
#include <filesystem>

#include "made_up_part.hpp"

using namespace escultura;
using nlohmann::json;

class TestCli : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;

    struct Result {
        int code;
        QString out, error;
    };
    static Result call(const QStringList& arguments) {
        QProcess p;
        p.start(ESCULTURA_CLI, arguments);
        if (!p.waitForFinished(300000)) return {-1, {}, "did not finish"};
        return {p.exitCode(), p.readAllStandardOutput(), p.readAllStandardError()};
    }
    QString folder(const char* name) const {
        QDir(dir_.path()).mkpath(name);
        return dir_.path() + "/" + name;
    }
    Result runLever(const char* name, const std::function<void(json&, field::DensityField&)>& change,
                    const QStringList& more = {}) {
        json part = made_up::leverPart();
        field::DensityField f = made_up::leverField();
        change(part, f);
        const QString in = folder(name);
        const std::string file = made_up::writeLever(in.toStdString(), part, f);
        return call(
            QStringList{"run", QString::fromStdString(file), "--out", in + "/out", "--element-size", "3", "--quiet"} +
            more);
    }
    void refused(const char* name, const std::function<void(json&, field::DensityField&)>& change,
                 const QStringList& mentions, const QStringList& more = {}) {
        const Result r = runLever(name, change, more);
        QVERIFY2(r.code == 3, qPrintable(QString("%1: code %2, %3").arg(name).arg(r.code).arg(r.error)));
        for (const QString& m : mentions) QVERIFY2(r.error.contains(m), qPrintable(r.error));
        QVERIFY2(!QDir(folder(name) + "/out").exists(), "nothing may be left behind");
    }

  private slots:
    /// The solid is rebuilt, checked, written, told in report and summary, and found in its file by another run.
    void rebuildsTheSolid() {
        const Result r = runLever("solid", [](json&, field::DensityField&) {}, {"--rebuild", "--face-size", "6 mm"});
        QVERIFY2(r.code == 0, qPrintable(r.error));
        const QString out = folder("solid") + "/out";
        std::ifstream in((out + "/summary.json").toStdString());
        const json s = json::parse(in);
        QVERIFY(s["rebuild"]["valid"].get<bool>() && s["rebuild"]["problems"].empty());
        QVERIFY(s["cage"]["closed"].get<bool>());
        QVERIFY(std::abs(s["mesh"]["volume_mm3"].get<double>() / s["rebuild"]["volume_mm3"].get<double>() - 1) < 0.01);
        QVERIFY(QFileInfo(out + "/solid.stl").size() > 10000);
        QFile html(out + "/report.html");
        QVERIFY(html.open(QIODevice::ReadOnly));
        const QByteArray text = html.readAll();
        for (const char* word : {"Cage faces", "pivot bore", "Patches to limit surface", "pictures/solid.png"})
            QVERIFY2(text.contains(word), word);
        const Result step = call({"step", out + "/solid.step"});
        QCOMPARE(step.code, 0);
        const json j = json::parse(step.out.toStdString());
        QVERIFY(std::abs(j["volume_mm3"].get<double>() / s["rebuild"]["volume_mm3"].get<double>() - 1) < 1e-4);
        QCOMPARE(j["part"].get<std::string>(), std::string("Lever"));
        bool named = false;
        for (const auto& n : j["face_names"]) named = named || n == "eye bore: bore";
        QVERIFY(named);
    }
    void refusesWhatIsNoStepFile() {
        for (const QString& path : {QString("/no/such.step"), QString(ESCULTURA_CLI)}) {
            const Result r = call({"step", path});
            QCOMPARE(r.code, 3);
            QVERIFY2(r.error.contains(path) && r.error.contains("STEP"), qPrintable(r.error));
        }
        refused("tiny", [](json&, field::DensityField&) {}, {"--face-size"}, {"--rebuild", "--face-size", "0"});
    }
    /// Baseline, a raw variant that fails, tests, a fix, everything met, released; then the folder on its own.
    void tellsTheWholeStory() {
        json part = made_up::leverPart();
        part["requirements"][0]["limit"] = 5.2;  // the lever misses it, a little more material meets it
        const QString in = folder("story");
        const std::string file = made_up::writeLever(in.toStdString(), part, made_up::leverField());
        const QString out = in + "/out", kept = in + "/kept.escultura";
        const Result r = call({"story", QString::fromStdString(file), "--out", out, "--name", "A. Tester", "--role",
                               "engineer", "--reason", "made-up", "--date", "2026-01-01", "--save", kept});
        QVERIFY2(r.code == 0, qPrintable(r.out + r.error));
        for (const char* words :
             {"baseline: safety factor", "not met: safety factor", "applied: ", "measured: ", "released: variant"})
            QVERIFY2(r.out.contains(words), qPrintable(r.out));
        QVERIFY(QFileInfo(kept).size() > 10000);
        std::ifstream in2((out + "/manifest.json").toStdString());
        const json m = json::parse(in2);
        QCOMPARE(m["release"]["number"].get<int>(), 1);
        QCOMPARE(m["release"]["name"].get<std::string>(), std::string("A. Tester"));
        QVERIFY(m["open_for_release"].get<bool>());
        std::ifstream in3((out + "/summary.json").toStdString());
        const json s = json::parse(in3);
        QVERIFY(s["check"]["envelope"]["min_safety_factor"].get<double>() >= 5.2);
        // what is measured after a proposal stands beside what was expected; stresses move, so it may be less
        QVERIFY(s["proposal"]["measured"].get<double>() >= 5.2);
        QVERIFY(s["proposal"]["safety_factor_before"].get<double>() > 0);
        for (const auto& f : s["findings"]) QVERIFY(f["disposition"]["holds"].get<bool>());
        // moved to another place, it is checked on its own
        QVERIFY(QDir().rename(out, in + "/moved"));
        const Result sums = call({"verify-release", in + "/moved"});
        QVERIFY2(sums.code == 0 && sums.out.contains("0 differ"), qPrintable(sums.out + sums.error));
        QVERIFY(sums.out.contains("holds   results.vtu, contents"));
        std::ofstream((in + "/moved/part.json").toStdString(), std::ios::app) << " ";
        std::ofstream((in + "/moved/extra.txt").toStdString()) << "more";
        const Result broken = call({"verify-release", in + "/moved", "--files-only"});
        QVERIFY(broken.code == 3 && broken.out.contains("DIFFERS  part.json") && broken.out.contains("extra.txt"));
        const Result none = call({"verify-release", in});
        QVERIFY(none.code == 3 && none.error.contains("manifest.json"));
    }
    void sweepsAsJson() {
        const QString in = folder("sweep");
        const std::string file = made_up::writeLever(in.toStdString());
        const Result r = call({"sweep", QString::fromStdString(file), "--quiet", "--kind", "range", "--vary",
                               "/load_cases/1/factor=1:2", "--evaluations", "2"});
        QVERIFY2(r.code == 0, qPrintable(r.error));
        const json j = json::parse(r.out.toStdString());
        const auto& e = j["evaluations"];
        QCOMPARE(e.size(), std::size_t(2));
        QVERIFY(std::abs(e[1]["figures"]["peak stress, pull"].get<double>() /
                             e[0]["figures"]["peak stress, pull"].get<double>() -
                         2) < 1e-5);
        const Result wrong = call({"sweep", QString::fromStdString(file), "--vary", "colour"});
        QVERIFY(wrong.code == 3 && wrong.error.contains("colour"));
        const Result range = call({"sweep", QString::fromStdString(file), "--vary", "threshold=2:1"});
        QVERIFY(range.code == 3 && range.error.contains("LOW:HIGH"));
    }
    void writesTheReleaseFolder() {
        const Result r = runLever("good", [](json&, field::DensityField&) {}, {"--smoothing", "1/8 in"});
        QVERIFY2(r.code == 0, qPrintable(r.error));
        QVERIFY(r.out.isEmpty());
        const QString out = folder("good") + "/out";
        for (const char* f : {"surface.stl", "results.vtu", "summary.json", "report.html", "report.pdf", "part.json",
                              "manifest.json", "pictures/surface.png", "pictures/case-2.png"})
            QVERIFY2(QFileInfo(out + "/" + f).size() > 500, f);
        QVERIFY(QDir(out).entryList(QDir::Hidden | QDir::AllEntries | QDir::NoDotAndDotDot).size() ==
                11);  // no draft left
        std::ifstream in((out + "/summary.json").toStdString());
        const json s = json::parse(in);
        QVERIFY(std::abs(s["recipe"]["smoothing_mm"].get<double>() - 3.175) < 1e-12);
        QVERIFY(s["surface"]["watertight"] == true);
        // STL and summary agree, and so do the manifest's sums and the files
        QFile stl(out + "/surface.stl");
        QCOMPARE(stl.size(), 84 + 50 * s["surface"]["triangles"].get<qint64>());
        std::ifstream m((out + "/manifest.json").toStdString());
        for (const auto& f : json::parse(m)["files"]) {
            QFile file(out + "/" + QString::fromStdString(f["path"]));
            QVERIFY(file.open(QIODevice::ReadOnly));
            QCOMPARE(QCryptographicHash::hash(file.readAll(), QCryptographicHash::Sha256).toHex().toStdString(),
                     f["sha256"].get<std::string>());
        }
        QFile html(out + "/report.html");
        QVERIFY(html.open(QIODevice::ReadOnly));
        const QString text = html.readAll();
        for (const char* word : {"Lever", "Duty", "Equilibrium error", "down", "pull", "safety factor"})
            QVERIFY2(text.contains(word), word);
        QFile pdf(out + "/report.pdf");
        QVERIFY(pdf.open(QIODevice::ReadOnly) && pdf.read(5) == "%PDF-");
    }
    void sameNumbersTwice() {
        json first, second;
        for (json* s : {&first, &second}) {
            const Result r = runLever("twice", [](json&, field::DensityField&) {}, {"--replace"});
            QVERIFY2(r.code == 0, qPrintable(r.error));
            std::ifstream in((folder("twice") + "/out/summary.json").toStdString());
            *s = json::parse(in);
            s->erase("timings_s");
            s->erase("peak_memory_MB");
        }
        QCOMPARE(first.dump(), second.dump());
    }
    /// Sums are split by sizes, never by how many cores there are.
    void sameBitsOnOneCore() {
        const QString in = folder("cores");
        const QString part = QString::fromStdString(made_up::writeLever(in.toStdString()));
        QStringList arguments{"run", part, "--element-size", "3", "--quiet", "--untested", "--out"};
        Result r = call(arguments + QStringList{in + "/all"});
        QVERIFY2(r.code == 0, qPrintable(r.error));
        QProcess p;
        p.start("taskset", QStringList{"-c", "0", ESCULTURA_CLI} + arguments + QStringList{in + "/one"});
        QVERIFY(p.waitForFinished(300000));
        QVERIFY2(p.exitCode() == 0, p.readAllStandardError().constData());
        for (const char* file : {"surface.stl", "results.vtu"}) {
            QFile a(in + "/all/" + file), b(in + "/one/" + file);
            QVERIFY(a.open(QIODevice::ReadOnly) && b.open(QIODevice::ReadOnly));
            QVERIFY2(a.readAll() == b.readAll(), file);
        }
    }
    void wrongUsage() {
        QCOMPARE(call({}).code, 2);
        QCOMPARE(call({"run"}).code, 2);
        QCOMPARE(call({"run", "x.json"}).code, 2);
        QCOMPARE(call({"run", "x.json", "--out", "y", "--colour", "red"}).code, 2);
        QCOMPARE(call({"run", "x.json", "--out", "y", "--threshold", "much"}).code, 2);
    }
    void helpNamesEveryOption() {
        const Result r = call({"run", "--help"});
        QCOMPARE(r.code, 0);
        for (const char* o :
             {"--out", "--threshold", "--element-size", "--smoothing", "--quiet", "--json-log", "Exit codes"})
            QVERIFY2(r.out.contains(o), o);
    }
    void logsJsonLines() {
        const QString in = folder("log");
        const Result r = call({"run", QString::fromStdString(made_up::writeLever(in.toStdString())), "--out",
                               in + "/out", "--element-size", "4", "--json-log"});
        QCOMPARE(r.code, 0);
        int lines = 0;
        for (const QString& line : r.error.split('\n', Qt::SkipEmptyParts))
            if (line.startsWith('{')) {
                QVERIFY(json::parse(line.toStdString()).contains("step"));
                ++lines;
            }
        QVERIFY(lines > 8);
        QVERIFY(r.out.contains("written:"));
        QVERIFY(!r.error.contains('\r'));  // no bar in a pipe
    }
    void refusesBadInput() {
        const Result missing = call({"run", dir_.path() + "/none.json", "--out", dir_.path() + "/o"});
        QCOMPARE(missing.code, 3);
        QVERIFY(missing.error.contains("none.json"));
        refused("no-field", [](json& p, auto&) { p["field"]["file"] = "other.npy"; }, {"other.npy"});
        refused("nan", [](json&, auto& f) { f.density[7] = NAN; }, {"NaN", "cell (7, 0, 0)"});
        refused("interface", [](json& p, auto&) { p["load_cases"][0]["loads"][0]["interfaces"][0] = "ear"; },
                {"'ear'", "load_cases[0]"});
        refused("poisson", [](json& p, auto&) { p["material"]["poissons_ratio"] = -1.5; },
                {"poissons_ratio", "above -1 and below 0.5"});
        refused("poisson-half", [](json& p, auto&) { p["material"]["poissons_ratio"] = 0.5; }, {"poissons_ratio"});
        refused("nothing",
                [](json&, auto& f) {
                    for (float& d : f.density) d *= 0.5f;
                },
                {"keeps nothing", "threshold 0.8"}, {"--threshold", "0.8"});
        refused("cut", [](json&, auto&) {}, {"cuts interfaces off", "threshold 0.9"}, {"--threshold", "0.9"});
        refused("free",
                [](json& p, auto&) {
                    p["supports"][0]["directions"] = {"x", "y"};
                },
                {"free to move", "translation along (0"});
        refused("no-support", [](json& p, auto&) { p["supports"] = json::array(); },
                {"supports", "at least one load case and one support"});
        refused("outside", [](json& p, auto&) { p["interfaces"][1]["origin"] = {500, 0, 0}; }, {"interface 'eye'"});
        refused("range", [](json&, auto&) {}, {"--threshold"}, {"--threshold", "7"});
        refused("unit", [](json&, auto&) {}, {"kg"}, {"--smoothing", "2 kg"});
    }
    void refusesATruncatedVtiAndAWrongArray() {
        const QString in = folder("vti");
        QFile::copy(ESCULTURA_DEMO "/tether-yoke.vti", in + "/tether-yoke.vti");
        QFile f(in + "/tether-yoke.vti");
        f.setPermissions(QFile::ReadOwner | QFile::WriteOwner);
        QVERIFY(f.resize(f.size() / 2));
        QFile::copy(ESCULTURA_DEMO "/tether-yoke.json", in + "/part.json");
        Result r = call({"run", in + "/part.json", "--out", in + "/out"});
        QCOMPARE(r.code, 3);
        QVERIFY2(r.error.contains("cut short"), qPrintable(r.error));
        f.remove();
        QFile::copy(ESCULTURA_DEMO "/tether-yoke.vti", in + "/tether-yoke.vti");
        std::ifstream part(ESCULTURA_DEMO "/tether-yoke.json");
        json p = json::parse(part);
        p["field"]["array"] = "rho";
        std::ofstream((in + "/array.json").toStdString()) << p.dump();
        r = call({"run", in + "/array.json", "--out", in + "/out"});
        QCOMPARE(r.code, 3);
        QVERIFY2(r.error.contains("'rho'") && r.error.contains("density (cells)"), qPrintable(r.error));
        QVERIFY(!QDir(in + "/out").exists());
    }
    void refusesAnOutputFolderThatCannotBeMade() {
        const QString in = folder("blocked");
        std::ofstream((in + "/file").toStdString()) << "in the way";
        const Result r =
            call({"run", QString::fromStdString(made_up::writeLever(in.toStdString())), "--out", in + "/file/out"});
        QCOMPARE(r.code, 3);
        QVERIFY2(r.error.contains("file/out"), qPrintable(r.error));
    }
    void refusesElementsThatAreTooSmall() {
        const QString in = folder("small");
        const Result r = call({"run", QString::fromStdString(made_up::writeLever(in.toStdString())), "--out",
                               in + "/out", "--element-size", "0.02"});
        QCOMPARE(r.code, 3);
        QVERIFY2(r.error.contains("of memory") && r.error.contains("--element-size"), qPrintable(r.error));
        QVERIFY2(!r.error.contains("expected: surface"), qPrintable(r.error));
    }
};

QTEST_GUILESS_MAIN(TestCli)
#include "test_cli.moc"
