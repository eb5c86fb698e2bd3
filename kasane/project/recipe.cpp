#include <kasane/project/recipe.hpp>

#include <kasane/base/error.hpp>
#include <kasane/frames/words.hpp>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <fmt/format.h>
#include <fstream>
#include <functional>
#include <optional>
#include <sstream>

#define TOML_EXCEPTIONS 1
#include <toml++/toml.h>

namespace kasane {

namespace {

constexpr std::uintmax_t kLargestRecipe = 4 << 20; // bytes; a recipe is written by hand

/// Throws UsageError with the place.
[[noreturn]] void refuse(const toml::source_region& at, const std::filesystem::path& file, const std::string& what,
                         const std::string& remedy) {
    throw UsageError(fmt::format("line {}, column {}: {}", at.begin.line, at.begin.column, what), file, remedy);
}

struct Reader {
    Recipe recipe;
    std::filesystem::path file;

    [[noreturn]] void wrong(const toml::node& node, const std::string& key, const std::string& wanted) const {
        refuse(node.source(), file, fmt::format("{} must be {}", key, wanted),
               fmt::format("Write {} as {}", key, wanted));
    }
    double number(const toml::node& n, const std::string& key, double low, double high, const char* wanted) const {
        const auto v = n.value_exact<double>() ? n.value_exact<double>()
                       : n.value_exact<std::int64_t>()
                           ? std::optional(static_cast<double>(*n.value_exact<std::int64_t>()))
                           : std::nullopt;
        if (!v || !(*v >= low && *v <= high)) wrong(n, key, wanted);
        return *v;
    }
    bool flag(const toml::node& n, const std::string& key) const {
        const auto v = n.value_exact<bool>();
        if (!v) wrong(n, key, "true or false");
        return *v;
    }
    std::string text(const toml::node& n, const std::string& key) const {
        const auto v = n.value_exact<std::string>();
        if (!v) wrong(n, key, "text in quotes");
        if (v->find('\0') != std::string::npos) wrong(n, key, "text without zero bytes");
        return *v;
    }
    std::vector<std::string> list(const toml::node& n, const std::string& key) const {
        std::vector<std::string> out;
        if (n.is_string()) return {text(n, key)};
        const toml::array* a = n.as_array();
        if (!a) wrong(n, key, "a list of texts, [\"...\"]");
        for (const toml::node& e : *a)
            out.push_back(text(e, key));
        return out;
    }
    ColourMethod method(const toml::node& n, const std::string& key) const {
        const auto m = colour_method_named(text(n, key));
        if (!m) wrong(n, key, "\"adaptive\", \"bilinear\", \"binned\", \"separate\", \"red\", \"green\" or \"blue\"");
        return *m;
    }
    /// A value of a record, whatever its TOML type.
    std::string value(const toml::node& n, const std::string& key) const {
        if (const auto s = n.value_exact<std::string>()) return *s;
        if (const auto i = n.value_exact<std::int64_t>()) return fmt::format("{}", *i);
        if (const auto d = n.value_exact<double>(); d && std::isfinite(*d)) return fmt::format("{:.10g}", *d);
        if (const auto b = n.value_exact<bool>()) return *b ? "true" : "false";
        std::ostringstream date;
        if (n.is_date()) date << *n.as_date();
        if (n.is_date_time()) date << *n.as_date_time();
        if (date.str().empty()) wrong(n, key, "a number, a text, a date, true or false");
        return date.str();
    }
    std::pair<Field, std::string> field_value(Field field, const toml::node& n, const std::string& key) const {
        const std::string v = value(n, key);
        Exposure trial;
        const std::string problem = set_value(trial, field, v, {Origin::recipe, {}});
        if (!problem.empty())
            refuse(n.source(), file, fmt::format("{}: {}", key, problem),
                   fmt::format("Give {}: {}", key, field_meaning(field)));
        return {field, v};
    }
};

struct Key {
    const char* section;
    const char* name;
    const char* type;
    const char* standard; ///< the default as TOML, or an example after "none; "
    const char* meaning;
    void (*read)(Reader&, const toml::node&, const std::string& key);
};

void read_layouts(Reader& r, const toml::node& n, const std::string& key) {
    r.recipe.rules.layouts = r.list(n, key);
    for (const std::string& l : r.recipe.rules.layouts)
        if (const std::string problem = layout_problem(l); !problem.empty())
            refuse(n.source(), r.file, fmt::format("{} \"{}\": {}", key, l, problem),
                   "Write it like \"night-{night}/{role}/{filter}\"");
}

void read_separate(Reader& r, const toml::node& n, const std::string& key) {
    for (const std::string& name : r.list(n, key)) {
        const auto field = field_named(name);
        if (!field)
            refuse(n.source(), r.file, fmt::format("{}: there is no value called {}", key, name),
                   "Use \"seconds\", \"gain\" or \"night\"");
        r.recipe.pairing.separate.push_back(*field);
    }
}

void read_size(Reader& r, const toml::node& n, const std::string& key) {
    const std::string t = r.text(n, key);
    double v = 0;
    const auto [end, error] = std::from_chars(t.data(), t.data() + t.size(), v);
    const std::string unit(end, t.data() + t.size());
    const double factor = unit == "G" ? 1073741824.0 : unit == "M" ? 1048576.0 : 0;
    if (error != std::errc{} || factor == 0 || !(v >= 0) || v * factor > 1e16)
        r.wrong(n, key, "a size like \"20G\" or \"500M\"");
    r.recipe.cache_bytes = static_cast<std::uint64_t>(v * factor);
}

void read_colour_filters(Reader& r, const toml::node& n, const std::string& key) {
    const toml::table* t = n.as_table();
    if (!t) r.wrong(n, key, "a table like { Ha = \"red\" }");
    for (const auto& [filter, method] : *t)
        r.recipe.colour.by_filter[fold_filter(std::string(filter.str()))] =
            r.method(method, key + "." + std::string(filter.str()));
}

void read_lone_pixels(Reader& r, const toml::node& n, const std::string& key) {
    using Lone = CalibrationRecipe::Lone;
    const std::string t = r.text(n, key);
    if (t != "auto" && t != "on" && t != "off") r.wrong(n, key, "\"auto\", \"on\" or \"off\"");
    r.recipe.calibration.lone_pixels = t == "on" ? Lone::on : t == "off" ? Lone::off : Lone::automatic;
}

void read_equalise(Reader& r, const toml::node& n, const std::string& key) {
    for (const std::string& what : r.list(n, key)) {
        if (what != "rows" && what != "columns") r.wrong(n, key, "a list of \"rows\" and \"columns\"");
        (what == "rows" ? r.recipe.calibration.equalise_rows : r.recipe.calibration.equalise_columns) = true;
    }
}

/// Words of other spellings are brought to the ones that exposures have.
void read_limits(Reader& r, const toml::node& n, const std::string& key) {
    r.recipe.grading.limits.clear();
    const auto add = [&](const toml::node& at, const std::string& text) {
        if (text == "standard") {
            const auto& all = standard_limits();
            r.recipe.grading.limits.insert(r.recipe.grading.limits.end(), all.begin(), all.end());
            return;
        }
        try {
            Limit limit = parse_limit(text);
            for (std::string& f : limit.filters)
                f = fold_filter(f);
            r.recipe.grading.limits.push_back(limit_text(limit));
        } catch (const UsageError& e) {
            refuse(at.source(), r.file, e.what_failed(), e.remedy());
        }
    };
    if (n.is_string()) return add(n, r.text(n, key));
    const toml::array* a = n.as_array();
    if (!a) r.wrong(n, key, "a list of limits, [\"fwhm > 1.4 x median\"]");
    for (const toml::node& e : *a)
        add(e, r.text(e, key));
}

void read_part(Reader& r, const toml::node& n, const std::string& key) {
    std::istringstream in(r.text(n, key));
    Region g;
    std::string rest;
    if (!(in >> g.x >> g.y >> g.width >> g.height) || in >> rest || g.x < 0 || g.y < 0 || g.empty() || g.x > 1000000 ||
        g.y > 1000000 || g.width > 1000000 || g.height > 1000000)
        r.wrong(n, key, "x, y, width and height in pixels, \"1000 800 2000 1500\"");
    r.recipe.grading.part = g;
}

void read_defects(Reader& r, const toml::node& n, const std::string& key) {
    for (const std::string& text : r.list(n, key)) {
        std::istringstream in(text);
        Region g;
        std::string rest;
        if (!(in >> g.x >> g.y >> g.width >> g.height) || in >> rest || g.x < 0 || g.y < 0 || g.empty() ||
            g.width > 1000000 || g.height > 1000000 || g.x > 1000000 || g.y > 1000000)
            refuse(n.source(), r.file, fmt::format("{}: \"{}\" is no rectangle of pixels", key, text),
                   "Write x, y, width and height: \"2210 0 1 4176\"");
        r.recipe.calibration.defects.push_back(g);
    }
}

const std::vector<Key>& schema() {
    static const std::vector<Key> keys = {
        {"project", "folders", "list of folders", "[]",
         "More folders to read beside the project's own, relative to it: a library of darks and masters that several "
         "targets share.",
         [](Reader& r, const toml::node& n, const std::string& k) { r.recipe.folders = r.list(n, k); }},
        {"project", "exclude", "list of globs", "[]",
         "Files and folders to leave out. `*` stands for any text within a name, `**` for any folders; a pattern "
         "without a "
         "slash is tried on names alone.",
         [](Reader& r, const toml::node& n, const std::string& k) { r.recipe.rules.exclude = r.list(n, k); }},
        {"project", "layout", "text, or a list of them", "[]",
         "What folders and files are named for, as in `night-{night}/{role}/{filter}`: each part between slashes is "
         "text "
         "with `{value}` in it, or `{}` for anything; the values are those of [[files]]. What follows in a path is "
         "free; a "
         "path of another shape is left alone. Trusted more than headers.",
         read_layouts},
        {"project", "output", "folder", "\"kasane\"", "Where results go, relative to the project.",
         [](Reader& r, const toml::node& n, const std::string& k) { r.recipe.output = r.text(n, k); }},
        {"project", "time_zone", "hours", "none; 1.0",
         "Hours that local time was ahead of UTC, to tell the nights; without it the site's longitude tells, else the "
         "gaps "
         "between exposures.",
         [](Reader& r, const toml::node& n, const std::string& k) {
             r.recipe.nights.time_zone = r.number(n, k, -14, 14, "hours between -14 and 14");
         }},
        {"project", "look_at_pixels", "true or false", "true",
         "Whether pixels are looked at to find the roles of files that say nothing, and to find dark lights, saturated "
         "flats "
         "and undeclared colour sensors.",
         [](Reader& r, const toml::node& n, const std::string& k) { r.recipe.look_at_pixels = r.flag(n, k); }},
        {"pairing", "temperature_tolerance", "degrees", "2.5",
         "Darks within it are one group, and fit a light within it. An uncooled camera's light takes the nearest "
         "group.",
         [](Reader& r, const toml::node& n, const std::string& k) {
             r.recipe.pairing.temperature_tolerance = r.number(n, k, 0, 100, "degrees between 0 and 100");
         }},
        {"pairing", "exposure_tolerance", "share", "0.02",
         "A dark fits a light whose exposure time differs by no more.",
         [](Reader& r, const toml::node& n, const std::string& k) {
             r.recipe.pairing.exposure_tolerance = r.number(n, k, 0, 1, "a share between 0 and 1");
         }},
        {"pairing", "scale_darks", "true or false", "true",
         "Whether a dark of another exposure or temperature is scaled to the light where a bias fits too. It is always "
         "told.",
         [](Reader& r, const toml::node& n, const std::string& k) { r.recipe.pairing.scale_darks = r.flag(n, k); }},
        {"pairing", "flats_of_other_nights", "true or false", "true",
         "Whether lights of a night without flats take those of the nearest night, with a warning.",
         [](Reader& r, const toml::node& n, const std::string& k) {
             r.recipe.pairing.flats_of_other_nights = r.flag(n, k);
         }},
        {"pairing", "separate", "list of values", "[]",
         "Lights that differ in these make master lights of their own: \"seconds\", \"gain\", \"night\", ...",
         read_separate},
        {"pairing", "offset_level", "ADU", "none; 500.0",
         "The level without light, subtracted where there is neither dark nor bias. Camera raw files bring their own.",
         [](Reader& r, const toml::node& n, const std::string& k) {
             r.recipe.pairing.offset_level = r.number(n, k, -1e6, 1e9, "a level in ADU");
         }},
        {"colour", "method", "text", "\"adaptive\"",
         "How the mosaic of a colour sensor becomes red, green and blue: \"adaptive\" and \"bilinear\" interpolate; "
         "\"binned\" halves the size instead; \"separate\" does too and registers each colour for itself, against "
         "lateral colour and atmospheric dispersion; \"red\", \"green\" and \"blue\" take one colour alone, for "
         "narrow filters.",
         [](Reader& r, const toml::node& n, const std::string& k) { r.recipe.colour.method = r.method(n, k); }},
        {"colour", "filters", "table", "none; { Ha = \"red\", O3 = \"green\" }",
         "The same for the lights of some filters.", read_colour_filters},
        {"calibration", "library", "folder", "none; \"../library\"",
         "Where calibration masters are written and looked for, relative to the project, so that several targets share "
         "them; without it they lie with the results.",
         [](Reader& r, const toml::node& n, const std::string& k) { r.recipe.calibration.library = r.text(n, k); }},
        {"calibration", "fit_darks", "true or false", "true",
         "Whether the factor of a scaled dark is measured in each light, from the light's own hot pixels, between half "
         "and twice what exposure and temperature let expect, and whether a light between two temperatures takes a "
         "mixture of both darks where that leaves less.",
         [](Reader& r, const toml::node& n, const std::string& k) { r.recipe.calibration.fit_darks = r.flag(n, k); }},
        {"calibration", "lone_pixels", "text", "\"auto\"",
         "Whether hot and cold pixels are looked for in each light by itself: \"on\", \"off\", or \"auto\" for lights "
         "that no dark fits.",
         read_lone_pixels},
        {"calibration", "spills", "true or false", "true",
         "Whether the vertical spills of saturated stars (cameras without anti-blooming) are taken out of each light.",
         [](Reader& r, const toml::node& n, const std::string& k) { r.recipe.calibration.spills = r.flag(n, k); }},
        {"calibration", "equalise", "list of \"rows\", \"columns\"", "[]",
         "Takes out what offsets of whole rows or columns the masters leave, where all parts of the line agree on it.",
         read_equalise},
        {"calibration", "defects", "list of \"x y width height\"", "none; [\"2210 0 1 4176\"]",
         "Rectangles of sensor pixels that are defective, marked by hand; (0, 0) is the first pixel.", read_defects},
        {"calibration", "defect_maps", "list of files", "none; [\"defects.png\"]",
         "Images of the sensor's size, relative to the project, whose pixels above zero are defective.",
         [](Reader& r, const toml::node& n, const std::string& k) { r.recipe.calibration.defect_maps = r.list(n, k); }},
        {"grading", "limits", "list of limits", "[\"standard\"]",
         "Which exposures are dropped: `\"fwhm > 1.4 x night median\"`, `\"sky > 2 x night median and worth < 0.7\"`, "
         "`\"best 80 % by worth for Ha\"`; \"standard\" stands for those that hold without this key. "
         "docs/grading.md has the grammar and the measures. Verdicts by hand are in verdicts.toml.",
         read_limits},
        {"grading", "part", "\"x y width height\"", "none; \"1000 800 2000 1500\"",
         "Takes the measures inside this rectangle of the frames only, in pixels.", read_part},
        {"grading", "threshold", "sigma", "5.0",
         "How far a star must stand above the noise, after a matched filter, to be counted.",
         [](Reader& r, const toml::node& n, const std::string& k) {
             r.recipe.grading.detect.threshold =
                 static_cast<float>(r.number(n, k, 2, 1000, "a number between 2 and 1000"));
         }},
        {"grading", "least_stars", "stars", "40",
         "As many are sought in every exposure; where there are fewer above the threshold, weaker ones (down to 4 "
         "sigma) "
         "are taken for registration, but not counted.",
         [](Reader& r, const toml::node& n, const std::string& k) {
             r.recipe.grading.detect.least = static_cast<int>(r.number(n, k, 0, 10000, "a number of stars"));
         }},
        {"grading", "most_stars", "stars", "400", "The strongest that are measured one by one.",
         [](Reader& r, const toml::node& n, const std::string& k) {
             r.recipe.grading.detect.most = static_cast<int>(r.number(n, k, 20, 5000, "between 20 and 5000 stars"));
         }},
        {"grading", "area", "pixels", "3", "Of the nine pixels at a star's peak, how many must rise above the noise.",
         [](Reader& r, const toml::node& n, const std::string& k) {
             r.recipe.grading.detect.area = static_cast<int>(r.number(n, k, 1, 9, "between 1 and 9 pixels"));
         }},
        {"cache", "size", "text", "\"20G\"",
         "Limit of the cache of decoded camera raw, PNG and JPEG files in `.kasane/cache`; the least recently used go "
         "first.",
         read_size},
    };
    return keys;
}

/// Edits that turn one word into another (Damerau and Levenshtein, adjacent letters swapped count once).
std::size_t edits(const std::string& a, const std::string& b) {
    std::vector<std::vector<std::size_t>> d(a.size() + 1, std::vector<std::size_t>(b.size() + 1));
    for (std::size_t i = 0; i <= a.size(); ++i)
        for (std::size_t j = 0; j <= b.size(); ++j) {
            if (i == 0 || j == 0) {
                d[i][j] = i + j;
                continue;
            }
            d[i][j] = std::min({d[i - 1][j] + 1, d[i][j - 1] + 1, d[i - 1][j - 1] + (a[i - 1] != b[j - 1])});
            if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1])
                d[i][j] = std::min(d[i][j], d[i - 2][j - 2] + 1);
        }
    return d[a.size()][b.size()];
}

