#include "support/projects.hpp"

#include <kasane/frames/nights.hpp>
#include <kasane/pairing/checks.hpp>
#include <kasane/pairing/pairing.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <fmt/format.h>
#include <random>
#include <set>

using namespace kasane;
using kasane::test::find;

namespace {

/// A frame of a cooled camera; content and path are unique.
Exposure frame(Role role, double seconds, const std::string& filter = {}, const std::string& night = "2031-03-12") {
    static int number = 0;
    Exposure e;
    e.role = role;
    e.path = fmt::format("{}/{:04}.fits", role_name(role), ++number);
    e.identity = e.fingerprint = fmt::format("print-{}", number);
    e.seconds = seconds;
    e.filter = filter;
    e.night = night;
    e.time = parse_time(night + "T21:00:00").value_or(0) + 400.0 * number;
    e.width = 100;
    e.height = 80;
    e.gain = 100;
    e.offset = 50;
    e.temperature = e.temperature_set = -10;
    e.camera = "Simulated camera";
    return e;
}

Exposure uncooled(Role role, double temperature, double seconds = 90) {
    Exposure e = frame(role, seconds);
    e.temperature = temperature;
    e.temperature_set.reset();
    return e;
}

std::vector<Finding> check(const std::vector<Exposure>& all, std::vector<std::optional<Look>> looks = {}) {
    looks.resize(all.size());
    return check_frames(all, pair_frames(all), looks);
}

} // namespace

TEST_CASE("An uncooled camera's darks are grouped by temperature, and each light takes the nearest group") {
    std::vector<Exposure> all;
    for (const double t : {4.6, 5.1, 9.8, 10.2, 15.0, 15.3})
        all.push_back(uncooled(Role::dark, t));
    const std::size_t lights = all.size();
    for (const double t : {4.0, 7.0, 8.1, 13.0, 15.2, 19.0})
        all.push_back(uncooled(Role::light, t));
    const Pairing p = pair_frames(all);
    CHECK(p.masters.size() == 3);
    std::vector<std::string> names;
    for (std::size_t i = lights; i < all.size(); ++i)
        for (const LightPlan& l : p.stacks.at(0).lights)
            if (l.exposure == i) names.push_back(p.masters[l.dark.value()].name);
    CHECK(names == std::vector<std::string>{"dark-90s_5C", "dark-90s_5C", "dark-90s_10C", "dark-90s_15C",
                                            "dark-90s_15C", "dark-90s_15C"});
    REQUIRE(find(p.findings, "dark-temperature")); // 19 C is far from all
    CHECK(find(p.findings, "dark-temperature")->files.size() == 1);
}

TEST_CASE("A light between two temperatures takes darks of both sides, the nearest of each") {
    std::vector<Exposure> all;
    for (const double t : {5.0, 15.0, 25.0})
        all.push_back(uncooled(Role::dark, t));
    all.push_back(uncooled(Role::light, 11.5));
    const Pairing p = pair_frames(all);
    const LightPlan& l = p.stacks.at(0).lights.at(0);
    CHECK(p.masters[l.dark.value()].name == "dark-90s_15C");
    CHECK(p.masters[l.second_dark.value()].name == "dark-90s_5C");
}

TEST_CASE("A dark of another exposure is scaled only where a bias is there, and the plan says so") {
    std::vector<Exposure> all = {frame(Role::light, 120), frame(Role::dark, 300)};
    Pairing p = pair_frames(all);
    CHECK_FALSE(p.stacks[0].lights[0].dark);
    REQUIRE(p.stacks[0].groups[0].near_misses.size() == 1);
    CHECK(p.stacks[0].groups[0].near_misses[0].reason == "exposure differs from 120 s");
    CHECK_THAT(p.stacks[0].groups[0].near_misses[0].allowed, Catch::Contains("would need a bias"));
    all.push_back(frame(Role::bias, 0));
    p = pair_frames(all);
    const LightPlan& l = p.stacks[0].lights[0];
    CHECK(l.dark_scale == Approx(0.4));
    REQUIRE(l.bias);
    CHECK_THAT(l.dark_reason, Catch::Contains("scaled by 0.40"));
    CHECK(find(p.findings, "dark-scaled"));
    std::vector<Exposure> warmer = {uncooled(Role::light, 16, 120), uncooled(Role::dark, 10, 300),
                                    uncooled(Role::bias, 10, 0)};
    // Six degrees warmer: twice the dark current.
    CHECK(pair_frames(warmer).stacks.at(0).lights.at(0).dark_scale == Approx(0.8));
    p = pair_frames(all, {.scale_darks = false});
    CHECK(find(p.findings, "dark-missing"));
    CHECK_THAT(p.stacks[0].groups[0].near_misses[0].allowed, Catch::Contains("a bias is present (scale_darks = true)"));
}

