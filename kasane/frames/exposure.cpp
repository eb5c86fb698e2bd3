#include <kasane/frames/exposure.hpp>

#include <kasane/base/units.hpp>
#include <kasane/frames/field_values.hpp>
#include <kasane/frames/fields.hpp>
#include <kasane/frames/nights.hpp>
#include <kasane/frames/words.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <filesystem>
#include <fmt/format.h>

namespace kasane {

namespace {

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
        for (const std::string_view key : field_entry(field).keys) {
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
            e.cfa = shifted_pattern(e.cfa, static_cast<int>(dx) & 1, static_cast<int>(dy) & 1);
    }
    e.made_by_kasane =
        h.text({"CREATOR", "Png.Software", "Jpeg.Comment", "Tiff.Software"}).value_or("").rfind("Kasane ", 0) == 0;
    if (e.made_by_kasane) {
        e.inputs = h.text("INPUTS").value_or("");
        for (const Card& card : h.cards())
            if (card.key.starts_with("INPUT") && card.key != "INPUTS") e.input_frames.push_back(card.value);
    }
    const double combined = h.number({"NCOMBINE", "STACKCNT", "NSTACK", "NUMCOMB", "NFRAMES"}).value_or(1);
    const bool single = h.find("EXPORTED") != nullptr; // one light, calibrated for another program
    e.is_master = e.is_master || (e.made_by_kasane && !single) || combined > 1;
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
    std::string problem = assign_value(e, field, text, from_file);
    if (problem.empty()) {
        if (field == Field::cfa && from_file && e.cfa.empty()) return problem;
        remember(e, field, std::move(source));
        if (field == Field::role) e.role_confidence = 1;
    }
    return problem;
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
    std::string wrong;
    if (const auto world = read_world(s.header, &wrong))
        e.world = std::make_shared<const WorldCoordinates>(
            is_bottom_up(s.header.text("ROWORDER").value_or("")) ? world->with_rows_reversed(s.height) : *world);
    if (!wrong.empty()) e.problems.push_back(wrong);
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
