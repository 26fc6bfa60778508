/// @file judge/factor.hpp
/// The safety factor as far as it is known: what counts, what it may be, what it rests on, and which hotspots have to
/// be tested before it proves anything.

#pragma once
#include <string>
#include <vector>

#include "project/project.hpp"

namespace escultura::judge {
using namespace project;

struct Factor {
    enum class Basis {
        look,      ///< a check of level 'look': never counts
        untested,  ///< hotspots that could govern are not tested
        tested,
        converged,  ///< a check of level 'converged' that did, with no place where the estimates of stress disagree
    } basis = Basis::untested;
    double value = 0;      ///< that counts: tested peaks, else the largest stress that the mesh's own doubt allows
    double judged = 0;     ///< by the judged stress of the check's mesh, nothing tested or left out
    Band band{};           ///< by the check's mesh alone; the value itself once it is proven
    bool resolved = true;  ///< no place that counts untested is one where the two estimates disagree
    /// No hotspot that could govern lies untested where a support or load acts or at a sharp re-entrant edge: the
    /// stress there may grow without limit as the mesh gets finer, so that one mesh tells no lower end of the factor.
    bool bounded = true;
    std::string unboundedBy{};           ///< what the highest of those that have none is, in words
    std::string governing;               ///< id of the hotspot that the value comes from; empty: none
    std::vector<std::string> toTest{};   ///< ids of the hotspots that could govern and are not tested, highest first
    std::vector<std::string> without{};  ///< ids of the accepted ones whose zones are left out
    bool proves() const { return basis == Basis::tested || basis == Basis::converged; }
};

/// Of all load cases, or of one. @param loadCase  its name; empty: all
/// The check must be the recipe's own when findings, tests and dispositions are to count.
Factor factorOf(const Project& project, const Variant& variant, const CheckResult& check,
                const std::string& loadCase = {});

/// What the figure rests on and how far it may be off, beside the number that counts: "1.14, between 1.14 and 2.73: not
/// resolved".
std::string factorWords(const Factor& factor);
/// The doubt in few words, for a strip or a card: "at most 2.69", "to 2.73", "not tested"; empty when there is none.
std::string shortDoubt(const Factor& factor);
/// The doubt alone: "between 1.14 and 2.73: not resolved, not tested"; empty when there is none.
std::string doubtWords(const Factor& factor);

/// Hotspots that have to be tested before the safety factors that are required prove anything: all that could govern.
std::vector<std::string> hotspotsToTest(const Project& project, const Variant& variant);

/// Tests what hotspotsToTest() names, the highest first, until nothing untested could govern. Needs fresh findings.
/// @throws Cancelled
void testWhatGoverns(const Project& project, const Recipe& recipe, Progress& progress);

}  // namespace escultura::judge