TEST_CASE("Sky flats of all exposure times share one bias, a dark flat serves flats of its own time") {
    std::vector<Exposure> sky = {frame(Role::light, 60, "L"), frame(Role::bias, 0)};
    for (const double s : {0.5, 0.8, 1.3, 2.1})
        sky.push_back(frame(Role::flat, s, "L"));
    sky.push_back(frame(Role::dark_flat, 0.5));
    Pairing p = pair_frames(sky);
    const auto flat =
        std::find_if(p.masters.begin(), p.masters.end(), [](const MasterPlan& m) { return m.role == Role::flat; });
    REQUIRE(flat != p.masters.end());
    CHECK(flat->members.size() == 4);
    CHECK(p.masters[flat->offset.value()].role == Role::bias);
    for (Exposure& e : sky)
        if (e.role == Role::flat) e.seconds = 0.5;
    p = pair_frames(sky);
    for (const MasterPlan& m : p.masters)
        if (m.role == Role::flat) CHECK(p.masters[m.offset.value()].role == Role::dark_flat);
}

TEST_CASE("Without any offset frame, flats and lights use a constant if one is known, with a warning") {
    std::vector<Exposure> all = {frame(Role::light, 60, "L"), frame(Role::flat, 1, "L")};
    CHECK(find(pair_frames(all).findings, "flat-offset-missing"));
    for (Exposure& e : all)
        e.black_level = 512;
    const Pairing p = pair_frames(all);
    CHECK(find(p.findings, "flat-offset-constant"));
    CHECK(p.masters[0].offset_level.value() == 512);
    CHECK(p.stacks[0].lights[0].offset_level.value() == 512);
    CHECK(pair_frames(all, {.offset_level = 300}).masters[0].offset_level.value() == 300);
}

TEST_CASE("A master that is there mixes with single frames, also one that does not name its camera") {
    Exposure flat = frame(Role::flat, 1, "L", "");
    flat.is_master = true;
    flat.camera.clear();
    flat.gain.reset();
    const Pairing p = pair_frames({frame(Role::light, 60, "L"), flat, frame(Role::dark, 60), frame(Role::dark, 60)});
    const LightPlan& l = p.stacks[0].lights[0];
    REQUIRE(l.flat);
    CHECK(p.masters[*l.flat].existing);
    REQUIRE(l.dark);
    CHECK(p.masters[*l.dark].members.size() == 2);
}

TEST_CASE("Flats of another night: only with a warning, or not at all if the recipe says so") {
    const std::vector<Exposure> all = {frame(Role::light, 60, "L", "2031-03-14"),
                                       frame(Role::flat, 1, "L", "2031-03-12"), frame(Role::flat, 1, "L", "2031-03-13"),
                                       frame(Role::bias, 0)};
    Pairing p = pair_frames(all);
    CHECK(p.masters[p.stacks[0].lights[0].flat.value()].name == "flat-L-2031-03-13");
    CHECK(find(p.findings, "flat-of-another-night"));
    p = pair_frames(all, {.flats_of_other_nights = false});
    CHECK_FALSE(p.stacks[0].lights[0].flat);
    CHECK_THAT(p.stacks[0].groups[0].near_misses.back().allowed, Catch::Contains("flats_of_other_nights = true"));
}

TEST_CASE("Flats from before the camera was turned are used only with a warning") {
    std::vector<Exposure> all = {frame(Role::light, 60, "L"), frame(Role::flat, 1, "L"), frame(Role::bias, 0)};
    all[0].rotator = 95;
    all[1].rotator = 5;
    CHECK(find(pair_frames(all).findings, "flat-before-turn"));
    all[1].rotator = 275; // the other side of the meridian
    CHECK_FALSE(find(pair_frames(all).findings, "flat-before-turn"));
}

TEST_CASE("Gain and offset must agree where they are known") {
    std::vector<Exposure> all = {frame(Role::light, 60), frame(Role::dark, 60)};
    all[1].gain = 0;
    const Pairing p = pair_frames(all);
    CHECK_FALSE(p.stacks[0].lights[0].dark);
    CHECK(p.stacks[0].groups[0].near_misses.at(0).reason == "gain differs (0, lights 100)");
    all[1].gain.reset();
    CHECK(pair_frames(all).stacks[0].lights[0].dark);
    all[1].offset = 10;
    CHECK_FALSE(pair_frames(all).stacks[0].lights[0].dark);
}

