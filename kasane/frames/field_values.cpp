#include <kasane/frames/field_values.hpp>

#include <kasane/frames/nights.hpp>
#include <kasane/frames/words.hpp>

#include <algorithm>
#include <array>
#include <cctype>
#include <charconv>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

std::string trimmed(const std::string& text) {
    const auto first = text.find_first_not_of(" \t"), last = text.find_last_not_of(" \t");
    return first == std::string::npos ? "" : text.substr(first, last - first + 1);
}

std::string shifted_pattern(const std::string& cfa, int dx, int dy) {
    if (cfa.size() != 4) return cfa;
    std::string out;
    for (int y = 0; y < 2; ++y)
        for (int x = 0; x < 2; ++x)
            out += cfa[static_cast<std::size_t>(((y + dy) & 1) * 2 + ((x + dx) & 1))];
    return out;
}

namespace {

std::optional<double> number_of(const std::string& text) {
    const std::string t = trimmed(text);
    double value = 0;
    const char* first = t.data() + (!t.empty() && t.front() == '+' ? 1 : 0);
    const auto [end, error] = std::from_chars(first, t.data() + t.size(), value);
    if (error != std::errc{} || end != t.data() + t.size() || !std::isfinite(value)) return std::nullopt;
    return value;
}

/// Degrees, or degrees (or hours), minutes and seconds apart by blanks or colons, with a sign or a letter of the
/// compass.
std::optional<double> angle_of(std::string text, double limit) {
    for (const auto& [mark, sign] : {std::pair{"W", -1.0}, {"S", -1.0}, {"E", 1.0}, {"N", 1.0}})
        if (const auto at = text.find(mark); at != std::string::npos) {
            text.erase(at, 1);
            const auto value = angle_of(text, limit);
            return value ? std::optional(sign * *value) : std::nullopt;
        }
    if (const auto plain = number_of(text)) return std::abs(*plain) <= limit ? plain : std::nullopt;
    std::string t = trimmed(text);
    const double sign = !t.empty() && t.front() == '-' ? -1 : 1;
    if (!t.empty() && (t.front() == '-' || t.front() == '+')) t.erase(0, 1);
    double value = 0, unit = 1;
    std::size_t at = 0;
    int parts = 0;
    while (at < t.size() && parts < 3) {
        const std::size_t end = std::min(t.find_first_of(" :", at), t.size());
        const auto part = number_of(t.substr(at, end - at));
        if (!part || *part < 0 || (parts > 0 && *part >= 60)) return std::nullopt;
        value += *part * unit;
        unit /= 60;
        ++parts;
        at = end == t.size() ? end : t.find_first_not_of(" :", end);
        if (at == std::string::npos) break;
    }
    if (parts < 2 || value > limit) return std::nullopt;
    return sign * value;
}

/// Two whole numbers of a binning: "2", "2x2", "2 2", "(2,2)".
bool binning_of(const std::string& text, int& x, int& y) {
    std::array<int, 2> found{0, 0};
    int count = 0;
    for (std::size_t i = 0; i < text.size();) {
        if (!std::isdigit(static_cast<unsigned char>(text[i]))) {
            ++i;
            continue;
        }
        double v = 0;
        const auto [end, error] = std::from_chars(text.data() + i, text.data() + text.size(), v);
        if (error != std::errc{} || count == 2) return false;
        found[static_cast<std::size_t>(count++)] = v >= 1 && v <= 16 ? static_cast<int>(v) : 0;
        i = static_cast<std::size_t>(end - text.data());
    }
    if (count == 1) found[1] = found[0];
    if (found[0] < 1 || found[1] < 1) return false;
    x = found[0];
    y = found[1];
    return true;
}

std::string cfa_of(const std::string& text) {
    std::string p;
    for (const unsigned char c : text)
        if (std::isalpha(c)) p += static_cast<char>(std::toupper(c));
    const bool size = p.size() == 4 || p.size() == 36;
    const auto has = [&](char c) { return p.find(c) != std::string::npos; };
    return size && p.find_first_not_of("RGB") == std::string::npos && has('R') && has('G') && has('B') ? p : "";
}

/// The pattern of a mosaic `height` pixels high after a quarter turn clockwise.
std::string quarter_turned(const std::string& cfa, int height) {
    const int period = cfa.size() == 4 ? 2 : 6;
    std::string out = cfa;
    if (cfa.empty() || height < 1) return out;
    for (int y = 0; y < period; ++y)
        for (int x = 0; x < period; ++x) { // what stands at (x, y) now stood at (y, height - 1 - x)
            const int old_y = (((height - 1 - x) % period) + period) % period;
            out[static_cast<std::size_t>(y * period + x)] = cfa[static_cast<std::size_t>(old_y * period + y)];
        }
    return out;
}

/// Sets an optional number between limits.
template <class T>
std::string set_number(T& to, const std::string& text, double low, double high, const char* what) {
    const auto v = number_of(text);
    if (!v) return fmt::format("{} is no number for {}", text, what);
    if (!(*v >= low && *v <= high)) return fmt::format("{} cannot be {}", text, what);
    to = static_cast<typename std::conditional_t<std::is_same_v<T, int>, int, double>>(*v);
    return {};
}

std::string set_time(std::string& to, const std::string& text) {
    const auto time = parse_time(text);
    if (!time) return fmt::format("{} is no date and time", text);
    const double whole = std::floor(*time), fraction = std::floor((*time - whole) * 1000) / 1000;
    to = time_text(whole); // one form, whatever the file's
    if (fraction > 0) to += fmt::format("{:.3f}", fraction).substr(1);
    return {};
}

} // namespace

