#include <QTemporaryDir>
#include <QtTest>
#include <cmath>

#include "duty/duty_edit.hpp"
#include "duty/part_numbers.hpp"
#include "duty/requirement_text.hpp"
#include "fixtures.hpp"
#include "judge/comparison.hpp"
#include "judge/factor.hpp"
#include "judge/findings.hpp"
#include "judge/proposals.hpp"
#include "judge/releases.hpp"
#include "judge/requirements.hpp"
#include "project/run.hpp"
#include "store/state_text.hpp"
#include "store/storage.hpp"

using namespace escultura;
using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using namespace escultura::store;
using namespace escultura::judge;
using made_up::folder;
using made_up::messageOf;
using made_up::near;

namespace {

/// The lever, checked; tests share its results, each works on a copy.
Project lever() {
    static const Project shared = made_up::openLever(Stage::findings, [](Recipe& r) { r.elementSize = 3; });
    return shared;
}

Project withRequirements(const std::string& list) {
    Project p = lever();
    auto text = nlohmann::json::parse(p.part.text);
    text["requirements"] = nlohmann::json::parse(list);
    p.part = parsePart(text.dump(), p.part.path);
    return p;
}

RequirementState stateOf(const Project& p, std::size_t index) {
    return requirementStates(p, p.current(), nullptr, nullptr).at(index);
}

void runAll(const Project& p, const Recipe& recipe) {
    Progress progress;
    run(p, recipe, Stage::findings, progress);
}

const Finding& hotspot(const std::vector<Finding>& findings, assess::HotspotClass c) {
    for (const Finding& f : findings)
        if (f.evidence.verdict == c) return f;
    for (const Finding& f : findings)
        qWarning("%s %s: %s", f.id.c_str(), classOf(f).c_str(), f.evidence.reason.c_str());
    qFatal("no hotspot of that class");
    return findings.front();
}

}  // namespace

