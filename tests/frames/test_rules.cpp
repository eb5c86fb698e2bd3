#include <kasane/frames/rules.hpp>

#include <catch2/catch.hpp>

using namespace kasane;

namespace {
Exposure at(const std::string& path) {
    Exposure e;
    e.path = path;
    e.width = 60;
    e.height = 40;
    return e;
}
} // namespace

TEST_CASE("Globs: a star within a name, two across folders, names alone without a slash") {
    CHECK(glob_matches("night-2/flats/**", "night-2/flats/Ha/a.fits"));
    CHECK(glob_matches("**/flats/*.fits", "night-2/flats/a.fits"));
    CHECK(glob_matches("**/flats/*.fits", "flats/a.fits"));
    CHECK_FALSE(glob_matches("*/a.fits", "x/y/a.fits"));
    CHECK(glob_matches("L_0??.fits", "deep/down/L_012.fits"));
    CHECK(glob_matches("[ab].fits", "b.fits"));
    CHECK_FALSE(glob_matches("a.fits", "b/a.fits.old"));
}

TEST_CASE("A layout gives values to the folders it fits, and leaves others alone") {
    FrameRules rules;
    rules.layouts = {"night-{night}/{role}/{filter}"};
    Exposure e = at("night-3/flats/Ha/extra/x_001.fits");
    apply_rules(e, rules);
    CHECK(e.night == "3");
    CHECK(e.role == Role::flat);
    CHECK(e.filter == "Ha");
    CHECK(e.source(Field::filter).text() == "recipe layout night-{night}/{role}/{filter}");
    Exposure other = at("night-3/dew heater/Ha/x.fits"); // no role: not of this shape
    apply_rules(other, rules);
    CHECK(other.night.empty());
    rules.layouts = {"{}/{target}_{filter}_{seconds}s"};
    Exposure named = at("set 4/Paper Lantern_O3_300s/a.fits");
    apply_rules(named, rules);
    CHECK(named.target == "Paper Lantern");
    CHECK(named.seconds.value() == 300);
    CHECK(layout_problem("night-{nihgt}/x").find("nihgt") != std::string::npos);
    CHECK_FALSE(layout_problem("{night").empty());
    CHECK_FALSE(layout_problem("{role}{filter}").empty());
    CHECK(layout_problem("a/{role}/{}").empty());
}

TEST_CASE("Rules win over headers, the last over the first, assumptions only fill in") {
    FrameRules rules;
    rules.files = {{"n/**", false, {{Field::filter, "R"}, {Field::gain, "120"}}},
                   {"n/b*", false, {{Field::filter, "oiii"}}}};
    rules.assume = {{Field::gain, "50"}, {Field::cfa, "RGGB"}, {Field::pixel_size, "3.76"}};
    Exposure e = at("n/b.fits");
    set_value(e, Field::filter, "L", {Origin::header, "FILTER = L"});
    apply_rules(e, rules);
    CHECK(e.filter == "O3");
    CHECK(e.gain.value() == 120);
    CHECK(e.cfa == "RGGB");
    CHECK(e.source(Field::pixel_size).origin == Origin::assumed);
    Exposure known = at("m/a.fits");
    set_value(known, Field::gain, "7", {Origin::header, "GAIN = 7"});
    apply_rules(known, rules);
    CHECK(known.gain.value() == 7);
}

TEST_CASE("A turn swaps width and height, once") {
    FrameRules rules;
    rules.files = {{"*", false, {{Field::turn, "90"}}}, {"*", false, {{Field::turn, "270"}}}};
    Exposure e = at("a.fits");
    apply_rules(e, rules);
    CHECK(e.turn == 270);
    CHECK(e.width == 40);
    rules.files = {{"*", false, {{Field::turn, "45"}}}};
    Exposure wrong = at("a.fits");
    apply_rules(wrong, rules);
    CHECK(wrong.turn == 0);
    CHECK(wrong.problems.size() == 1);
}

TEST_CASE("Files are left out by name, folder, or rule") {
    FrameRules rules;
    rules.exclude = {"*_bad.fits", "test/**"};
    rules.files = {{"n1/*", true, {}}};
    CHECK(is_excluded(rules, "x/a_bad.fits"));
    CHECK(is_excluded(rules, "test/deep/a.fits"));
    CHECK(is_excluded(rules, "n1/a.fits"));
    CHECK_FALSE(is_excluded(rules, "n2/a.fits"));
}
