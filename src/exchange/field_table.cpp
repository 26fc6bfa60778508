#include <charconv>
#include <cmath>
#include <fstream>
#include <sstream>

#include "exchange/field_file.hpp"

namespace escultura::exchange {
namespace {

/// How a table separates its columns and writes its numbers.
struct Style {
    char delimiter = ',';  // ' ' stands for any white space
    char decimal = '.';
};

bool isNumber(std::string text, char decimal, double* value = nullptr) {
    const auto first = text.find_first_not_of(" \t\"\r"), last = text.find_last_not_of(" \t\"\r");
    if (first == std::string::npos) return false;
    text = text.substr(first, last - first + 1);
    if (decimal == ',') {
        if (text.find('.') != std::string::npos) return false;
        for (char& c : text)
            if (c == ',') c = '.';
    }
    if (text == "nan" || text == "NaN" || text == "inf" || text == "-inf") {
        if (value) *value = std::nan("");
        return true;
    }
    double v = 0;
    const char* begin = text.c_str() + (text[0] == '+');
    const auto [end, error] = std::from_chars(begin, text.c_str() + text.size(), v);
    if (error != std::errc() || end != text.c_str() + text.size()) return false;
    if (value) *value = v;
    return true;
}

std::vector<std::string> columns(const std::string& line, char delimiter) {
    std::vector<std::string> out;
    if (delimiter == ' ') {
        std::istringstream parts(line);
        for (std::string p; parts >> p;) out.push_back(p);
        return out;
    }
    std::istringstream parts(line);
    for (std::string p; std::getline(parts, p, delimiter);) out.push_back(p);
    return out;
}

/// The style that reads most lines as at least four numbers. @return share of the lines
double findStyle(const std::vector<std::string>& lines, Style& style) {
    double best = 0;
    std::size_t bestWidth = 0;
    for (const Style s : {Style{'\t', '.'}, Style{';', '.'}, Style{',', '.'}, Style{' ', '.'}, Style{'\t', ','},
                          Style{';', ','}, Style{' ', ','}}) {
        double good = 0;
        std::size_t width = 0;
        for (const std::string& line : lines) {
            const auto parts = columns(line, s.delimiter);
            bool numbers = parts.size() >= 4;
            for (const auto& p : parts) numbers &= isNumber(p, s.decimal);
            good += numbers;
            width = std::max(width, parts.size());
        }
        if (good > best || (good == best && good > 0 && width < bestWidth)) {
            best = good;
            bestWidth = width;
            style = s;
        }
    }
    return lines.empty() ? 0 : best / static_cast<double>(lines.size());
}

bool isSkipped(const std::string& line) {
    const auto first = line.find_first_not_of(" \t\r");
    return first == std::string::npos || line[first] == '#';
}

std::vector<std::string> firstLines(std::istream& in, int most) {
    std::vector<std::string> lines;
    for (std::string line; static_cast<int>(lines.size()) < most && std::getline(in, line);) {
        if (line.size() > 100000) break;
        if (!isSkipped(line)) lines.push_back(line);
    }
    return lines;
}

std::string lower(std::string s) {
    for (char& c : s) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    return s;
}

/// 'X [mm]' -> 'x', '"density"' -> 'density'.
std::string columnName(const std::string& head) {
    std::string name;
    for (char c : head) {
        if (c == '[' || c == '(') break;
        if (c != '"' && c != '\r') name += c;
    }
    const auto first = name.find_first_not_of(" \t"), last = name.find_last_not_of(" \t");
    return first == std::string::npos ? std::string() : name.substr(first, last - first + 1);
}

}  // namespace

bool looksLikePointTable(const std::string& start) {
    std::istringstream in(start);
    auto lines = firstLines(in, 20);
    if (lines.size() > 2) lines.pop_back();  // may be cut
    if (lines.empty()) return false;
    if (lines.size() > 1) lines.erase(lines.begin());  // may be the heading
    Style style;
    return findStyle(lines, style) > 0.5;
}

/// What the file is, and its columns but the places as arrays. @param value  [columns][rows]
static void finishPointTable(LoadedField& f, const Style& style, const std::vector<std::string>& names,
                             const std::vector<int>& place, std::vector<std::vector<float>>& value) {
    f.file.kind = FieldFile::Kind::points;
    f.file.format = std::string("table of points, ") +
                    (style.delimiter == '\t'  ? "tabs"
                     : style.delimiter == ' ' ? "spaces"
                     : style.delimiter == ';' ? "semicolons"
                                              : "commas") +
                    (style.decimal == ',' ? ", decimal comma" : ", decimal point");
    f.file.count = f.points.size();
    for (std::size_t n = 0; n < value.size(); ++n) {
        if (std::find(place.begin(), place.end(), static_cast<int>(n)) != place.end()) continue;
        LoadedArray a;
        a.info.on = ArrayInfo::On::points;
        a.info.name = n < names.size() && !names[n].empty() ? names[n]
                      : value.size() == 4                   ? "density"
                                                            : "column " + std::to_string(n + 1);
        a.value = std::move(value[n]);
        f.arrays.push_back(std::move(a));
    }
}

LoadedField loadPointTable(const std::string& path) {
    std::ifstream in(path, std::ios::binary);
    auto refuse = [&](const std::string& place, const std::string& expected, const std::string& found) {
        refuseFile(path, "The table of points cannot be read.", place, expected, found);
    };
    auto sample = firstLines(in, 50);
    Style style;
    std::vector<std::string> rest(sample.begin() + (sample.size() > 1), sample.end());
    if (findStyle(rest, style) <= 0.5)
        refuse("first lines", "rows of at least four numbers: x, y, z, density", "something else");
    std::vector<std::string> names;
    const auto head = columns(sample.front(), style.delimiter);
    bool hasHead = false;
    for (const auto& h : head) hasHead |= !isNumber(h, style.decimal);
    if (hasHead)
        for (const auto& h : head) names.push_back(columnName(h));
    in.clear();
    in.seekg(0);
    std::vector<std::vector<float>> value;
    LoadedField f;
    std::vector<int> place{0, 1, 2};
    std::size_t width = 0, lineNumber = 0;
    bool headPending = hasHead;
    for (std::string line; std::getline(in, line);) {
        ++lineNumber;
        if (isSkipped(line)) continue;
        const auto parts = columns(line, style.delimiter);
        if (headPending) {
            headPending = false;
            for (int a = 0; a < 3; ++a)
                for (std::size_t n = 0; n < names.size(); ++n)
                    if (lower(names[n]) == std::string(1, static_cast<char>('x' + a))) place[a] = static_cast<int>(n);
            if (place[0] == place[1] || place[1] == place[2] || place[0] == place[2])
                refuse("line " + std::to_string(lineNumber), "columns named x, y and z", line.substr(0, 60));
            continue;
        }
        if (width == 0) {
            width = parts.size();
            value.resize(width);
            for (int p : place)
                if (p >= static_cast<int>(width))
                    refuse("line " + std::to_string(lineNumber), "a number for x, y and z",
                           std::to_string(width) + " columns");
        }
        const std::string at = "line " + std::to_string(lineNumber);
        if (parts.size() != width)
            refuse(at, std::to_string(width) + " columns, as in the first row", std::to_string(parts.size()));
        Vec3 p;
        for (std::size_t n = 0; n < width; ++n) {
            double v = 0;
            if (!isNumber(parts[n], style.decimal, &v))
                refuse(at + ", column " + std::to_string(n + 1), "a number", "'" + parts[n].substr(0, 40) + "'");
            value[n].push_back(static_cast<float>(v));
            for (int a = 0; a < 3; ++a)
                if (place[a] == static_cast<int>(n)) p[a] = v;
        }
        if (!p.allFinite()) refuse(at, "finite coordinates", line.substr(0, 60));
        f.points.push_back(p);
        f.file.bounds.include(p);
    }
    if (f.points.empty()) refuse("rows", "rows of numbers", "none");
    finishPointTable(f, style, names, place, value);
    return f;
}

}  // namespace escultura::exchange