std::string nearest(const std::string& wrong, const std::vector<std::string>& right) {
    std::string best;
    std::size_t least = 1000;
    const std::string word = wrong.substr(0, 60);
    for (const std::string& r : right)
        if (const std::size_t e = edits(word, r); e < least) {
            least = e;
            best = r;
        }
    return least <= std::max<std::size_t>(3, word.size() / 2) ? best : "";
}

[[noreturn]] void unknown_key(const toml::key& key, const std::filesystem::path& file, const std::string& where,
                              const std::vector<std::string>& right) {
    const std::string name(key.str()), best = nearest(name, right);
    std::string all;
    for (const std::string& r : right)
        all += (all.empty() ? "" : ", ") + r;
    refuse(key.source(), file, fmt::format("there is no key '{}' {}", name, where),
           best.empty() ? fmt::format("Keys there are {}", all) : fmt::format("Did you mean '{}'?", best));
}

std::vector<std::string> field_names() {
    std::vector<std::string> names;
    for (int i = 0; i < kFields; ++i)
        names.emplace_back(field_name(static_cast<Field>(i)));
    return names;
}

void read_assume(Reader& r, const toml::table& t) {
    for (const auto& [key, node] : t) {
        const auto field = field_named(key.str());
        if (!field || *field == Field::turn) {
            auto names = field_names();
            std::erase(names, "turn");
            unknown_key(key, r.file, "in [assume]", names);
        }
        r.recipe.rules.assume.push_back(r.field_value(*field, node, std::string(key.str())));
    }
}

