#include "elastic/stress.hpp"
#include "stages/analyses/analyses.hpp"

namespace escultura::stages {

elastic::ModeOptions modeOptions(const AnalysisInput& input) {
    elastic::ModeOptions o;
    o.count = static_cast<int>(input.choice.number("modes"));
    o.solve.method = input.how.method;
    o.solve.tolerance = input.how.tolerance;
    return o;
}

double shapeError(const AnalysisInput& input, const std::vector<Vec3>& shape, Progress& progress) {
    const elastic::Material& m = input.part.material;
    const auto gauss = elastic::gaussStress(input.check.mesh, m, shape);
    const auto recovered = elastic::recoverStress(input.check.mesh, gauss, progress);
    const double relative = elastic::errorEstimate(input.check.mesh, m, gauss, recovered).relative;
    return relative * relative;
}

}  // namespace escultura::stages
