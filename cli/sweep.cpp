#include "base/error.hpp"
#include "commands.hpp"
#include "judge/study.hpp"
#include "project/run.hpp"
#include "store/storage.hpp"

namespace escultura::cli {

using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using namespace escultura::store;
using namespace escultura::judge;

int runSweep(const SweepOptions& o) {
    Reporter reporter(o.quiet, false);
    Progress progress([&](const std::string& name, double share) { reporter.step(name, share); });
    Project project = openPart(o.part, progress);
    makeMissingFields(project, progress);
    std::vector<std::string> places;
    std::vector<std::pair<std::size_t, std::pair<double, double>>> ranges;
    for (const std::string& v : o.vary) {
        const auto equals = v.find('=');
        places.push_back(v.substr(0, equals));
        if (equals == std::string::npos) continue;
        double low = 0, high = 0;
        if (std::sscanf(v.c_str() + equals + 1, "%lf:%lf", &low, &high) != 2 || !(low < high))
            throw InputError(ErrorDetail{"An option cannot be used.", {}, "--vary", "NUMBER=LOW:HIGH", v});
        ranges.push_back({places.size() - 1, {low, high}});
    }
    const auto kind = o.kind == "range"    ? Study::Kind::range
                      : o.kind == "search" ? Study::Kind::search
                                           : Study::Kind::local;
    Study s = newStudy(project, project.current(), kind, places);
    for (const auto& [axis, range] : ranges) s.axes[axis].low = range.first, s.axes[axis].high = range.second;
    if (o.evaluations > 0) s.evaluations = o.evaluations;
    s.standard = o.level == "standard";
    runStudy(project, s, progress, {});
    using nlohmann::json;
    json j = {{"kind", name(s.kind)}, {"parameters", json::array()}, {"evaluations", json::array()}};
    for (const auto& a : s.axes)
        j["parameters"].push_back(
            {{"place", a.place}, {"label", a.label}, {"unit", a.unit}, {"start", a.start}, {"range", {a.low, a.high}}});
    for (const Evaluation& e : s.done)
        j["evaluations"].push_back({{"values", e.values},
                                    {"figures", e.figures},
                                    {"meets_all", e.meetsAll},
                                    {"problem", e.problem},
                                    {"seconds", e.seconds}});
    if (s.kind == Study::Kind::local)
        for (const char* figure : {"safety factor", "mass", "displacement"}) {
            json list = json::array();
            for (const Effect& e : rankedEffects(s, figure))
                list.push_back({{"parameter", s.axes[e.axis].label}, {"step", e.step}, {"change", e.change}});
            j["effects"][figure] = list;
        }
    if (s.kind == Study::Kind::search) j["best"] = s.best >= 0 ? json(s.best) : json(nullptr);
    if (!o.save.empty()) {
        project.studies.push_back(s);
        if (s.best >= 0 && s.kind == Study::Kind::search) {
            const Recipe winner = recipeOf(project, s, s.done[static_cast<std::size_t>(s.best)]);
            addVariant(project, project.open).recipe = winner;
        }
        saveProject(project, o.save);
    }
    std::printf("%s\n", j.dump(2).c_str());
    return 0;
}

}  // namespace escultura::cli
