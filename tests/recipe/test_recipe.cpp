#include "support/places.hpp"
#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/recipe/recipe.hpp>

#include <catch2/catch.hpp>
#include <fstream>
#include <sstream>

using namespace kasane;
using namespace kasane::test;

TEST_CASE("An empty recipe is a good one, and so is the template") {
    const Recipe empty = parse_recipe("");
    CHECK(empty.pairing.temperature_tolerance == 2.5);
    CHECK(empty.cache_bytes == 20ull << 30);
    const Recipe same = parse_recipe(recipe_template());
    CHECK(same.folders.empty());
    CHECK(same.pairing.scale_darks);
}

TEST_CASE("Every line of the template can be taken out of its comment") {
    std::istringstream in(recipe_template());
    std::string line, text;
    while (std::getline(in, line)) {
        const bool key =
            line.starts_with("# ") && line.find(" = ") != std::string::npos && line.find("[[") == std::string::npos;
        const std::string word = key ? line.substr(2, line.find(" = ") - 2) : "";
        if (key && word.find(' ') == std::string::npos)
            text += line.substr(2) + "\n";
        else if (line == "# [[files]]")
            text += "[[files]]\n";
        else if (line.starts_with("["))
            text += line + "\n";
    }
    INFO(text);
    const Recipe r = parse_recipe(text);
    CHECK(r.nights.time_zone.value() == 1);
    CHECK(r.rules.files.at(0).values.size() == 2);
    CHECK(r.rules.assume.size() == 3);
}

TEST_CASE("A recipe says everything that it can say") {
    const Recipe r = parse_recipe(R"(
[project]
folders = ["../library"]
exclude = ["*_bad.fits"]
layout = "night-{night}/{role}"
output = "results"
time_zone = -3
look_at_pixels = false
[pairing]
alike = { temperature = 1 }
separate = ["seconds", "gain"]
offset_level = 512
[assume]
cfa = "GBRG"
gain = 100
[[files]]
match = "a/**"
filter = "Ha"
night = 2031-03-12
[[files]]
match = "b/*"
exclude = true
[cache]
size = "500M"
)");
    CHECK(r.folders == std::vector<std::string>{"../library"});
    CHECK(r.nights.time_zone.value() == -3);
    CHECK_FALSE(r.look_at_pixels);
    CHECK(r.pairing.separate == std::vector<Field>{Field::seconds, Field::gain});
    CHECK(r.pairing.offset_level.value() == 512);
    CHECK(r.rules.files[0].values.size() == 2);
    CHECK(r.rules.files[1].exclude);
    CHECK(r.cache_bytes == 500ull << 20);
    CHECK(r.output == "results");
}

TEST_CASE("What is wrong in a recipe is told with line, column and the right key") {
    const auto refused = [](const std::string& text, const std::string& what, const std::string& remedy = {}) {
        INFO(text);
        try {
            parse_recipe(text);
            FAIL("it was taken");
        } catch (const UsageError& e) {
            CHECK_THAT(e.what_failed(), Catch::Contains(what));
            CHECK_THAT(e.remedy(), Catch::Contains(remedy));
        }
    };
    refused("[pairing]\nscale_drks = true\n", "line 2, column 1: there is no key 'scale_drks'", "'scale_darks'");
    refused("[paring]\n", "there is no key 'paring' at the top", "'pairing'");
    refused("[pairing]\n\n  temperature_tolerance = \"two\"\n", "line 3, column 27");
    refused("[pairing]\ntemperature_tolerance = -1\n", "between 0 and 100");
    refused("[project]\nfolders = 7\n", "a list of texts");
    refused("[project]\nlayout = \"{nigth}/x\"\n", "no value called nigth");
    refused("[project]\ntime_zone = 30\n", "hours");
    refused("[assume]\ncfa = \"XYZW\"\n", "no pattern like RGGB");
    refused("[assume]\npixelsize = 3\n", "no key 'pixelsize'", "'pixel_size'");
    refused("[[files]]\nfilter = \"L\"\n", "which files", "match");
    refused("[[files]]\nmatch = \"a\"\nturn = 45\n", "none of 0, 90, 180, 270");
    refused("[files]\nmatch = \"a\"\n", "list of tables", "[[files]]");
    refused("scale_darks = true\n", "outside its table", "[pairing]");
    refused("[cache]\nsize = \"lots\"\n", "20G");
    refused("[project\n", "line 1");
    refused("a = \xff\xfe\n", "line 1");
}

