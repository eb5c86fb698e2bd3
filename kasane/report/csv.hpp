// Cells of CSV (RFC 4180).
#pragma once

#include <string>

namespace kasane {

/// Quoted where it has to be.
inline std::string csv_cell(const std::string& text) {
    if (text.find_first_of(",\"\r\n") == std::string::npos) return text;
    std::string out = "\"";
    for (const char c : text)
        out += c == '"' ? std::string("\"\"") : std::string(1, c);
    return out + "\"";
}

} // namespace kasane
