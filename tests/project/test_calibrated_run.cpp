// Calibration in whole projects: colour sensors, stills, libraries of masters, wrong flats, and single lights looked
// at.
#include "support/formats.hpp"
#include "support/projects.hpp"

#include <kasane/base/error.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/project/look.hpp>
#include <kasane/project/run.hpp>
#include <kasane/sky/truth.hpp>
#include <kasane/sky/variants.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>
#include <fmt/format.h>
#include <fstream>
#include <map>
#include <nlohmann/json.hpp>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

/// The colour variant, smaller: eight lights of 320 x 240 pixels.
sky::Scenario small_colour() {
    sky::Scenario s = sky::demo_variant("colour").make();
    s.instrument.width = s.scene.width = 320;
    s.instrument.height = s.scene.height = 240;
    s.scene.stars = 150;
    s.dust = {{{110, 80, 20, 0.09}, {250, 190, 17, 0.10}}};
    std::vector<sky::Shot> kept;
    std::map<sky::Shot::Role, int> count;
    for (const sky::Shot& shot : s.shots)
        if (++count[shot.role] <= 8) kept.push_back(shot);
    s.shots = std::move(kept);
    return s;
}

using ColourCopy = CopyOf<[](const fs::path& to) {
    const Quiet quiet;
    sky::write_scenario(small_colour(), to, quiet.context);
}>;

Image plane_of(const RunReport& r, int plane) {
    return read_plane(*open_fits(fs::path(r.output) / r.stacks.at(0).file), plane);
}

} // namespace

TEST_CASE("One-shot colour with sky flats and a bias becomes one master light in colour") {
    const ColourCopy p;
    const auto before = digests(p.path);
    const RunReport r = run(p.path);
    REQUIRE(r.stacks.size() == 1);
    const StackReport& s = r.stacks[0];
    CHECK(s.used == 8);
    CHECK(s.colour_method == "adaptive");
    CHECK(s.electrons_per_adu == Approx(0.8).epsilon(0.03)); // by photon transfer of the sky flats
    CHECK_THAT(s.noise_model, Catch::Contains("photon transfer"));
    // 192 electrons of sky at 0.8 e-/ADU: 17.5 ADU a frame and colour; eight frames, their transparency varying.
    REQUIRE(s.colour_noise.size() == 3);
    for (const double noise : s.colour_noise)
        CHECK(noise == Approx(17.9 / std::sqrt(8.0)).epsilon(0.2));
    CHECK(s.channel_scales.size() == 3);
    CHECK(s.channel_scales[1] == 1);
    for (const FrameReport& f : s.frames)
        CHECK(f.own_defects > 30); // no dark: hot pixels are found in the lights themselves
    const auto reader = open_fits(fs::path(r.output) / s.file);
    CHECK(reader->planes() == 3);
    CHECK(reader->header().text("CFAMETH").value() == "adaptive");
    // It names the masters that calibrated its lights, in the header and in the account of its making.
    CHECK_THAT(reader->header().text("MASTER1").value_or(""), Catch::StartsWith("bias"));
    CHECK_THAT(reader->header().text("MASTER2").value_or(""), Catch::StartsWith("flat"));
    CHECK(!reader->header().find("MASTER3"));
    const std::vector<std::string> history = s.made.history();
    REQUIRE(history.size() > 8);
    CHECK_THAT(history.front(), Catch::StartsWith("calibrate: with bias") && Catch::Contains(", flat-"));
    CHECK(std::count_if(history.begin(), history.end(), [](const auto& l) { return l.starts_with("from "); }) == 8);
    for (const MasterReport& m : r.masters)
        CHECK(m.made.find("combine")->text == m.combination);
    CHECK(open_fits(fs::path(r.output) / s.file, "COVERAGE")->planes() == 3);
    // The background is even after the flats: corners against the middle, nebula apart.
    CHECK(digests(p.path, {"kasane"}) == before);
    const RunReport again = run(p.path);
    CHECK(again.stacks[0].reused);
    CHECK(std::all_of(again.masters.begin(), again.masters.end(), [](const MasterReport& m) { return m.reused; }));
    for (const MasterReport& m : r.masters)
        CHECK(fs::exists(fs::path(r.output) / m.preview));
}

