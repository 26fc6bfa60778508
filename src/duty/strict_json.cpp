#include "duty/strict_json.hpp"

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <map>
#include <vector>

#include "base/error.hpp"

namespace escultura::duty {
namespace {

constexpr std::size_t deepest = 64;
constexpr std::uintmax_t largest = 64u << 20;

std::string lineOf(const std::string& text, std::size_t at) {
    const auto end = text.begin() + static_cast<std::ptrdiff_t>(std::min(at, text.size()));
    return "line " + std::to_string(1 + std::count(text.begin(), end, '\n'));
}

/// End of the string that begins at a quotation mark: the index of the closing one, or the text's end.
std::size_t endOfString(const std::string& text, std::size_t at) {
    for (++at; at < text.size() && text[at] != '"'; ++at)
        if (text[at] == '\\') ++at;
    return at;
}

/// Walks over the brackets and names of a text. What is no JSON at all is left to the parser behind.
/// @throws InputError
void refuseDeepAndDouble(const std::string& text, const std::string& path, const std::string& problem) {
    struct Level {
        bool isObject = false, expectsName = false;
        std::map<std::string, std::size_t> names{};  // as written, and where
    };
    std::vector<Level> open;
    for (std::size_t at = 0; at < text.size(); ++at) {
        const char c = text[at];
        if (c == '{' || c == '[') {
            if (open.size() == deepest)
                throw InputError(
                    ErrorDetail{problem, path, lineOf(text, at),
                                "at most " + std::to_string(deepest) + " lists and objects within each other", "more"});
            open.push_back({c == '{', c == '{'});
        } else if (c == '}' || c == ']') {
            if (!open.empty()) open.pop_back();
        } else if (c == ',') {
            if (!open.empty()) open.back().expectsName = open.back().isObject;
        } else if (c == '"') {
            const std::size_t end = endOfString(text, at);
            if (!open.empty() && open.back().expectsName) {
                open.back().expectsName = false;
                std::string name = text.substr(at + 1, end - at - 1);
                if (name.find('\\') != std::string::npos) {  // two spellings may be one name
                    const auto plain = nlohmann::json::parse("\"" + name + "\"", nullptr, false);
                    if (plain.is_string()) name = plain.get<std::string>();
                }
                const auto [first, isNew] = open.back().names.try_emplace(name, at);
                if (!isNew)
                    throw InputError(ErrorDetail{problem, path,
                                                 lineOf(text, first->second) + " and " + lineOf(text, at),
                                                 "each name of an object once", "'" + name.substr(0, 60) + "' twice"});
            }
            at = end;
        }
    }
}

}  // namespace

std::string readWholeText(const std::string& path, const std::string& problem) {
    namespace fs = std::filesystem;
    std::error_code failed;
    if (!fs::exists(path, failed)) throw InputError(ErrorDetail{problem, path, {}, "a file", "nothing there"});
    if (!fs::is_regular_file(path, failed))
        throw InputError(
            ErrorDetail{problem, path, {}, "a file", fs::is_directory(path, failed) ? "a folder" : "something else"});
    const auto size = fs::file_size(path, failed);
    if (!failed && size > largest)
        throw InputError(ErrorDetail{problem,
                                     path,
                                     {},
                                     "at most " + std::to_string(largest >> 20) + " MB of text",
                                     std::to_string(size >> 20) + " MB"});
    std::ifstream in(path, std::ios::binary);
    std::string text(failed ? 0 : size, '\0');
    in.read(text.data(), static_cast<std::streamsize>(text.size()));
    if (failed || !in)
        throw InputError(ErrorDetail{problem, path, {}, "a file that can be read", "no permission, or a broken disk"});
    return text;
}

nlohmann::json parseStrictJson(const std::string& text, const std::string& path, const std::string& problem) {
    refuseDeepAndDouble(text, path, problem);
    try {
        return nlohmann::json::parse(text);
    } catch (const nlohmann::json::parse_error& e) {
        std::string found = e.what();  // "[json.exception.parse_error.101] parse error at line 1, column 2: ..."
        if (const auto colon = found.find(": "); colon != std::string::npos) found = found.substr(colon + 2);
        throw InputError(ErrorDetail{problem, path, lineOf(text, e.byte > 0 ? e.byte - 1 : 0), "JSON (RFC 8259)",
                                     found.substr(0, 200)});
    } catch (const nlohmann::json::out_of_range& e) {
        // "... number overflow parsing '1e400'"
        const std::string what = e.what();
        const auto from = what.find('\''), to = what.rfind('\'');
        const std::string number = from < to ? what.substr(from + 1, to - from - 1) : std::string();
        throw InputError(ErrorDetail{problem, path, lineOf(text, number.empty() ? 0 : text.find(number)),
                                     "numbers of at most 1e308", "'" + number.substr(0, 60) + "'"});
    }
}

}  // namespace escultura::duty