void read_file_rule(Reader& r, const toml::table& t) {
    FileRule rule;
    for (const auto& [key, node] : t) {
        const std::string name(key.str());
        if (name == "match") {
            rule.match = r.text(node, name);
        } else if (name == "exclude") {
            rule.exclude = r.flag(node, name);
        } else if (const auto field = field_named(name)) {
            rule.values.push_back(r.field_value(*field, node, name));
        } else {
            auto names = field_names();
            names.insert(names.begin(), {"match", "exclude"});
            unknown_key(key, r.file, "in [[files]]", names);
        }
    }
    if (rule.match.empty())
        refuse(t.source(), r.file, "[[files]] does not say which files it is for", "Add match = \"night-2/flats/**\"");
    // Order of the values: a turn changes the size, everything else is free.
    r.recipe.rules.files.push_back(std::move(rule));
}

void read_section(Reader& r, const std::string& section, const toml::table& t) {
    for (const auto& [key, node] : t) {
        const auto it = std::find_if(schema().begin(), schema().end(), [&section, &name = key](const Key& k) {
            return section == k.section && name.str() == k.name;
        });
        if (it == schema().end()) {
            std::vector<std::string> names;
            for (const Key& k : schema())
                if (section == k.section) names.emplace_back(k.name);
            unknown_key(key, r.file, fmt::format("in [{}]", section), names);
        }
        it->read(r, node, std::string(key.str()));
    }
}

