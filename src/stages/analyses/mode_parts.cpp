#include "stages/analyses/mode_parts.hpp"

namespace escultura::stages {

elastic::ModeOptions modeOptions(const AnalysisInput& input) {
    elastic::ModeOptions o;
    o.count = static_cast<int>(input.choice.number("modes"));
    o.solve.method = input.how.method;
    return o;
}

}  // namespace escultura::stages
