#include <kasane/frames/exposure.hpp>

#include <algorithm>
#include <array>
#include <cctype>
#include <cmath>
#include <cstdio>
#include <date/date.h>
#include <filesystem>
#include <fmt/format.h>
#include <map>

namespace kasane {

namespace {

/// Letters and digits only, lower case.
std::string letters(const std::string& text) {
    std::string out;
    for (const unsigned char c : text)
        if (std::isalnum(c)) out += static_cast<char>(std::tolower(c));
    return out;
}

/// The words of a name: runs of letters, lower case; digits and signs separate.
std::vector<std::string> words(const std::string& text) {
    std::vector<std::string> out(1);
    for (const unsigned char c : text)
        if (std::isalpha(c))
            out.back() += static_cast<char>(std::tolower(c));
        else if (!out.back().empty())
            out.emplace_back();
    if (out.back().empty()) out.pop_back();
    return out;
}

Role role_of_text(const std::string& text) {
    const std::string t = letters(text);
    const auto has = [&](std::string_view w) { return t.find(w) != std::string::npos; };
    if (has("darkflat") || has("flatdark")) return Role::dark_flat;
    if (has("bias") || has("zero")) return Role::bias;
    if (has("dark")) return Role::dark;
    if (has("flat")) return Role::flat;
    if (has("light") || has("science") || has("object")) return Role::light;
    return Role::unknown;
}

/// The role that one path component names with a whole word; "dark flat" wins over its parts.
Role role_of_words(const std::string& component) {
    const auto list = words(component);
    const auto has = [&](std::initializer_list<std::string_view> any) {
        return std::any_of(any.begin(), any.end(),
                           [&](auto w) { return std::find(list.begin(), list.end(), w) != list.end(); });
    };
    const bool dark = has({"dark", "darks"}), flat = has({"flat", "flats"});
    if ((dark && flat) || has({"darkflat", "darkflats", "flatdark", "flatdarks"})) return Role::dark_flat;
    if (has({"bias", "biases", "offset", "offsets"})) return Role::bias;
    if (dark) return Role::dark;
    if (flat) return Role::flat;
    if (has({"light", "lights"})) return Role::light;
    return Role::unknown;
}

void find_role(Exposure& e, const Header& header) {
    for (const char* key : {"IMAGETYP", "FRAME", "OBSTYPE"}) {
        const auto text = header.text(key);
        if (!text) continue;
        e.role = role_of_text(*text);
        if (e.role == Role::unknown) continue;
        e.role_source = fmt::format("header {} = {}", key, *text);
        e.is_master = letters(*text).find("master") != std::string::npos;
        break;
    }
    const std::filesystem::path path(e.path);
    if (e.role == Role::unknown)
        for (auto folder = path.parent_path(); !folder.empty() && e.role == Role::unknown;
             folder = folder.parent_path()) {
            e.role = role_of_words(folder.filename().string());
            if (e.role != Role::unknown) e.role_source = fmt::format("folder name {}", folder.filename().string());
        }
    if (e.role == Role::unknown) {
        e.role = role_of_words(path.stem().string());
        if (e.role != Role::unknown) e.role_source = fmt::format("file name {}", path.filename().string());
    }
    if (e.role == Role::unknown) e.role_source = "neither header, folder name nor file name says what it is";
    e.made_by_kasane = header.text("CREATOR").value_or("").rfind("Kasane", 0) == 0;
    e.is_master = e.is_master || e.made_by_kasane || header.number("NCOMBINE").value_or(1) > 1;
}

std::string cfa_pattern(const Header& header) {
    std::string pattern = header.text({"BAYERPAT", "CFAPAT", "COLORTYP"}).value_or("");
    std::transform(pattern.begin(), pattern.end(), pattern.begin(),
                   [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
    const bool valid = pattern.size() == 4 && pattern.find_first_not_of("RGB") == std::string::npos;
    return valid ? pattern : "";
}

std::optional<date::sys_seconds> parse_time(const std::string& text) {
    std::array<int, 6> f{};
    if (std::sscanf(text.c_str(), "%d-%d-%dT%d:%d:%d", &f[0], &f[1], &f[2], &f[3], &f[4], &f[5]) < 5)
        return std::nullopt;
    const date::year_month_day day{date::year{f[0]}, date::month{static_cast<unsigned>(f[1])},
                                   date::day{static_cast<unsigned>(f[2])}};
    const bool clock = f[3] >= 0 && f[3] < 24 && f[4] >= 0 && f[4] < 60 && f[5] >= 0 && f[5] <= 60;
    if (!day.ok() || !clock) return std::nullopt;
    return date::sys_days{day} + std::chrono::hours{f[3]} + std::chrono::minutes{f[4]} + std::chrono::seconds{f[5]};
}

} // namespace

std::string_view role_name(Role role) {
    constexpr std::array<std::string_view, 6> kNames = {"unknown", "light", "dark", "flat", "bias", "dark flat"};
    return kNames.at(static_cast<std::size_t>(role));
}

Exposure describe_exposure(const std::string& path, const Header& h, int width, int height, int planes, int bits) {
    Exposure e;
    e.path = path;
    e.width = width;
    e.height = height;
    e.planes = planes;
    e.bits = bits;
    find_role(e, h);
    if (const auto s = h.number({"EXPTIME", "EXPOSURE"}); s && *s >= 0) e.seconds = s;
    e.start = h.text({"DATE-OBS", "DATE-BEG"}).value_or("");
    if (!e.start.empty() && e.start.find('T') == std::string::npos)
        if (const auto clock = h.text({"TIME-OBS", "UT"})) e.start += "T" + *clock;
    e.gain = h.number({"GAIN", "ISOSPEED"});
    e.offset = h.number({"OFFSET", "BLKLEVEL"});
    if (const auto g = h.number({"EGAIN", "GAINADU"}); g && *g > 0) e.electrons_per_adu = g;
    e.temperature = h.number({"CCD-TEMP", "SENSTEMP", "DET-TEMP"});
    e.temperature_set = h.number({"SET-TEMP", "CCD-TSET"});
    e.binning_x = static_cast<int>(std::clamp(h.number({"XBINNING", "BINNING"}).value_or(1), 1.0, 16.0));
    e.binning_y = static_cast<int>(std::clamp(h.number({"YBINNING", "BINNING"}).value_or(e.binning_x), 1.0, 16.0));
    e.filter = fold_filter(h.text({"FILTER", "FILTER1"}).value_or(""));
    e.cfa = cfa_pattern(h);
    e.camera = h.text({"INSTRUME", "CAMERA", "DETECTOR"}).value_or("");
    e.telescope = h.text({"TELESCOP"}).value_or("");
    e.target = h.text({"OBJECT", "OBJNAME"}).value_or("");
    e.focal_length_mm = h.number({"FOCALLEN"});
    e.pixel_um = h.number({"XPIXSZ", "PIXSIZE1"});
    e.longitude = h.number({"SITELONG", "LONG-OBS", "OBSGEO-L"});
    return e;
}

std::string fold_filter(const std::string& name) {
    static const std::map<std::string, std::string> synonyms = {
        {"l", "L"},
        {"lum", "L"},
        {"luminance", "L"},
        {"clear", "L"},
        {"r", "R"},
        {"red", "R"},
        {"g", "G"},
        {"green", "G"},
        {"b", "B"},
        {"blue", "B"},
        {"ha", "Ha"},
        {"halpha", "Ha"},
        {"hydrogenalpha", "Ha"},
        {"o3", "O3"},
        {"oiii", "O3"},
        {"s2", "S2"},
        {"sii", "S2"},
        {"hb", "Hb"},
        {"hbeta", "Hb"},
        {"none", ""},
        {"nofilter", ""},
    };
    const auto it = synonyms.find(letters(name));
    return it == synonyms.end() ? name : it->second;
}

void assign_nights(std::vector<Exposure>& exposures) {
    std::vector<double> longitudes;
    for (const Exposure& e : exposures)
        if (e.longitude && std::abs(*e.longitude) <= 360) longitudes.push_back(*e.longitude);
    std::sort(longitudes.begin(), longitudes.end());
    const double usual = longitudes.empty() ? 0 : longitudes[longitudes.size() / 2];
    for (Exposure& e : exposures) {
        const auto time = parse_time(e.start);
        if (!time) continue;
        double longitude = e.longitude.value_or(usual);
        if (longitude > 180) longitude -= 360;
        const auto local = *time + std::chrono::seconds(std::lround(longitude * 240)); // 15 degrees an hour
        e.night = date::format("%F", date::floor<date::days>(local - std::chrono::hours(12)));
    }
}

std::string sensor_key(const Exposure& e) {
    return fmt::format("{} {}x{} bin {}x{} {}", e.camera.empty() ? "unnamed camera" : e.camera, e.width, e.height,
                       e.binning_x, e.binning_y, e.cfa.empty() ? "mono" : e.cfa);
}

} // namespace kasane
