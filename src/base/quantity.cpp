#include "base/quantity.hpp"

#include <algorithm>
#include <cctype>
#include <charconv>
#include <cmath>
#include <map>

#include "base/error.hpp"

namespace escultura {
namespace {

struct Value {
    double number = 0;
    Dimension dim;
    bool bare = true;  // no unit seen
};

// Internal units of mass is kg, of length mm, of time s; force N = kg m/s2 = 1000 kg mm/s2 and stress MPa = N/mm2.
// A coherent system (kg, mm, s) has the force unit kg mm/s2 = mN, so forces and stresses carry the factor 1000 on the
// way in and lose it at the end.
constexpr double newton = 1000.0;

struct Unit {
    double scale;
    Dimension dim;
};

const std::map<std::string, Unit, std::less<>>& units() {
    static const std::map<std::string, Unit, std::less<>> table = {
        {"mm", {1, dimension::length}},
        {"cm", {10, dimension::length}},
        {"m", {1000, dimension::length}},
        {"um", {1e-3, dimension::length}},
        {"in", {25.4, dimension::length}},
        {"ft", {304.8, dimension::length}},
        {"kg", {1, dimension::mass}},
        {"g", {1e-3, dimension::mass}},
        {"t", {1e3, dimension::mass}},
        {"lb", {0.45359237, dimension::mass}},
        {"s", {1, {0, 0, 1}}},
        {"rad", {1, {0, 0, 0}}},
        {"rpm", {2 * M_PI / 60, {0, 0, -1}}},
        {"Hz", {2 * M_PI, dimension::frequency}},  // turns a second, as rpm are turns a minute
        {"kHz", {2e3 * M_PI, dimension::frequency}},
        {"min", {60, {0, 0, 1}}},
        {"N", {newton, dimension::force}},
        {"kN", {1e3 * newton, dimension::force}},
        {"MN", {1e6 * newton, dimension::force}},
        {"lbf", {4.4482216152605 * newton, dimension::force}},
        {"kgf", {9.80665 * newton, dimension::force}},
        {"Pa", {1e-6 * newton, dimension::stress}},
        {"kPa", {1e-3 * newton, dimension::stress}},
        {"MPa", {newton, dimension::stress}},
        {"GPa", {1e3 * newton, dimension::stress}},
        {"bar", {0.1 * newton, dimension::stress}},
        {"psi", {0.006894757293168 * newton, dimension::stress}},
        {"ksi", {6.894757293168 * newton, dimension::stress}},
        {"%", {0.01, dimension::none}},
    };
    return table;
}

// Nobody writes a longer one by hand; what a machine wrote must not exhaust the stack.
constexpr std::size_t longestText = 1000;
constexpr int deepestNesting = 50;

/// Text as it is quoted in a message.
std::string quoted(std::string_view text) {
    constexpr std::size_t most = 60;
    return "'" + std::string(text.substr(0, most)) + (text.size() > most ? "...'" : "'");
}

class Parser {
  public:
    explicit Parser(std::string_view text) : text_(text) {
        if (text.size() > longestText)
            throw InputError(ErrorDetail{"The number cannot be read.",
                                         {},
                                         quoted(text),
                                         "at most " + std::to_string(longestText) + " characters",
                                         std::to_string(text.size())});
    }

    Value all() {
        Value v = sum();
        blank();
        if (at_ < text_.size()) fail("an operator or the end");
        return v;
    }

