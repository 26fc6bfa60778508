/// @file base/text.hpp
/// Text for markup.

#pragma once
#include <cstdio>
#include <string>

namespace escultura {

/// Text as the contents or an attribute of XML or HTML.
inline std::string escapedMarkup(const std::string& text) {
    std::string out;
    for (char c : text) {
        if (c == '&')
            out += "&amp;";
        else if (c == '<')
            out += "&lt;";
        else if (c == '>')
            out += "&gt;";
        else if (c == '"')
            out += "&quot;";
        else
            out += c;
    }
    return out;
}

/// A number without padding zeros: "0.7", "12", "1e-06".
inline std::string plainNumber(double value, int significant = 6) {
    char text[40];
    std::snprintf(text, sizeof text, "%.*g", significant, value);
    return text;
}

}  // namespace escultura