/// Findings, dispositions, requirements, proposals and comparison of a project.
class TestFindings : public QObject {
    Q_OBJECT
  private slots:
    /// A variant's own numbers reach the model: stress is proportional to the load, the factor to the strength.
    void numbersOfAVariant() {
        const Project p = lever();
        const auto all = partNumbers(p.part);
        auto find = [&](const std::string& label) {
            for (const PartNumberInfo& n : all)
                if (n.label == label) return n;
            return PartNumberInfo{};
        };
        QCOMPARE(find("pivot: bore diameter").value, 8.0);
        QCOMPARE(find("down: load factor").value, 1.0);
        QCOMPARE(find("material: Young's modulus").value, 210000.0);  // given as a text with a unit
        QCOMPARE(find("material: Young's modulus").unit, std::string("MPa"));
        Recipe doubled = p.current().recipe;
        setNumber(doubled.numbers, find("pull: load factor").place, 2);
        setNumber(doubled.numbers, find("material: yield strength").place, 500);
        runAll(p, doubled);
        const auto before = p.check(p.current().recipe), after = p.check(doubled);
        QVERIFY(near(after->cases[1].maxVonMises, 2 * before->cases[1].maxVonMises, 1e-6));
        QVERIFY(near(after->cases[0].maxVonMises, before->cases[0].maxVonMises, 1e-6));
        QVERIFY(near(after->cases[1].minSafetyFactor, before->cases[1].minSafetyFactor, 1e-6));
        QVERIFY(p.surface(doubled) == p.surface(p.current().recipe));  // the geometry is the same
        Recipe wider = p.current().recipe;
        setNumber(wider.numbers, find("eye: bore diameter").place, 9);
        runAll(p, wider);
        for (const BoreFigure& b : p.surface(wider)->bores)
            QVERIFY(std::abs(b.measured - (b.interface == "eye" ? 9 : 8)) < 0.01);
        wider.numbers.push_back({"/interfaces/7/length", 3});
        QVERIFY(p.partOf(wider).numberProblem.find("/interfaces/7/length") != std::string::npos);
        Progress progress;
        QVERIFY(messageOf([&] { run(p, wider, Stage::surface, progress); }).find("/interfaces/7/length") !=
                std::string::npos);
        // kept with the project
        doubled.keepMembers = true;
        QVERIFY(recipeFrom(recipeJson(doubled)) == doubled);
    }
    /// The surface moves out by the amount inside the region and stays as it was elsewhere.
    void thickenedSurface() {
        const Project p = lever();
        Recipe r = p.current().recipe;
        Thickening t;
        t.centre = Vec3(40, 15, 7.5);
        t.radius = 12;
        t.edge = 4;
        t.amount = 1;
        r.thickenings = {t};
        runAll(p, r);
        const auto plain = p.surface(p.current().recipe), thick = p.surface(r);
        QVERIFY(thick->measures.watertight);
        const surface::TriangleTree tree(plain->mesh);
        double inside = 0, outside = 0;
        int count = 0;
        for (std::size_t f = 0; f < thick->mesh.triangle.size(); ++f)
            for (auto v : thick->mesh.triangle[f]) {
                const Vec3& q = thick->mesh.position[v];
                const double d = (q - t.centre).norm(), moved = tree.distance(q);
                // sides of the design space stay where they are
                if (thick->mesh.owner[f] == 0 && d < 9 && q[2] > 2.5 && q[2] < 12.5) inside += moved, ++count;
                // and triangles may meet their edges elsewhere
                if (d > t.radius + t.edge + 1 && q[2] > 1 && q[2] < 14) outside = std::max(outside, moved);
            }
        QVERIFY(count > 50);
        QVERIFY2(near(inside / count, 1.0, 0.15), qPrintable(QString::number(inside / count)));
        QVERIFY2(outside < 0.15, qPrintable(QString::number(outside)));
        QVERIFY(near(thick->draftVolume, thick->measures.volume - plain->measures.volume, 0.05));
        r.thickenings[0].radius = -1;
        QVERIFY(messageOf([&] { runAll(p, r); }).find("thickening 1") != std::string::npos);
    }
    /// The rim of the clamped bore is a boundary artefact; its zone counts until somebody accepts it.
    void testsClassAndExclude() {
        // clamped over the end of a ring: its rim is an edge of the boundary condition
        Project p = lever();
        auto text = nlohmann::json::parse(p.part.text);
        text["supports"][0]["face"] = "start";
        p.part = parsePart(text.dump(), p.part.path);
        runAll(p, p.current().recipe);
        Progress progress;
        QVERIFY(messageOf([&] { testHotspots(p, p.current().recipe, {"H99"}, progress); }).find("H99") !=
                std::string::npos);
        auto findings = findingsOf(p, p.current().recipe);
        for (const Finding& f : findings)
            if (f.kind == Finding::Kind::hotspot) QVERIFY(classOf(f).rfind("not tested", 0) == 0);
        testHotspots(p, p.current().recipe, {}, progress);
        findings = findingsOf(p, p.current().recipe);
        for (const Finding& f : findings) {
            if (f.kind != Finding::Kind::hotspot) continue;
            QVERIFY(f.evidence.verdict != assess::HotspotClass::untested);
            QVERIFY(f.evidence.peak.size() >= 3 && f.evidence.size[2] < 0.6 * f.evidence.size[0]);
            QVERIFY(f.evidence.elements[2] > f.evidence.elements[0]);
            QVERIFY(!f.evidence.reason.empty());
        }
        const Finding& rim = hotspot(findings, assess::HotspotClass::artefact);
        QCOMPARE(rim.nearestInterface, std::string("pivot"));
        const double all = stateOf(p, 0).value;
        QVERIFY(!excludedNodes(p, p.current()));
        const auto offers = proposalsFor(p, p.current(), rim);
        QVERIFY(!offers.empty() && offers[0].kind == Proposal::Kind::exclude);
        sign(p.variants[0], signedDisposition(p, p.current().recipe, rim, "accept", "rim of the clamped bore",
                                              "A. Tester", "2026-01-01"));
        const auto left = excludedNodes(p, p.current());
        QVERIFY(left && left->findings == std::vector<std::string>{rim.id});
        QVERIFY(left->excluded[rim.node]);
        const RequirementState s = stateOf(p, 0);
        QVERIFY2(s.value >= all && s.note.find(rim.id) != std::string::npos, s.note.c_str());
        // 'follow up' excludes nothing
        p.variants[0].dispositions[0].decision = "follow up";
        QVERIFY(!excludedNodes(p, p.current()));
        // a second run has nothing to do, and the project file keeps the evidence
        const auto again = p.results->all<HotspotTests>().begin()->second;
        testHotspots(p, p.current().recipe, {}, progress);
        QCOMPARE(p.results->all<HotspotTests>().begin()->second.get(), again.get());
        const std::string file = folder().filePath("tests.escultura").toStdString();
        saveProject(p, file);
        const Project loaded = loadProject(file);
        const auto kept = findingsOf(loaded, loaded.current().recipe);
        QCOMPARE(kept.size(), findings.size());
        QCOMPARE(findFinding(kept, rim.id)->evidence.peak, rim.evidence.peak);
        QVERIFY(dispositionState(loaded, loaded.current(), *findFinding(kept, rim.id)).holds);
    }
    /// A decision holds for another recipe while the place is as it was, and no longer when it is not.
    void dispositionsFollowTheGeometry() {
        Project p = lever();
        const auto findings = findingsOf(p, p.current().recipe);
        for (const Finding& f : findings)
            sign(p.variants[0],
                 signedDisposition(p, p.current().recipe, f, "accept", "made up", "A. Tester", "2026-01-01"));
        // only the sensitivity: the same hotspots with the same stresses
        Recipe r = p.current().recipe;
        r.hotspotShare = 0.11;
        runAll(p, r);
        Variant& same = addVariant(p, 0);
        same.recipe = r;
        for (const Finding& f : findingsOf(p, r)) QVERIFY2(dispositionState(p, same, f).holds, f.id.c_str());
        // material around the highest one
        Recipe changed = p.variants[0].recipe;
        Thickening t;
        t.centre = findings[0].position;
        t.radius = 8;
        t.amount = 0.8;
        changed.thickenings = {t};
        setNumber(changed.numbers, "/interfaces/pivot/ring_diameter", 25);
        setNumber(changed.numbers, "/interfaces/eye/ring_diameter", 25);
        runAll(p, changed);
        Variant& other = addVariant(p, 0);
        other.recipe = changed;
        int holding = 0, stale = 0;
        for (const Finding& f : findingsOf(p, changed)) {
            const DispositionState s = dispositionState(p, other, f);
            holding += s.holds;
            stale += s.disposition && !s.holds;
        }
        QCOMPARE(holding, 0);
        Q_UNUSED(stale);
        QVERIFY(!releaseBlockers(p, other).empty());
    }
    void printsTellPlacesApart() {
        const Project p = lever();
        const auto check = p.check(p.current().recipe);
        const Vec3 at(65, 26, 7.5), beside(60, 25, 7.5);
        const LocalPrint a = localPrint(check->mesh, at, 9), b = localPrint(check->mesh, beside, 9);
        QVERIFY(isSamePrint(a, a, 9));
        QVERIFY(!isSamePrint(a, b, 9));
        QVERIFY(a[5] > 0.5);  // the ring's outside looks along y there
        QVERIFY(localPrint(check->mesh, Vec3(500, 0, 0), 9)[0] == 0);
    }
    void requirementsOfAllKinds() {
        Project p = withRequirements(R"([
            {"kind": "safety_factor", "limit": 1.5, "load_case": "pull"},
            {"kind": "displacement", "limit": "2 mm", "interface": "eye", "direction": [0, 1, 0], "load_case": "down"},
            {"kind": "displacement", "limit": 0.001, "interface": "pivot"},
            {"kind": "reaction", "limit": "1.9 kN", "interface": "pivot"},
            {"kind": "deviation", "limit": 20},
            {"kind": "draft", "limit": 50},
            {"kind": "overhang", "limit": 0.001},
            {"kind": "convergence", "limit": 3},
            {"kind": "equilibrium", "limit": 1e-6},
            {"kind": "valid_geometry"},
            {"kind": "findings_disposed"}
        ])");
        runAll(p, p.current().recipe);  // draft and overhangs are measured because they are asked for
        const auto check = p.check(p.current().recipe);
        using State = RequirementState::State;
        // untested it counts with all that the mesh's own doubt allows, and is not met
        QVERIFY(near(stateOf(p, 0).value, assess::safetyFactor(250, check->cases[1].maxCounts), 1e-9));
        QVERIFY(stateOf(p, 0).state == State::metSoFar || stateOf(p, 0).state == State::notMet);
        QCOMPARE(stateOf(p, 0).name, std::string("safety factor in pull"));
        // the eye moves down by nearly the largest displacement of the case
        QVERIFY(stateOf(p, 1).value > 0.6 * check->cases[0].maxDisplacement &&
                stateOf(p, 1).value <= check->cases[0].maxDisplacement * (1 + 1e-9));
        QVERIFY(stateOf(p, 2).value < check->cases[0].maxDisplacement);
        // reaction of the one support: the pull of 2000 N
        QVERIFY(near(stateOf(p, 3).value, 2000, 1e-6));
        QVERIFY(stateOf(p, 3).state == State::notMet);
        QVERIFY(near(stateOf(p, 4).value, p.surface(p.current().recipe)->deviationMax, 1e-12));
        QVERIFY(p.process(p.current().recipe) != nullptr);
        QVERIFY(stateOf(p, 5).value >= 0 && stateOf(p, 5).value <= 100);
        QVERIFY(stateOf(p, 6).value >= 0 && stateOf(p, 6).value <= 100);
        QVERIFY(stateOf(p, 7).state == State::unknown && stateOf(p, 7).note.find("converged") != std::string::npos);
        QVERIFY(stateOf(p, 8).state == State::met && stateOf(p, 8).value <= 1e-6);
        QVERIFY(stateOf(p, 9).state == State::met);
        QVERIFY(stateOf(p, 10).state == State::notMet);
        QCOMPARE(stateOf(p, 10).value, static_cast<double>(findingsOf(p, p.current().recipe).size()));
        const auto blockers = releaseBlockers(p, p.current());
        auto blocked = [&](const std::string& words) {
            return std::any_of(blockers.begin(), blockers.end(),
                               [&](const Blocker& b) { return b.text.find(words) != std::string::npos; });
        };
        QVERIFY(blocked("reaction at pivot at most 1900 N"));
        QVERIFY(blocked("not yet known: change of the last refinement"));
        for (const Blocker& b : blockers)
            if (b.text.find("disposition") != std::string::npos) QVERIFY(!b.finding.empty());
    }
    void requirementTexts() {
        const Project p = lever();
        Requirement r;
        r.kind = Requirement::Kind::displacement;
        r.limit = 0.25;
        r.interface = "eye";
        r.loadCase = "down";
        r.direction = Vec3::UnitZ();
        r.source = "clause 4";
        QCOMPARE(words(r), std::string("displacement along (0, 0, 1) at eye in down ≤ 0.25 mm"));
        const Part q = parsePart(duty::withRequirements(p.part, {r}), p.part.path);
        QVERIFY(q.requirements == std::vector<Requirement>{r});
        for (const RequirementTemplate& t : requirementTemplates()) {
            const Part again = parsePart(duty::withRequirements(p.part, t.requirements), p.part.path);
            QVERIFY2(again.requirements == t.requirements, t.name.c_str());
        }
        auto refused = [&](const char* requirement, const char* mentions) {
            const std::string m = messageOf([&] { ::withRequirements(std::string("[") + requirement + "]"); });
            QVERIFY2(m.find(mentions) != std::string::npos, m.c_str());
        };
        refused(R"({"kind": "strength", "limit": 1})", "safety_factor");
        refused(R"({"kind": "displacement", "limit": 1, "interface": "nose"})", "'nose'");
        refused(R"({"kind": "reaction", "limit": 1, "load_case": "storm"})", "'storm'");
        refused(R"({"kind": "mass"})", "requirements[0].limit");
        refused(R"({"kind": "mass", "limit": 1, "direction": [0, 0, 1]})", "direction");
    }
    /// A proposal becomes a variant; what it did is measured and told beside what was expected.
    void proposalsAreMeasured() {
        Project p = lever();
        const auto findings = findingsOf(p, p.current().recipe);
        const auto offers = proposalsFor(p, p.current(), findings[0], 0.7);
        auto offer = [&](Proposal::Kind kind) {
            for (const Proposal& x : offers)
                if (x.kind == kind) return x;
            qFatal("not offered");
            return offers.front();
        };
        const Proposal thicken = offer(Proposal::Kind::thicken);
        QVERIFY(thicken.text.find("0.7 mm") != std::string::npos);
        QVERIFY(thicken.low > thicken.before && thicken.high > thicken.low && thicken.mass > 0);
        for (const Proposal& x : offers) QVERIFY(x.kind != Proposal::Kind::threshold);  // 0.45 keeps the same cells
        QVERIFY(offer(Proposal::Kind::refine).recipe.check.localSizes.size() == 1);
        Variant& v = applyProposal(p, 0, thicken);
        QCOMPARE(p.variants.size(), std::size_t(2));
        QVERIFY(!measuredEffect(p, v)->after);
        QVERIFY(!measuredEffect(p, p.variants[0]));
        runAll(p, v.recipe);
        const auto effect = measuredEffect(p, v);
        QVERIFY(effect->after && effect->mass);
        const double grown = p.surface(v.recipe)->mass - p.surface(p.variants[0].recipe)->mass;
        // sides of the design space do not grow: never more than expected
        QVERIFY2(grown < thicken.mass && grown > 0.5 * thicken.mass, qPrintable(QString::number(grown)));
        QVERIFY(near(*effect->mass, grown, 0.1));
        // kept with the project
        const std::string file = folder().filePath("proposal.escultura").toStdString();
        saveProject(p, file);
        QVERIFY(loadProject(file).variants[1].origin == v.origin);
    }
    void comparisonOfVariants() {
        Project p = lever();
        Variant& v = addVariant(p, 0);
        setNumber(v.recipe.numbers, "/load_cases/pull/factor", 1.5);
        runAll(p, v.recipe);
        const auto rows = compareVariants(p, p.variants[0], v);
        auto row = [&](const std::string& loadCase, const std::string& figure) {
            for (const ComparedFigure& c : rows)
                if (c.loadCase == loadCase && c.figure == figure) return c;
            return ComparedFigure{};
        };
        QVERIFY(near(row("pull", "peak stress").share(), 0.5, 1e-5));
        QVERIFY(std::abs(row("down", "peak stress").share()) < 1e-6);
        QCOMPARE(row("", "mass").difference(), 0.0);
        QVERIFY(near(row("pull", "safety factor").value, row("pull", "safety factor").baseline / 1.5, 1e-6));
        const auto lines = differences(p.part, p.variants[0].recipe, v.recipe);
        QCOMPARE(lines.size(), std::size_t(1));
        QCOMPARE(lines[0].what, std::string("pull: load factor"));
        QCOMPARE(lines[0].before + " " + lines[0].after, std::string("1 1.5"));
        // on the very same surface the sampled field is the field itself
        Progress progress;
        const auto check = p.check(v.recipe);
        const auto sampled = sampledOn(check->mesh, check->mesh, check->envelope.stress, 1, progress);
        std::size_t known = 0;
        for (const auto& f : check->mesh.boundary)
            for (auto n : f) {
                QVERIFY(std::abs(sampled[n] - check->envelope.stress[n]) < 1e-6 * check->envelope.maxStress);
                ++known;
            }
        QVERIFY(known > 1000);
        std::vector<VariantFigures> some(4);
        const double mass[] = {1, 2, 3, 2.5}, factor[] = {1, 2, 2, std::nan("")};
        for (int i = 0; i < 4; ++i) some[i].mass = mass[i], some[i].safetyFactor = factor[i];
        markFront(some);
        QVERIFY(some[0].onFront && some[1].onFront && !some[2].onFront && !some[3].onFront);
    }
    void variantsOnTheShelf() {
        Project p = lever();
        addVariant(p, 0);
        addVariant(p, 1);
        const std::string names = p.variants[0].name + p.variants[1].name + p.variants[2].name;
        QCOMPARE(names, std::string("ABC"));
        p.baseline = 0;
        moveVariant(p, 2, -2);
        QCOMPARE(p.variants[0].name, std::string("C"));
        QCOMPARE(p.variants[p.baseline].name, std::string("A"));
        QCOMPARE(p.current().name, std::string("C"));
        moveVariant(p, 0, 9);
        QCOMPARE(p.variants[2].name, std::string("C"));
        Variant& original = addOriginal(p);
        QVERIFY(original.recipe.check.original && p.variants[p.baseline].name == "Original");
    }
    /// A release stays as it was signed; what changes afterwards is told.
    void releasesNeverChange() {
        Project p = lever();
        QVERIFY(messageOf([&] {
                    addRelease(p, p.current(), {"A. Tester", "", "2026-01-01", ""});
                }).find("nothing in the way") != std::string::npos);
        Progress progress;
        testWhatGoverns(p, p.current().recipe, progress);
        for (const Finding& f : findingsOf(p, p.current().recipe))
            sign(p.variants[0],
                 signedDisposition(p, p.current().recipe, f, "accept", "made up", "A. Tester", "2026-01-01"));
        QVERIFY(messageOf([&] {
                    addRelease(p, p.current(), {"", "", "2026-01-01", ""});
                }).find("who signs") != std::string::npos);
        const Release first = addRelease(p, p.current(), {"A. Tester", "engineer", "2026-01-01", "first"});
        QCOMPARE(first.number, 1);
        QVERIFY(changesSince(p, first, p.current()).empty());
        Variant changed = p.variants[0];
        changed.recipe.threshold = 0.47;
        auto changes = changesSince(p, first, changed);
        QCOMPARE(changes.size(), std::size_t(1));
        QCOMPARE(changes[0].what + ": " + changes[0].before + " to " + changes[0].after,
                 std::string("threshold: 0.5 to 0.47"));
        auto text = nlohmann::json::parse(p.part.text);
        text["load_cases"][0]["factor"] = 1.1;
        p.part = parsePart(text.dump(), p.part.path);
        changes = changesSince(p, first, p.current());
        QCOMPARE(changes.size(), std::size_t(1));
        QVERIFY(changes[0].what.find("factor") != std::string::npos);
        p = lever();
        for (const Finding& f : findingsOf(p, p.current().recipe))
            sign(p.variants[0],
                 signedDisposition(p, p.current().recipe, f, "accept", "made up", "A. Tester", "2026-01-01"));
        p.releases.push_back(first);
        QCOMPARE(addRelease(p, p.current(), {"B. Tester", "", "2026-01-02", ""}).number, 2);
        QCOMPARE(lastRelease(p, p.current())->number, 2);
        QVERIFY(p.releases[0] == first);
        const std::string file = folder().filePath("release.escultura").toStdString();
        saveProject(p, file);
        QVERIFY(loadProject(file).releases == p.releases);
    }
};

QTEST_GUILESS_MAIN(TestFindings)
#include "test_findings.moc"
