/// What is said of figures and of changes, and that a recipe's text holds all of it.
#include <QtTest>
#include <cmath>
#include <limits>
#include <nlohmann/json.hpp>
#include <random>
#include <set>

#include "base/error.hpp"
#include "duty/requirement_text.hpp"
#include "judge/factor.hpp"
#include "made_up_part.hpp"
#include "store/state_text.hpp"

using namespace escultura;
using namespace escultura::duty;
using namespace escultura::judge;
using namespace escultura::store;

namespace {

Part lever() {
    return parsePart(made_up::leverPart().dump(), "lever.json");
}

bool says(const std::string& text, const char* words) {
    if (text.find(words) != std::string::npos) return true;
    qWarning("'%s' does not say '%s'", text.c_str(), words);
    return false;
}

/// A recipe with every number and choice drawn by lot.
Recipe anyRecipe(unsigned seed) {
    std::mt19937 random(seed);
    auto number = [&](double low, double high) { return low + (high - low) * (random() % 10001) / 10000.0; };
    auto choose = [&](int n) { return static_cast<int>(random() % static_cast<unsigned>(n)); };
    auto vector = [&] {
        const double x = number(-50, 50), y = number(-50, 50), z = number(-50, 50);
        return Vec3(x, y, z);
    };
    Recipe r;
    r.threshold = number(0.1, 0.9);
    r.smoothing = number(0, 9);
    r.keepMembers = choose(2);
    if (choose(2)) r.edges.radius = number(0, 5);
    if (choose(2)) r.edges.side[static_cast<std::size_t>(choose(6))] = number(0, 5);
    if (choose(2)) r.thin.smallest = number(0.5, 5);
    r.thin.others = static_cast<MemberFate>(choose(4));
    for (int k = choose(3); k > 0; --k) r.thin.decisions.push_back({vector(), static_cast<MemberFate>(choose(4))});
    r.surfaceSpacing = number(0.5, 4);
    r.elementSize = number(1, 9);
    r.hotspotShare = number(0.01, 0.5);
    r.field.how = static_cast<FieldChoice::How>(choose(static_cast<int>(fieldSources().size())));
    r.field.which = choose(3);
    for (int k = choose(4); k > 0; --k) r.field.weights.push_back(number(0, 1));
    if (r.field.how == FieldChoice::How::made) r.field.made = "a key";
    r.largestPieceOnly = choose(2);
    r.smallestIsland = number(0, 1000);
    r.triangles = static_cast<Triangles>(choose(3));
    r.triangleBudget = 1000 + choose(100000);
    r.draft = {choose(2) == 1, vector().normalized(), number(-9, 9), number(0, 9)};
    r.printing = {vector().normalized(), number(20, 70)};
    for (int k = choose(3); k > 0; --k) {
        Thickening t;
        t.box = choose(2);
        t.low = vector();
        t.high = t.low + Vec3(1, 2, 3);
        t.centre = vector();
        t.radius = number(1, 20);
        t.amount = number(-2, 2);
        t.edge = number(1, 9);
        if (choose(2)) t.painted = {vector(), vector()};
        r.thickenings.push_back(t);
    }
    for (int k = choose(3); k > 0; --k) r.numbers.push_back({"/interfaces/eye/bore_diameter", number(5, 9)});
    r.rebuild.tolerance = number(0, 2);
    r.rebuild.faceSize = number(0, 9);
    r.rebuild.faceCount = choose(900);
    r.rebuild.adapt = choose(2);
    CageStep member;
    member.name = "tie";
    member.on = choose(2);
    member.member = {vector(), vector(), number(1, 9), number(1, 9), number(0, 5)};
    r.rebuild.steps.push_back(member);
    r.check.original = choose(2);
    r.check.rebuilt = choose(2);
    r.check.level = static_cast<Level>(choose(3));
    r.check.convergence = number(0.01, 0.1);
    r.check.passes = 2 + choose(5);
    r.check.elementsThrough = choose(4);
    r.check.aroundCircle = choose(30);
    r.check.chordError = number(0, 1);
    r.check.method = elastic::methodKinds[choose(static_cast<int>(std::size(elastic::methodKinds)))].method;
    r.check.tolerance = std::pow(10, -number(4, 10));
    for (int k = choose(3); k > 0; --k) {
        LocalSize s;
        s.kind = static_cast<LocalSize::Kind>(choose(3));
        s.low = vector();
        s.high = vector();
        s.centre = vector();
        s.radius = number(1, 9);
        s.interface = "eye";
        s.name = "H" + std::to_string(k);
        s.size = number(0.5, 3);
        r.check.localSizes.push_back(s);
    }
    for (const AnalysisKind& kind : analysisKinds())
        if (choose(2)) r.analyses.push_back({kind.key, {{kind.numbers[0].key, 1.0 + choose(9)}}});
    return r;
}

}  // namespace

class TestWords : public QObject {
    Q_OBJECT