TEST_CASE("Separate and single colours of a mosaic make masters on their own grid") {
    const ColourCopy p;
    const std::string method = GENERATE(as<std::string>{}, "separate", "green");
    write_recipe(p.path, "[colour]\nmethod = \"" + method + "\"\n");
    const RunReport r = run(p.path);
    REQUIRE(r.stacks.at(0).used == 8);
    const auto reader = open_fits(fs::path(r.output) / r.stacks[0].file);
    CHECK(reader->width() == 160);
    CHECK(reader->height() == 120);
    CHECK(reader->planes() == (method == "green" ? 1 : 3));
    CHECK(r.stacks[0].colour_method == method);
    for (const FrameReport& f : r.stacks[0].frames)
        CHECK(f.rms < 0.3);
}

TEST_CASE("A DSLR's raw files take darks by their own temperature, and mixtures of two") {
    const TemporaryFolder folder;
    sky::Scenario scenario = sky::demo_variant("dslr").make();
    scenario.instrument.width = scenario.scene.width = 360;
    scenario.instrument.height = scenario.scene.height = 260;
    scenario.instrument.hot_share = 0.003;
    scenario.scene.stars = 180;
    const Quiet quiet;
    sky::write_scenario(scenario, folder / "p", quiet.context);
    const RunReport r = run(folder / "p");
    REQUIRE(r.stacks.at(0).used == 18);
    int mixed = 0;
    for (const FrameReport& f : r.stacks[0].frames)
        mixed += f.dark_note.find("mixed in") != std::string::npos;
    CHECK(mixed > 8);
    const Image green = plane_of(r, 1);
    CHECK(std::all_of(green.pixels().begin(), green.pixels().end(), [](float v) { return !std::isinf(v); }));
    // With the mixtures switched off the same run still works, and says nothing of them.
    write_recipe(folder / "p", "[calibration]\nfit_darks = false\n");
    const RunReport plain = run(folder / "p");
    for (const FrameReport& f : plain.stacks.at(0).frames)
        CHECK(f.dark_note.empty());
}

TEST_CASE("Stills in colour are calibrated and stacked in colour") {
    const TemporaryFolder folder;
    fs::create_directories(folder / "p/lights");
    fs::create_directories(folder / "p/darks");
    for (int f = 0; f < 6; ++f) {
        Raster<std::uint16_t> light(240, 180, 3), dark(240, 180, 3);
        for (int p = 0; p < 3; ++p) {
            Image one(240, 180, 1, 900.0f + 200 * static_cast<float>(p)), shade(240, 180, 1, 300.0f);
            for (int i = 0; i < 30; ++i) // no lattice, which would fit onto itself in many ways
                add_gaussian_star(one, 20 + 31.7 * (i % 7) + 6 * std::sin(2.7 * i) + 1.3 * f,
                                  20 + 29.3 * (i / 7) + 6 * std::cos(5.1 * i) - 0.8 * f, 9000 + 700 * i, 2.8);
            add_noise(one, 12, static_cast<std::uint64_t>(10 * f + p));
            add_noise(shade, 3, static_cast<std::uint64_t>(100 + 10 * f + p));
            for (int y = 0; y < 180; ++y)
                for (int x = 0; x < 240; ++x) {
                    const float hot = (x * 7 + y * 13) % 997 == 0 ? 4000.0f : 0.0f;
                    light(x, y, p) = static_cast<std::uint16_t>(std::clamp(one(x, y) + hot, 0.0f, 65535.0f));
                    dark(x, y, p) = static_cast<std::uint16_t>(std::clamp(shade(x, y) + hot, 0.0f, 65535.0f));
                }
        }
        const std::string name = "frame_" + std::to_string(f) + ".tif";
        for (const auto& [where, image] : {std::pair{folder / "p/lights", &light}, {folder / "p/darks", &dark}})
            write_tiff(where / name, *image, {.planes = 3});
    }
    const RunReport r = run(folder / "p");
    REQUIRE(r.stacks.size() == 1);
    for (const FrameReport& f : r.stacks[0].frames)
        UNSCOPED_INFO(f.path << ": " << f.reason);
    CHECK(r.stacks[0].used == 6);
    for (int p = 0; p < 3; ++p) {
        const Image plane = plane_of(r, p);
        std::vector<float> values = sample_pixels(plane.plane(), 100000);
        CHECK(clipped_statistics(values, 3).location == Approx(600 + 200 * p).margin(3));
        // Hot pixels of 4000 ADU, a tenth of a percent of all: none is left beside the stars' cores.
        CHECK(quantile_in_place(values, 0.9995) < 700 + 200 * p + 3000);
    }
}