TEST_CASE("The documented keys are those that there are") {
    CHECK(read_file(std::string(kSources) + "/docs/recipe.md") == recipe_reference());
}

TEST_CASE("A recipe is read from its folder, what is no file is refused") {
    const TemporaryFolder folder;
    CHECK(read_recipe(folder.path()).folders.empty());
    std::ofstream(folder / "kasane.toml") << "[project]\noutput = \"out\"\n";
    CHECK(read_recipe(folder.path()).output == "out");
    std::filesystem::remove(folder / "kasane.toml");
    std::filesystem::create_directory(folder / "kasane.toml");
    CHECK_THROWS_AS(read_recipe(folder.path()), InputError);
}

TEST_CASE("Drizzle is asked for by its scale") {
    CHECK_FALSE(parse_recipe("").drizzle.wanted);
    CHECK_FALSE(parse_recipe("[drizzle]\ndrop = 0.5").drizzle.wanted);
    CHECK_FALSE(parse_recipe("[drizzle]\nscale = \"none\"").drizzle.wanted);
    const DrizzleRecipe open = parse_recipe("[drizzle]\nscale = \"auto\"").drizzle;
    CHECK((open.wanted && open.automatic && !open.own_drop));
    CHECK(parse_recipe("[drizzle]\nscale = \"auto\"\ndrop = 0.4").drizzle.own_drop);
    const DrizzleRecipe d = parse_recipe("[drizzle]\nscale = 1.5\ndrop = 0.4\nshape = \"gaussian\"").drizzle;
    CHECK(d.wanted);
    CHECK((d.options.scale == 1.5 && d.options.drop == 0.4 && d.options.shape == DropShape::gaussian));
    const auto refused = [](const std::string& lines, const std::string& words) {
        INFO(lines);
        CHECK_THROWS_WITH(parse_recipe(lines), Catch::Contains(words));
    };
    refused("[drizzle]\nscale = 4", "a number from 1 to 3");
    refused("[drizzle]\nscale = \"finer\"", "\"none\"");
    refused("[drizzle]\ndrop = 0", "pixels from 0.1 to 2");
    refused("[drizzle]\nshape = \"round\"", "\"gaussian\"");
    refused("[drizzle]\nrestore = \"yes\"", "true, false or");
    CHECK_FALSE(open.own_restore);
    const DrizzleRecipe kept = parse_recipe("[drizzle]\nscale = 2\nrestore = false").drizzle;
    CHECK((kept.own_restore && !kept.options.restore));
    CHECK(parse_recipe("[drizzle]\nscale = 2\nrestore = true").drizzle.options.restore);
    CHECK_FALSE(parse_recipe("[drizzle]\nscale = 2\nrestore = \"auto\"").drizzle.own_restore);
    refused("[drizzle]\nscale = 2\n[integration]\ncombine = \"median\"", "cannot be drizzled");
    refused("[integration]\ncombine = \"huber\"\n[drizzle]\nscale = 2", "cannot be drizzled");
}

