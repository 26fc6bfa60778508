#include "base/error.hpp"

namespace escultura {
namespace {

/// What came out of a file may hold anything: only what can be shown goes on a line.
std::string shown(std::string text) {
    for (char& c : text)
        if ((static_cast<unsigned char>(c) < 0x20 && c != '\n') || c == 0x7f) c = '?';
    return text;
}

}  // namespace

std::string describe(const ErrorDetail& detail) {
    std::string text = detail.problem;
    if (!detail.file.empty()) text += "\n  file: " + detail.file;
    if (!detail.place.empty()) text += "\n  place: " + shown(detail.place);
    if (!detail.expected.empty()) text += "\n  expected: " + detail.expected;
    if (!detail.found.empty()) text += "\n  found: " + shown(detail.found);
    return text;
}

}  // namespace escultura
