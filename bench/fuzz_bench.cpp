/// Random shapes by the thousand: surfaces and meshes beside dense samples.

#include <chrono>
#include <cstdio>
#include <fstream>
#include <map>

#include "fuzz_shapes.hpp"
#include "surface_bench.hpp"

namespace escultura::bench {

int benchFuzz(int first, int count, const std::string& state) {
    struct Done {
        double volume = 0, angle = 0, jacobian = 0, seconds = 0;
        std::string problem;
    };
    std::map<int, Done> done;
    {
        std::ifstream in(state);
        std::string line;
        while (std::getline(in, line)) {
            Done d;
            int seed = 0, at = 0;
            if (std::sscanf(line.c_str(), "%d %lf %lf %lf %lf%n", &seed, &d.volume, &d.angle, &d.jacobian, &d.seconds,
                            &at) < 5)
                continue;
            d.problem = line.substr(std::min(line.size(), static_cast<std::size_t>(at) + 1));
            done[seed] = d;
        }
    }
    std::ofstream out(state, std::ios::app);
    for (int seed = first; seed < first + count; ++seed) {
        if (done.count(seed)) continue;
        const auto start = std::chrono::steady_clock::now();
        Done d;
        try {
            const auto o = made_up::tryFuzz(made_up::fuzzShape(static_cast<unsigned>(seed)));
            d = {o.volumeError, o.minDihedral, o.minJacobian, 0, o.problem};
        } catch (const std::exception& e) {
            d.problem = e.what();
            for (char& c : d.problem)
                if (c == '\n') c = ' ';
        }
        d.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
        out << seed << ' ' << d.volume << ' ' << d.angle << ' ' << d.jacobian << ' ' << d.seconds << ' ' << d.problem
            << std::endl;
        if (!d.problem.empty()) {
            std::printf("%d (kind %d): %s\n", seed, seed % 8, d.problem.c_str());
            std::fflush(stdout);
        }
        done[seed] = d;
    }
    int bad = 0, all = 0;
    double volume = 0, angle = 180, jacobian = 1, seconds = 0;
    for (int seed = first; seed < first + count; ++seed) {
        const Done& d = done[seed];
        ++all;
        bad += !d.problem.empty();
        volume = std::max(volume, std::abs(d.volume));
        if (d.angle > 0) angle = std::min(angle, d.angle);
        jacobian = std::min(jacobian, d.jacobian);
        seconds += d.seconds;
    }
    std::printf(
        "%d shapes, %d not as they should be; volume off by at most %.2f %%, smallest angle %.1f degrees, smallest "
        "scaled Jacobian %.3f; %.0f s\n",
        all, bad, 100 * volume, angle, jacobian, seconds);
    return bad > 0;
}

}  // namespace escultura::bench
