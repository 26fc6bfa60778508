// Sets of supports: a part in two positions is, load case by load case, the part in each of them alone.
#include <QTemporaryDir>
#include <QtTest>
#include <cmath>

#include "duty/duty_edit.hpp"
#include "judge/findings.hpp"
#include "made_up_part.hpp"
#include "project/run.hpp"
#include "stages/optimise_stage.hpp"
#include "stages/ready.hpp"

using namespace escultura;
using nlohmann::json;
using project::Project;
using project::Stage;

class TestSupportSets : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;
    int count_ = 0;

    static json held(const char* interface, const char* set, const char* kind = "fixed") {
        json s{{"kind", kind}, {"interfaces", {interface}}, {"face", "bore"}};
        if (*set) s["set"] = set;
        return s;
    }
    static json loaded(const char* name, const char* interface, const json& force, const char* set) {
        json c{{"name", name},
               {"loads",
                json::array({{{"kind", "force"}, {"interfaces", {interface}}, {"face", "bore"}, {"force", force}}})}};
        if (*set) c["support_set"] = set;
        return c;
    }
    /// Held by its foot in two cases, by its head in another.
    static json both() {
        json part = made_up::leverPart();
        part["supports"] = json::array({held("pivot", "foot"), held("eye", "head")});
        part["load_cases"] =
            json::array({loaded("down", "eye", {0, -300, 40}, "foot"), loaded("back", "pivot", {150, 350, 0}, "head"),
                         loaded("pull", "eye", {900, 0, 0}, "foot")});
        part["combinations"] = json::array({{{"name", "storm"}, {"sum", "1.5 down + 0.5 pull"}}});
        return part;
    }
    static json alone(const char* support, std::vector<json> cases) {
        json part = made_up::leverPart();
        part["supports"] = json::array({held(support, "")});
        for (json& c : cases) c.erase("support_set");
        part["load_cases"] = cases;
        return part;
    }
    std::string write(const json& part) {
        const QString folder = dir_.filePath(QString::number(++count_));
        QDir().mkpath(folder);
        return made_up::writeLever(folder.toStdString(), part);
    }
    Project checked(const json& part, Stage upTo = Stage::findings) {
        Progress progress;
        Project p = project::openPart(write(part), progress);
        auto& recipe = p.variants[0].recipe;
        recipe.elementSize = 4.5;
        recipe.analyses = {{"natural_frequencies", {{"modes", 2}}}, {"buckling"}};
        project::run(p, recipe, upTo, progress);
        return p;
    }
    duty::Part read(const json& part) { return duty::parsePart(part.dump(), write(part)); }
    static double difference(const stages::CaseResult& a, const stages::CaseResult& b) {
        double off = 0, size = 0;
        for (std::size_t n = 0; n < a.displacement.size(); ++n) {
            off = std::max(off, (a.displacement[n] - b.displacement[n]).norm());
            size = std::max(size, b.displacement[n].norm());
        }
        return off / size;
    }

  private slots:
    void everyCaseIsAsInItsPositionAlone() {
        const json part = both();
        Project p = checked(part);
        const Project foot = checked(alone("pivot", {part["load_cases"][0], part["load_cases"][2]}));
        const Project head = checked(alone("eye", {part["load_cases"][1]}));
        const auto check = p.check(p.current().recipe), ofFoot = foot.check(foot.current().recipe),
                   ofHead = head.check(head.current().recipe);
        QCOMPARE(check->cases.size(), std::size_t(4));
        QCOMPARE(check->mesh.position.size(), ofFoot->mesh.position.size());
        QVERIFY(difference(check->cases[0], ofFoot->cases[0]) < 1e-6);
        QVERIFY(difference(check->cases[1], ofHead->cases[0]) < 1e-6);
        QVERIFY(difference(check->cases[2], ofFoot->cases[1]) < 1e-6);
        // and they do differ: the head does not move when it is held
        QVERIFY(difference(check->cases[1], check->cases[0]) > 0.5);
        const std::pair<const stages::CaseResult*, const stages::CaseResult*> alike[] = {
            {&check->cases[0], &ofFoot->cases[0]}, {&check->cases[1], &ofHead->cases[0]}};
        for (const auto& [with, without] : alike)
            QVERIFY(std::abs(with->minSafetyFactor / without->minSafetyFactor - 1) < 1e-5);
        // what holds is what is listed
        const std::pair<const char*, Vec3> reactions[] = {
            {"pivot", {0, 300, -40}}, {"eye", {-150, -350, 0}}, {"pivot", {-900, 0, 0}}, {"pivot", {-450, 450, -60}}};
        for (std::size_t c = 0; c < 4; ++c) {
            QCOMPARE(check->cases[c].reactions.size(), std::size_t(1));
            QCOMPARE(check->cases[c].reactions[0].interface, std::string(reactions[c].first));
            QVERIFY((check->cases[c].reactions[0].force - reactions[c].second).norm() < 1e-4 * 300);
        }
        // frequencies count with the support that lets the part swing most slowly; buckling case by case
        const auto modes = p.analysis(p.current().recipe, "natural_frequencies");
        const double a = foot.analysis(foot.current().recipe, "natural_frequencies")->find("lowest_frequency")->value,
                     b = head.analysis(head.current().recipe, "natural_frequencies")->find("lowest_frequency")->value;
        QVERIFY(std::abs(modes->find("lowest_frequency")->value / std::min(a, b) - 1) < 1e-6);
        QVERIFY(std::any_of(modes->notes.begin(), modes->notes.end(),
                            [](const std::string& n) { return n.find("'head'") != std::string::npos; }));
        const auto buckles = p.analysis(p.current().recipe, "buckling");
        auto factorOf = [](const auto& analysis, const std::string& name) {
            for (const auto& f : analysis->figures)
                if (f.loadCase == name) return f.value;
            return -1.0;
        };
        QVERIFY(
            std::abs(factorOf(buckles, "back") / factorOf(head.analysis(head.current().recipe, "buckling"), "back") -
                     1) < 1e-4);
        // a hotspot's test solves the pieces with the supports of each case
        Progress progress;
        const auto& recipe = p.current().recipe;
        judge::testHotspots(p, recipe, {}, progress);
        for (const auto& f : judge::findingsOf(p, recipe))
            if (f.kind == stages::Finding::Kind::hotspot)
                QVERIFY2(f.evidence.verdict != assess::HotspotClass::untested, f.id.c_str());
    }
    /// What a set leaves free is told with its load cases; the solver refuses the same.
    void freeMotionsAreToldForEachSet() {
        json part = both();
        part["supports"][1]["kind"] = "sliding";  // the head may turn and slide in its bore
        const duty::Part read = this->read(part);
        QVERIFY(stages::freeMotionsOf(read, "foot").empty());
        QVERIFY(!stages::freeMotionsOf(read, "head").empty());
        const auto notes = stages::readyNotes(read, {}, nullptr, nullptr);
        const auto at = std::find_if(notes.begin(), notes.end(), [](const auto& n) {
            return n.severity == stages::ReadyNote::Severity::blocker && n.text.find("'back'") != std::string::npos;
        });
        QVERIFY(at != notes.end());
        QVERIFY(at->text.find("'down'") == std::string::npos);
        const std::string said = made_up::messageOf([&] { checked(part, Stage::check); });
        QVERIFY2(said.find("set 'head'") != std::string::npos, said.c_str());
        // a support without a set holds in every case
        part["supports"].push_back(held("eye", "head"));
        part["supports"][2]["face"] = "start";
        QVERIFY(stages::freeMotionsOf(this->read(part), "head").empty());
        part["supports"][2].erase("set");
        QVERIFY(stages::freeMotionsOf(this->read(part), "head").empty());
    }
    void whatCannotBeIsRefused() {
        auto refused = [&](const std::function<void(json&)>& change) {
            json part = both();
            change(part);
            return made_up::messageOf([&] { read(part); });
        };
        std::string said = refused([](json& p) { p["combinations"][0]["sum"] = "down + back"; });
        QVERIFY2(said.find("held differently") != std::string::npos && said.find("'head'") != std::string::npos,
                 said.c_str());
        said = refused([](json& p) { p["load_cases"][1]["support_set"] = "neck"; });
        QVERIFY2(said.find("foot, head") != std::string::npos && said.find("'neck'") != std::string::npos,
                 said.c_str());
        said = refused([](json& p) { p["supports"][0]["set"] = ""; });
        QVERIFY2(said.find("supports[0].set") != std::string::npos, said.c_str());
        // a set that no case names is told; a face that is moved must be held in that case
        json part = both();
        part["load_cases"].erase(1);
        const auto notes = stages::readyNotes(read(part), {}, nullptr, nullptr);
        QVERIFY(std::any_of(notes.begin(), notes.end(),
                            [](const auto& n) { return n.text.find("supports 'head'") != std::string::npos; }));
        part = both();
        part["load_cases"][0]["loads"].push_back(
            {{"kind", "displacement"}, {"interfaces", {"eye"}}, {"face", "bore"}, {"displacement", {0, 0, 0.1}}});
        said = made_up::messageOf([&] { checked(part, Stage::check); });
        QVERIFY2(said.find("nothing holds in this load case") != std::string::npos, said.c_str());
        // a field is made for one way to hold the part
        Progress progress;
        said = made_up::messageOf([&] { stages::makeField(read(both()), {}, progress); });
        QVERIFY2(said.find("2 sets") != std::string::npos, said.c_str());
    }
    void setsAreEdited() {
        duty::Part part = read(both());
        QCOMPARE(part.supportSets(), (std::vector<std::string>{"foot", "head"}));
        QCOMPARE(part.supportSetOf("storm"), std::string("foot"));
        duty::Support head = part.supports[1];
        head.set = "crane";  // load cases follow
        part = duty::parsePart(duty::withSupport(part, 1, head), part.path);
        QCOMPARE(part.loadCases[1].supportSet, std::string("crane"));
        duty::LoadCase back = part.loadCases[1];
        back.supportSet = "foot";
        part = duty::parsePart(duty::withCase(part, "back", back), part.path);
        QCOMPARE(part.supportSets(), std::vector<std::string>{"foot"});
        back.supportSet.clear();
        QVERIFY(duty::parsePart(duty::withCase(part, "back", back), part.path).loadCases[1].supportSet.empty());
    }
};

QTEST_GUILESS_MAIN(TestSupportSets)
#include "test_support_sets.moc"
