#include <kasane/recipe/canvas_keys.hpp>

#include <kasane/image/region_text.hpp>

namespace kasane::recipe_keys {

void read_frame(Reader& r, const toml::node& n, const std::string& key) {
    FramingOptions& o = r.recipe.canvas.framing;
    const std::string text = r.text(n, key);
    const auto region = parse_region(text, true);
    r.recipe.canvas.frame_given = true;
    if (text == "reference")
        o.frame = Framing::reference;
    else if (text == "everything")
        o.frame = Framing::everything;
    else if (text == "common")
        o.frame = Framing::common;
    else if (region)
        o.frame = Framing::given, o.region = *region;
    else
        r.wrong(n, key,
                "\"reference\", \"everything\", \"common\", or x, y, width and height in pixels of the reference, "
                "\"1000 800 2000 1500\"");
}

void read_common_share(Reader& r, const toml::node& n, const std::string& key) {
    r.recipe.canvas.framing.share = share_of(r, n, key);
    if (!(r.recipe.canvas.framing.share > 0)) r.wrong(n, key, "a share above 0 and up to 1, or \"90 %\"");
}

void read_turn(Reader& r, const toml::node& n, const std::string& key) {
    CanvasRecipe& c = r.recipe.canvas;
    constexpr const char* kWanted = "degrees between -360 and 360, counter-clockwise, or \"north up\"";
    c.north_up = n.is_string();
    if (!c.north_up)
        c.framing.turn = r.number(n, key, -360, 360, kWanted);
    else if (r.text(n, key) != "north up")
        r.wrong(n, key, kWanted);
}

void read_mirror(Reader& r, const toml::node& n, const std::string& key) {
    r.recipe.canvas.framing.mirror = r.flag(n, key);
}

void read_scale(Reader& r, const toml::node& n, const std::string& key) {
    r.recipe.canvas.framing.scale = r.number(n, key, 0.05, 4, "a number between 0.05 and 4");
}

} // namespace kasane::recipe_keys
