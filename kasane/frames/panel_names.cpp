#include <kasane/frames/panel_names.hpp>

#include <algorithm>
#include <array>
#include <cctype>
#include <regex>

namespace kasane {

namespace {

std::string stem_of(std::string text) {
    const auto dull = [](char c) { return std::string(" _-.,:;#([").find(c) != std::string::npos; };
    while (!text.empty() && dull(text.back()))
        text.pop_back();
    while (!text.empty() && (text.front() == ' ' || text.front() == '_' || text.front() == '-'))
        text.erase(text.begin());
    return text;
}

} // namespace

PanelName panel_of_name(const std::string& target) {
    constexpr std::size_t kLongest = 200; // a name, not a text
    if (target.empty() || target.size() > kLongest) return {target, {}};
    static const std::array<std::regex, 4> patterns = [] {
        const auto of = [](const char* text) { return std::regex(text, std::regex::icase | std::regex::optimize); };
        return std::array<std::regex, 4>{
            of("^(.*?)(?:^|[\\s_.,:(\\[-])(?:panel|pane|tile|mosaic|mosaik|segment|kachel|feld|teil|panneau|tuile|"
               "pannello|paneel|tegel|painel)(?:[\\s_#.:-]*([0-9]{1,3}(?:\\s*[x_,./-]\\s*[0-9]{1,3})?)|"
               "[\\s_#.:-]+([a-z][0-9]{0,2}))[\\s)\\]]*$"),
            of("^(.+?)[\\s_.(\\[-]+p([0-9]{1,2}(?:[x_-][0-9]{1,2})?)[\\s)\\]]*$"),
            of("^(.+?)[\\s_.(\\[-]+(r[0-9]{1,2}[\\s_-]?c[0-9]{1,2})[\\s)\\]]*$"),
            of("^(.*[a-z0-9][a-z0-9\\s_-]*[a-z0-9])[\\s_]+([1-9][x-][1-9])$"),
        };
    }();
    for (const std::regex& pattern : patterns) {
        std::smatch found;
        if (!std::regex_match(target, found, pattern)) continue;
        const bool bare = &pattern == &patterns.back();
        std::string stem = stem_of(found[1].str()), panel = found[2].str();
        if (panel.empty()) panel = found[found.size() - 1].str();
        // "Sh 2-9": the letters of a catalogue before its number.
        const auto letters = [](const std::string& s) {
            return std::all_of(s.begin(), s.end(), [](unsigned char c) { return std::isalpha(c); });
        };
        constexpr std::size_t kCatalogue = 3;
        if (bare && letters(stem) && stem.size() <= kCatalogue) continue;
        std::erase_if(panel, [](unsigned char c) { return std::isspace(c); });
        return {stem.empty() ? "Mosaic" : stem, panel};
    }
    return {target, {}};
}

} // namespace kasane
