#include "hostile_bench.hpp"

#include <chrono>
#include <cstdio>
#include <fstream>
#include <map>
#include <nlohmann/json.hpp>

#include "hostile.hpp"

namespace escultura::bench {

using namespace hostile;
using nlohmann::json;

int benchHostile(double share, const std::string& folder) {
    prepare(folder);
    const std::string stateFile = folder + "/state.json";
    json state = json::object();
    if (std::ifstream in(stateFile); in) state = json::parse(in, nullptr, false);
    if (!state.is_object()) state = json::object();
    auto keep = [&] { std::ofstream(stateFile) << state.dump(1); };
    const int counts[] = {10000, 10000, 2000, 1000, 1000};
    int bad = 0;
    std::printf("| damaged | tries | refused | accepted | not well | slowest, s | largest, MB |\n");
    std::printf("| --- | --- | --- | --- | --- | --- | --- |\n");
    for (const Kind k : kinds) {
        json& s = state[name(k)];
        if (!s.is_object())
            s = {{"next", 1}, {"ends", json::object()}, {"said", json::object()}, {"slowest", 0.0}, {"largest", 0.0}};
        const int count = static_cast<int>(share * counts[static_cast<int>(k)]);
        auto kept = std::chrono::steady_clock::now();
        for (int seed = s["next"]; seed <= count; ++seed) {
            const Outcome o = tryOne(k, static_cast<std::uint32_t>(seed), folder);
            s["ends"][name(o.end)] = s["ends"].value(name(o.end), 0) + 1;
            s["slowest"] = std::max(s["slowest"].get<double>(), o.seconds);
            s["largest"] = std::max(s["largest"].get<double>(), o.megabytes);
            s["next"] = seed + 1;
            const std::string said = o.message.substr(0, o.message.find('\n'));
            s["said"][said] = s["said"].value(said, 0) + 1;
            if (!o.isGood())
                std::fprintf(stderr, "%s, seed %d: %s (%.1f s, %.0f MB): %s\n", name(k), seed, name(o.end), o.seconds,
                             o.megabytes, o.message.c_str());
            if (const auto now = std::chrono::steady_clock::now();
                now - kept > std::chrono::seconds(5) || !o.isGood()) {
                keep();
                kept = now;
            }
        }
        keep();
        int good = 0, all = 0;
        for (const auto& [end, n] : s["ends"].items()) {
            all += n.get<int>();
            if (end == name(Outcome::End::accepted) || end == name(Outcome::End::refused)) good += n.get<int>();
        }
        bad += all - good;
        std::printf("| %s | %d | %d | %d | %d | %.2f | %.0f |\n", name(k), all, s["ends"].value("refused", 0),
                    s["ends"].value("accepted", 0), all - good, s["slowest"].get<double>(), s["largest"].get<double>());
        std::fflush(stdout);
    }
    const int kills = static_cast<int>(200 * share);
    int broken = 0;
    for (int seed = 1; seed <= kills; ++seed)
        broken += killOne(static_cast<std::uint32_t>(seed), folder).end != Outcome::End::accepted;
    std::printf("\n%d kills while a release was written and a project saved: %d left something broken\n", kills,
                broken);
    return bad + broken ? 1 : 0;
}

}  // namespace escultura::bench