TEST_CASE("Masters in a library are found by other projects, and made once") {
    const TemporaryFolder folder;
    write_small_project(folder / "a");
    const std::string recipe = "[calibration]\nlibrary = \"../library\"\n";
    write_recipe(folder / "a", recipe);
    const RunReport a = run(folder / "a");
    CHECK(a.stacks.at(0).used == 10);
    CHECK(std::distance(fs::directory_iterator(folder / "library"), fs::directory_iterator{}) == 6); // and pictures
    const RunReport again = run(folder / "a");
    CHECK(again.stacks.at(0).reused);
    CHECK(again.masters.size() == 3);

    // The same frames in another project: found by their headers, not made again.
    fs::copy(folder / "a", folder / "b", fs::copy_options::recursive);
    fs::remove_all(folder / "b/.kasane");
    fs::remove_all(folder / "b/kasane");
    const RunReport b = run(folder / "b");
    for (const MasterReport& m : b.masters) {
        CHECK(m.reused);
        CHECK(m.combination == "found in the library");
    }
    // Lights alone: the library's masters are paired as masters.
    fs::create_directories(folder / "c");
    fs::copy(folder / "a/night-1/lights", folder / "c/lights", fs::copy_options::recursive);
    write_recipe(folder / "c", recipe);
    const RunReport c = run(folder / "c");
    REQUIRE(c.stacks.at(0).used == 10);
    for (const FrameReport& f : c.stacks[0].frames) {
        CHECK_FALSE(f.dark.empty());
        CHECK_FALSE(f.flat.empty());
    }
    CHECK(c.stacks[0].noise == Approx(a.stacks[0].noise).epsilon(0.05));
}

TEST_CASE("A wrong flat raises a finding in the run and in a look at one light") {
    const TemporaryFolder folder;
    sky::PlainOptions o = small_options();
    o.width = 640;
    o.height = 480;
    o.nebula = 0;
    o.lights = 5;
    sky::Scenario s = sky::plain_scenario(o);
    s.dust = {{{150, 120, 24, 0.12}, {480, 350, 28, 0.12}, {560, 100, 20, 0.10}},
              {{320, 240, 24, 0.12}, {100, 400, 26, 0.12}, {500, 60, 20, 0.10}}};
    const bool wrong = GENERATE(false, true);
    if (wrong)
        for (sky::Shot& shot : s.shots)
            if (shot.role == sky::Shot::Role::flat) shot.dust = 1;
    const char* method = GENERATE("", "adaptive", "binned"); // the pixels that lights are measured on
    INFO(method);
    const Quiet quiet;
    if (*method) {
        s.instrument.cfa = "RGGB";
        s.scene.filters = {"R", "G", "B"};
        fs::create_directories(folder / "p");
        write_recipe(folder / "p", fmt::format("[colour]\nmethod = \"{}\"\n", method));
    }
    sky::write_scenario(s, folder / "p", quiet.context);
    const RunReport r = run(folder / "p");
    CHECK((find(r.findings, "flat-does-not-fit") != nullptr) == wrong);
    CHECK((find(run(folder / "p").findings, "flat-does-not-fit") != nullptr) == wrong); // told again while it holds

    const std::string light = (folder / "p" / r.stacks.at(0).frames.at(0).path).string();
    const Outcome shown = shell("cd " + folder.path().string() + " && {kasane} show --json " + light);
    CHECK(shown.status == (wrong ? 1 : 0));
    const auto json = nlohmann::json::parse(shown.out).at("calibration");
    CHECK(json.at("before").at("corner_ratio").get<double>() < 0.9);
    if (!wrong) CHECK(json.at("after").at("corner_ratio").get<double>() == Approx(1).margin(0.04));
    CHECK(json.at("before").at("defects").get<int>() > 10 * json.at("after").at("defects").get<int>());
    const fs::path picture = folder / json.at("picture").get<std::string>();
    CHECK(fs::file_size(picture) > 10000);
    CHECK(shell("cd " + folder.path().string() + " && {kasane} show --raw --no-preview --json " + light).status == 0);
}