std::string wrapped_comment(const std::string& text) {
    std::string out, line = "#";
    std::istringstream in(text);
    std::string word;
    while (in >> word) {
        if (line.size() + 1 + word.size() > 100) {
            out += line + "\n";
            line = "#";
        }
        line += " " + word;
    }
    return out + line + "\n";
}

std::string section_heading(const std::string& section) {
    return section == "project"       ? "Where the files are and what their names mean"
           : section == "pairing"     ? "Which calibration frames go with which lights"
           : section == "colour"      ? "How the mosaics of colour sensors become planes"
           : section == "calibration" ? "What is done to the pixels beside dark and flat"
           : section == "grading"     ? "How exposures are measured, and which are dropped"
                                      : "The cache of decoded pixels";
}

std::string example_of(const Key& k) {
    const std::string s = k.standard;
    return s.starts_with("none; ") ? s.substr(6) : s;
}

} // namespace

ColourMethod ColourRecipe::of(const std::string& filter) const {
    const auto it = by_filter.find(fold_filter(filter));
    return it == by_filter.end() ? method : it->second;
}

std::filesystem::path recipe_file(const std::filesystem::path& folder) {
    return folder / "kasane.toml";
}

Recipe parse_recipe(const std::string& text, const std::filesystem::path& file) {
    Reader r;
    r.file = file;
    toml::table root;
    try {
        root = toml::parse(text, file.string());
    } catch (const toml::parse_error& e) {
        refuse(e.source(), file, std::string(e.description()),
               "Mend that line; 'kasane init' writes a template to look at");
    }
    for (const auto& [key, node] : root) {
        const std::string name(key.str());
        if (name == "files") {
            const toml::array* rules = node.as_array();
            if (!rules)
                refuse(node.source(), file, "files must be a list of tables", "Write [[files]] with two brackets");
            for (const toml::node& rule : *rules) {
                if (!rule.as_table())
                    refuse(rule.source(), file, "files must be a list of tables", "Write [[files]] with two brackets");
                read_file_rule(r, *rule.as_table());
            }
            continue;
        }
        if (name != "project" && name != "pairing" && name != "colour" && name != "calibration" && name != "grading" &&
            name != "assume" && name != "cache") {
            // A key outside its table: say where it belongs.
            for (const Key& k : schema())
                if (name == k.name)
                    refuse(key.source(), file, fmt::format("'{}' stands outside its table", name),
                           fmt::format("Put it under [{}]", k.section));
            unknown_key(key, file, "at the top",
                        {"project", "pairing", "colour", "calibration", "grading", "assume", "files", "cache"});
        }
        const toml::table* t = node.as_table();
        if (!t)
            refuse(node.source(), file, fmt::format("{} must be a table", name),
                   fmt::format("Write [{}] and its keys below", name));
        if (name == "assume")
            read_assume(r, *t);
        else
            read_section(r, name, *t);
    }
    return std::move(r.recipe);
}

