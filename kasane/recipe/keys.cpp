#include <kasane/recipe/keys.hpp>

#include <kasane/base/error.hpp>
#include <kasane/frames/words.hpp>
#include <kasane/image/region_text.hpp>
#include <kasane/recipe/canvas_keys.hpp>
#include <kasane/recipe/finish_keys.hpp>
#include <kasane/recipe/integration_keys.hpp>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <fmt/format.h>

namespace kasane::recipe_keys {

namespace {

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
    const auto part = parse_region(r.text(n, key));
    if (!part) r.wrong(n, key, "x, y, width and height in pixels, \"1000 800 2000 1500\"");
    r.recipe.grading.part = *part;
}

void read_model(Reader& r, const toml::node& n, const std::string& key) {
    const std::string text = r.text(n, key);
    r.recipe.registration.model = model_named(text);
    if (!r.recipe.registration.model && text != "auto")
        r.wrong(n, key, "\"auto\", \"shift\", \"similarity\", \"affine\", \"projective\" or \"lens\"");
}

void read_rigs(Reader& r, const toml::node& n, const std::string& key) {
    const std::string text = r.text(n, key);
    r.recipe.rigs_together = text == "together";
    if (!r.recipe.rigs_together && text != "apart") r.wrong(n, key, "\"apart\" or \"together\"");
}

void read_reference(Reader& r, const toml::node& n, const std::string& key) {
    const std::string text = r.text(n, key);
    r.recipe.registration.reference = text == "auto" ? "" : text;
    if (!r.recipe.registration.reference.empty() && !r.recipe.registration.onto.empty())
        refuse(n.source(), r.file, "both reference and onto say what gives the grid", "Take one of them out");
}

void read_onto(Reader& r, const toml::node& n, const std::string& key) {
    r.recipe.registration.onto = r.text(n, key);
    if (!r.recipe.registration.reference.empty() && !r.recipe.registration.onto.empty())
        refuse(n.source(), r.file, "both reference and onto say what gives the grid", "Take one of them out");
}

void read_registration_part(Reader& r, const toml::node& n, const std::string& key) {
    const auto part = parse_region(r.text(n, key));
    if (!part) r.wrong(n, key, "x, y, width and height in pixels, \"1000 800 2000 1500\"");
    r.recipe.registration.part = *part;
}

LevelModel level_of(Reader& r, const toml::node& n, const std::string& key) {
    const auto model = level_model_named(r.text(n, key));
    if (!model) r.wrong(n, key, "\"local\", \"planes\", \"offset\", \"scale\" or \"none\"");
    return *model;
}

void read_level_filters(Reader& r, const toml::node& n, const std::string& key) {
    const toml::table* t = n.as_table();
    if (!t) r.wrong(n, key, "a table like { Ha = \"offset\" }");
    for (const auto& [filter, model] : *t)
        r.recipe.normalization.by_filter[fold_filter(std::string(filter.str()))] =
            level_of(r, model, key + "." + std::string(filter.str()));
}

void read_level_colours(Reader& r, const toml::node& n, const std::string& key) {
    const toml::table* t = n.as_table();
    if (!t) r.wrong(n, key, "a table like { red = \"planes\" }");
    constexpr std::array<std::string_view, 3> kColours = {"red", "green", "blue"};
    for (const auto& [colour, model] : *t) {
        const auto it = std::find(kColours.begin(), kColours.end(), colour.str());
        if (it == kColours.end())
            refuse(colour.source(), r.file,
                   fmt::format("there is no colour '{}' in {}", std::string(colour.str()), key),
                   "Colours there are red, green and blue");
        r.recipe.normalization.by_colour[static_cast<int>(it - kColours.begin())] =
            level_of(r, model, key + "." + std::string(colour.str()));
    }
}

void read_sky(Reader& r, const toml::node& n, const std::string& key) {
    const auto sky = parse_region(r.text(n, key));
    if (!sky) r.wrong(n, key, "x, y, width and height in pixels, \"1000 800 2000 1500\"");
    r.recipe.normalization.sky = *sky;
}

} // namespace

