#include <kasane/recipe/finish_keys.hpp>

#include <kasane/base/error.hpp>
#include <kasane/image/region_text.hpp>

#include <cmath>
#include <fmt/format.h>

namespace kasane::recipe_keys {

namespace {

std::vector<Region> boxes(Reader& r, const toml::node& n, const std::string& key) {
    std::vector<Region> out;
    for (const std::string& text : r.list(n, key)) {
        const auto box = parse_region(text);
        if (!box) r.wrong(n, key, "x, y, width and height in pixels of the master light, \"100 100 400 300\"");
        out.push_back(*box);
    }
    return out;
}

int whole(const Reader& r, const toml::node& n, const std::string& key, int low, int high, const char* wanted) {
    const double v = r.number(n, key, low, high, wanted);
    if (v != std::floor(v)) r.wrong(n, key, wanted);
    return static_cast<int>(v);
}

/// What a parser refuses is refused with its place.
template <class F>
auto parsed(const Reader& r, const toml::node& n, const std::string& key, F&& parse) {
    try {
        return parse();
    } catch (const UsageError& e) {
        r.wrong(n, key, e.remedy());
    }
}

} // namespace

void read_background(Reader& r, const toml::node& n, const std::string& key) {
    FinishOptions& o = r.recipe.finish;
    const std::string text = r.text(n, key);
    if (text != "polynomial" && text != "spline" && text != "none")
        r.wrong(n, key, "\"polynomial\", \"spline\" or \"none\"");
    o.background = text != "none";
    o.gradient.kind = text == "spline" ? GradientKind::spline : GradientKind::polynomial;
}

void read_degree(Reader& r, const toml::node& n, const std::string& key) {
    r.recipe.finish.gradient.degree = whole(r, n, key, 1, GradientOptions::kMostDegree, "a whole number from 1 to 6");
}

void read_sky_boxes(Reader& r, const toml::node& n, const std::string& key) {
    r.recipe.finish.gradient.sky = boxes(r, n, key);
}

void read_other_boxes(Reader& r, const toml::node& n, const std::string& key) {
    r.recipe.finish.gradient.not_sky = boxes(r, n, key);
}

void read_palette(Reader& r, const toml::node& n, const std::string& key) {
    constexpr const char* kWanted =
        "a table of red, green and blue, { red = \"Ha\", green = \"0.3 Ha + 0.7 OIII\", blue = \"OIII\" }";
    const toml::table* t = n.as_table();
    if (!t || t->size() != kColourNames.size()) r.wrong(n, key, kWanted);
    for (std::size_t c = 0; c < kColourNames.size(); ++c) {
        const toml::node* one = t->get(kColourNames[c]);
        if (!one) r.wrong(n, key, kWanted);
        const std::string text = r.text(*one, key);
        r.recipe.finish.palette.colours[c] = parsed(r, *one, key, [&] { return parse_channel_sum(text); });
    }
}

void read_sharpen(Reader& r, const toml::node& n, const std::string& key) {
    const double share = r.number(n, key, FinishOptions::kSharpest, 1, "a number from 0.6 to 0.95, or 1");
    r.recipe.finish.sharpen = share < 1 ? share : 0;
}

void read_white(Reader& r, const toml::node& n, const std::string& key) {
    const std::string text = r.text(n, key);
    if (text == "none")
        r.recipe.finish.white.reset();
    else
        r.recipe.finish.white = parsed(r, n, key, [&] { return parse_white(text); });
}

void read_crop(Reader& r, const toml::node& n, const std::string& key) {
    const std::string text = r.text(n, key);
    parsed(r, n, key, [&] { return set_crop(r.recipe.finish, text), 0; });
}

void read_finish_onto(Reader& r, const toml::node& n, const std::string& key) {
    r.recipe.finish.onto = r.text(n, key);
}

void read_quarter_turn(Reader& r, const toml::node& n, const std::string& key) {
    constexpr const char* kWanted = "0, 90, 180 or 270";
    r.recipe.finish.reshape.turn = whole(r, n, key, 0, 270, kWanted);
    if (r.recipe.finish.reshape.turn % 90 != 0) r.wrong(n, key, kWanted);
}

void read_bin(Reader& r, const toml::node& n, const std::string& key) {
    r.recipe.finish.reshape.bin = whole(r, n, key, 1, 16, "a whole number from 1 to 16");
}

void read_shown_sky(Reader& r, const toml::node& n, const std::string& key) {
    r.recipe.finish.tone.sky = r.number(n, key, 0.01, 0.6, "a number from 0.01 to 0.6");
}

void read_black(Reader& r, const toml::node& n, const std::string& key) {
    r.recipe.finish.tone.black = r.number(n, key, 0, 100, "a number from 0 to 100");
}

} // namespace kasane::recipe_keys
