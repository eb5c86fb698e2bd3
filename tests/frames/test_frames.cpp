#include "support/projects.hpp"

#include <kasane/frames/exposure.hpp>
#include <kasane/frames/nights.hpp>
#include <kasane/frames/words.hpp>
#include <kasane/pairing/pairing.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <fmt/format.h>

using namespace kasane;
using kasane::test::find;

namespace {

Exposure describe(const std::string& path, const std::string& type = {}, const std::string& filter = {}) {
    Header h;
    if (!type.empty()) h.set("IMAGETYP", type);
    if (!filter.empty()) h.set("FILTER", filter);
    return describe_exposure(path, {Format::fits, h, 100, 80, 1, 16, true});
}

Exposure frame(Role role, const std::string& path, double seconds, const std::string& filter = {},
               const std::string& night = "2031-03-12") {
    Exposure e;
    e.role = role;
    e.path = path;
    e.seconds = seconds;
    e.filter = filter;
    e.night = night;
    e.width = 100;
    e.height = 80;
    e.gain = 100;
    e.offset = 50;
    e.temperature = -10;
    e.temperature_set = -10;
    e.camera = "Simulated camera";
    e.target = role == Role::light ? "Paper Lantern Nebula" : "";
    return e;
}

std::string master_of(const Pairing& p, const std::optional<std::size_t>& m) {
    return m ? p.masters[*m].name : "none";
}

} // namespace

TEST_CASE("The role comes from the header, else the folder, else the file name") {
    CHECK(describe("x/a.fits", "Light Frame").role == Role::light);
    CHECK(describe("x/a.fits", "FLAT").role == Role::flat);
    CHECK(describe("x/a.fits", "Dark Flat").role == Role::dark_flat);
    CHECK(describe("x/a.fits", "Bias").role == Role::bias);
    CHECK(describe("darks/a.fits", "Light").role == Role::light);
    CHECK(describe("night/Darks/a.fits").role == Role::dark);
    CHECK(describe("night/dark flats/a.fits").role == Role::dark_flat);
    CHECK(describe("night/flat-Ha_001.fits").role == Role::flat);
    CHECK(describe("night/darkroom.fits").role == Role::unknown);
    CHECK(describe("flats/a.fits").source(Field::role).text() == "folder name flats");
    CHECK(describe("x/a.fits", "Master Dark").is_master);
    CHECK_FALSE(describe("x/a.fits", "Dark").is_master);
}

TEST_CASE("Header values of any spelling end in one record") {
    Header h;
    h.set("EXPOSURE", 120.0);
    h.set("ISOSPEED", 800LL);
    h.set("SET-TEMP", -15.0);
    h.set("BAYERPAT", "rggb");
    h.set("DATE-OBS", "2031-03-12");
    h.set("TIME-OBS", "21:30:00");
    h.set("XBINNING", 2LL);
    const Exposure e = describe_exposure("a.fits", {Format::fits, h, 10, 10, 1, 16, true});
    CHECK(e.seconds.value() == 120);
    CHECK(e.gain.value() == 800);
    CHECK(e.sensor_temperature().value() == -15);
    CHECK(e.cfa == "RGGB");
    CHECK(e.start == "2031-03-12T21:30:00");
    CHECK(e.binning_y == 2);
}

TEST_CASE("Absurd header values do not become facts") {
    Header h;
    h.set("EXPTIME", -5.0);
    h.set("XBINNING", 4000000.0);
    h.set("EGAIN", "nonsense");
    h.set("DATE-OBS", "2031-13-45T99:99:99");
    std::vector<Exposure> list = {describe_exposure("a.fits", {Format::fits, h, 10, 10, 1, 16, true})};
    assign_nights(list);
    CHECK_FALSE(list[0].seconds);
    CHECK_FALSE(list[0].electrons_per_adu);
    CHECK(list[0].binning_x == 1);
    CHECK(list[0].problems.size() == 4);
    CHECK(list[0].night.empty());
}

TEST_CASE("Filters are folded to one spelling, unknown names kept") {
    CHECK(fold_filter("Luminance") == "L");
    CHECK(fold_filter("H-alpha") == "Ha");
    CHECK(fold_filter("OIII") == "O3");
    CHECK(fold_filter("red") == "R");
    CHECK(fold_filter("Tri-Band X") == "Tri-Band X");
}

TEST_CASE("A night runs from noon to noon, local by longitude") {
    std::vector<Exposure> e(4);
    e[0].start = "2031-03-12T20:00:00"; // evening
    e[1].start = "2031-03-13T04:00:00"; // the same night's morning
    e[2].start = "2031-03-13T12:30:00"; // past noon in Greenwich: the next night
    e[3].start = "2031-03-13T04:00:00";
    e[3].longitude = 140; // there it is already past one in the afternoon
    for (int i = 0; i < 3; ++i)
        e[static_cast<std::size_t>(i)].longitude = 0;
    assign_nights(e);
    CHECK(e[0].night == "2031-03-12");
    CHECK(e[1].night == "2031-03-12");
    CHECK(e[2].night == "2031-03-13");
    CHECK(e[3].night == "2031-03-13");
}

