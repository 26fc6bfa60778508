#include <QGuiApplication>
#include <ctime>

#include "base/quantity.hpp"
#include "base/signature.hpp"
#include "commands.hpp"
#include "duty/strict_json.hpp"
#include "judge/factor.hpp"
#include "judge/findings.hpp"
#include "judge/proposals.hpp"
#include "judge/releases.hpp"
#include "judge/requirements.hpp"
#include "project/run.hpp"
#include "report/report.hpp"
#include "store/journal.hpp"
#include "store/storage.hpp"

namespace escultura::cli {

using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using namespace escultura::store;
using namespace escultura::judge;

namespace {

/// Safety factor of a hotspot on the finest mesh that it was looked at with.
double finestFactor(const Finding& f) {
    return f.evidence.peak.empty() ? f.safetyFactor : f.safetyFactor * f.peak / f.evidence.peak.back();
}

/// The hotspot that counts and is worst; null: none.
const Finding* worstToFix(const std::vector<Finding>& findings) {
    const Finding* worst = nullptr;
    for (const Finding& f : findings) {
        const auto verdict = f.evidence.verdict;
        if (f.kind != Finding::Kind::hotspot || verdict == assess::HotspotClass::artefact ||
            verdict == assess::HotspotClass::singular)
            continue;
        if (!worst || finestFactor(f) < finestFactor(*worst)) worst = &f;
    }
    return worst;
}

std::string today() {
    const std::time_t now = std::time(nullptr);
    char text[16];
    std::strftime(text, sizeof text, "%Y-%m-%d", std::localtime(&now));
    return text;
}

std::string num(double v) {
    return formatNumber(v, 3);
}

/// The steps of the story on one project.
class Story {
  public:
    Story(const StoryOptions& options, Progress& progress)
        : o_(options), progress_(progress), start_(std::chrono::steady_clock::now()) {
        if (o_.date.empty()) o_.date = today();
        project = openPart(o_.part, progress);
        makeMissingFields(project, progress);
        note("Opened " + project.part.name);
        if (o_.threshold) project.variants[0].recipe.threshold = *o_.threshold;
    }
    Project project;
    std::vector<Timing> timings;
    Variant& open() { return project.variants[project.open]; }
    const std::string& date() const { return o_.date; }

    void tell(const std::string& line) const {
        const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start_).count();
        if (!o_.quiet) std::printf("%6.1f s  %s\n", seconds, line.c_str());
        std::fflush(stdout);
    }
    void note(const std::string& text) { record(project, text, o_.name, o_.date); }

    void checkBaseline() {
        addOriginal(project);
        run(project, open().recipe, Stage::findings, progress_);
        tell("baseline: safety factor " + num(project.check(open().recipe)->minSafetyFactor));
        note("Original checked");
        project.open = 0;
    }
    /// Runs and tests the open variant and signs its findings. @return requirements that are not met
    std::vector<RequirementState> checkVariant() {
        Variant& v = open();
        timings = run(project, v.recipe, Stage::findings, progress_);
        testHotspots(project, v.recipe, {}, progress_);
        testWhatGoverns(project, v.recipe, progress_);  // and further places on their slopes
        note("Variant " + v.name + " checked and its hotspots tested");
        std::map<std::string, int> classes;
        for (const Finding& f : findingsOf(project, v.recipe)) {
            ++classes[classOf(f)];
            sign(v, signedDisposition(project, v.recipe, f, "accept", o_.reason + " (" + classOf(f) + ")", o_.name,
                                      o_.date));
        }
        std::string words;
        for (const auto& [c, n] : classes) words += (words.empty() ? "" : ", ") + std::to_string(n) + " " + c;
        tell("variant " + v.name + ": mass " + num(project.surface(v.recipe)->mass) + " kg, safety factor " +
             num(project.check(v.recipe)->minSafetyFactor) + "; " + words);
        std::vector<RequirementState> open;
        for (const RequirementState& s : requirementStates(project, v, nullptr, nullptr))
            if (s.state != RequirementState::State::met) open.push_back(s);
        for (const auto& s : open) tell("  not met: " + s.name + ", " + num(s.value) + " against " + num(s.limit));
        if (const auto effect = measuredEffect(project, v); effect && effect->after)
            tell("  measured: safety factor there " + num(effect->before) + " to " + num(*effect->after) +
                 ", expected " + num(effect->low) + " to " + num(effect->high));
        return open;
    }
    /// Applies the proposal that promises most for the first of these requirements.
    void fix(const std::vector<RequirementState>& unmet) {
        const auto findings = findingsOf(project, open().recipe);
        const Finding* target = nullptr;
        for (const RequirementState& s : unmet) {
            if (target) break;
            if (s.kind == Requirement::Kind::safetyFactor || s.kind == Requirement::Kind::displacement)
                target = worstToFix(findings);
            if (s.kind == Requirement::Kind::minimumWall)
                for (const Finding& f : findings)
                    if (f.kind == Finding::Kind::thinWall) target = &f;
        }
        std::vector<Proposal> proposals;
        if (target) proposals = proposalsFor(project, open(), *target);
        std::erase_if(proposals, [](const Proposal& p) {
            return p.kind == Proposal::Kind::exclude || p.kind == Proposal::Kind::refine;
        });
        if (proposals.empty()) throw InputError("No proposal helps with: " + unmet.front().name + ".");
        const Proposal chosen = *std::max_element(proposals.begin(), proposals.end(), [](const auto& a, const auto& b) {
            return a.low < b.low || (a.low == b.low && a.mass > b.mass);
        });
        tell("  applied: " + chosen.text);
        applyProposal(project, project.open, chosen);
        note("Applied: " + chosen.text);
    }

