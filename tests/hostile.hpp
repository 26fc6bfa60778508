/// @file tests/hostile.hpp
/// Damaged inputs by the thousand: seeded mutations of part files, fields, bodies, projects and releases, each tried in
/// a process of its own. Shared by the tests (few) and the benchmark program (many, resumable).

#pragma once
#include <array>
#include <cstdint>
#include <string>
#include <vector>

namespace escultura::hostile {

enum class Kind { part, field, body, project, release };
inline constexpr std::array kinds{Kind::part, Kind::field, Kind::body, Kind::project, Kind::release};
const char* name(Kind kind);

/// What one try came to.
struct Outcome {
    enum class End {
        accepted,    ///< taken for good input
        refused,     ///< an input error with file, expected and found
        incomplete,  ///< an input error that lacks one of them
        other,       ///< another exception: a message that nobody understands
        signal,      ///< the process was ended
        slow,        ///< more than 10 s
        large,       ///< more than 2 GB
        believed,    ///< a damaged release or project that is taken for whole, though it says something else
    } end = End::accepted;
    std::string message;
    double seconds = 0, megabytes = 0;
    bool isGood() const { return end == End::accepted || end == End::refused; }
};
const char* name(Outcome::End end);

/// The whole inputs that mutations start from, made up, in a folder of their own. Made in another process, so that the
/// caller stays free of threads.
/// @throws std::runtime_error when they cannot be made
void prepare(const std::string& folder);

/// Damages one input in a way that the seed decides, and tries it. The same seed gives the same damage.
/// @param folder  of prepare(); the damaged copy is made in a folder beside and removed, unless the outcome is not good
Outcome tryOne(Kind kind, std::uint32_t seed, const std::string& folder);

/// Kills a process that writes a release and saves a project over and over, at a moment that the seed decides, and
/// looks at what it left: accepted when both are whole, believed when one is not.
Outcome killOne(std::uint32_t seed, const std::string& folder);

}  // namespace escultura::hostile