TEST_CASE("Flats go to the lights of their night and filter, darks to those of their exposure") {
    const std::vector<Exposure> all = {frame(Role::light, "l1", 180, "L"),
                                       frame(Role::light, "l2", 180, "L", "2031-03-13"),
                                       frame(Role::light, "l3", 300, "Ha"),
                                       frame(Role::flat, "f1", 2, "L"),
                                       frame(Role::flat, "f2", 2, "L", "2031-03-13"),
                                       frame(Role::flat, "f3", 2, "Ha"),
                                       frame(Role::dark, "d1", 180),
                                       frame(Role::dark, "d2", 300),
                                       frame(Role::bias, "b1", 0)};
    const Pairing p = pair_frames(all);
    REQUIRE(p.stacks.size() == 2);
    const StackPlan &ha = p.stacks[0], &l = p.stacks[1];
    CHECK(l.name == "Paper-Lantern-Nebula-L");
    CHECK(master_of(p, l.lights[0].flat) == "flat-L-2031-03-12");
    CHECK(master_of(p, l.lights[1].flat) == "flat-L-2031-03-13");
    CHECK(master_of(p, l.lights[0].dark) == "dark-180s_-10C");
    CHECK(master_of(p, ha.lights[0].dark) == "dark-300s_-10C");
    CHECK(master_of(p, ha.lights[0].flat) == "flat-Ha-2031-03-12");
    CHECK(p.findings.empty());
    for (const MasterPlan& m : p.masters)
        if (m.role == Role::flat) CHECK(m.offset_reason == "bias");
}

TEST_CASE("What does not fit is refused, and the finding says so") {
    SECTION("a dark of another gain") {
        auto dark = frame(Role::dark, "d", 180);
        dark.gain = 0;
        const Pairing p = pair_frames({frame(Role::light, "l", 180, "L"), dark, frame(Role::flat, "f", 2, "L")});
        CHECK_FALSE(p.stacks[0].lights[0].dark);
        REQUIRE(find(p.findings, "dark-missing"));
        REQUIRE(find(p.findings, "flat-offset-missing"));
    }
    SECTION("a dark of another temperature leaves the bias, unless it may be scaled") {
        auto dark = frame(Role::dark, "d", 180);
        dark.temperature = dark.temperature_set = 5;
        const std::vector<Exposure> all = {frame(Role::light, "l", 180, "L"), dark, frame(Role::bias, "b", 0)};
        const Pairing scaled = pair_frames(all);
        CHECK(scaled.stacks[0].lights[0].dark_scale == Approx(std::exp2(-15 / 6.0)));
        REQUIRE(scaled.stacks[0].lights[0].bias);
        const Pairing p = pair_frames(all, {.scale_darks = false});
        CHECK(master_of(p, p.stacks[0].lights[0].dark) == "bias_-10C");
        CHECK_THAT(find(p.findings, "dark-missing")->text, Catch::Contains("bias alone"));
    }
    SECTION("a flat of another filter is never used, one of another night only with a warning") {
        const Pairing p = pair_frames({frame(Role::light, "l", 180, "L"), frame(Role::flat, "f", 2, "R"),
                                       frame(Role::light, "m", 180, "R", "2031-04-01"), frame(Role::bias, "b", 0)});
        CHECK(find(p.findings, "flat-missing")->files == std::vector<std::string>{"l"});
        CHECK(find(p.findings, "flat-of-another-night")->files == std::vector<std::string>{"m"});
    }
    SECTION("lights of two sizes become two stacks") {
        auto small = frame(Role::light, "s", 180, "L");
        small.width = 50;
        const Pairing p = pair_frames({frame(Role::light, "l", 180, "L"), small, frame(Role::light, "m", 180, "L")});
        CHECK(p.stacks.size() == 2);
        CHECK(p.stacks[0].name != p.stacks[1].name);
    }
    SECTION("a colour sensor's lights, and files that say nothing") {
        auto colour = frame(Role::light, "c", 180);
        colour.cfa = "RGGB";
        const Pairing p = pair_frames({colour, frame(Role::unknown, "u", 1)});
        CHECK(p.stacks.at(0).mosaic);
        CHECK(p.stacks.at(0).lights.size() == 1);
        CHECK(find(p.findings, "role-unknown")->files == std::vector<std::string>{"u"});
    }
}

TEST_CASE("Results of Kasane are never inputs, other people's masters are used") {
    auto result = frame(Role::light, "kasane/lights/x.fits", 3600, "L");
    result.made_by_kasane = result.is_master = true;
    auto master = frame(Role::dark, "library/dark.fits", 180);
    master.is_master = true;
    const Pairing p = pair_frames({frame(Role::light, "l", 180, "L"), result, master});
    CHECK(p.stacks[0].lights.size() == 1);
    REQUIRE(p.stacks[0].lights[0].dark);
    CHECK(p.masters[*p.stacks[0].lights[0].dark].existing);
}

TEST_CASE("Names become fit for files") {
    CHECK(file_safe("Paper Lantern / Nebula?") == "Paper-Lantern-Nebula");
    CHECK(file_safe("../../etc/passwd") == "etc-passwd");
    CHECK(file_safe("") == "");
}