  private:
    StoryOptions o_;
    Progress& progress_;
    std::chrono::steady_clock::time_point start_;
};

}  // namespace

int tellStory(const StoryOptions& o, int argc, char** argv) {
    report::requireReleaseTarget(o.out, false);
    const std::string key = o.key.empty() ? std::string() : readWholeText(o.key, "The key cannot be opened.");
    if (!key.empty()) openKeyOf(key);  // refuses what is no key before the work
    Reporter reporter(o.quiet, false);
    Progress progress([&](const std::string& name, double share) { reporter.step(name, share); });
    Story story(o, progress);
    story.checkBaseline();
    for (int fix = 0;; ++fix) {
        const auto unmet = story.checkVariant();
        if (unmet.empty()) break;
        if (fix >= o.fixes)
            throw InputError("The requirements are not met after " + std::to_string(fix) +
                             " fixes: " + unmet.front().name + ".");
        story.fix(unmet);
    }
    Variant& v = story.open();
    const Release release = addRelease(story.project, v, {o.name, o.role, story.date(), ""});
    story.note("Release " + std::to_string(release.number) + " signed");
    qputenv("QT_QPA_PLATFORM", "offscreen");
    const QGuiApplication application(argc, argv);
    render::Renderer renderer;
    report::writeRelease(story.project, v, story.timings, renderer, o.out, progress, &release, false, key);
    if (!o.save.empty()) saveProject(story.project, o.save);
    story.tell("released: variant " + v.name + " as release " + std::to_string(release.number) + ", written to " +
               o.out);
    return 0;
}

int makeKey(const std::string& path) {
    const std::string open = writeNewKey(path);
    std::printf("secret key: %s\npublic key: %s.pub, fingerprint %s\n", path.c_str(), path.c_str(),
                fingerprintOf(open).c_str());
    return 0;
}

int verifyFolder(const std::string& folder, bool rerun, const std::string& key) {
    Progress progress;
    int failed = 0;
    const auto items = report::verifyRelease(
        folder, rerun, progress, key.empty() ? std::string() : readWholeText(key, "The key cannot be opened."));
    for (const auto& i : items) {
        failed += !i.holds;
        if (!i.holds || i.what.find(", contents") != std::string::npos ||
            (i.what.find('.') == std::string::npos && i.what.find('/') == std::string::npos))
            std::printf("%s  %s: stated %s, found %s\n", i.holds ? "holds " : "DIFFERS", i.what.c_str(),
                        i.expected.c_str(), i.found.c_str());
    }
    std::printf("%zu items, %d differ\n", items.size(), failed);
    return failed ? exitInput : 0;
}

}  // namespace escultura::cli
