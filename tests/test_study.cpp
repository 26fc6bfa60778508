#include <QTemporaryDir>
#include <QtTest>
#include <cmath>

#include "duty/part_numbers.hpp"
#include "fixtures.hpp"
#include "judge/requirements.hpp"
#include "judge/study.hpp"
#include "store/state_text.hpp"

using namespace escultura;
using namespace escultura::duty;
using namespace escultura::project;
using namespace escultura::store;
using namespace escultura::judge;
using made_up::messageOf;

namespace {

Project lever() {
    static const Project shared = made_up::openLever(Stage::field, [](Recipe& r) { r.elementSize = 3.2; });
    return shared;
}

const std::string pull = "/load_cases/pull/factor", yield = "/material/yield_strength",
                  eye = "/interfaces/eye/bore_diameter";

}  // namespace

class TestStudy : public QObject {
    Q_OBJECT
  private slots:
    void parametersAreNamed() {
        const Project p = lever();
        Recipe r = p.current().recipe;
        r.thickenings.push_back({});
        const auto all = parametersOf(p, r);
        auto has = [&](const std::string& place, double value) {
            return std::any_of(all.begin(), all.end(),
                               [&](const Parameter& x) { return x.place == place && x.value == value; });
        };
        QVERIFY(has("threshold", 0.5) && has("thickenings/0/amount", 1) && has(eye, 8) && has(yield, 250));
        QCOMPARE(withParameter(p, r, "thickenings/0/amount", 2.5).thickenings[0].amount, 2.5);
        QCOMPARE(p.partOf(withParameter(p, r, eye, 9)).interfaces[1].boreDiameter, 9.0);
        QVERIFY(messageOf([&] { withParameter(p, r, "colour", 1); }).find("colour") != std::string::npos);
        QVERIFY(messageOf([&] { newStudy(p, p.current(), Study::Kind::range, {"threshold", eye}); }) != "no error");
        QVERIFY(messageOf([&] { newStudy(p, p.current(), Study::Kind::local, {}); }) != "no error");
        QVERIFY(messageOf([&] { newStudy(p, p.current(), Study::Kind::local, {eye, eye}); }) != "no error");
    }
    /// Linear elasticity gives the effects of load and strength in closed form.
    void localEffectsAreRanked() {
        const Project p = lever();
        Study s = newStudy(p, p.current(), Study::Kind::local, {"smoothing", yield, "/load_cases/down/factor"});
        Progress progress;
        int calls = 0;
        runStudy(p, s, progress, [&](const Study&) { ++calls; });
        QCOMPARE(s.done.size(), std::size_t(7));
        QCOMPARE(calls, 7);
        QVERIFY(isComplete(s));
        for (const Evaluation& e : s.done) QVERIFY2(e.problem.empty(), e.problem.c_str());
        const double factor = s.done[0].figures.at("safety factor");
        auto effect = [&](const std::string& figure, std::size_t axis) {
            for (const Effect& e : rankedEffects(s, figure))
                if (e.axis == axis) return e.change;
            return std::nan("");
        };
        // strength: proportional; 5 % of it are 5 % of the factor
        QVERIFY(std::abs(effect("safety factor", 1) / (0.05 * factor) - 1) < 1e-6);
        QVERIFY(std::abs(effect("mass", 1)) < 1e-9);
        // a load case's peak is proportional to its factor
        QVERIFY(std::abs(effect("peak stress, down", 2) / (0.05 * s.done[0].figures.at("peak stress, down")) - 1) <
                1e-6);
        const auto ranked = rankedEffects(s, "safety factor");
        for (std::size_t i = 1; i < ranked.size(); ++i)
            QVERIFY(std::abs(ranked[i].change) <= std::abs(ranked[i - 1].change));
        // nothing of it is kept as results of the project
        QVERIFY(!p.check(p.current().recipe));
        // running it again repeats nothing
        runStudy(p, s, progress, [&](const Study&) { ++calls; });
        QCOMPARE(calls, 7);
    }
    void rangeIsResumedAfterCancelling() {
        const Project p = lever();
        Study s = newStudy(p, p.current(), Study::Kind::range, {eye});
        s.axes[0].low = 7;
        s.axes[0].high = 10;
        s.evaluations = 4;
        Progress progress;
        QVERIFY_THROWS_EXCEPTION(Cancelled, runStudy(p, s, progress, [&](const Study& now) {
                                     if (now.done.size() == 2) progress.cancel();
                                 }));
        QCOMPARE(s.done.size(), std::size_t(2));
        QVERIFY(!isComplete(s));
        const Evaluation first = s.done[0];
        // through a file, as in another session
        Project stored = p;
        stored.studies = {s};
        applyState(stored, stateText(stored));
        s = stored.studies[0];
        Progress again;
        int calls = 0;
        runStudy(p, s, again, [&](const Study&) { ++calls; });
        QVERIFY(calls >= 2);  // two points, and what tests of the lightest that meets everything say
        QVERIFY(isComplete(s) && s.done[0].figures.at("mass") == first.figures.at("mass"));
        if (s.best >= 0) QVERIFY(s.done[s.best].tested && s.done[s.best].figures.count("safety factor, tested"));
        for (std::size_t i = 0; i < 4; ++i) QCOMPARE(s.done[i].values[0], 7.0 + static_cast<double>(i));
        // the volume is kept where the field speaks: what a wider bore takes is taken, and put back nowhere
        const double removed = 7850e-9 * 15 * M_PI / 4;  // kg a square millimetre of diameter, of the lever's 15 mm
        for (std::size_t i = 1; i < 4; ++i) {
            const double before = s.done[i - 1].values[0], now = s.done[i].values[0];
            const double lost = s.done[i - 1].figures.at("mass") - s.done[i].figures.at("mass");
            QVERIFY2(std::abs(lost / (removed * (now * now - before * before)) - 1) < 0.15,
                     qPrintable(QString::number(lost)));
            QVERIFY(s.done[i].figures.at("safety factor") != s.done[i - 1].figures.at("safety factor"));
        }
        // another start: what was evaluated does not hold
        Project other = p;
        other.variants[0].recipe.smoothing = 4;
        s.evaluations = 2;
        runStudy(other, s, again, {});
        QCOMPARE(s.done.size(), std::size_t(2));
    }
    /// The lightest lever is the one with the widest bore and highest threshold that the limits allow.
    void searchFindsTheLightest() {
        Project p = lever();
        auto text = nlohmann::json::parse(p.part.text);
        text["requirements"] = nlohmann::json::parse(
            R"([{"kind": "safety_factor", "limit": 2.2}, {"kind": "displacement", "limit": 0.5}])");
        p.part = parsePart(text.dump(), p.part.path);
        Study s = newStudy(p, p.current(), Study::Kind::search, {"threshold", eye});
        s.axes[0].low = 0.3, s.axes[0].high = 0.6;
        s.axes[1].low = 7, s.axes[1].high = 10;
        s.evaluations = 16;
        Progress progress;
        runStudy(p, s, progress, {});
        QVERIFY(s.done.size() <= 16 && s.done.size() >= 5);
        QVERIFY(isComplete(s));
        QVERIFY2(s.best >= 0, "some evaluation meets everything");
        const Evaluation& best = s.done[s.best];
        QVERIFY(best.meetsAll && best.tested && best.figures.at("safety factor, tested") >= 2.2);
        QVERIFY2(best.figures.at("mass") < s.done[0].figures.at("mass"),
                 qPrintable(QString("%1 %2").arg(best.figures.at("mass")).arg(s.done[0].figures.at("mass"))));
        for (const Evaluation& e : s.done)
            if (e.meetsAll) QVERIFY(e.figures.at("mass") >= best.figures.at("mass"));
        const Recipe winner = recipeOf(p, s, best);
        QCOMPARE(winner.threshold, best.values[0]);
        QCOMPARE(p.partOf(winner).interfaces[1].boreDiameter, best.values[1]);
    }
    void aFailedEvaluationIsTold() {
        const Project p = lever();
        Study s = newStudy(p, p.current(), Study::Kind::range, {"threshold"});
        s.axes[0].low = 0.5;
        s.axes[0].high = 0.9;  // cuts the bar
        s.evaluations = 2;
        Progress progress;
        runStudy(p, s, progress, {});
        QVERIFY(s.done[0].problem.empty());
        QVERIFY2(s.done[1].problem.find("cut off") != std::string::npos, s.done[1].problem.c_str());
        QVERIFY(!s.done[1].meetsAll);
    }
};

QTEST_GUILESS_MAIN(TestStudy)
#include "test_study.moc"