  private:
    [[noreturn]] void fail(const std::string& expected) const {
        throw InputError(ErrorDetail{"The number cannot be read.",
                                     {},
                                     "character " + std::to_string(at_ + 1) + " of " + quoted(text_),
                                     expected,
                                     at_ < text_.size() ? "'" + std::string(1, text_[at_]) + "'" : "the end"});
    }
    void blank() {
        while (at_ < text_.size() && std::isspace(static_cast<unsigned char>(text_[at_]))) ++at_;
    }
    char peek() {
        blank();
        return at_ < text_.size() ? text_[at_] : '\0';
    }
    Value sum() {
        Value v = product();
        for (char c = peek(); c == '+' || c == '-'; c = peek()) {
            ++at_;
            Value w = product();
            if (!(v.dim == w.dim)) fail("terms of one kind on both sides of + or -");
            v.number += c == '+' ? w.number : -w.number;
            v.bare = v.bare && w.bare;
        }
        return v;
    }
    Value product() {
        Value v = power();
        for (;;) {
            const char c = peek();
            const bool divide = c == '/';
            if (c == '*' || divide) {
                ++at_;
            } else if (!(std::isalpha(static_cast<unsigned char>(c)) || c == '%' || c == '(')) {
                return v;
            }
            const Value w = power();
            const int sign = divide ? -1 : 1;
            v.number = divide ? v.number / w.number : v.number * w.number;
            v.dim = {v.dim.length + sign * w.dim.length, v.dim.mass + sign * w.dim.mass,
                     v.dim.time + sign * w.dim.time};
            v.bare = v.bare && w.bare;
        }
    }
    Value power() {
        Value v = atom();
        if (peek() == '^') {
            ++at_;
            const Value e = atom();
            const int n = static_cast<int>(e.number);
            if (!e.bare || n != e.number || std::abs(n) > 9) fail("a whole exponent");
            v.number = std::pow(v.number, n);
            v.dim = {v.dim.length * n, v.dim.mass * n, v.dim.time * n};
        }
        return v;
    }
    /// One more level of brackets or signs, as long as it lives.
    struct Deeper {
        explicit Deeper(Parser& parser) : parser(parser) {
            if (++parser.depth_ > deepestNesting)
                parser.fail("at most " + std::to_string(deepestNesting) + " brackets and signs within each other");
        }
        ~Deeper() { --parser.depth_; }
        Parser& parser;
    };
    Value atom() {
        const Deeper deeper(*this);
        const char c = peek();
        if (c == '-' || c == '+') {
            ++at_;
            Value v = power();
            if (c == '-') v.number = -v.number;
            return v;
        }
        if (c == '(') {
            ++at_;
            Value v = sum();
            if (peek() != ')') fail("a closing bracket");
            ++at_;
            return v;
        }
        if (std::isdigit(static_cast<unsigned char>(c)) || c == '.') {
            double number = 0;
            const auto [end, code] = std::from_chars(text_.data() + at_, text_.data() + text_.size(), number);
            if (code != std::errc()) fail("a number");
            at_ = static_cast<std::size_t>(end - text_.data());
            return {number, {}, true};
        }
        std::size_t end = at_;
        while (end < text_.size() && (std::isalpha(static_cast<unsigned char>(text_[end])) || text_[end] == '%')) ++end;
        const auto unit = units().find(text_.substr(at_, end - at_));
        if (end == at_ || unit == units().end())
            fail("a number or a unit (mm, m, in, N, kN, lbf, MPa, psi, kg, g, s ...)");
        at_ = end;
        return {unit->second.scale, unit->second.dim, false};
    }

    std::string_view text_;
    std::size_t at_ = 0;
    int depth_ = 0;
};

double internal(const Value& v) {
    // mass with time^-2 is a force or what is made of one
    return v.dim.time == -2 && v.dim.mass == 1 ? v.number / newton : v.number;
}

}  // namespace

double parseQuantity(std::string_view text, Dimension wanted, std::string_view defaultUnit) {
    Value v = Parser(text).all();
    if (v.bare && !(wanted == dimension::none)) {
        const Value unit = Parser(defaultUnit).all();
        v = {v.number * unit.number, unit.dim, false};
    }
    if (!(v.dim == wanted) || !std::isfinite(v.number)) {
        throw InputError(
            ErrorDetail{"The quantity is of another kind than the one asked for.",
                        {},
                        quoted(text),
                        "a finite value in " + (defaultUnit.empty() ? "no unit" : std::string(defaultUnit)),
                        std::isfinite(v.number) ? "other units" : "a value that is not finite"});
    }
    return internal(v);
}

Dimension dimensionOf(std::string_view unit) {
    return Parser(unit).all().dim;
}

double unitScale(std::string_view unit) {
    return internal(Parser(unit).all());
}

std::string formatNumber(double value, int significant) {
    if (!std::isfinite(value)) return value != value ? "n/a" : value > 0 ? "unlimited" : "-unlimited";
    if (value == 0) return "0";
    const double size = std::abs(value);
    char buffer[64];
    if (size != 0 && (size < 1e-3 || size >= 1e7)) {
        std::snprintf(buffer, sizeof buffer, "%.*g", significant, value);
    } else {
        const int whole = size < 1 ? 0 : static_cast<int>(std::floor(std::log10(size))) + 1;
        std::snprintf(buffer, sizeof buffer, "%.*f", std::clamp(significant - std::max(whole, 1), 0, 6), value);
    }
    return buffer;
}

}  // namespace escultura
