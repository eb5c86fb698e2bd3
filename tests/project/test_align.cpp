// Lights onto one grid, through the whole project: lenses, drifting mounts, and what is remembered of them.
#include "support/projects.hpp"

#include <kasane/project/run.hpp>
#include <kasane/recipe/recipe.hpp>
#include <kasane/report/tables.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

constexpr double kCorner = 0.015; // distortion there

sky::Scenario lens_scenario() {
    sky::PlainOptions o;
    o.width = 480, o.height = 360;
    o.lights = 8, o.calibration = 0;
    o.stars = 260, o.nebula = 0;
    o.rotation = 25;
    o.seed = 31;
    sky::Scenario s = sky::plain_scenario(o);
    s.instrument.distortion = kCorner;
    s.instrument.vignetting = 0;
    return s;
}

using LensCopy = CopyOf<[](const fs::path& to) { sky::write_scenario(lens_scenario(), to, Quiet().context); }>;

double worst_rms(const StackReport& s) {
    double worst = 0;
    for (const FrameReport& f : s.frames)
        if (f.path != s.reference) worst = std::max(worst, f.rms);
    return worst;
}

} // namespace

TEST_CASE("The lens of a rig is found from its own frames, told, and remembered") {
    const LensCopy p;
    const RunReport r = run(p.path);
    REQUIRE(r.stacks.size() == 1);
    const StackReport& s = r.stacks[0];
    CHECK(s.used == 8);
    REQUIRE(s.optics.size() == 1);
    CHECK_THAT(s.optics[0], Catch::Contains("with radial distortion"));
    // 15 parts in 1000 of a half diagonal of 300 pixels: 4.5 px, found to a few hundredths of a pixel.
    INFO(s.optics[0]);
    const auto at = s.optics[0].find(", ");
    REQUIRE(at != std::string::npos);
    CHECK(std::stod(s.optics[0].substr(at + 2)) == Approx(100 * kCorner).margin(0.1));
    for (const FrameReport& f : s.frames) {
        CHECK(f.used);
        if (f.path == s.reference) continue;
        CHECK(f.expected_rms > 0);
        CHECK(f.rms < 2 * f.expected_rms);
        CHECK_THAT(f.registered_by, Catch::Contains("radial distortion"));
    }
    CHECK(s.fwhm <
          1.06 * s.frames[0].fwhm); // 0.2 px of misplacement would widen stars of 3 px by a hundredth, 1 px by a tenth
    CHECK_THAT(run_table(r), Catch::Contains("between the frames: ") && Catch::Contains("at the corner"));

    const auto results = digests(p.path / "kasane");
    CHECK(run(p.path).stacks[0].reused);
    CHECK(digests(p.path / "kasane") == results);

    SECTION("A light that comes later does not move the others") {
        fs::remove_all(p.path / "kasane");
        const fs::path held = p.folder / "held.fits", light = p.path / s.frames[5].path;
        REQUIRE(s.frames[5].path != s.reference);
        fs::remove_all(p.path / ".kasane");
        fs::rename(light, held);
        const RunReport without = run(p.path);
        fs::rename(held, light);
        const RunReport with = run(p.path);
        CHECK(with.stacks[0].used == 8);
        CHECK(with.stacks[0].optics == without.stacks[0].optics);
        for (const FrameReport& before : without.stacks[0].frames)
            for (const FrameReport& now : with.stacks[0].frames)
                if (now.path == before.path) {
                    CHECK(now.rms == before.rms);
                    CHECK(now.shift_x == before.shift_x);
                }
    }
    SECTION("A model that is asked for is used, and its residuals are told as they are") {
        write_recipe(p.path, "[registration]\nmodel = \"affine\"\n");
        const RunReport stiff = run(p.path);
        CHECK_FALSE(stiff.stacks[0].reused);
        CHECK(stiff.stacks[0].optics.at(0).find("distortion") == std::string::npos);
        CHECK(worst_rms(stiff.stacks[0]) > 1.3 * worst_rms(s));
        write_recipe(p.path, "[registration]\nmodel = \"lens\"\n");
        const RunReport lens = run(p.path);
        CHECK_THAT(lens.stacks[0].optics.at(0), Catch::Contains("distortion"));
        CHECK(worst_rms(lens.stacks[0]) < 1.2 * worst_rms(s));
    }
}

TEST_CASE("A lens that two lights could not show is found when the others come, and then stays") {
    const LensCopy p;
    std::vector<fs::path> held;
    for (const auto& entry : fs::recursive_directory_iterator(p.path / "night-1/lights"))
        held.push_back(entry.path());
    std::sort(held.begin(), held.end());
    held.erase(held.begin(), held.begin() + 2);
    fs::create_directory(p.folder / "held");
    const auto move = [&](bool away) {
        for (const fs::path& f : held)
            away ? fs::rename(f, p.folder / "held" / f.filename()) : fs::rename(p.folder / "held" / f.filename(), f);
    };
    move(true);
    CHECK(run(p.path).stacks.at(0).used == 2);
    move(false);
    const RunReport all = run(p.path);
    CHECK(all.stacks.at(0).used == 8);
    CHECK_THAT(all.stacks.at(0).optics.at(0), Catch::Contains("distortion"));
    CHECK(run(p.path).stacks.at(0).reused);
}

TEST_CASE("Frames that do not show the reference's field come through those between") {
    sky::PlainOptions o;
    o.width = 480, o.height = 320;
    o.lights = 8, o.calibration = 0;
    o.stars = 140, o.nebula = 0, o.dither = 2;
    sky::Scenario s = sky::plain_scenario(o);
    constexpr double kStep = 0.3; // of the width, from light to light
    s.scene.margin = static_cast<int>(o.lights * kStep * o.width);
    int light = 0;
    for (sky::Shot& shot : s.shots)
        if (shot.role == sky::Shot::Role::light)
            shot.conditions.pointing.offset_x += kStep * o.width * (light++ - o.lights / 2);
    const TemporaryFolder folder;
    sky::write_scenario(s, folder / "drift", Quiet().context);
    write_recipe(folder / "drift", "[grading]\nlimits = []\n");
    const RunReport r = run(folder / "drift");
    REQUIRE(r.stacks.size() == 1);
    CHECK(r.stacks[0].used == o.lights);
    int through = 0;
    for (const FrameReport& f : r.stacks[0].frames) {
        INFO(f.path << ": " << f.reason);
        CHECK(f.used);
        CHECK(f.rms < 0.6); // stars of the simulator's usual noise: 0.2 to 0.3
        through += f.registered_how.rfind("through ", 0) == 0;
    }
    CHECK(through >= 2); // the ends of a row of 2.1 widths
    CHECK_THAT(run_table(r), Catch::Contains("through "));
}

TEST_CASE("A model that does not exist is refused with those that do") {
    const TemporaryFolder folder;
    write_recipe(folder.path(), "[registration]\nmodel = \"afine\"\n");
    CHECK_THROWS_WITH(read_recipe(folder.path()), Catch::Contains("\"affine\"") && Catch::Contains("\"lens\""));
}
