/// @file judge/findings.hpp
/// Findings with all that is known of them: hotspots classed by their tests, the decisions that hold for them.

#pragma once
#include <string>
#include <vector>

#include "project/project.hpp"

namespace escultura::judge {
using namespace project;

/// Findings of a recipe with the evidence of the tests that were run; empty without fresh findings.
std::vector<Finding> findingsOf(const Project& project, const Recipe& recipe);
/// The same for findings of an earlier recipe, without tests.
const Finding* findFinding(const std::vector<Finding>& findings, const std::string& id);

/// Tests hotspots: refines the check's mesh around them twice and solves all load cases anew. Needs fresh findings;
/// what was tested already is not tested again. Only reads the project; results go to project.results.
/// @param ids  of hotspots; empty: all of them
/// @throws InputError when the findings are out of date or there is no such hotspot; Cancelled
void testHotspots(const Project& project, const Recipe& recipe, const std::vector<std::string>& ids,
                  Progress& progress);

/// What has been signed about a finding.
struct DispositionState {
    const Disposition* disposition = nullptr;  ///< null: nothing
    bool holds = false;                        ///< else it was made for another geometry or another result
};
DispositionState dispositionState(const Project& project, const Variant& variant, const Finding& finding);
/// A disposition of a finding as it is now.
Disposition signedDisposition(const Project& project, const Recipe& recipe, const Finding& finding,
                              const std::string& decision, const std::string& reason, const std::string& by,
                              const std::string& date);
/// Adds a disposition; one of the same finding that it replaces goes.
void sign(Variant& variant, const Disposition& disposition);

/// Nodes that a safety factor would leave out if a tested singular hotspot or boundary artefact were accepted: the
/// tested edge, or what lies in the zone of the idealised boundary, on the hotspot's own slopes only. [nodes of the
/// check] 0 or 1; empty for every other finding.
std::vector<char> zoneOf(const Project& project, const Recipe& recipe, const Finding& finding);

/// Zones of singular hotspots and boundary artefacts whose disposition is 'accept' and holds; null: none.
std::shared_ptr<const ExcludedNodes> excludedNodes(const Project& project, const Variant& variant);

}  // namespace escultura::judge