TEST_CASE("What a person marks as defective is repaired, and mistakes in the marks are told") {
    const TemporaryFolder folder;
    sky::PlainOptions o = small_options();
    o.lights = 4;
    o.calibration = 0;
    const Quiet quiet;
    sky::write_scenario(sky::plain_scenario(o), folder / "p", quiet.context);
    write_recipe(folder / "p", "[calibration]\ndefects = [\"100 0 2 240\"]\n");
    RunOptions options;
    options.folder = folder / "p";
    Raster<std::uint8_t> picture;
    const auto look = look_at_calibration(options, folder / "p/night-1/lights/L_001.fits", quiet.context, picture);
    REQUIRE(look);
    CHECK(look->defects_repaired >= 480);
    CHECK(picture.width() == 1284);
    write_recipe(folder / "p", "[calibration]\ndefects = [\"100 0 2\"]\n");
    CHECK_THROWS_WITH(run(folder / "p"), Catch::Contains("no rectangle"));
    write_recipe(folder / "p", "[calibration]\ndefect_maps = [\"missing.png\"]\n");
    CHECK_THROWS_AS(run(folder / "p"), Error);
    write_recipe(folder / "p", "[colour]\nmethod = \"bilinaer\"\n");
    CHECK_THROWS_WITH(run(folder / "p"), Catch::Contains("\"bilinear\""));
}

TEST_CASE("A pattern that the pixels contradict and darks brighter than lights are findings") {
    const ColourCopy p;
    write_recipe(p.path, "[[files]]\nmatch = \"**\"\ncfa = \"GRBG\"\n");
    const RunReport contradicted = run(p.path);
    REQUIRE(find(contradicted.findings, "cfa-phase"));
    CHECK_THAT(find(contradicted.findings, "cfa-phase")->text, Catch::Contains("RGGB or BGGR"));
    const TemporaryFolder folder;
    sky::PlainOptions o = small_options();
    o.lights = 4;
    sky::Scenario s = sky::plain_scenario(o);
    for (sky::Shot& shot : s.shots)
        if (shot.role == sky::Shot::Role::dark) shot.temperature += 60; // and the header does not tell
    for (sky::Shot& shot : s.shots)
        if (shot.role == sky::Shot::Role::dark) shot.claims.push_back({"CCD-TEMP", -10});
    const Quiet quiet;
    sky::write_scenario(s, folder / "p", quiet.context);
    const RunReport r = run(folder / "p");
    REQUIRE(find(r.findings, "dark-brighter-than-light"));
    CHECK(find(r.findings, "dark-brighter-than-light")->files.size() == 4);
}

TEST_CASE("Masters say what will hurt: a single frame, a bias with light on it, a flat that is too noisy") {
    const TemporaryFolder folder;
    sky::PlainOptions o = small_options();
    o.lights = 4;
    o.calibration = 1;
    const Quiet quiet;
    sky::write_scenario(sky::plain_scenario(o), folder / "one", quiet.context);
    const RunReport one = run(folder / "one");
    REQUIRE(one.stacks.at(0).used == 4);
    for (const MasterReport& m : one.masters) {
        REQUIRE_FALSE(m.doubts.empty());
        CHECK_THAT(m.doubts.front(), Catch::Contains("single frame"));
    }
    CHECK(find(one.findings, "master-doubtful"));

    o.calibration = 6;
    sky::Scenario leak = sky::plain_scenario(o);
    leak.instrument.glow = 4e5; // electrons per second in one corner: what a cap that leaks does in a millisecond
    sky::write_scenario(leak, folder / "leak", quiet.context);
    const RunReport lit = run(folder / "leak");
    const auto bias =
        std::find_if(lit.masters.begin(), lit.masters.end(), [](const MasterReport& m) { return m.role == "bias"; });
    REQUIRE(bias != lit.masters.end());
    REQUIRE_FALSE(bias->doubts.empty());
    CHECK_THAT(bias->doubts.front(), Catch::Contains("light leak"));
}

TEST_CASE("JPEG stills are stacked, with a warning that they are not linear") {
    const TemporaryFolder folder;
    fs::create_directories(folder / "p/lights");
    for (int f = 0; f < 4; ++f) {
        Image one(200, 160, 1, 40.0f);
        for (int i = 0; i < 30; ++i)
            add_gaussian_star(one, 20 + 27.7 * (i % 6) + f, 20 + 25.3 * (i / 6), 900 + 40 * i, 3);
        add_noise(one, 2, static_cast<std::uint64_t>(f) + 1);
        Raster<std::uint16_t> image(200, 160);
        for (std::size_t i = 0; i < image.pixels().size(); ++i)
            image.pixels()[i] = static_cast<std::uint16_t>(std::clamp(one.pixels()[i], 0.0f, 255.0f));
        write_jpeg(folder / ("p/lights/light_" + std::to_string(f) + ".jpg"), image);
    }
    const RunReport r = run(folder / "p");
    for (const FrameReport& f : r.stacks.at(0).frames) {
        INFO(f.path << ": " << f.reason);
        CHECK(f.used);
    }
    CHECK(find(r.findings, "not-linear"));
}
