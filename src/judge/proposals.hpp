/// @file judge/proposals.hpp
/// What could be done about a finding, with its expected effect. Nothing is applied by itself.

#pragma once
#include <optional>
#include <string>
#include <vector>

#include "project/project.hpp"

namespace escultura::judge {
using namespace project;

/// A change that becomes a variant, or a decision to be signed.
struct Proposal {
    enum class Kind {
        blend,      ///< a larger blend radius between an interface's ring and the body
        thicken,    ///< material over a soft region
        threshold,  ///< keeps more of the field
        refine,     ///< smaller elements there: a better answer, the same part
        exclude,    ///< to be signed as no real stress
    } kind = Kind::thicken;
    std::string finding, text;
    std::string basis;             ///< where the prediction comes from
    Recipe recipe;                 ///< of the variant; the same as before for exclude
    double before = 0;             ///< safety factor at the finding
    double low = 0, high = 0;      ///< predicted safety factor there
    double mass = 0;               ///< predicted change, kg
    Vec3 position = Vec3::Zero();  ///< mm
    double reach = 0;              ///< mm
};
const char* name(Proposal::Kind kind);

/// Proposals that suit the finding's class; empty without fresh results.
/// @param amount  thickness that 'thicken' adds, mm; 0: a sixth of the wall there
std::vector<Proposal> proposalsFor(const Project& project, const Variant& variant, const Finding& finding,
                                   double amount = 0);

/// Makes the proposal a new variant and opens it. @param from  index of the variant that it was made for
Variant& applyProposal(Project& project, std::size_t from, const Proposal& proposal);

/// Predicted and measured effect of the proposal that a variant was made from.
struct MeasuredEffect {
    double before = 0, low = 0, high = 0;  ///< safety factor at the finding: was, predicted
    std::optional<double> after;           ///< measured; none while the check is out of date
    double predictedMass = 0;              ///< change, kg
    std::optional<double> mass;            ///< measured change, kg
};
/// None when the variant was not made from a proposal.
std::optional<MeasuredEffect> measuredEffect(const Project& project, const Variant& variant);

}  // namespace escultura::judge
