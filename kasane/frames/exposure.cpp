#include <kasane/frames/exposure.hpp>

#include <kasane/base/units.hpp>
#include <kasane/frames/nights.hpp>
#include <kasane/frames/words.hpp>

#include <algorithm>
#include <array>
#include <cctype>
#include <charconv>
#include <cmath>
#include <filesystem>
#include <fmt/format.h>

namespace kasane {

namespace {

struct FieldEntry {
    const char* name;
    const char* meaning;
    /// The spellings in use, the FITS standard's and its registry's first; EXIF tags last.
    std::vector<std::string_view> keys;
};

const std::array<FieldEntry, kFields>& field_table() {
    static const std::array<FieldEntry, kFields> table = {{
        {"role",
         "light, dark, flat, bias or dark flat",
         {"IMAGETYP", "IMAGETYPE", "OBSTYPE", "FRAME", "FRAMETYP", "IMGTYPE", "EXPTYPE", "OBS-TYPE", "PICTTYPE"}},
        {"master", "true for a combination of many frames", {}},
        {"target", "what was photographed", {"OBJECT", "OBJNAME", "TARGET", "TARGNAME"}},
        {"filter", "filter", {"FILTER", "FILTER1", "FILTERID", "FILTNAME", "FILTNAM", "FILT", "FWFILTER", "INSFILTE"}},
        {"seconds",
         "[s] exposure time",
         {"EXPTIME", "EXPOSURE", "XPOSURE", "EXP_TIME", "EXP-TIME", "ITIME", "INTTIME", "TELAPSE",
          "Exif.ExposureTime"}},
        {"gain",
         "gain setting of the camera, or ISO800",
         {"GAIN", "ISOSPEED", "ISO", "GAINRAW", "CCDGAIN", "Exif.ISOSpeedRatings"}},
        {"offset", "offset setting of the camera", {"OFFSET", "BLKLEVEL", "BLACKLEV", "CCDOFFST", "OFFSETRW"}},
        {"temperature",
         "[degC] sensor temperature",
         {"CCD-TEMP", "CCDTEMP", "CCD_TEMP", "DET-TEMP", "DETTEMP", "SENSTEMP", "SENSORT", "TEMPERAT", "CAM-TEMP",
          "Raw.SensorTemperature", "Exif.AmbientTemperature"}},
        {"temperature_set",
         "[degC] sensor temperature asked for",
         {"SET-TEMP", "SETTEMP", "SET_TEMP", "CCD-TSET", "CCDTSET", "TEMP-SET", "TEMPSET"}},
        {"binning", "binning, 2 or 2x2", {}},
        {"cfa",
         "colours of the first pixels, RGGB; mono for none",
         {"BAYERPAT", "CFAPAT", "CFA-PAT", "COLORTYP", "BAYER", "CFATYPE", "MOSAIC", "Raw.CfaPattern"}},
        {"start", "start of the exposure, UTC", {"DATE-OBS", "DATE-BEG", "DATE_OBS", "DATEOBS", "DATE-STA"}},
        {"start_local",
         "start of the exposure by the local clock",
         {"DATE-LOC", "DATELOC", "LOC-DATE", "Exif.DateTimeOriginal", "Exif.DateTime"}},
        {"night", "date on which the night began, or a name for it", {}},
        {"camera", "camera", {"INSTRUME", "CAMERA", "CAMNAME", "CAMMODEL", "DETECTOR", "DETNAM", "Exif.Model"}},
        {"telescope", "telescope or lens", {"TELESCOP", "TELNAME", "LENS", "Exif.LensModel"}},
        {"focal_length", "[mm] focal length", {"FOCALLEN", "FOCAL", "FOCLEN", "FLENGTH", "Exif.FocalLength"}},
        {"pixel_size", "[um] pixel size in x", {"XPIXSZ", "PIXSIZE1", "PIXSIZE", "PIXSIZEX", "XPIXSIZE", "PIXELSZ"}},
        {"electrons_per_adu", "[e-/ADU] conversion gain", {"EGAIN", "E-GAIN", "GAINADU", "GAIN_ELE", "CVF"}},
        {"saturation",
         "[ADU] level at which pixels saturate",
         {"SATURATE", "SATLEVEL", "SATURATI", "MAXADU", "MAXLIN", "WHITELEV", "Raw.WhiteLevel"}},
        {"black_level", "[ADU] level without light, as the camera states it", {"BLACKADU", "Raw.BlackLevel"}},
        {"right_ascension",
         "[deg] where the telescope points",
         {"RA", "OBJCTRA", "RA_DEG", "OBJRA", "TELRA", "CRVAL1"}},
        {"declination",
         "[deg] where the telescope points",
         {"DEC", "OBJCTDEC", "DEC_DEG", "OBJDEC", "TELDEC", "CRVAL2"}},
        {"latitude",
         "[deg] of the site, north positive",
         {"SITELAT", "OBSGEO-B", "LAT-OBS", "OBS-LAT", "LATITUDE", "GEOLAT", "SITE-LAT"}},
        {"longitude",
         "[deg] of the site, east positive",
         {"SITELONG", "OBSGEO-L", "LONG-OBS", "OBS-LONG", "LONGITUD", "GEOLON", "SITE-LON", "SITELON"}},
        {"orientation", "EXIF orientation, 1 to 8", {"ORIENTAT", "Exif.Orientation"}},
        {"pier_side", "side of the pier", {"PIERSIDE", "PIER", "SIDEPIER", "MERIDIAN"}},
        {"rotator",
         "[deg] angle of the camera",
         {"ROTATANG", "ROTATOR", "ROTANGLE", "ROTPA", "POSANGLE", "OBJCTROT", "PA"}},
        {"turn", "[deg] clockwise turn to apply to the pixels: 0, 90, 180 or 270", {}},
    }};
    return table;
}

const FieldEntry& entry(Field field) {
    return field_table()[static_cast<std::size_t>(field)];
}

std::string trimmed(const std::string& text) {
    const auto first = text.find_first_not_of(" \t"), last = text.find_last_not_of(" \t");
    return first == std::string::npos ? "" : text.substr(first, last - first + 1);
}

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

/// The pattern when the first pixel is `dx`, `dy` further on.
std::string shifted(const std::string& cfa, int dx, int dy) {
    if (cfa.size() != 4) return cfa;
    std::string out;
    for (int y = 0; y < 2; ++y)
        for (int x = 0; x < 2; ++x)
            out += cfa[static_cast<std::size_t>(((y + dy) & 1) * 2 + ((x + dx) & 1))];
    return out;
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

std::string assign(Exposure& e, Field field, const std::string& text, bool from_file) {
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

void remember(Exposure& e, Field field, Source source) {
    for (auto& [f, s] : e.sources)
        if (f == field) {
            s = std::move(source);
            return;
        }
    e.sources.emplace_back(field, std::move(source));
}

/// Header values that stand for "unknown".
bool says_nothing(const std::string& text) {
    const std::string t = plain_letters(trimmed(text));
    return t.empty() || t == "unknown" || t == "n/a" || t == "null" || t == "none" || t == "undefined" || t == "-" ||
           t == "nan" || t == "?";
}

void take_header(Exposure& e, const Header& h) {
    for (int i = 0; i < kFields; ++i) {
        const auto field = static_cast<Field>(i);
        for (const std::string_view key : entry(field).keys) {
            const auto text = h.text(key);
            if (!text || (says_nothing(*text) && field != Field::filter)) continue;
            const bool exif = key.find('.') != std::string_view::npos;
            std::string value = *text;
            if (field == Field::start && value.size() <= 10) {
                const auto clock = h.text({"TIME-OBS", "TIME-BEG", "UT", "UTC", "UTSTART", "TIME_OBS"});
                if (!clock) continue;
                value += "T" + *clock;
            }
            if (field == Field::gain && (key == "ISOSPEED" || key == "ISO" || exif)) value = "ISO" + value;
            const std::string shown = text->size() > 60 ? text->substr(0, 60) + "..." : *text;
            std::string problem =
                set_value(e, field, value, {exif ? Origin::exif : Origin::header, fmt::format("{} = {}", key, shown)});
            if (problem.empty()) break;
            if (field != Field::role) e.problems.push_back(fmt::format("{}: {}", key, problem));
        }
    }
    for (const auto& [x, y] : {std::pair{"XBINNING", "YBINNING"},
                               {"CCDXBIN", "CCDYBIN"},
                               {"XBIN", "YBIN"},
                               {"BINX", "BINY"},
                               {"BINNING", "BINNING"},
                               {"CCDSUM", "CCDSUM"},
                               {"BIN", "BIN"}}) {
        const auto text = h.text(x), other = h.text(y);
        if (!text) continue;
        const std::string value = other && std::string_view(x) != y ? *text + " " + *other : *text;
        const std::string problem =
            set_value(e, Field::binning, value, {Origin::header, fmt::format("{} = {}", x, *text)});
        if (problem.empty()) break;
        e.problems.push_back(fmt::format("{}: {}", x, problem));
    }
    if (e.start.empty())
        if (const auto mjd = h.number({"MJD-OBS", "MJD-BEG"}); mjd && *mjd > 15020 && *mjd < 124594)
            set_value(e, Field::start, time_text((*mjd - 40587) * 86400),
                      {Origin::header, fmt::format("MJD-OBS = {:.6f}", *mjd)});
    if (!e.cfa.empty()) {
        const double dx = h.number({"XBAYROFF", "BAYOFFX"}).value_or(0),
                     dy = h.number({"YBAYROFF", "BAYOFFY"}).value_or(0);
        if (std::abs(dx) < 100 && std::abs(dy) < 100)
            e.cfa = shifted(e.cfa, static_cast<int>(dx) & 1, static_cast<int>(dy) & 1);
    }
    e.made_by_kasane = h.text({"CREATOR", "Png.Software", "Jpeg.Comment"}).value_or("").rfind("Kasane ", 0) == 0;
    if (e.made_by_kasane) {
        e.inputs = h.text("INPUTS").value_or("");
        for (const Card& card : h.cards())
            if (card.key.starts_with("INPUT") && card.key != "INPUTS") e.input_frames.push_back(card.value);
    }
    const double combined = h.number({"NCOMBINE", "STACKCNT", "NSTACK", "NUMCOMB", "NFRAMES"}).value_or(1);
    e.is_master = e.is_master || e.made_by_kasane || combined > 1;
}

/// The role that the path names: the nearest folder that names one and nothing else, the file name, then names that
/// hold other words too.
void take_role_from_path(Exposure& e, const std::filesystem::path& path) {
    NamedRole doubtful;
    std::string doubtful_name;
    const auto take = [&](const NamedRole& r, const std::string& how) {
        e.role = r.role;
        e.is_master = e.is_master || (r.master && r.role != Role::light);
        remember(e, Field::role, {Origin::path, how});
    };
    const auto consider = [&](const std::string& name, const char* kind) {
        const NamedRole r = role_of_name(name);
        if (r.role == Role::unknown) return false;
        if (r.sure) {
            take(r, fmt::format("{} name {}", kind, name));
            return true;
        }
        if (doubtful.role == Role::unknown) {
            doubtful = r;
            doubtful_name = fmt::format("{} name {}", kind, name);
        }
        return false;
    };
    for (auto folder = path.parent_path(); !folder.empty() && folder != folder.root_path();
         folder = folder.parent_path())
        if (consider(folder.filename().string(), "folder")) return;
    if (consider(path.stem().string(), "file")) return;
    if (doubtful.role != Role::unknown) {
        take(doubtful, doubtful_name);
        e.role_confidence = 0.6;
    }
}

void take_path(Exposure& e) {
    const std::filesystem::path path(e.path);
    if (e.role == Role::unknown) take_role_from_path(e, path);
    const std::string stem = path.stem().string();
    if (e.role != Role::unknown && e.role != Role::light && !e.is_master) {
        const NamedRole named = role_of_name(stem);
        e.is_master = named.master && named.role != Role::unknown;
        for (auto folder = path.parent_path(); !folder.empty() && folder != folder.root_path();
             folder = folder.parent_path()) {
            const NamedRole around = role_of_name(folder.filename().string());
            e.is_master = e.is_master || (around.master && around.sure); // "masters/dark_300s.fits"
        }
    }
    if (e.role == Role::light && !e.is_master) { // a light only where the two words stand together
        const std::string t = plain_letters(stem);
        for (const char* w : {"masterlight", "master_light", "master-light", "master light"})
            e.is_master = e.is_master || t.find(w) != std::string::npos;
    }
    const bool complete = e.seconds && e.gain && e.sensor_temperature() && !e.filter.empty();
    if (complete) return;
    for (auto part = path; !part.empty() && part != part.root_path(); part = part.parent_path()) {
        const bool file = part == path;
        for (const NamedValue& v : values_of_name(file ? stem : part.filename().string())) {
            if (e.source(v.field).origin != Origin::none) continue;
            if (v.field == Field::filter) continue; // see settle_filter
            set_value(e, v.field, v.value,
                      {Origin::path, fmt::format("{} name {}", file ? "file" : "folder", part.filename().string())});
        }
    }
}

} // namespace

std::string_view role_name(Role role) {
    constexpr std::array<std::string_view, 6> kNames = {"unknown", "light", "dark", "flat", "bias", "dark flat"};
    return kNames.at(static_cast<std::size_t>(role));
}

std::string_view field_name(Field field) {
    return entry(field).name;
}

std::optional<Field> field_named(std::string_view name) {
    for (int i = 0; i < kFields; ++i)
        if (field_name(static_cast<Field>(i)) == name) return static_cast<Field>(i);
    return std::nullopt;
}

std::string_view field_meaning(Field field) {
    return entry(field).meaning;
}

std::string_view origin_name(Origin origin) {
    constexpr std::array<std::string_view, 7> kNames = {"unknown", "assumed", "pixels", "path",
                                                        "EXIF",    "header",  "recipe"};
    return kNames.at(static_cast<std::size_t>(origin));
}

std::string Source::text() const {
    if (origin == Origin::none) return "not known";
    if (origin == Origin::path) return detail; // "folder name ...", "file name ..."
    return detail.empty() ? std::string(origin_name(origin)) : fmt::format("{} {}", origin_name(origin), detail);
}

Source Exposure::source(Field field) const {
    for (const auto& [f, s] : sources)
        if (f == field) return s;
    return {};
}

std::string set_value(Exposure& e, Field field, const std::string& text, Source source) {
    const bool from_file = source.origin == Origin::header || source.origin == Origin::exif;
    std::string problem = assign(e, field, text, from_file);
    if (problem.empty()) {
        if (field == Field::cfa && from_file && e.cfa.empty()) return problem;
        remember(e, field, std::move(source));
        if (field == Field::role) e.role_confidence = 1;
    }
    return problem;
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

Exposure describe_exposure(const std::string& path, const FrameSummary& s) {
    Exposure e;
    e.path = path;
    e.format = s.format;
    e.linear = s.linear;
    e.width = s.width;
    e.height = s.height;
    e.planes = s.planes;
    e.bits = s.bits;
    take_header(e, s.header);
    take_path(e);
    settle_filter(e);
    return e;
}

void settle_filter(Exposure& e) {
    const Origin known = e.source(Field::filter).origin;
    if (known != Origin::none && known != Origin::assumed && known != Origin::path) return;
    const bool has_filter = e.role == Role::light || e.role == Role::flat;
    const auto forget = [&] {
        e.filter.clear();
        std::erase_if(e.sources, [](const auto& s) { return s.first == Field::filter; });
    };
    if (known == Origin::path || !has_filter) forget();
    if (!has_filter) return;
    const std::filesystem::path path(e.path);
    const std::string initials = role_initials(e.role, e.path);
    NamedFilter best;
    std::string where;
    for (auto part = path; !part.empty() && part != part.root_path(); part = part.parent_path()) {
        const bool file = part == path;
        const std::string name = file ? part.stem().string() : part.filename().string();
        const NamedFilter here = filter_of_name(name, file ? initials : std::string());
        if (here.strength <= best.strength) continue; // what stands nearer to the file wins
        best = here;
        where = fmt::format("{} name {}", file ? "file" : "folder", part.filename().string());
    }
    const bool colour_sensor = !e.cfa.empty() || e.planes == 3;
    if (best.strength == FilterWord::none || (best.strength == FilterWord::letter && colour_sensor)) return;
    set_value(e, Field::filter, best.name, {Origin::path, where});
}

double arcsec_per_pixel(const Exposure& e, int cell) {
    if (!e.pixel_um || !e.focal_length_mm || !(*e.focal_length_mm > 0)) return 0;
    return kArcsecPerMicrometre * *e.pixel_um * e.binning_x * cell / *e.focal_length_mm;
}

std::string sensor_key(const Exposure& e) {
    return fmt::format("{} {}x{} bin {}x{} {}", e.camera.empty() ? "unnamed camera" : e.camera, e.width, e.height,
                       e.binning_x, e.binning_y,
                       e.planes == 3      ? "RGB"
                       : e.cfa.empty()    ? "mono"
                       : e.cfa.size() > 4 ? "6x6 CFA"
                                          : e.cfa);
}

} // namespace kasane