Recipe read_recipe(const std::filesystem::path& folder) {
    const auto file = recipe_file(folder);
    std::error_code failed;
    if (!std::filesystem::exists(file, failed)) return {};
    if (!std::filesystem::is_regular_file(file, failed))
        throw InputError("is not a file, though the recipe should be", file, "Rename or remove it");
    if (std::filesystem::file_size(file, failed) > kLargestRecipe)
        throw UsageError("is too large to be a recipe", file, "Look what was copied there");
    std::ifstream in(file, std::ios::binary);
    std::stringstream text;
    text << in.rdbuf();
    if (!in) throw InputError("cannot be read", file, "Check that the file may be read");
    return parse_recipe(text.str(), file);
}

std::string recipe_template() {
    std::string out =
        "# A Kasane recipe. Everything here is commented out and shows the default: an empty recipe is a good one.\n"
        "# Remove the '#' before a line to change it. All keys are explained in docs/recipe.md.\n";
    std::string section;
    for (const Key& k : schema()) {
        if (section != k.section) {
            section = k.section;
            out += fmt::format("\n# {}\n[{}]\n", section_heading(section), section);
        }
        out += wrapped_comment(k.meaning);
        out += fmt::format("# {} = {}\n", k.name, example_of(k));
    }
    out +=
        "\n# What headers lack, for all files that do not say it themselves\n[assume]\n"
        "# cfa = \"RGGB\"\n# gain = 100\n# pixel_size = 3.76\n"
        "\n# What some files have wrong; the last rule wins. Any value of the record can be given, and exclude = true\n"
        "# [[files]]\n# match = \"night-2/flats/**\"\n# filter = \"Ha\"\n# turn = 90\n";
    return out;
}

