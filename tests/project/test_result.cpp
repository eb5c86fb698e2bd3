// A finished run, looked at once more.
#include "support/projects.hpp"

#include <kasane/grading/worth.hpp>
#include <kasane/project/result.hpp>

#include <catch2/catch.hpp>
#include <fstream>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

using Mono = CopyOf<[](const fs::path& to) {
    const Quiet quiet;
    sky::PlainOptions o = small_options();
    o.lights = 6;
    o.width = 1000; // so that it is shown smaller than it is
    o.height = 200;
    o.stars = 250;
    o.dither = 4;
    sky::write_scenario(sky::plain_scenario(o), to, quiet.context);
}>;

using Coloured = CopyOf<[](const fs::path& to) {
    const Quiet quiet;
    sky::PlainOptions o = small_options();
    o.lights = 6;
    o.dither = 4;
    sky::Scenario s = sky::plain_scenario(o);
    s.instrument.cfa = "RGGB";
    s.scene.filters = {"R", "G", "B"};
    sky::write_scenario(s, to, quiet.context);
}>;

/// The light that a page shows as it came, by the run that made it and by its file.
void compare_drawn(const fs::path& folder, const std::string& recipe, int planes) {
    INFO(recipe);
    if (!recipe.empty()) write_recipe(folder, recipe);
    const Quiet quiet;
    const RunOptions options{folder, {}, {}};
    RunReport made = run_project(options, quiet.context);
    GradeOptions grading;
    grading.run = options;
    std::vector<FramePicture> by_file;
    {
        const GradedProject graded(grading, quiet.context);
        REQUIRE(made.as_they_came.size() == graded.report.stacks.size());
        for (std::size_t k = 0; k < graded.report.stacks.size(); ++k) {
            const auto best = best_kept(graded.report.stacks[k].frames);
            REQUIRE(best);
            CHECK(made.as_they_came[k].key == graded.report.stacks[k].frames[*best].key);
            by_file.push_back(graded.picture(k, *best, {}, true));
        }
    }
    for (std::size_t k = 0; k < by_file.size(); ++k) {
        const FramePicture& drawn = made.as_they_came[k].picture;
        CHECK(drawn.pixels.planes() == planes);
        CHECK(drawn.pixels.pixels() == by_file[k].pixels.pixels());
        CHECK(drawn.scale.factor == by_file[k].scale.factor);
        CHECK(drawn.scale.zero == by_file[k].scale.zero);
        CHECK(drawn.scale.high == by_file[k].scale.high);
    }
    const auto shown = [&](const RunReport& report) -> std::vector<std::uint8_t> {
        const ProjectResult result = look_at_result(options, report, quiet.context);
        for (const FrameLook& f : result.frames)
            if (f.what == "as it came") return {f.pixels.pixels().begin(), f.pixels.pixels().end()};
        return {};
    };
    const auto as_made = shown(made);
    CHECK_FALSE(as_made.empty());
    RunReport later = made; // as it is read from a file, without pictures
    later.as_they_came.clear();
    CHECK(as_made == shown(later));
    for (std::uint8_t& byte : made.as_they_came.front().picture.pixels.pixels())
        byte = static_cast<std::uint8_t>(255 - byte);
    CHECK(shown(made) != as_made); // what was drawn is what is shown
}

} // namespace

TEST_CASE("A run draws the light that its page shows as it came just as its file shows it") {
    const std::string recipe =
        GENERATE(as<std::string>{}, "", "[drizzle]\nscale = 2\n", "[canvas]\nframe = \"400 30 200 50\"\n",
                 "[[files]]\nmatch = \"**\"\nturn = 90\n");
    compare_drawn(Mono().path, recipe, 1);
}

TEST_CASE("A run draws a light of a colour sensor just as its file shows it") {
    const std::string recipe =
        GENERATE(as<std::string>{}, "", "[colour]\nmethod = \"binned\"\n", "[drizzle]\nscale = 1\n");
    compare_drawn(Coloured().path, recipe, 3);
}

TEST_CASE("Of a light that changes while it is integrated nothing is shown that was drawn before") {
    const Mono p;
    const RunOptions options{p.path, {}, {}};
    std::string best;
    {
        const Mono same;
        const Quiet quiet;
        GradeOptions grading;
        grading.run = {same.path, {}, {}};
        const GradedProject graded(grading, quiet.context);
        best = graded.report.stacks.front().frames[*best_kept(graded.report.stacks.front().frames)].path;
    }
    Meddler meddler;
    meddler.at["integrate"] = [&] { std::ofstream(p.path / best, std::ios::app | std::ios::binary) << "more"; };
    const Workers workers(2);
    const RunReport made = run_project(options, {workers, {}, meddler});
    REQUIRE(made.stacks.size() == 1);
    CHECK(made.stacks.front().used == 5);
    CHECK(made.as_they_came.empty());
}