double share_of(const Reader& r, const toml::node& n, const std::string& key) {
    constexpr const char* kWanted = "a share between 0 and 1, or \"2 %\"";
    if (!n.is_string()) return r.number(n, key, 0, 1, kWanted);
    const std::string t = r.text(n, key);
    double v = 0;
    const auto [end, error] = std::from_chars(t.data(), t.data() + t.size(), v);
    const std::string unit(end, t.data() + t.size());
    if (error != std::errc{} || unit.find('%') == std::string::npos ||
        unit.find_first_not_of(" %") != std::string::npos || !(v >= 0 && v <= 100))
        r.wrong(n, key, kWanted);
    return 0.01 * v;
}

namespace {

void read_temperature(Reader& r, const toml::node& n, const std::string& key) {
    r.recipe.pairing.temperature_tolerance = r.number(n, key, 0, 100, "degrees between 0 and 100");
}

void read_exposure(Reader& r, const toml::node& n, const std::string& key) {
    r.recipe.pairing.exposure_tolerance = share_of(r, n, key);
}

void read_alike(Reader& r, const toml::node& n, const std::string& key) {
    const toml::table* t = n.as_table();
    if (!t) r.wrong(n, key, "a table like { exposure = \"2 %\", temperature = 2.5 }");
    for (const auto& [name, value] : *t) {
        const std::string full = key + "." + std::string(name.str());
        if (name.str() == "exposure")
            read_exposure(r, value, full);
        else if (name.str() == "temperature")
            read_temperature(r, value, full);
        else
            refuse(name.source(), r.file, fmt::format("there is no value '{}' in {}", std::string(name.str()), key),
                   "Values there are exposure and temperature");
    }
}

void read_defects(Reader& r, const toml::node& n, const std::string& key) {
    for (const std::string& text : r.list(n, key)) {
        const auto defect = parse_region(text);
        if (!defect)
            refuse(n.source(), r.file, fmt::format("{}: \"{}\" is no rectangle of pixels", key, text),
                   "Write x, y, width and height: \"2210 0 1 4176\"");
        r.recipe.calibration.defects.push_back(*defect);
    }
}

} // namespace

