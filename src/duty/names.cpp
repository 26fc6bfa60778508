#include "duty/names.hpp"

#include <algorithm>
#include <charconv>

namespace escultura::duty {
namespace {

/// "bolt " and 3 of "bolt 3". @return whether there is such a number
bool split(const std::string& name, std::string& word, int& number) {
    const auto at = name.find_last_not_of("0123456789");
    if (at == std::string::npos || at + 1 >= name.size()) return false;
    word = name.substr(0, at + 1);
    const char* end = name.data() + name.size();
    return std::from_chars(name.data() + at + 1, end, number).ptr == end && name[at + 1] != '0';
}

}  // namespace

std::string togetherText(const std::vector<std::string>& names) {
    if (names.empty()) return {};
    if (names.size() == 1) return names.front();
    std::string first, word;
    std::vector<int> numbers(names.size());
    bool runs = split(names.front(), first, numbers.front());
    for (std::size_t i = 1; runs && i < names.size(); ++i) runs = split(names[i], word, numbers[i]) && word == first;
    if (runs) {
        std::sort(numbers.begin(), numbers.end());
        for (std::size_t i = 1; i < numbers.size(); ++i) runs = runs && numbers[i] == numbers[i - 1] + 1;
        if (runs) return first + std::to_string(numbers.front()) + " to " + std::to_string(numbers.back());
    }
    if (names.size() == 2) return names[0] + " and " + names[1];
    return names.front() + " and " + std::to_string(names.size() - 1) + " others";
}

}  // namespace escultura::duty
