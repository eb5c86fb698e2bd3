#include <kasane/stages/comet_header.hpp>

#include <kasane/base/units.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <utility>

namespace kasane {

namespace {

using Pair = std::pair<const char*, const char*>;

/// The first pair of keywords of which one is there.
std::optional<Pair> first_of(const Header& h, std::initializer_list<Pair> pairs) {
    for (const Pair& p : pairs)
        if (h.find(p.first) || h.find(p.second)) return p;
    return std::nullopt;
}

/// Arc seconds an hour in a unit like "arcsec/min"; nothing if it is none.
std::optional<double> unit_of(const std::string& comment) {
    const auto open = comment.find('['), close = comment.find(']');
    if (open == std::string::npos || close == std::string::npos || close < open) return std::nullopt;
    std::string unit;
    for (const char c : comment.substr(open + 1, close - open - 1))
        if (c != ' ') unit += static_cast<char>(c >= 'A' && c <= 'Z' ? c - 'A' + 'a' : c);
    const auto slash = unit.find('/');
    if (slash == std::string::npos) return std::nullopt;
    static const std::map<std::string, double> angles = {{"arcsec", 1}, {"arcsecs", 1}, {"\"", 1},    {"arcmin", 60},
                                                         {"'", 60},     {"deg", 3600},  {"mas", 1e-3}};
    static const std::map<std::string, double> times = {
        {"s", 3600}, {"sec", 3600}, {"second", 3600}, {"min", 60},     {"minute", 60},
        {"h", 1},    {"hr", 1},     {"hour", 1},      {"d", 1 / 24.0}, {"day", 1 / 24.0}};
    const auto angle = angles.find(unit.substr(0, slash)), time = times.find(unit.substr(slash + 1));
    if (angle == angles.end() || time == times.end()) return std::nullopt;
    return angle->second * time->second;
}

} // namespace

CometHeader comet_in_header(const Header& h) {
    CometHeader out;
    if (const auto keys = first_of(h, {{"OBJCTRA", "OBJCTDEC"}, {"OBJRA", "OBJDEC"}})) {
        Exposure e; // reads what is written in degrees, or in hours, minutes and seconds
        const auto ra = h.text(keys->first), dec = h.text(keys->second);
        if (ra && dec && set_value(e, Field::right_ascension, *ra, {}).empty() &&
            set_value(e, Field::declination, *dec, {}).empty())
            out.at = SkyPoint{*e.right_ascension, *e.declination};
        else
            out.wrong = fmt::format("{} and {} in its header are no position on the sky", keys->first, keys->second);
    }
    if (const auto keys = first_of(h, {{"RARATE", "DECRATE"}, {"RA_RATE", "DEC_RATE"}, {"RA-RATE", "DEC-RATE"}})) {
        std::array<std::optional<double>, 2> rates;
        for (const auto& [key, rate] : {std::pair(keys->first, &rates[0]), std::pair(keys->second, &rates[1])})
            if (const Card* card = h.find(key))
                if (const auto unit = unit_of(card->comment); unit && h.number(key)) *rate = *unit * *h.number(key);
        constexpr double kMost = 7.2e5; // arc seconds an hour: 200 degrees are no comet
        if (rates[0] && rates[1] && std::hypot(*rates[0], *rates[1]) < kMost)
            out.rate = SkyRate{*rates[0], *rates[1]};
        else if (out.wrong.empty())
            out.wrong = fmt::format("{} and {} in its header are no rates with their unit, as in \"[arcsec/h]\" at the "
                                    "beginning of their comments",
                                    keys->first, keys->second);
    }
    return out;
}

SkyPoint moved(const SkyPoint& from, const SkyRate& rate, double hours) {
    const double north = rate.north * hours / 3600, east = rate.east * hours / 3600;
    return {from.ra + east / std::max(1e-6, std::cos(radians(from.dec))), from.dec + north};
}

} // namespace kasane