TEST_CASE("How frames are integrated is read with its options, and what contradicts itself is refused") {
    const IntegrationRecipe r = parse_recipe(R"(
[integration]
rejection = { method = "sigma", low = 4, high = 2.5 }
filters = { Ha = "winsorized", OIII = "auto", L = { method = "min-max", low = 0, high = 2 } }
combine = "mean"
grow = 3
star_cores = false
streaks = false
feather = 24.5
also = ["luminance", "all-filters", "luminance"]
weights = { worth = 1, fwhm = -1 }
)")
                                    .integration;
    CHECK(r.rejection_of("R") == Rejection{SigmaRejection{4, 2.5f, 4}});
    CHECK(r.rejection_of("ha") == Rejection{WinsorizedRejection{}});
    CHECK_FALSE(r.rejection_of("OIII"));
    CHECK(r.rejection_of("L") == Rejection{MinMaxRejection{0, 2}});
    CHECK(r.feather == 24.5);
    CHECK(r.also == std::vector<CompositeKind>{CompositeKind::luminance, CompositeKind::all_filters});
    CHECK((r.grow == 3 && !r.star_cores && !r.streaks));
    CHECK(r.weights == std::map<Measure, double>{{Measure::fwhm, -1}, {Measure::worth, 1}});
    CHECK(parse_recipe("[integration]\nweights = \"equal\"").integration.weights.empty());
    CHECK_FALSE(parse_recipe("[integration]\nrejection = \"auto\"").integration.rejection);
    CHECK(parse_recipe("[integration]\ncombine = \"max\"").integration.combination == Combination::max);

    const auto refused = [](const std::string& lines, const std::string& words) {
        INFO(lines);
        CHECK_THROWS_WITH(parse_recipe("[integration]\n" + lines), Catch::Contains(words));
    };
    refused("rejection = \"kappa\"", "\"winsorized\"");
    refused("rejection = { low = 3 }", "a table with its method");
    refused("rejection = { method = \"esd\", sigma = 3 }", "esd has no option 'sigma'. It has significance, share");
    refused("rejection = { method = \"esd\", share = 0.9 }", "up to half of the samples");
    refused("rejection = 3", "rejection");
    refused("filters = \"sigma\"", "a table like");
    refused("combine = \"average\"", "\"huber\"");
    refused("combine = \"max\"\nrejection = \"sigma\"", "the maximum shows what lies above");
    refused("rejection = \"sigma\"\ncombine = \"min\"", "the minimum shows what lies below");
    refused("feather = 5\ncombine = \"median\"", "edges of lights fade in means and sums");
    refused("combine = \"huber\"\nfeather = 5", "edges of lights fade in means and sums");
    refused("feather = -1", "pixels from 0");
    refused("feather = \"wide\"", "\"auto\" or a number of pixels");
    CHECK(!parse_recipe("[integration]\nfeather = \"auto\"\ncombine = \"median\"").integration.feather);
    refused("also = [\"colour\"]", "\"all-filters\"");
    refused("grow = 2.5", "a whole number of pixels");
    refused("grow = 17", "from 0 to 16");
    refused("weights = { seeing = 1 }", "lights are not weighed by 'seeing'");
    refused("weights = { angle = 1 }", "lights are not weighed by 'angle'");
    refused("weights = { worth = -1 }", "negative, the worst would count most");
    refused("weights = \"noise\"", "\"equal\"");
}

TEST_CASE("What master lights show is read, and what is no picture is refused") {
    const auto canvas = [](const std::string& lines) { return parse_recipe("[canvas]\n" + lines).canvas; };
    CHECK(canvas("").framing.frame == Framing::reference);
    CHECK(canvas("frame = \"everything\"").framing.frame == Framing::everything);
    const CanvasRecipe c = canvas("frame = \"common\"\nshare = \"75 %\"\nturn = -12.5\nmirror = true\nscale = 0.5");
    CHECK((c.framing.frame == Framing::common && c.framing.share == 0.75 && c.framing.turn == -12.5));
    CHECK((c.framing.mirror && c.framing.scale == 0.5 && !c.north_up));
    CHECK(canvas("turn = \"north up\"").north_up);
    const CanvasRecipe given = canvas("frame = \"-20 30 400 300\"");
    CHECK((given.framing.frame == Framing::given && given.framing.region == Region{-20, 30, 400, 300}));
    const auto refused = [&](const std::string& lines, const std::string& words) {
        INFO(lines);
        CHECK_THROWS_WITH(canvas(lines), Catch::Contains(words));
    };
    refused("frame = \"all\"", "\"everything\"");
    refused("frame = \"1 2 0 5\"", "width and height");
    refused("share = 0", "above 0");
    refused("share = \"120 %\"", "share");
    refused("turn = \"north\"", "\"north up\"");
    refused("turn = 400", "-360");
    refused("mirror = 1", "mirror");
    refused("scale = 10", "0.05 and 4");
}