TEST_CASE("The same content counts once, whatever it is called") {
    std::vector<Exposure> all = {frame(Role::light, 60), frame(Role::light, 60)};
    all.push_back(all[0]);
    all[2].path = "copies/of/the first.fits";
    const Pairing p = pair_frames(all);
    CHECK(p.stacks[0].lights.size() == 2);
    REQUIRE(find(p.findings, "duplicate-files"));
    CHECK(find(p.findings, "duplicate-files")->files == std::vector<std::string>{"copies/of/the first.fits"});
}

TEST_CASE("Exposures of different length stay together unless the recipe separates them") {
    const std::vector<Exposure> all = {frame(Role::light, 60, "L"), frame(Role::light, 10, "L")};
    CHECK(pair_frames(all).stacks.size() == 1);
    const Pairing p = pair_frames(all, {.separate = {Field::seconds}});
    REQUIRE(p.stacks.size() == 2);
    CHECK_THAT(p.stacks[0].name, Catch::Contains("0s"));
}

TEST_CASE("The pairing depends on the exposures alone, not on their order or names") {
    std::vector<Exposure> all = {frame(Role::bias, 0), frame(Role::bias, 0)};
    for (int i = 0; i < 6; ++i) {
        all.push_back(frame(Role::light, 60, i % 2 ? "L" : "R"));
        all.push_back(frame(Role::dark, i % 2 ? 60 : 90));
        all.push_back(frame(Role::flat, 1, i % 2 ? "L" : "R"));
    }
    const auto told = [](const std::vector<Exposure>& list) {
        const Pairing p = pair_frames(list);
        std::vector<std::string> out;
        for (const StackPlan& s : p.stacks)
            for (const LightPlan& l : s.lights)
                out.push_back(fmt::format("{} {} {} {}", s.name, list[l.exposure].identity,
                                          p.masters[l.dark.value()].name, p.masters[l.flat.value()].name));
        for (const MasterPlan& m : p.masters)
            for (const std::size_t i : m.members)
                out.push_back(m.name + " " + list[i].identity);
        return out;
    };
    const auto expected = told(all);
    std::mt19937 random(7);
    for (int k = 0; k < 20; ++k) {
        std::shuffle(all.begin(), all.end(), random);
        for (Exposure& e : all)
            e.path = fmt::format("{}.fits", random());
        CHECK(told(all) == expected);
    }
}

TEST_CASE("Sizes that differ are told, swapped ones as a turn that the recipe can allow") {
    std::vector<Exposure> all = {frame(Role::light, 60, "L"), frame(Role::flat, 1, "L"), frame(Role::bias, 0)};
    std::swap(all[1].width, all[1].height);
    all[2].width = 50;
    const auto findings = check(all);
    REQUIRE(find(findings, "orientation-differs"));
    CHECK_THAT(find(findings, "orientation-differs")->remedy, Catch::Contains("turn = 90"));
    CHECK(find(findings, "size-mismatch"));
    const Pairing p = pair_frames(all);
    CHECK_FALSE(p.stacks[0].lights[0].flat); // never silently
    CHECK_THAT(p.stacks[0].groups[0].near_misses.back().allowed, Catch::Contains("turn = 90"));
    set_value(all[1], Field::turn, "90", {Origin::recipe, {}});
    CHECK(pair_frames(all).stacks[0].lights[0].flat);
}

TEST_CASE("Check finds mixed gains, few frames, warm bias, clocks and unusable values") {
    std::vector<Exposure> all;
    for (int i = 0; i < 4; ++i)
        all.push_back(frame(Role::light, 60, "L"));
    all[1].gain = 0;
    all.push_back(frame(Role::bias, 0));
    all.back().temperature = 15;
    all[2].problems = {"EXPTIME: -5 cannot be an exposure time in seconds"};
    all[0].path = "n/L_001.fits";
    all[3].path = "n/L_002.fits";
    all[3].time = *all[0].time - 7200;
    const auto findings = check(all);
    for (const char* code : {"gain-mixed", "too-few-lights", "bias-warmer", "value-unusable", "clock-jump"}) {
        INFO(code);
        CHECK(find(findings, code));
    }
    CHECK(find(findings, "gain-mixed")->files == std::vector<std::string>{all[1].path});
    CHECK(find(findings, "clock-jump")->files == std::vector<std::string>{"n/L_002.fits"});
    all[2].time = parse_time("1999-01-01T00:00:00");
    CHECK(find(check(all), "clock-jump")->files.size() == 1);
}

