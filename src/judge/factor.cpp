#include "judge/factor.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include "base/quantity.hpp"
#include "judge/findings.hpp"

namespace escultura::judge {
namespace {

using assess::HotspotClass;

bool isTested(const Finding& f) {
    return f.evidence.verdict != HotspotClass::untested;
}

/// Highest tested stress of a hotspot and of the further places on its slopes, MPa.
double testedOf(const Finding& f, std::size_t loadCase) {
    double most = f.evidence.counts(loadCase);
    for (const FurtherTest& x : f.further) most = std::max(most, x.evidence.counts(loadCase));
    return most;
}

/// Why a peak at a place has no limit that one mesh could tell.
std::string inWords(const std::string& place) {
    if (place == "near support") return "a peak where a support acts";
    if (place == "near load") return "a peak where a load acts";
    if (place == atMissedWall) return "a peak where the mesh misses the body";
    return "a peak at a sharp edge";
}

/// Most that counts of a hotspot, over the cases that are asked, MPa.
double countsOf(const Finding& f, const std::vector<std::size_t>& cases, const ExcludedNodes* left) {
    double most = 0;
    const std::vector<double>* remaining = nullptr;
    if (left)
        if (const auto at = left->remaining.find(f.id); at != left->remaining.end()) remaining = &at->second;
    for (auto c : cases) {
        double one = 0;
        if (remaining)
            one = c < remaining->size() ? (*remaining)[c] : 0;
        else if (isTested(f))  // what lies on its slopes away from the tests counts as judged
            one = std::max(testedOf(f, c), c < f.beside.size() ? f.beside[c] : 0.0);
        else if (c < f.counts.size())
            one = f.counts[c];
        most = std::max(most, one);
    }
    return most;
}

}  // namespace

Factor factorOf(const Project& project, const Variant& variant, const CheckResult& check, const std::string& loadCase) {
    Factor factor;
    const double strength = elastic::strength(project.partOf(variant.recipe).material);
    std::vector<std::size_t> cases;
    double judged = 0, counts = 0, recovered = 0;
    for (std::size_t c = 0; c < check.cases.size(); ++c) {
        const CaseResult& x = check.cases[c];
        if (!loadCase.empty() && loadCase != x.name) continue;
        cases.push_back(c);
        judged = std::max(judged, x.maxStress);
        counts = std::max(counts, x.maxCounts);
        recovered = std::max(recovered, x.maxRecoveredStress);
    }
    const double unknown = std::numeric_limits<double>::quiet_NaN();
    if (cases.empty()) {
        factor.value = factor.judged = factor.band.low = factor.band.high = unknown;
        return factor;
    }
    factor.judged = assess::safetyFactor(strength, judged);
    factor.band = {assess::safetyFactor(strength, counts), assess::safetyFactor(strength, std::min(recovered, judged))};
    factor.value = factor.band.low;
    factor.resolved = counts <= judged * (1 + 1e-9);
    if (check.level == Level::look) factor.basis = Factor::Basis::look;
    const auto found = project.findings(variant.recipe);
    // findings, tests and dispositions belong to the recipe's own check
    if (!found || project.check(variant.recipe).get() != &check) return factor;

    const auto left = excludedNodes(project, variant);
    if (left) factor.without = left->findings;
    double governs = 0, known = 0;
    for (auto c : cases)
        if (c < found->rest.size()) governs = std::max(governs, found->rest[c]);
    known = governs;
    const std::vector<Finding> list = findingsOf(project, variant.recipe);
    std::vector<std::pair<double, std::string>> untested;
    for (const Finding& f : list) {
        if (f.kind != Finding::Kind::hotspot) continue;
        const double own = countsOf(f, cases, left.get());
        if (!isTested(f)) {
            untested.emplace_back(own, f.id);
        } else if (double sure = 0; f.canGoOn()) {  // the mesh may say more beside the test: that can be tested too
            for (auto c : cases) sure = std::max(sure, testedOf(f, c));
            known = std::max(known, std::min(sure, own));
            if (own > sure) untested.emplace_back(own, f.id);
        } else {
            known = std::max(known, own);
        }
        if (own > governs) {
            governs = own;
            factor.governing = f.id;
        }
    }
    std::stable_sort(untested.begin(), untested.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
    for (const auto& [own, id] : untested)
        if (own > known) {
            factor.toTest.push_back(id);
            const Finding* f = findFinding(list, id);
            if (isTested(*f) || f->place == "free body") continue;
            if (factor.bounded) factor.unboundedBy = inWords(f->place);
            factor.bounded = false;
        }
    factor.value = assess::safetyFactor(strength, governs);
    if (factor.toTest.empty()) factor.resolved = true;
    if (factor.basis == Factor::Basis::look) return factor;
    if (factor.toTest.empty())
        factor.basis = Factor::Basis::tested;
    else if (check.level == Level::converged && check.converged && factor.resolved && factor.bounded)
        factor.basis = Factor::Basis::converged;
    if (factor.proves()) factor.band = {factor.value, factor.value};
    return factor;
}

std::string doubtWords(const Factor& f) {
    std::string words;
    if (!f.bounded)
        words = "at most " + formatNumber(f.band.high, 3) + ", no lower end: " + f.unboundedBy;
    else if (!f.resolved)
        words = "between " + formatNumber(f.band.low, 3) + " and " + formatNumber(f.band.high, 3) + ": not resolved";
    auto add = [&](const std::string& more) { words += (words.empty() ? "" : ", ") + more; };
    if (f.basis == Factor::Basis::look) add("level look");
    if (f.basis == Factor::Basis::untested) add("not tested");
    return words;
}

std::string shortDoubt(const Factor& f) {
    if (!f.bounded) return "at most " + formatNumber(f.band.high, 3) + ", not tested";
    if (!f.resolved) return "to " + formatNumber(f.band.high, 3) + ", not resolved";
    return doubtWords(f);
}

std::string factorWords(const Factor& f) {
    if (std::isnan(f.value)) return "not known";
    const std::string doubt = doubtWords(f);
    return (std::isinf(f.value) ? "none: no stress" : formatNumber(f.value, 3)) + (doubt.empty() ? "" : ", " + doubt);
}

std::vector<std::string> hotspotsToTest(const Project& project, const Variant& variant) {
    const auto check = project.check(variant.recipe);
    if (!check || !project.findings(variant.recipe)) return {};
    std::vector<std::string> loadCases{""}, ids;
    for (const Requirement& r : project.partOf(variant.recipe).requirements)
        if (r.kind == Requirement::Kind::safetyFactor && !r.loadCase.empty()) loadCases.push_back(r.loadCase);
    for (const std::string& name : loadCases)
        for (const std::string& id : factorOf(project, variant, *check, name).toTest)
            if (std::find(ids.begin(), ids.end(), id) == ids.end()) ids.push_back(id);
    return ids;
}

void testWhatGoverns(const Project& project, const Recipe& recipe, Progress& progress) {
    Variant variant;
    variant.recipe = recipe;
    while (true) {
        const std::vector<std::string> open = hotspotsToTest(project, variant);
        if (open.empty()) return;
        // the highest judged peak is expected to stay about as high: what its own doubt lets exceed it goes along
        const std::vector<Finding> list = findingsOf(project, recipe);
        double expected = 0;
        auto mostBeside = [](const Finding& f) {
            return f.beside.empty() ? 0.0 : *std::max_element(f.beside.begin(), f.beside.end());
        };
        for (const std::string& id : open)
            if (const Finding* f = findFinding(list, id))
                expected = std::max(expected, isTested(*f) ? mostBeside(*f) : f->peak);
        std::vector<std::string> batch;
        for (const std::string& id : open) {
            const Finding* f = findFinding(list, id);
            const double upper = !f ? 0 : isTested(*f) ? mostBeside(*f) : f->upper();
            if (batch.empty() || upper >= 0.9 * expected) batch.push_back(id);
        }
        testHotspots(project, recipe, batch, progress);
    }
}

}  // namespace escultura::judge
