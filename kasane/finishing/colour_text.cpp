#include <kasane/finishing/colour_text.hpp>

#include <kasane/base/error.hpp>
#include <kasane/image/region_text.hpp>

#include <algorithm>
#include <cctype>
#include <charconv>
#include <cmath>
#include <fmt/format.h>
#include <sstream>

namespace kasane {

namespace {

[[noreturn]] void refuse(const std::string& text) {
    throw UsageError(fmt::format("\"{}\" is no sum of channels", text), {},
                     "Name filters with their factors: \"Ha\", \"0.3 Ha + 0.7 OIII\"");
}

std::string trimmed(const std::string& text) {
    const auto first = text.find_first_not_of(" \t*"), last = text.find_last_not_of(" \t");
    return first == std::string::npos ? std::string() : text.substr(first, last - first + 1);
}

} // namespace

Palette::Sum parse_channel_sum(const std::string& text) {
    Palette::Sum sum;
    std::string rest = text;
    while (true) {
        const auto plus = rest.find('+', 1);
        const std::string term = trimmed(rest.substr(0, plus));
        if (term.empty()) refuse(text);
        double factor = 1;
        const auto [end, error] = std::from_chars(term.data(), term.data() + term.size(), factor);
        const std::string name = error == std::errc{} ? trimmed(std::string(end, term.data() + term.size())) : term;
        constexpr double kMost = 100;
        const bool named =
            std::any_of(name.begin(), name.end(), [](unsigned char ch) { return std::isalpha(ch) != 0; });
        if (!named || !(std::abs(factor) <= kMost)) refuse(text);
        sum.emplace_back(name, error == std::errc{} ? factor : 1);
        if (plus == std::string::npos) return sum;
        rest = rest.substr(plus + 1);
    }
}

Palette parse_palette(const std::string& text) {
    Palette out;
    std::stringstream in(text);
    std::string part;
    std::size_t c = 0;
    for (; std::getline(in, part, ';'); ++c)
        if (c < 3) out.colours[c] = parse_channel_sum(part);
    if (c != 3)
        throw UsageError(fmt::format("\"{}\" is no palette", text), {},
                         "Name what makes red, green and blue: \"Ha; 0.3 Ha + 0.7 OIII; OIII\"");
    return out;
}

WhiteChoice parse_white(const std::string& text) {
    WhiteChoice out;
    if (text == "stars") return out;
    if (const auto region = parse_region(text)) {
        out.by = WhiteChoice::By::region, out.region = *region;
        return out;
    }
    std::stringstream in(text);
    out.by = WhiteChoice::By::given;
    std::string rest;
    constexpr double kMost = 100;
    bool well = true;
    for (double& f : out.factors)
        well = well && (in >> f) && f > 0 && f <= kMost;
    if (!well || in >> rest)
        throw UsageError(fmt::format("\"{}\" does not say what is white", text), {},
                         "\"stars\", a region \"x y width height\", or factors of red, green and blue \"1.2 1 0.9\"");
    return out;
}

std::string channel_sum_text(const Palette::Sum& sum) {
    std::string out;
    for (const auto& [name, factor] : sum)
        out += (out.empty() ? "" : " + ") + (factor == 1 ? name : fmt::format("{:g} {}", factor, name));
    return out;
}

} // namespace kasane