const std::vector<Key>& all() {
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
        {"pairing", "alike", "table", "{ exposure = \"2 %\", temperature = 2.5 }",
         "How far values may differ between a dark and a light and still count as the same: `exposure` as a share, "
         "`temperature` in degrees. Darks within the latter are one group; an uncooled camera's light takes the "
         "nearest group.",
         read_alike},
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
        {"pairing", "rigs", "text", "\"apart\"",
         "Whether lights of one target and filter that different cameras or telescopes took make a master light each "
         "(`\"apart\"`, on one grid) or one (`\"together\"`: resampled once, from raw, each weighted by what it tells "
         "of "
         "a patch of sky).",
         read_rigs},
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
        {"registration", "model", "text", "\"auto\"",
         "What may lie between the frames: `\"shift\"`, `\"similarity\"` (turn and scale as well), `\"affine\"`, "
         "`\"projective\"`, or `\"lens\"` (projective, with a distortion that all frames of a rig share). "
         "`\"auto\"`: the simplest that foretells the places of stars as well as any other. docs/registration.md",
         read_model},
        {"registration", "reference", "path or glob", "\"auto\"",
         "The light whose grid all others come onto; of several that a glob names, the best. `\"auto\"`: the one with "
         "the sharpest and most stars, the least noise and the most of the common sky; the report tells why.",
         read_reference},
        {"registration", "onto", "file", "none; \"../last-year/lantern-L.fits\"",
         "An image whose grid all lights come onto, in place of one of them, relative to the project: a master light "
         "of last year, or another camera's.",
         read_onto},
        {"registration", "part", "\"x y width height\"", "none; \"1000 800 2000 1500\"",
         "Brings the lights onto the stars inside this rectangle of the reference's grid alone, in its pixels.",
         read_registration_part},
        {"normalization", "level", "text", "\"local\"",
         "How lights are brought to one level before they are compared: `\"scale\"` by a factor from their stars, "
         "`\"offset\"` by a constant as well, `\"planes\"` by one with a tilt, `\"local\"` by a map as smooth as their "
         "skies ask for; `\"none\"` takes them as they are. Only what differs from light to light is touched.",
         [](Reader& r, const toml::node& n, const std::string& k) {
             r.recipe.normalization.level = level_of(r, n, k);
         }},
        {"normalization", "filters", "table", "none; { Ha = \"offset\" }", "The same for the lights of some filters.",
         read_level_filters},
        {"normalization", "colours", "table", "none; { red = \"planes\" }",
         "The same for single colours of colour sensors.", read_level_colours},
        {"normalization", "sky", "\"x y width height\"", "none; \"100 100 400 300\"",
         "The only part of the reference's grid from which levels are told, in its pixels: sky, where a nebula or "
         "landscape that changes fills the rest.",
         read_sky},
        {"canvas", "frame", "text", "\"reference\"",
         "What the master lights of a target show, all filters alike: `\"reference\"` what the reference does, "
         "`\"everything\"` what any light shows (nothing where none does), `\"common\"` the largest rectangle that "
         "most "
         "of "
         "the weight of every stack covers, or a rectangle `\"x y width height\"` in pixels of the reference's grid, "
         "beyond "
         "its edges as well. Without this line panels of a mosaic show everything.",
         read_frame},
        {"canvas", "share", "share", "\"90 %\"", "Of the weight of every stack, that `\"common\"` asks for.",
         read_common_share},
        {"canvas", "turn", "degrees or text", "0",
         "Turns the picture counter-clockwise: 90, 180 and 270 without any loss, any other angle, or `\"north up\"` "
         "where headers say where north is.",
         read_turn},
        {"canvas", "mirror", "true or false", "false", "Left and right change places, after the turn.", read_mirror},
        {"canvas", "scale", "number", "1",
         "Pixels of a master light along the side of one of the reference: 0.5 makes half of the size, of means over "
         "the "
         "pixels. Anything but 1 is told in the table and the header.",
         read_scale},
        {"integration", "rejection", "text or table", "\"auto\"",
         "Which samples of a pixel do not count. `\"auto\"`: all methods are tried on a part of the stack's own pixels "
         "with "
         "outliers added to them, and the one that leaves least is taken. Or `\"sigma\"`, `\"winsorized\"`, "
         "`\"noise\"`, "
         "`\"line\"`, `\"esd\"`, `\"percentile\"`, `\"min-max\"`, `\"pair\"`, `\"none\"`, or one with its options, `{ "
         "method = \"sigma\", low = 4, high = 3 }`. docs/integration.md",
         read_rejection},
        {"integration", "filters", "table", "none; { Ha = \"winsorized\" }", "The same for the lights of some filters.",
         read_rejection_filters},
        {"integration", "combine", "text", "\"mean\"",
         "How the samples that count become one: `\"mean\"`, `\"median\"`, `\"sum\"`, `\"max\"` and `\"min\"` (to see "
         "every "
         "flaw), `\"huber\"` or `\"tukey\"` (robust means that need no rejection).",
         read_combination},
        {"integration", "grow", "pixels", "2",
         "By how many pixels what is rejected grows at most, from samples far beyond the limits and those that lie "
         "together: "
         "the wings of trails, the halos of particles.",
         read_grow},
        {"integration", "feather", "\"auto\" or pixels", "\"auto\"",
         "Over how many pixels lights fade out towards their edges, so that where one ends no step is left of what its "
         "level is off; `\"auto\"`: 3 % of their shorter side, 64 at most. For means and sums.",
         read_feather},
        {"integration", "star_cores", "true or false", "true",
         "Limits widen in the cores of stars, where lights of other seeing must differ.",
         [](Reader& r, const toml::node& n, const std::string& k) { r.recipe.integration.star_cores = r.flag(n, k); }},
        {"integration", "streaks", "true or false", "true",
         "Trails that were found in a light are left out where other lights stand in; `false` leaves them to the "
         "rejection.",
         [](Reader& r, const toml::node& n, const std::string& k) { r.recipe.integration.streaks = r.flag(n, k); }},
        {"integration", "weights", "text or table", "\"worth\"",
         "What lights weigh: `\"worth\"` (the inverse variance of their noise at the common level, which makes the "
         "least "
         "noise), `\"equal\"`, or exponents of measures, `{ worth = 1, fwhm = -1 }`, for those who want sharpness. "
         "What "
         "each costs is told.",
         read_weights},
        {"integration", "also", "list", "none; [\"all-filters\", \"luminance\"]",
         "What is made of the finished master lights of a target as well: `\"all-filters\"`, everything that was "
         "taken, "
         "each filter scaled to the same noise; `\"luminance\"`, of L, R, G and B or of the colours of a sensor, "
         "scaled "
         "by "
         "their stars and weighed by their noise.",
         read_also},
        {"drizzle", "scale", "number, \"auto\" or \"none\"", "\"none\"",
         "Pixels of a master light along the side of one of the canvas, 1 to 3: the lights' own samples are laid down "
         "as drops on a finer grid, rather than interpolated. For stars smaller than two pixels and lights that were "
         "dithered, twenty at least; a colour sensor's samples are not demosaiced. `\"auto\"`: where that gains, and "
         "as "
         "is best for the lights. docs/special-stacks.md",
         read_drizzle_scale},
        {"drizzle", "drop", "pixels", "0.7",
         "Side of a drop, or the FWHM of a round one, in pixels of a light: smaller is sharper and noisier, and leaves "
         "holes where there are few lights. Without it, `\"auto\"` chooses its own.",
         read_drop},
        {"drizzle", "restore", "true, false or \"auto\"", "\"auto\"",
         "Takes out again what pixels and drops blur, by a linear filter that keeps all light: stars become narrower "
         "than "
         "the lights show them, and single pixels noisier. `\"auto\"`: where stars are smaller than two pixels and the "
         "lights' pixels fill each other's well enough.",
         read_restore},
        {"drizzle", "shape", "text", "\"square\"", "Of the drops: `\"square\"` or `\"gaussian\"`.", read_drop_shape},
        {"comet", "marks", "list of marks",
         "none; [[\"lights/L_001.fits\", 312, 204], [\"lights/L_040.fits\", 371, 188]]",
         "Where a comet is on two lights or more, as far apart in time as there are: the file, and the pixel (x, y) "
         "from "
         "the upper left one, (0, 0), as `kasane review` and `kasane show` count them; or the file alone, "
         "`[\"lights/L_001.fits\"]`, "
         "where its header says where the comet is; or one light alone whose header says how it moves. A master light "
         "of the comet is made as well, without the stars; one of the stars without the comet; and both together. "
         "docs/special-stacks.md",
         read_comet_marks},
        {"finish", "after_run", "true or false", "false", "`kasane run` ends with `kasane finish`.",
         [](Reader& r, const toml::node& n, const std::string& k) { r.recipe.finish_after_run = r.flag(n, k); }},
        {"finish", "background", "text", "\"polynomial\"",
         "What `kasane finish` takes off as the gradient of a master light: a `\"polynomial\"`, of the degree that the "
         "sky bears out, a `\"spline\"`, or `\"none\"`. docs/results.md",
         read_background},
        {"finish", "degree", "number", "none; 2", "Of that polynomial, 1 to 6. Without this line as the sky bears out.",
         read_degree},
        {"finish", "divide", "true or false", "false",
         "Divides by the gradient instead of subtracting it: for what a flat left.",
         [](Reader& r, const toml::node& n, const std::string& k) { r.recipe.finish.divide = r.flag(n, k); }},
        {"finish", "sky", "list of \"x y width height\"", "none; [\"40 40 300 200\"]",
         "Boxes of the master light, in its pixels, that are sky, whatever they show.", read_sky_boxes},
        {"finish", "not_sky", "list of \"x y width height\"", "none; [\"900 600 800 500\"]",
         "Boxes that are no sky: a nebula or a galaxy's halo that is as smooth as a gradient.", read_other_boxes},
        {"finish", "sharpen", "number", "none; 0.75",
         "The width (FWHM) that stars have once the master light is sharpened, as a share of what they had: 0.6 to "
         "0.95. Without this line, and with 1, nothing is sharpened.",
         read_sharpen},
        {"finish", "combine", "true or false", "true", "Filters become one picture in colour, where they make one.",
         [](Reader& r, const toml::node& n, const std::string& k) { r.recipe.finish.combine = r.flag(n, k); }},
        {"finish", "palette", "table", "none; { red = \"Ha\", green = \"0.3 Ha + 0.7 OIII\", blue = \"OIII\" }",
         "What makes red, green and blue: sums of filters. Without this line R, G and B do, where all three are there.",
         read_palette},
        {"finish", "luminance", "true or false", "true", "L, where there is one, gives the picture its brightness.",
         [](Reader& r, const toml::node& n, const std::string& k) { r.recipe.finish.luminance = r.flag(n, k); }},
        {"finish", "white", "text", "\"stars\"",
         "What is white: `\"stars\"`, the average of them; the light of a region, `\"x y width height\"`; factors of "
         "red, "
         "green and blue, `\"1.2 1 0.9\"`; or `\"none\"`: colours stay as they are.",
         read_white},
        {"finish", "onto", "path", "none; \"other-rig.fits\"",
         "An image whose grid all master lights are brought onto first, by their stars. Relative to the project.",
         read_finish_onto},
        {"finish", "crop", "\"x y width height\" or \"coverage share\"", "none; \"100 100 1600 1000\"",
         "What of the master light is kept: `\"coverage 0.9\"` is the largest rectangle in which every pixel has 0.9 "
         "of "
         "the full coverage.",
         read_crop},
        {"finish", "turn", "degrees", "0", "0, 90, 180 or 270, counter-clockwise; after the crop.", read_quarter_turn},
        {"finish", "mirror", "true or false", "false", "Left and right change places; after the turn.",
         [](Reader& r, const toml::node& n, const std::string& k) { r.recipe.finish.reshape.mirror = r.flag(n, k); }},
        {"finish", "bin", "pixels", "1", "Means over squares of so many pixels, 1 to 16; last.", read_bin},
        {"finish", "stretch", "number", "0.12",
         "How bright the sky is shown in the stretched picture, 0.01 to 0.6 of white: the more, the more what is faint "
         "is lifted.",
         read_shown_sky},
        {"finish", "black", "sigma", "3", "What is black there: so much below the sky, in units of its noise.",
         read_black},
        {"finish", "linked", "true or false", "true",
         "One curve for the brightness of all colours, which keeps those of stars; else one for each colour.",
         [](Reader& r, const toml::node& n, const std::string& k) { r.recipe.finish.tone.linked = r.flag(n, k); }},
        {"cache", "size", "text", "\"20G\"",
         "Limit of the cache of decoded camera raw, PNG and JPEG files in `.kasane/cache`; the least recently used go "
         "first.",
         read_size},
    };
    return keys;
}

const std::vector<Key>& former() {
    static const std::vector<Key> keys = {
        {"pairing", "temperature_tolerance", "degrees", "alike = { temperature = 2.5 }", "", read_temperature},
        {"pairing", "exposure_tolerance", "share", "alike = { exposure = \"2 %\" }", "", read_exposure},
    };
    return keys;
}

} // namespace kasane::recipe_keys
