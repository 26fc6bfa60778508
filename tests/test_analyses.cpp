#include <QtTest>
#include <nlohmann/json.hpp>

#include "base/error.hpp"
#include "duty/duty_edit.hpp"
#include "duty/requirement_text.hpp"
#include "fixtures.hpp"
#include "judge/comparison.hpp"
#include "judge/requirements.hpp"
#include "judge/summary.hpp"
#include "report/part_scene.hpp"
#include "report/report.hpp"
#include "store/state_text.hpp"
#include "store/storage.hpp"

using namespace escultura;
using namespace escultura::duty;
using namespace escultura::judge;
using namespace escultura::made_up;
using project::Stage;

/// The further analyses on the made-up lever, through every place that knows of them only by their description.
class TestAnalyses : public QObject {
    Q_OBJECT
    project::Project project_;
    const Recipe& recipe() const { return project_.variants[0].recipe; }
    void require(const std::string& figure, double limit) {
        Requirement r;
        r.kind = Requirement::Kind::figure;
        r.figure = figure;
        r.limit = limit;
        project_.part.requirements.push_back(r);
    }
    RequirementState lastState() const {
        return requirementStates(project_, project_.variants[0], nullptr, nullptr).back();
    }

  private slots:
    void initTestCase() {
        project_ = openLever(Stage::check, [](Recipe& r) {
            r.elementSize = 4.5;
            r.analyses = {{"natural_frequencies", {{"modes", 3}}}, {"buckling"}};
        });
    }
    void init() { project_.part.requirements.clear(); }

