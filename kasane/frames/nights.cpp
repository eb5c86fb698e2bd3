#include <kasane/frames/nights.hpp>

#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>
#include <date/date.h>

namespace kasane {

namespace {

constexpr double kHour = 3600, kDay = 86400;
constexpr double kGap = 8 * kHour; // without exposures: another night; the shortest winter days are longer

/// One unsigned number and the position after it.
bool number_at(const std::string& s, std::size_t& at, int digits_least, int digits_most, int& value) {
    std::size_t end = at;
    while (end < s.size() && std::isdigit(static_cast<unsigned char>(s[end])) &&
           end - at < static_cast<std::size_t>(digits_most))
        ++end;
    if (end - at < static_cast<std::size_t>(digits_least)) return false;
    std::from_chars(s.data() + at, s.data() + end, value);
    at = end;
    return true;
}

std::string date_text(double seconds) {
    const auto day = date::floor<date::days>(std::chrono::time_point<std::chrono::system_clock, std::chrono::seconds>(
        std::chrono::seconds(static_cast<std::int64_t>(std::floor(seconds)))));
    return date::format("%F", day);
}

/// Where nothing says what the local time is: sessions of lights.
void assign_by_gaps(std::vector<Exposure*>& exposures) {
    struct Session {
        double first, last;
        std::string night = {};
    };
    std::vector<double> times;
    for (const Exposure* e : exposures)
        if (e->role == Role::light) times.push_back(*e->time);
    std::sort(times.begin(), times.end());
    std::vector<Session> sessions;
    for (const double t : times)
        if (sessions.empty() || t - sessions.back().last > kGap)
            sessions.push_back({t, t});
        else
            sessions.back().last = t;
    for (Session& s : sessions) {
        // The middle of a night is near local midnight; wherever that is, half a day before is the evening's date.
        double middle = 0.5 * (s.first + s.last) - 0.5 * kDay;
        if (&s != &sessions.front() && date_text(middle) <= (&s - 1)->night) middle += kDay;
        s.night = date_text(middle);
    }
    for (Exposure* e : exposures) {
        const Session* nearest = nullptr;
        double least = kGap;
        for (const Session& s : sessions) {
            const double away = std::max({0.0, s.first - *e->time, *e->time - s.last});
            if (away < least) {
                least = away;
                nearest = &s;
            }
        }
        e->night = nearest ? nearest->night : date_text(*e->time - 0.5 * kDay);
    }
}

} // namespace

std::optional<double> parse_time(const std::string& text) {
    std::array<int, 6> f{};
    std::size_t at = 0;
    const auto sign = [&](std::string_view any) {
        return at < text.size() && any.find(text[at]) != std::string_view::npos && ++at > 0;
    };
    if (!number_at(text, at, 4, 4, f[0]) || !sign("-:/") || !number_at(text, at, 1, 2, f[1]) || !sign("-:/") ||
        !number_at(text, at, 1, 2, f[2]) || !sign("T ") || !number_at(text, at, 1, 2, f[3]) || !sign(":") ||
        !number_at(text, at, 1, 2, f[4]))
        return std::nullopt;
    double fraction = 0;
    if (sign(":")) {
        if (!number_at(text, at, 1, 2, f[5])) return std::nullopt;
        if (at < text.size() && text[at] == '.') {
            double scale = 0.1;
            for (++at; at < text.size() && std::isdigit(static_cast<unsigned char>(text[at])); ++at, scale /= 10)
                fraction += scale * (text[at] - '0');
        }
    }
    const date::year_month_day day{date::year{f[0]}, date::month{static_cast<unsigned>(f[1])},
                                   date::day{static_cast<unsigned>(f[2])}};
    const bool possible = f[0] >= 1900 && f[0] <= 2200 && day.ok() && f[3] < 24 && f[4] < 60 && f[5] <= 60;
    if (!possible) return std::nullopt;
    const auto days = date::sys_days{day}.time_since_epoch().count();
    return static_cast<double>(days) * kDay + f[3] * kHour + f[4] * 60.0 + f[5] + fraction;
}

std::string time_text(double seconds) {
    const auto whole = std::chrono::time_point<std::chrono::system_clock, std::chrono::seconds>(
        std::chrono::seconds(static_cast<std::int64_t>(std::llround(seconds))));
    return date::format("%FT%T", whole);
}

void assign_nights(std::vector<Exposure>& exposures, const NightOptions& options) {
    std::vector<double> longitudes;
    for (const Exposure& e : exposures)
        if (e.longitude) longitudes.push_back(*e.longitude);
    std::sort(longitudes.begin(), longitudes.end());
    std::vector<Exposure*> unplaced;
    for (Exposure& e : exposures) {
        const auto utc = e.start.empty() ? std::nullopt : parse_time(e.start);
        const auto clock = e.start_local.empty() ? std::nullopt : parse_time(e.start_local);
        e.time = utc;
        if (!utc && clock) e.time = *clock - options.time_zone.value_or(0) * kHour;
        if (!e.time || !e.night.empty()) continue;
        std::optional<double> local = clock;
        if (!local && options.time_zone) local = *utc + *options.time_zone * kHour;
        if (!local && (e.longitude || !longitudes.empty())) {
            double longitude = e.longitude ? *e.longitude : longitudes[longitudes.size() / 2];
            if (longitude > 180) longitude -= 360;
            local = *utc + longitude * 240; // 15 degrees an hour
        }
        if (local)
            e.night = date_text(*local - 0.5 * kDay);
        else
            unplaced.push_back(&e);
    }
    assign_by_gaps(unplaced);
}

} // namespace kasane