std::string assign_value(Exposure& e, Field field, const std::string& text, bool from_file) {
    switch (field) {
    case Field::role: {
        const NamedRole r = role_of_text(text);
        if (r.role == Role::unknown)
            return fmt::format("{} is none of the roles light, dark, flat, bias, dark flat", text);
        e.role = r.role;
        e.is_master = e.is_master || r.master;
        return {};
    }
    case Field::master:
        if (text != "true" && text != "false") return fmt::format("{} is neither true nor false", text);
        e.is_master = text == "true";
        return {};
    case Field::target:
        e.target = trimmed(text);
        return {};
    case Field::filter:
        e.filter = fold_filter(text);
        return {};
    case Field::seconds:
        return set_number(e.seconds, text, 0, 1e6, "an exposure time in seconds");
    case Field::gain: {
        const bool iso = plain_letters(text).starts_with("iso");
        const std::string error = set_number(e.gain, iso ? text.substr(3) : text, 0, 1e7, "a gain setting");
        if (error.empty()) e.gain_is_iso = iso;
        return error;
    }
    case Field::offset:
        return set_number(e.offset, text, -1e6, 1e6, "an offset setting");
    case Field::temperature:
        return set_number(e.temperature, text, -200, 120, "a sensor temperature");
    case Field::temperature_set:
        return set_number(e.temperature_set, text, -200, 120, "a sensor temperature");
    case Field::binning:
        return binning_of(text, e.binning_x, e.binning_y) ? "" : fmt::format("{} cannot be a binning", text);
    case Field::cfa:
        if (plain_letters(text) == "mono") {
            e.cfa.clear();
            return {};
        }
        if (const std::string p = cfa_of(text); !p.empty()) {
            e.cfa = p;
            return {};
        }
        return from_file ? "" : fmt::format("{} is no pattern like RGGB", text); // cameras write many things there
    case Field::start:
        return set_time(e.start, text);
    case Field::start_local:
        return set_time(e.start_local, text);
    case Field::night:
        e.night = trimmed(text);
        return {};
    case Field::camera:
        e.camera = trimmed(text);
        return {};
    case Field::telescope:
        e.telescope = trimmed(text);
        return {};
    case Field::focal_length:
        return set_number(e.focal_length_mm, text, 0.1, 1e6, "a focal length in mm");
    case Field::pixel_size:
        return set_number(e.pixel_um, text, 0.1, 1000, "a pixel size in um");
    case Field::electrons_per_adu:
        return set_number(e.electrons_per_adu, text, 1e-6, 1e6, "a conversion gain in e-/ADU");
    case Field::saturation:
        return set_number(e.saturation, text, 1e-3, 1e12, "a saturation level");
    case Field::black_level:
        return set_number(e.black_level, text, -1e6, 1e9, "a black level");
    case Field::right_ascension:
    case Field::declination:
    case Field::latitude:
    case Field::longitude: {
        const bool pole = field == Field::declination || field == Field::latitude;
        const bool hours = field == Field::right_ascension && trimmed(text).find_first_of(": ") != std::string::npos;
        auto v = angle_of(text, pole ? 90 : hours ? 24 : 360);
        if (!v) return fmt::format("{} is no angle in degrees", text);
        (field == Field::right_ascension ? e.right_ascension
         : field == Field::declination   ? e.declination
         : field == Field::latitude      ? e.latitude
                                         : e.longitude) = hours ? *v * 15 : *v;
        return {};
    }
    case Field::orientation:
        return set_number(e.orientation, text, 1, 8, "an EXIF orientation");
    case Field::pier_side:
        e.pier_side = plain_letters(trimmed(text));
        return {};
    case Field::rotator:
        return set_number(e.rotator, text, -720, 720, "an angle in degrees");
    case Field::turn: {
        const auto v = number_of(text);
        if (!v || (*v != 0 && *v != 90 && *v != 180 && *v != 270))
            return fmt::format("{} is none of 0, 90, 180, 270", text);
        const int turn = static_cast<int>(*v);
        for (int quarter = ((turn - e.turn) / 90 + 4) % 4, height = e.height, width = e.width; quarter > 0; --quarter) {
            e.cfa = quarter_turned(e.cfa, height);
            std::swap(height, width);
        }
        if (((turn - e.turn) / 90) % 2 != 0) {
            std::swap(e.width, e.height);
            std::swap(e.binning_x, e.binning_y);
        }
        e.turn = turn;
        return {};
    }
    case Field::count_:
        break;
    }
    return "there is no such value";
}