    void everyDescribedOneIsMade() {
        QVERIFY(analysisKinds().size() >= 2);
        for (const AnalysisKind& kind : analysisKinds()) {
            const auto found = project_.analysis(recipe(), kind.key);
            QVERIFY2(found, kind.key);
            QCOMPARE(found->kind, std::string(kind.key));
            QVERIFY(!found->notes.empty());
            // every figure that can be required is there, and counts as no more than it is
            for (const RequirementKind& f : kind.figures) QVERIFY2(found->find(f.key), f.key);
            for (const auto& f : found->figures) QVERIFY2(f.counts <= f.value && f.value > 0, f.key.c_str());
            for (const auto& s : found->shapes) {
                QCOMPARE(s.displacement.size(), project_.check(recipe())->mesh.position.size());
                double largest = 0;
                for (const Vec3& u : s.displacement) largest = std::max(largest, u.norm());
                QVERIFY(std::abs(largest - 1) < 1e-9);
            }
        }
    }
    /// Frequencies rise, and a finer mesh lowers the lowest one no further than the figure that counts.
    void whatCountsIsOnTheSafeSide() {
        const auto coarse = project_.analysis(recipe(), "natural_frequencies");
        QCOMPARE(coarse->shapes.size(), 3u);
        double last = 0;
        for (const auto& f : coarse->figures) {
            QVERIFY(f.value >= last);
            last = f.value;
        }
        Recipe fine = recipe();
        fine.elementSize = 3;
        Progress progress;
        project::run(project_, fine, Stage::check, progress);
        const double finer = project_.analysis(fine, "natural_frequencies")->find("lowest_frequency")->value;
        const auto* f = coarse->find("lowest_frequency");
        QVERIFY2(finer < f->value * 1.002, qPrintable(QString("%1 %2").arg(finer).arg(f->value)));
        QVERIFY2(finer >= f->counts, qPrintable(QString("%1 %2").arg(finer).arg(f->counts)));
        const auto* b = project_.analysis(recipe(), "buckling")->find("buckling_factor");
        const auto* finerB = project_.analysis(fine, "buckling")->find("buckling_factor", b->loadCase);
        QVERIFY2(finerB->value >= b->counts, qPrintable(QString("%1 %2").arg(finerB->value).arg(b->counts)));
    }
    /// Twice the density: frequencies fall by the root of two. Half the stiffness of the load: none.
    void frequenciesFollowTheMass() {
        const auto& check = *project_.check(recipe());
        Part heavy = project_.part;
        heavy.material.density *= 2;
        Progress progress;
        const AnalysisChoice choice{"natural_frequencies", {{"modes", 1}}};
        const double one = stages::runAnalysis({project_.part, check, recipe().check, choice}, progress)
                               .find("lowest_frequency")
                               ->value;
        const double two =
            stages::runAnalysis({heavy, check, recipe().check, choice}, progress).find("lowest_frequency")->value;
        QVERIFY(near(two * std::sqrt(2.0), one, 1e-6));
    }
    /// Twice the load buckles at half the factor, and is told per load case.
    void bucklingFollowsTheLoad() {
        stages::CheckResult twice = *project_.check(recipe());
        for (auto& c : twice.cases)
            for (Vec3& u : c.displacement) u *= 2;
        Progress progress;
        const auto once = project_.analysis(recipe(), "buckling");
        const auto found = stages::runAnalysis({project_.part, twice, recipe().check, {"buckling"}}, progress);
        QCOMPARE(once->figures.size(), twice.cases.size());
        for (std::size_t c = 0; c < twice.cases.size(); ++c) {
            QCOMPARE(found.figures[c].loadCase, twice.cases[c].name);
            if (std::isfinite(once->figures[c].value))
                QVERIFY(near(2 * found.figures[c].value, once->figures[c].value, 1e-4));
        }
    }
    /// Asking for an analysis leaves every other key as it is; its own follows its numbers and the check.
    void keysFollowWhatIsAsked() {
        Recipe plain = recipe();
        plain.analyses.clear();
        QCOMPARE(project_.keys(plain).check, project_.keys(recipe()).check);
        QCOMPARE(project_.keys(plain).findings, project_.keys(recipe()).findings);
        QVERIFY(project_.missingAnalyses(plain).empty());
        Recipe more = recipe();
        more.analyses[0].numbers["modes"] = 4;
        QVERIFY(project_.analysisKey(more, "natural_frequencies") !=
                project_.analysisKey(recipe(), "natural_frequencies"));
        QCOMPARE(project_.analysisKey(more, "buckling"), project_.analysisKey(recipe(), "buckling"));
        QCOMPARE(project_.missingAnalyses(more).size(), 1u);
        Recipe finer = recipe();
        finer.elementSize = 4.4;
        QVERIFY(!project_.analysis(finer, "buckling"));
        QVERIFY(project_.analysisKey(recipe(), "none such").empty());
    }
    void aRequirementAsksForItsAnalysis() {
        Recipe plain = recipe();
        plain.analyses.clear();
        require("lowest_frequency", 1);
        const auto asked = askedAnalyses(project_.part, plain);
        QCOMPARE(asked.size(), 1u);
        QCOMPARE(asked[0].kind, std::string("natural_frequencies"));
        QCOMPARE(asked[0].number("modes"), 6.0);
        // not worked out with six modes: the requirement is not known, and says why
        project_.variants[0].recipe.analyses.clear();
        const RequirementState s = lastState();
        QVERIFY(s.state == RequirementState::State::unknown);
        QVERIFY(s.note.find("not worked out") != std::string::npos);
        project_.variants[0].recipe.analyses = {{"natural_frequencies", {{"modes", 3}}}, {"buckling"}};
    }
    /// A requirement is held against what counts, not against the value as worked out.
    void requirementsAreHeldAgainstWhatCounts() {
        const auto* f = project_.analysis(recipe(), "natural_frequencies")->find("lowest_frequency");
        QVERIFY(f->counts < f->value);
        require("lowest_frequency", 0.5 * (f->counts + f->value));
        RequirementState s = lastState();
        QVERIFY(s.state == RequirementState::State::notMet);
        QCOMPARE(s.value, f->counts);
        QCOMPARE(s.unit, std::string("Hz"));
        QVERIFY(s.note.find("worked out") != std::string::npos);
        project_.part.requirements.clear();
        require("lowest_frequency", 0.99 * f->counts);
        QVERIFY(lastState().state == RequirementState::State::met);
        project_.part.requirements.clear();
        require("buckling_factor", 1e9);
        s = lastState();
        QVERIFY(s.state == RequirementState::State::notMet);
        QVERIFY(s.note.rfind("in ", 0) == 0);  // which load case
    }
    /// A check of level 'look' proves no figure of an analysis either.
    void aLookProvesNothing() {
        Recipe look = recipe();
        look.check.level = Level::look;
        Progress progress;
        project::run(project_, look, Stage::check, progress);
        std::swap(project_.variants[0].recipe, look);
        require("lowest_frequency", 1);
        const auto state = lastState().state;
        std::swap(project_.variants[0].recipe, look);
        QVERIFY(state == RequirementState::State::metSoFar);
    }
    /// Limits with units, in the part file and back; refused where they are no frequency.
    void limitsHaveUnits() {
        auto part = leverPart();
        auto read = [&](const nlohmann::json& limit) {
            auto own = part;
            own["requirements"] = nlohmann::json::array({{{"kind", "lowest_frequency"}, {"limit", limit}}});
            return parsePart(own.dump(), writeLever(folder().path().toStdString()));
        };
        QVERIFY(near(read(120).requirements.at(0).limit, 120, 1e-12));
        QVERIFY(near(read("120 Hz").requirements.at(0).limit, 120, 1e-12));
        QVERIFY(near(read("0.12 kHz").requirements.at(0).limit, 120, 1e-12));
        QVERIFY(near(read("7200 rpm").requirements.at(0).limit, 120, 1e-12));  // turns a minute
        QVERIFY_EXCEPTION_THROWN(read("120 mm"), InputError);
        const Part p = read("7200 rpm");
        QCOMPARE(words(p.requirements[0]), std::string("lowest natural frequency ≥ 120 Hz"));
        const Part again = parsePart(withRequirements(p, p.requirements), p.path);
        QVERIFY(near(again.requirements.at(0).limit, 120, 1e-9));
        QCOMPARE(again.requirements[0].figure, std::string("lowest_frequency"));
    }
    void wrongNumbersAreRefused() {
        for (const AnalysisChoice& wrong : {AnalysisChoice{"natural_frequencies", {{"modes", 0}}},
                                            AnalysisChoice{"natural_frequencies", {{"modes", 2.5}}},
                                            AnalysisChoice{"natural_frequencies", {{"modes", 1e9}}},
                                            AnalysisChoice{"buckling", {{"mode", 2}}}, AnalysisChoice{"flutter"}}) {
            try {
                stages::requireSound(wrong);
                QFAIL("refused");
            } catch (const InputError& e) {
                QVERIFY(!e.detail().expected.empty() && !e.detail().found.empty());
            }
        }
        stages::requireSound({"natural_frequencies", {{"modes", 40}}});
    }
    /// Saved and opened again: recipe and results; a project of a later version may ask for what this one cannot.
    void theyAreSaved() {
        const std::string file = folder().filePath("analyses.escultura").toStdString();
        store::saveProject(project_, file);
        const project::Project back = store::loadProject(file);
        QVERIFY(back.variants[0].recipe.analyses == recipe().analyses);
        for (const AnalysisKind& kind : analysisKinds()) {
            const auto then = project_.analysis(recipe(), kind.key), now = back.analysis(recipe(), kind.key);
            QVERIFY(now);
            QCOMPARE(now->figures.size(), then->figures.size());
            for (std::size_t f = 0; f < now->figures.size(); ++f) {
                QCOMPARE(now->figures[f].value, then->figures[f].value);
                QCOMPARE(now->figures[f].note, then->figures[f].note);
            }
            QVERIFY(now->shapes.at(0).displacement == then->shapes.at(0).displacement);
        }
        auto text = store::recipeJson(recipe());
        text["analyses"].push_back({{"kind", "of a later version"}, {"numbers", nlohmann::json::object()}});
        QVERIFY(store::recipeFrom(text).analyses == recipe().analyses);
        Recipe plain = recipe();
        plain.analyses.clear();
        QVERIFY(!store::recipeJson(plain).contains("analyses"));
    }
    void summaryComparisonAndReportTellThem() {
        const auto summary = nlohmann::json::parse(summaryJson(project_, project_.variants[0], {}));
        const auto& figures = summary.at("analyses").at("natural_frequencies").at("figures");
        QCOMPARE(figures.size(), 3u);
        const auto* f = project_.analysis(recipe(), "natural_frequencies")->find("lowest_frequency");
        QCOMPARE(figures[0].at("value").get<double>(), f->value);
        QCOMPARE(figures[0].at("counts").get<double>(), f->counts);
        QCOMPARE(figures[0].at("unit").get<std::string>(), std::string("Hz"));
        bool compared = false;
        for (const ComparedFigure& row : compareVariants(project_, project_.variants[0], project_.variants[0]))
            if (row.figure == "lowest natural frequency") {
                compared = true;
                QCOMPARE(row.value, f->counts);
                QCOMPARE(row.difference(), 0.0);
            }
        QVERIFY(compared);
        const std::string html = report::reportHtml(project_, project_.variants[0], {"analysis-buckling"}, nullptr);
        for (const char* words : {"lowest natural frequency", "buckling factor", "pictures/analysis-buckling.png",
                                  "a part with imperfections"})
            QVERIFY2(html.find(words) != std::string::npos, words);
    }
    /// In the view: the shape in colours of how far it moves, swinging about the undeformed part.
    void shapesAreDrawn() {
        const auto check = project_.check(recipe());
        const auto found = project_.analysis(recipe(), "natural_frequencies");
        report::SceneOptions o;
        o.show = report::Show::analysis;
        o.analysis = "natural_frequencies";
        report::SceneInputs inputs;
        inputs.check = check.get();
        inputs.analysis = found.get();
        const auto scene = report::makeScene(project_, recipe(), o, inputs);
        QCOMPARE(QString::fromStdString(scene->caption), QString::fromStdString(found->shapes[0].title));
        QCOMPARE(scene->meshes.size(), 2u);
        QCOMPARE(scene->legend.unit, std::string("%"));
        Box3 box;
        for (const Vec3& p : check->mesh.position) box.include(p);
        o.phase = -1;
        const auto back = report::makeScene(project_, recipe(), o, inputs);
        double largest = 0;
        for (std::size_t v = 0; v < scene->meshes[0].position.size(); ++v) {
            const auto n = static_cast<std::size_t>(scene->meshes[0].source[v]);
            const Vec3 there = scene->meshes[0].position[v], rest = check->mesh.position[n];
            QVERIFY(((there + back->meshes[0].position[v]) / 2 - rest).norm() < 1e-9);
            largest = std::max(largest, (there - rest).norm());
        }
        QVERIFY(largest <= 0.1 * box.diagonal() * (1 + 1e-9) && largest > 0.05 * box.diagonal());
        o.shapeIndex = 99;  // of an analysis with more modes: nothing is drawn, nothing breaks
        QVERIFY(report::makeScene(project_, recipe(), o, inputs)->meshes.empty());
    }
};

QTEST_GUILESS_MAIN(TestAnalyses)
#include "test_analyses.moc"
