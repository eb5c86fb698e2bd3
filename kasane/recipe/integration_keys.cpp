#include <kasane/recipe/integration_keys.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/frames/words.hpp>
#include <kasane/grading/figures.hpp>

#include <algorithm>
#include <fmt/format.h>

namespace kasane::recipe_keys {

namespace {

std::string quoted(const std::vector<std::string_view>& names) {
    std::vector<std::string> out;
    for (const std::string_view n : names)
        out.push_back(fmt::format("\"{}\"", n));
    return fmt::format("{}", fmt::join(out, ", "));
}

/// What the recipe was given contradicts itself: told with its place.
void require_sense_of(const Reader& r, const toml::node& n, const std::string& key) {
    const IntegrationRecipe& i = r.recipe.integration;
    const auto check = [&](const std::optional<Rejection>& rejection) {
        if (!rejection) return;
        if (const std::string wrong = CombineOptions{*rejection, i.combination}.check(); !wrong.empty())
            refuse(n.source(), r.file, fmt::format("{}: {}", key, wrong), "Change one of the two");
    };
    check(i.rejection);
    for (const auto& [filter, rejection] : i.by_filter)
        check(rejection);
    if (i.feather.value_or(0) > 0 && i.combination != Combination::mean && i.combination != Combination::sum)
        refuse(n.source(), r.file,
               fmt::format("{}: edges of lights fade in means and sums, not in what \"{}\" makes", key,
                           combination_name(i.combination)),
               "Leave feather or combine out");
    if (r.recipe.drizzle.wanted && i.combination != Combination::mean && i.combination != Combination::sum)
        refuse(n.source(), r.file,
               fmt::format("{}: what \"{}\" makes cannot be drizzled, means and sums can", key,
                           combination_name(i.combination)),
               "Leave [drizzle] scale or [integration] combine out");
}

Rejection method_of(Reader& r, const toml::node& n, const std::string& key) {
    const auto method = rejection_named(r.text(n, key));
    if (!method) r.wrong(n, key, "\"auto\" or one of " + quoted(rejection_names()));
    return *method;
}

/// Nothing: chosen.
std::optional<Rejection> rejection_of(Reader& r, const toml::node& n, const std::string& key) {
    const toml::table* t = n.as_table();
    if (!t) {
        if (n.is_string() && r.text(n, key) == "auto") return std::nullopt;
        return method_of(r, n, key);
    }
    const toml::node* method = t->get("method");
    if (!method) r.wrong(n, key, "a table with its method, { method = \"sigma\", low = 4, high = 3 }");
    Rejection out = method_of(r, *method, key + ".method");
    for (const auto& [name, value] : *t) {
        const std::string option(name.str());
        if (option == "method") continue;
        const double v = r.number(value, key + "." + option, -1e6, 1e6, "a number");
        if (set_rejection_option(out, option, v)) continue;
        std::vector<std::string_view> there;
        const auto settings = rejection_settings(out);
        for (const auto& s : settings)
            there.push_back(s.first);
        refuse(name.source(), r.file, fmt::format("{}: {} has no option '{}'", key, rejection_name(out), option),
               there.empty() ? "It has none" : fmt::format("It has {}", fmt::join(there, ", ")));
    }
    if (const std::string wrong = check(out); !wrong.empty())
        refuse(n.source(), r.file, fmt::format("{}: {}", key, wrong), "Change it, or take it out for the default");
    return out;
}

} // namespace

void read_rejection(Reader& r, const toml::node& n, const std::string& key) {
    r.recipe.integration.rejection = rejection_of(r, n, key);
    require_sense_of(r, n, key);
}

void read_rejection_filters(Reader& r, const toml::node& n, const std::string& key) {
    const toml::table* t = n.as_table();
    if (!t) r.wrong(n, key, "a table like { Ha = \"winsorized\" }");
    for (const auto& [filter, rejection] : *t)
        r.recipe.integration.by_filter[fold_filter(std::string(filter.str()))] =
            rejection_of(r, rejection, key + "." + std::string(filter.str()));
    require_sense_of(r, n, key);
}

void read_combination(Reader& r, const toml::node& n, const std::string& key) {
    const auto combination = combination_named(r.text(n, key));
    if (!combination) r.wrong(n, key, "\"mean\", \"median\", \"sum\", \"max\", \"min\", \"huber\" or \"tukey\"");
    r.recipe.integration.combination = *combination;
    require_sense_of(r, n, key);
}

void read_grow(Reader& r, const toml::node& n, const std::string& key) {
    constexpr const char* kWanted = "a whole number of pixels from 0 to 16";
    const double v = r.number(n, key, 0, 16, kWanted);
    if (v != static_cast<int>(v)) r.wrong(n, key, kWanted);
    r.recipe.integration.grow = static_cast<int>(v);
}

void read_comet_marks(Reader& r, const toml::node& n, const std::string& key) {
    constexpr const char* kWanted = "marks like [[\"lights/L_001.fits\", 312, 204], [\"lights/L_040.fits\", 371, 188]]";
    const toml::array* marks = n.as_array();
    if (!marks) r.wrong(n, key, kWanted);
    r.recipe.comet.clear();
    for (const toml::node& node : *marks) {
        const toml::array* one = node.as_array();
        if (!one || (one->size() != 1 && one->size() != 3) || !(*one)[0].is_string()) r.wrong(node, key, kWanted);
        constexpr double kMost = 1e6;
        CometMark mark{std::filesystem::path(r.text((*one)[0], key)).lexically_normal().generic_string(), kNoData,
                       kNoData};
        if (one->size() == 3) {
            mark.x = r.number((*one)[1], key, -kMost, kMost, kWanted);
            mark.y = r.number((*one)[2], key, -kMost, kMost, kWanted);
        }
        const auto same = [&](const CometMark& m) { return m.file == mark.file; };
        if (std::any_of(r.recipe.comet.begin(), r.recipe.comet.end(), same))
            refuse(node.source(), r.file, fmt::format("{}: the comet is marked twice on {}", key, mark.file),
                   "Take one of the marks out");
        r.recipe.comet.push_back(std::move(mark));
    }
}

void read_drizzle_scale(Reader& r, const toml::node& n, const std::string& key) {
    constexpr const char* kWanted = "a number from 1 to 3, \"auto\" or \"none\"";
    DrizzleRecipe& d = r.recipe.drizzle;
    d.automatic = n.is_string() && r.text(n, key) == "auto";
    d.wanted = d.automatic || !n.is_string();
    if (!n.is_string())
        d.options.scale = r.number(n, key, 1, 3, kWanted);
    else if (!d.automatic && r.text(n, key) != "none")
        r.wrong(n, key, kWanted);
    require_sense_of(r, n, key);
}

void read_drop(Reader& r, const toml::node& n, const std::string& key) {
    r.recipe.drizzle.options.drop = r.number(n, key, 0.1, 2, "a number of pixels from 0.1 to 2");
    r.recipe.drizzle.own_drop = true;
}

void read_restore(Reader& r, const toml::node& n, const std::string& key) {
    DrizzleRecipe& d = r.recipe.drizzle;
    d.own_restore = !(n.is_string() && r.text(n, key) == "auto");
    if (d.own_restore && !n.is_boolean()) r.wrong(n, key, "true, false or \"auto\"");
    d.options.restore = d.own_restore && r.flag(n, key);
}

void read_drop_shape(Reader& r, const toml::node& n, const std::string& key) {
    const auto shape = drop_shape_named(r.text(n, key));
    if (!shape) r.wrong(n, key, "one of " + quoted({kDropShapeNames.begin(), kDropShapeNames.end()}));
    r.recipe.drizzle.options.shape = *shape;
}

void read_feather(Reader& r, const toml::node& n, const std::string& key) {
    constexpr const char* kWanted = "\"auto\" or a number of pixels from 0 to 10000";
    std::optional<double>& feather = r.recipe.integration.feather;
    feather.reset();
    if (!n.is_string())
        feather = r.number(n, key, 0, 10000, kWanted);
    else if (r.text(n, key) != "auto")
        r.wrong(n, key, kWanted);
    require_sense_of(r, n, key);
}

void read_also(Reader& r, const toml::node& n, const std::string& key) {
    std::vector<CompositeKind>& also = r.recipe.integration.also;
    also.clear();
    for (const std::string& name : r.list(n, key)) {
        const auto kind = composite_named(name);
        if (!kind) r.wrong(n, key, "a list of \"all-filters\" and \"luminance\"");
        if (std::find(also.begin(), also.end(), *kind) == also.end()) also.push_back(*kind);
    }
}

void read_weights(Reader& r, const toml::node& n, const std::string& key) {
    std::map<Measure, double>& weights = r.recipe.integration.weights;
    weights.clear();
    const toml::table* t = n.as_table();
    if (!t) {
        const std::string text = n.is_string() ? r.text(n, key) : std::string();
        if (text != "worth" && text != "equal")
            r.wrong(n, key, "\"worth\", \"equal\", or a table like { worth = 1, fwhm = -1 }");
        if (text == "worth") weights[Measure::worth] = 1;
        return;
    }
    for (const auto& [name, exponent] : *t) {
        const std::string text(name.str());
        const auto measure = measure_named(text);
        if (!measure || measure_info(*measure).better == 0)
            refuse(name.source(), r.file, fmt::format("{}: lights are not weighed by '{}'", key, text),
                   "Take a measure of which more or less is better, worth, fwhm or eccentricity say (docs/grading.md)");
        constexpr double kMost = 10;
        const double v = r.number(exponent, key + "." + text, -kMost, kMost, "an exponent between -10 and 10");
        if (*measure == Measure::worth && v < 0)
            r.wrong(exponent, key + "." + text, "an exponent between 0 and 10: negative, the worst would count most");
        weights[*measure] = v;
    }
}

} // namespace kasane::recipe_keys