std::string value_text(const Exposure& e, Field field) {
    const auto number = [](const std::optional<double>& v) { return v ? fmt::format("{:.10g}", *v) : std::string(); };
    switch (field) {
    case Field::role:
        return e.role == Role::unknown ? "" : std::string(role_name(e.role));
    case Field::master:
        return e.is_master ? "true" : "false";
    case Field::target:
        return e.target;
    case Field::filter:
        return e.filter;
    case Field::seconds:
        return number(e.seconds);
    case Field::gain:
        return e.gain_is_iso ? "ISO" + number(e.gain) : number(e.gain);
    case Field::offset:
        return number(e.offset);
    case Field::temperature:
        return number(e.temperature);
    case Field::temperature_set:
        return number(e.temperature_set);
    case Field::binning:
        return fmt::format("{}x{}", e.binning_x, e.binning_y);
    case Field::cfa:
        return e.cfa;
    case Field::start:
        return e.start;
    case Field::start_local:
        return e.start_local;
    case Field::night:
        return e.night;
    case Field::camera:
        return e.camera;
    case Field::telescope:
        return e.telescope;
    case Field::focal_length:
        return number(e.focal_length_mm);
    case Field::pixel_size:
        return number(e.pixel_um);
    case Field::electrons_per_adu:
        return number(e.electrons_per_adu);
    case Field::saturation:
        return number(e.saturation);
    case Field::black_level:
        return number(e.black_level);
    case Field::right_ascension:
        return number(e.right_ascension);
    case Field::declination:
        return number(e.declination);
    case Field::latitude:
        return number(e.latitude);
    case Field::longitude:
        return number(e.longitude);
    case Field::orientation:
        return fmt::format("{}", e.orientation);
    case Field::pier_side:
        return e.pier_side;
    case Field::rotator:
        return number(e.rotator);
    case Field::turn:
        return fmt::format("{}", e.turn);
    case Field::count_:
        break;
    }
    return {};
}

} // namespace kasane