  private slots:
    // ---- recipes
    /// Written and read again, and through text, a recipe is the same whatever is in it.
    void recipesSurviveTheirText() {
        for (unsigned seed = 1; seed <= 300; ++seed) {
            const Recipe r = anyRecipe(seed);
            const Recipe back = recipeFrom(nlohmann::json::parse(recipeJson(r).dump()));
            QVERIFY2(back == r, qPrintable(QString::number(seed)));
        }
    }
    /// Whatever differs is listed; nothing is listed of equal ones.
    void everyDifferenceIsListed() {
        const Part part = lever();
        int listed = 0;
        for (unsigned seed = 1; seed <= 60; ++seed) {
            const Recipe a = anyRecipe(seed), b = anyRecipe(seed + 1000);
            QVERIFY(differences(part, a, a).empty());
            const auto list = differences(part, a, b);
            QVERIFY(!list.empty());
            listed += static_cast<int>(list.size());
            for (const Difference& d : list) QVERIFY(!d.what.empty() && d.before != d.after);
        }
        QVERIFY(listed > 60 * 10);
        Recipe a, b;
        b.threshold = 0.4;
        const auto one = differences(part, a, b);
        QCOMPARE(one.size(), std::size_t(1));
        QVERIFY(says(one[0].what, "threshold") && says(one[0].before, "0.5") && says(one[0].after, "0.4"));
        b = a;
        b.numbers = {{"/load_cases/down/factor", 1.5}};
        const auto number = differences(part, a, b);
        QCOMPARE(number.size(), std::size_t(1));
        QVERIFY(says(number[0].what, "down") && says(number[0].after, "1.5"));
    }
    void differencesOfPartFiles() {
        auto before = made_up::leverPart(), after = before;
        QVERIFY(partDifferences(before.dump(), after.dump()).empty());
        after["requirements"][0]["limit"] = 2.5;
        after["name"] = "Other lever";
        after["interfaces"][1]["bore_diameter"] = 9;
        const auto list = partDifferences(before.dump(), after.dump());
        QCOMPARE(list.size(), std::size_t(3));
        bool limit = false;
        for (const Difference& d : list) limit = limit || (d.before == "1.5" && d.after == "2.5");
        QVERIFY(limit);
        after["requirements"].erase(2);
        QVERIFY(partDifferences(before.dump(), after.dump()).size() > 3);
    }

    // ---- requirements
    void requirementsInWords() {
        Requirement r;
        r.limit = 1.5;
        QCOMPARE(words(r), std::string("safety factor ≥ 1.5"));
        r.loadCase = "storm";
        QCOMPARE(subject(r), std::string("safety factor in storm"));
        Requirement moved;
        moved.kind = Requirement::Kind::displacement;
        moved.limit = 0.2;
        moved.interface = "eye";
        moved.direction = Vec3::UnitZ();
        QVERIFY(says(words(moved), "displacement along (0, 0, 1) at eye ≤ 0.2 mm"));
        Requirement whole;
        whole.kind = Requirement::Kind::validGeometry;
        QCOMPARE(words(whole), subject(whole));  // no limit to tell
        for (std::size_t k = 0; k < requirementKinds().size(); ++k) {
            Requirement any;
            any.kind = requirementKinds()[k].kind;
            if (any.kind == Requirement::Kind::figure) any.figure = requirementKinds()[k].key;
            QCOMPARE(indexOf(any), k);
            QCOMPARE(&requirementKind(any), &requirementKinds()[k]);
            QVERIFY(says(words(any), requirementKinds()[k].words));
        }
    }
    void setsToStartFromHoldTogether() {
        std::set<std::string> names;
        for (const RequirementTemplate& t : requirementTemplates()) {
            QVERIFY(names.insert(t.name).second);
            int equilibrium = 0, factors = 0;
            for (const Requirement& r : t.requirements) {
                equilibrium += r.kind == Requirement::Kind::equilibrium;
                factors += r.kind == Requirement::Kind::safetyFactor;
                QVERIFY(says(r.source, "proposal"));
                if (requirementKind(r).hasLimit) QVERIFY(r.limit > 0);
            }
            QCOMPARE(equilibrium, 1);
            QCOMPARE(factors, 1);
        }
        QVERIFY(names.size() >= 4);
    }

    // ---- factors
    void provenFactorsHaveNoDoubt() {
        Factor f;
        f.basis = Factor::Basis::tested;
        f.value = f.judged = 1.613;
        f.band = {1.613, 1.613};
        QCOMPARE(factorWords(f), std::string("1.61"));
        QVERIFY(doubtWords(f).empty() && shortDoubt(f).empty() && f.proves());
        f.basis = Factor::Basis::converged;
        QVERIFY(f.proves() && factorWords(f) == "1.61");
    }
    /// What is not known to be right is beside the number.
    void doubtsStandBesideTheNumber() {
        Factor f;
        f.value = 1.14;
        f.judged = 1.61;
        f.band = {1.14, 2.73};
        f.resolved = false;
        QCOMPARE(factorWords(f), std::string("1.14, between 1.14 and 2.73: not resolved, not tested"));
        QVERIFY(says(shortDoubt(f), "to 2.73"));
        QVERIFY(!f.proves());
        f.bounded = false;
        f.unboundedBy = "a sharp edge";
        QVERIFY(says(factorWords(f), "at most 2.73, no lower end: a sharp edge"));
        QVERIFY(says(shortDoubt(f), "at most 2.73"));
        Factor look;
        look.basis = Factor::Basis::look;
        look.value = look.judged = 3;
        QVERIFY(says(factorWords(look), "level look"));
        Factor untested;
        untested.value = untested.judged = 2;
        QCOMPARE(shortDoubt(untested), std::string("not tested"));
    }
    void factorsThatAreNoNumbers() {
        Factor f;
        f.value = f.judged = std::numeric_limits<double>::quiet_NaN();
        QCOMPARE(factorWords(f), std::string("not known"));
        f.basis = Factor::Basis::tested;
        f.value = f.judged = std::numeric_limits<double>::infinity();
        QCOMPARE(factorWords(f), std::string("none: no stress"));
    }
};

QTEST_GUILESS_MAIN(TestWords)
#include "test_words.moc"