TEST_CASE("Check finds patterns that differ, pictures that are not linear, and levels that are wrong") {
    std::vector<Exposure> all = {frame(Role::light, 60), frame(Role::light, 60), frame(Role::light, 60),
                                 frame(Role::flat, 1),   frame(Role::flat, 1),   frame(Role::bias, 0)};
    all[3].cfa = "RGGB";
    all[2].linear = false;
    std::vector<std::optional<Look>> looks(all.size());
    for (auto& k : looks)
        k = Look{.windows = 16, .level = 1200, .noise = 25, .full_scale = 65535, .highest = 65000, .stars = 100};
    looks[5] = Look{.windows = 16, .level = 500, .noise = 5, .full_scale = 65535, .highest = 600};
    looks[0] = Look{.windows = 16, .level = 502, .noise = 5, .full_scale = 65535, .highest = 900};
    looks[3] = Look{.windows = 16, .level = 64000, .noise = 25, .full_scale = 65535, .highest = 65535};
    looks[4] = Look{.windows = 16, .level = 900, .noise = 12, .full_scale = 65535, .highest = 1000};
    looks[1]->phase_spread = 200;
    const auto findings = check(all, looks);
    for (const auto& [code, file] : {std::pair{"cfa-differs", all[3].path},
                                     {"not-linear", all[2].path},
                                     {"flat-saturated", all[3].path},
                                     {"flat-too-dark", all[4].path},
                                     {"light-looks-dark", all[0].path},
                                     {"cfa-unknown", all[1].path}}) {
        INFO(code);
        REQUIRE(find(findings, code));
        CHECK(find(findings, code)->files == std::vector<std::string>{file});
    }
}

TEST_CASE(
    "Flats without a filter serve where nothing contradicts, with a note, else the refusal is told with its remedy") {
    const auto made = [](std::initializer_list<std::pair<Role, std::string>> list, Origin origin) {
        std::vector<Exposure> all;
        for (const auto& [role, filter] : list) {
            all.push_back(frame(role, role == Role::flat ? 1 : 300, filter));
            if (!filter.empty()) all.back().sources.emplace_back(Field::filter, Source{origin, "there"});
        }
        return pair_frames(all);
    };
    const auto flat_of = [](const Pairing& p) { return p.stacks.front().lights.front().flat; };
    const Pairing one = made({{Role::light, "Ha"}, {Role::flat, ""}}, Origin::header);
    CHECK(flat_of(one));
    CHECK(find(one.findings, "flat-filter-unknown")->level == Level::note);
    const Pairing light_unknown = made({{Role::light, ""}, {Role::flat, "L"}}, Origin::header);
    CHECK(flat_of(light_unknown));
    const Pairing two = made({{Role::light, "Ha"}, {Role::light, "O3"}, {Role::flat, ""}}, Origin::header);
    CHECK_FALSE(flat_of(two));
    REQUIRE(find(two.findings, "flat-missing"));
    CHECK_THAT(find(two.findings, "flat-missing")->text,
               Catch::Contains("was not taken: filter differs (none, lights"));
    CHECK_THAT(find(two.findings, "flat-missing")->remedy, Catch::Contains("[[files]]"));
    CHECK(flat_of(made({{Role::light, "Ha"}, {Role::light, "O3"}, {Role::flat, ""}}, Origin::path)));
    // Its own flat is better than one of which nothing is known.
    const Pairing both = made({{Role::light, "Ha"}, {Role::flat, ""}, {Role::flat, "Ha"}}, Origin::header);
    CHECK(both.masters.at(*flat_of(both)).name.find("Ha") != std::string::npos);
}

TEST_CASE("Names say what tells stacks apart, and are kept for those that had them") {
    std::vector<Exposure> all;
    for (int i = 0; i < 2; ++i) {
        all.push_back(frame(Role::light, 300, "L"));
        all.back().target = "Field A";
        all.push_back(all.back());
        all.back().path += "x";
        all.back().identity = all.back().fingerprint += "x";
        all.back().camera = "Other camera";
    }
    const Pairing p = pair_frames(all);
    REQUIRE(p.stacks.size() == 2);
    std::set<std::string> names = {p.stacks[0].name, p.stacks[1].name};
    CHECK(names == std::set<std::string>{"Field-A-L-Simulated-camera", "Field-A-L-Other-camera"});
    PairingOptions options;
    for (const StackPlan& s : p.stacks)
        if (s.sensor.find("Simulated") != std::string::npos) options.names[s.identity] = "Field-A-L";
    const Pairing later = pair_frames(all, options);
    names = {later.stacks[0].name, later.stacks[1].name};
    CHECK(names == std::set<std::string>{"Field-A-L", "Field-A-L-Other-camera"});
    // A target that is not known is no reason for a finding.
    std::vector<Exposure> unknown = {frame(Role::light, 300, "L")};
    CHECK(pair_frames(unknown).stacks.front().name == "light-L");
    CHECK_FALSE(find(check(unknown), "name-changed"));
    unknown.front().target = "Field A/B";
    CHECK_THAT(find(check(unknown), "name-changed")->text, Catch::Contains("'Field A/B-L' cannot be a file name"));
}

