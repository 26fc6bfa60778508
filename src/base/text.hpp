/// @file base/text.hpp
/// Text for markup.

#pragma once
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

}  // namespace escultura
