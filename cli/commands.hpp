/// @file commands.hpp
/// The commands of escultura-cli besides `run`, and what they share.

#pragma once
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cstdio>
#include <mutex>
#include <nlohmann/json.hpp>
#include <optional>
#include <string>
#include <vector>

namespace escultura::cli {

inline constexpr int exitUsage = 2, exitInput = 3, exitSolve = 4;

/// Progress as a line on a terminal, or as JSON lines; nothing in a plain pipe.
class Reporter {
  public:
    Reporter(bool quiet, bool json)
        : bar_(!quiet && !json && isatty(STDERR_FILENO)), json_(json), start_(std::chrono::steady_clock::now()) {}
    ~Reporter() {
        if (bar_) std::fprintf(stderr, "\r\033[K");
    }
    /// From any thread.
    void step(const std::string& name, double share) {
        const std::lock_guard lock(mutex_);
        const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start_).count();
        if (bar_) {
            const int filled = static_cast<int>(20 * std::min(share, 1.0));
            std::fprintf(stderr, "\r\033[K[%s%s] %5.1f s  %s", std::string(filled, '#').c_str(),
                         std::string(20 - filled, '.').c_str(), seconds, name.c_str());
            std::fflush(stderr);
        }
        if (json_ && name != last_) {
            std::fprintf(stderr, "%s\n", nlohmann::json{{"time_s", seconds}, {"step", name}}.dump().c_str());
            last_ = name;
        }
    }

  private:
    bool bar_, json_;
    std::mutex mutex_;
    std::string last_;
    std::chrono::steady_clock::time_point start_;
};

struct RunOptions {
    std::string part, out;
    std::optional<double> threshold;
    std::optional<std::string> elementSize, smoothing, surfaceSpacing;
    std::string level = "standard", solver = "automatic";
    std::vector<std::string> analyses;
    std::optional<std::string> faceSize, cageTolerance;
    bool rebuild = false, test = false, untested = false, oneThreshold = false;
    std::optional<std::string> smallestMember, edgeRadius, edgeError, chordError;
    std::string thinMembers;
    std::optional<int> elementsThrough, aroundCircle;
    std::string save;  // project file
    bool quiet = false, jsonLog = false, replace = false;
};

/// Runs all stages and writes the release folder.
int runPart(const RunOptions& options, int argc, char** argv);

struct SweepOptions {
    std::string part, kind = "local", level = "look", save;
    std::vector<std::string> vary;
    int evaluations = 0;
    bool quiet = false;
};

/// Prints the study as JSON.
int runSweep(const SweepOptions& options);

struct StoryOptions {
    std::string part, out, name, role, reason, date, save, key;
    std::optional<double> threshold;
    int fixes = 6;
    bool quiet = false;
};

/// From the baseline to a signed release; every step is told.
int tellStory(const StoryOptions& options, int argc, char** argv);

struct OptimiseOptions {
    std::string part, out, save;
    std::optional<double> stiffest, lightest;
    std::optional<std::string> cellSize, filterRadius;
    std::optional<int> steps;
    bool quiet = false;
};

/// Makes a density field from the part's duty. @return 0 when its limits are met
int optimiseField(const OptimiseOptions& options);

/// @param key  file of the signer's public key; empty: the folder's own
/// @return 0 when everything holds
int verifyFolder(const std::string& folder, bool rerun, const std::string& key);

/// Writes a secret key that only its owner may read, and its public key beside it (.pub); never over a file.
int makeKey(const std::string& path);

}  // namespace escultura::cli