TEST_CASE("A master that Kasane made of frames that are here is superseded by them") {
    std::vector<Exposure> all;
    for (int i = 0; i < 4; ++i)
        all.push_back(frame(Role::bias, 0));
    Exposure m = frame(Role::bias, 0);
    m.is_master = m.made_by_kasane = true;
    m.inputs = "digest of five";
    for (const Exposure& e : all)
        m.input_frames.push_back(e.fingerprint);
    m.input_frames.push_back("one that was deleted");
    all.push_back(m);
    all.push_back(frame(Role::light, 300, "L"));
    const Pairing p = pair_frames(all);
    REQUIRE(p.masters.size() == 1);
    CHECK_FALSE(p.masters.front().existing);
    CHECK(find(p.findings, "master-superseded"));
    all.erase(all.begin(), all.begin() + 4); // its frames are elsewhere: it stands
    const Pairing alone = pair_frames(all);
    CHECK(alone.masters.front().existing);
    CHECK_FALSE(find(alone.findings, "master-superseded"));
}

TEST_CASE("What a header says against its folder is told") {
    const auto with = [](Role role, const std::string& path, const std::string& filter = {}) {
        Exposure e = frame(role, 300, filter);
        e.path = path;
        e.sources.emplace_back(Field::role, Source{Origin::header, "IMAGETYP"});
        if (!filter.empty()) e.sources.emplace_back(Field::filter, Source{Origin::header, "FILTER"});
        return check({e, frame(Role::light, 300, filter)});
    };
    CHECK(find(with(Role::light, "darks/a.fits"), "role-contradicted"));
    CHECK(find(with(Role::dark, "night/lights/a.fits"), "role-contradicted"));
    CHECK_FALSE(find(with(Role::light, "night/lights/a.fits"), "role-contradicted"));
    CHECK_FALSE(find(with(Role::bias, "darks/a.fits"), "role-contradicted")); // they often lie together
    CHECK(find(with(Role::light, "lights/Ha/a.fits", "O3"), "filter-contradicted"));
    CHECK_FALSE(find(with(Role::light, "lights/Ha/a.fits", "Ha"), "filter-contradicted"));
    CHECK_FALSE(find(with(Role::light, "L/a.fits", "Ha"), "filter-contradicted")); // a lone letter says little
}

TEST_CASE("Targets of other names whose fields overlap by their coordinates are told of, and kept apart") {
    const auto pointed = [](const std::string& target, double ra, double dec, const std::string& filter = "L") {
        Exposure e = frame(Role::light, 120, filter);
        e.target = target;
        e.focal_length_mm = 500;
        e.pixel_um = 5; // 80 pixels are 0.046 degrees
        e.right_ascension = ra;
        e.declination = dec;
        return e;
    };
    const auto told = [](const std::vector<Exposure>& all) {
        const std::vector<Finding> findings = check(all);
        const Finding* f = find(findings, "targets-overlap");
        return f ? f->text : std::string();
    };
    // Over midnight of right ascension, where a degree of it is half as wide.
    const std::vector<Exposure> west{pointed("Lantern west", 359.97, 60), pointed("Lantern west", 359.971, 60)};
    std::vector<Exposure> all = west;
    all.push_back(pointed("Lantern east", 0.03, 60));
    CHECK_THAT(told(all),
               Catch::Contains("Lantern west") && Catch::Contains("Lantern east") && Catch::Contains("0.029"));
    CHECK(pair_frames(all).stacks.size() == 2);
    all.back() = pointed("Lantern east", 0.1, 60); // a field apart
    CHECK(told(all).empty());
    all.back() = pointed("Lantern east", 0.03, 60, "R"); // never in one picture
    CHECK(told(all).empty());
    all.back() = pointed("Lantern east", 0.03, 60);
    all.back().focal_length_mm.reset();
    CHECK(told(all).empty());
    all.back() = pointed("Lantern west", 0.03, 60);
    CHECK(told(all).empty());
}
