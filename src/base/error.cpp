#include "base/error.hpp"

namespace escultura {

std::string describe(const ErrorDetail& detail) {
    std::string text = detail.problem;
    if (!detail.file.empty()) text += "\n  file: " + detail.file;
    if (!detail.place.empty()) text += "\n  place: " + detail.place;
    if (!detail.expected.empty()) text += "\n  expected: " + detail.expected;
    if (!detail.found.empty()) text += "\n  found: " + detail.found;
    return text;
}

}  // namespace escultura