std::string recipe_reference() {
    std::string out =
        "# The recipe\n\n"
        "`kasane.toml` in the project's folder, in TOML. It is never needed: every key has a default, and `kasane "
        "init` writes a template\nwith all of them commented out. A key that does not exist or a value that cannot "
        "be is an error that names the line, the column\nand the nearest right key.\n";
    std::string section;
    for (const Key& k : schema()) {
        if (section != k.section) {
            section = k.section;
            out += fmt::format("\n## [{}]\n{}.\n\n| key | type | default | meaning |\n|---|---|---|---|\n", section,
                               section_heading(section));
        }
        const std::string standard = k.standard;
        out += fmt::format("| `{}` | {} | {} | {} |\n", k.name, k.type,
                           standard.starts_with("none; ") ? "none" : fmt::format("`{}`", standard), k.meaning);
    }
    out += "\n## [assume]\nWhat headers lack: used for every file where neither header, EXIF, path nor pixels say it. "
           "Any value "
           "of the table below but `turn`.\n"
           "\n## [[files]]\nWhat some files have wrong. `match` is a glob on the path relative to the project; "
           "`exclude = true` "
           "leaves the files out; any value of\nthe table below is trusted more than the header. Rules apply in their "
           "order, "
           "later ones win.\n\n```toml\n[[files]]\nmatch = \"night-2/flats/**\"\nfilter = \"Ha\"\nturn = 90      # the "
           "pixels "
           "are turned clockwise before they are used; never done unasked\n```\n\n| value | meaning |\n|---|---|\n";
    for (int i = 0; i < kFields; ++i)
        out += fmt::format("| `{}` | {} |\n", field_name(static_cast<Field>(i)), field_meaning(static_cast<Field>(i)));
    return out;
}

} // namespace kasane
