// Grading whole projects, against the simulator's truth.
#include "support/projects.hpp"

#include <kasane/base/error.hpp>
#include <kasane/project/export_lights.hpp>
#include <kasane/project/grade.hpp>
#include <kasane/report/grade_table.hpp>
#include <kasane/sky/variants.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <fstream>
#include <set>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

GradeReport grade(const fs::path& folder, GradeOptions options = {}) {
    const Quiet quiet;
    options.run.folder = folder;
    return grade_project(options, quiet.context);
}

const FrameGrade& frame(const GradeReport& r, const std::string& path) {
    for (const StackGrade& s : r.stacks)
        for (const FrameGrade& f : s.frames)
            if (f.path == path) return f;
    throw std::runtime_error("no " + path);
}

/// One night of 16 lights with everything going wrong once.
sky::Scenario bad_night() {
    sky::PlainOptions o = small_options();
    o.width = 480;
    o.height = 360;
    o.stars = 220;
    o.lights = 16;
    o.calibration = 6;
    sky::Scenario s = sky::plain_scenario(o);
    std::vector<sky::Conditions*> c;
    for (sky::Shot& shot : s.shots)
        if (shot.role == sky::Shot::Role::light) c.push_back(&shot.conditions);
    for (sky::Conditions* one : c)
        one->pointing.offset_x *= 0.4;
    c[3]->transparency = 0.3;
    c[3]->flaws = {"cloud"};
    c[6]->sky *= 4;
    c[6]->flaws = {"twilight"};
    c[9]->obstruction = 0.3;
    c[9]->flaws = {"obstruction"};
    c[12]->fwhm *= 1.5;
    c[12]->ellipticity = 0.5;
    c[12]->flaws = {"wind"};
    c[14]->trails.push_back({-10, 60, 500, 300, 900, 1.4, 0});
    return s;
}

/// Lights alone, without calibration frames.
sky::Scenario bare_lights(int count) {
    sky::PlainOptions o = small_options();
    o.lights = count;
    o.calibration = 0;
    return sky::plain_scenario(o);
}

const fs::path& bad_project() {
    static const TemporaryFolder folder;
    static const fs::path path = [] {
        const Quiet quiet;
        sky::write_scenario(bad_night(), folder / "p", quiet.context);
        return folder / "p";
    }();
    return path;
}

} // namespace

TEST_CASE("The standard limits drop what went wrong and nothing else") {
    const GradeReport r = grade(bad_project());
    REQUIRE(r.stacks.size() == 1);
    const sky::Scenario truth = bad_night();
    for (const sky::Shot& shot : truth.shots) {
        if (shot.role != sky::Shot::Role::light) continue;
        INFO(shot.path << " " << frame(r, shot.path).verdict.reason);
        CHECK(frame(r, shot.path).verdict.keep == shot.conditions.flaws.empty());
    }
    const auto& trail = frame(r, "night-1/lights/L_015.fits");
    REQUIRE(trail.streaks.size() == 1); // counted, located, not held against it
    CHECK(trail.streaks[0].y0 == Approx(65).margin(4));
    CHECK(frame(r, "night-1/lights/L_004.fits").figures[Measure::transparency] == Approx(0.3).margin(0.02));
    CHECK(frame(r, "night-1/lights/L_010.fits").figures[Measure::obstructed] == Approx(0.3).margin(0.1));
    CHECK(frame(r, "night-1/lights/L_013.fits").figures[Measure::eccentricity] == Approx(0.87).margin(0.06));
    CHECK(r.stacks[0].all.frames == 16);
    CHECK(r.stacks[0].kept.frames == 12);
    CHECK(r.stacks[0].kept.fwhm < r.stacks[0].all.fwhm + 0.02);
}

TEST_CASE("Transparency is of the clearest light, whichever shows most stars") {
    sky::Scenario s = bare_lights(6);
    for (sky::Shot& shot : s.shots)
        if (shot.path.ends_with("L_003.fits")) {
            shot.conditions.fwhm *= 0.65; // so that more stars rise above the noise
            shot.conditions.transparency = 0.8;
        }
    const TemporaryFolder folder;
    const Quiet quiet;
    sky::write_scenario(s, folder / "p", quiet.context);
    const GradeReport r = grade(folder / "p");
    for (const FrameGrade& f : r.stacks.at(0).frames) {
        const bool thin = f.path.ends_with("L_003.fits");
        INFO(f.path);
        CHECK(f.figures[Measure::transparency] == Approx(thin ? 0.8 : 1).margin(0.03));
        if (thin)
            for (const FrameGrade& other : r.stacks.at(0).frames)
                CHECK(f.figures[Measure::stars] >= other.figures[Measure::stars]);
    }
}

TEST_CASE("What one light alone shows, and shows plenty of, hides nothing of the others") {
    const TemporaryFolder folder;
    const Quiet quiet;
    sky::write_scenario(bare_lights(6), folder / "p", quiet.context);
    repaint(folder / "p/night-1/lights/L_004.fits", [](Image& pixels) {
        for (int j = 0; j < 7; ++j) // in one corner
            for (int i = 0; i < 9; ++i)
                add_gaussian_star(pixels, 14 + 11.3 * i, 12 + 10.7 * j, 9000, 3);
    });
    const GradeReport r = grade(folder / "p");
    for (const FrameGrade& f : r.stacks.at(0).frames) {
        INFO(f.path);
        CHECK_FALSE(f.figures[Measure::obstructed] > 0.1); // or not measured
        CHECK(f.verdict.keep);
    }
}

TEST_CASE("Adding up worths predicts the master's noise within 3 %") {
    const TemporaryFolder folder;
    const Quiet quiet;
    sky::PlainOptions o = small_options();
    o.width = 480;
    o.height = 360;
    o.nebula = 0;
    o.lights = 14;
    o.calibration = 12;
    o.transparency_low = 0.55;
    o.sky_spread = 1;
    o.fwhm_spread = 0.2;
    o.dither = 4;
    sky::write_scenario(sky::plain_scenario(o), folder / "p", quiet.context);
    GradeOptions everything;
    everything.limits = {"stars < 1"};
    const Prediction predicted = grade(folder / "p", everything).stacks.at(0).kept;
    write_recipe(folder / "p", "[grading]\nlimits = [\"stars < 1\"]\n");
    const RunReport run = run_project({folder / "p", {}, {}}, quiet.context);
    const StackReport& s = run.stacks.at(0);
    REQUIRE(s.used == 14);
    CHECK(s.noise == Approx(predicted.noise).epsilon(0.03)); // both at the level of the best frame
    CHECK(s.seconds_effective == Approx(predicted.effective_seconds).epsilon(0.01));
    CHECK(s.fwhm == Approx(predicted.fwhm).epsilon(0.04));
}

TEST_CASE("A verdict by hand stands over limits, moved files and a deleted memory") {
    const TemporaryFolder folder;
    fs::copy(bad_project(), folder / "p", fs::copy_options::recursive);
    GradeReport r = grade(folder / "p");
    save_verdicts(folder / "p", changes_for(r, {{"night-1/lights/L_004.fits", Decision{true, "thin"}}}));
    save_verdicts(folder / "p", changes_for(r, {{"night-1/lights/L_00[12].fits", Decision{false, ""}}}));
    fs::remove_all(folder / "p/.kasane");
    fs::rename(folder / "p/night-1/lights/L_004.fits", folder / "p/night-1/lights/renamed.fits");
    r = grade(folder / "p");
    CHECK(frame(r, "night-1/lights/renamed.fits").verdict.keep);
    CHECK(frame(r, "night-1/lights/renamed.fits").verdict.author == Author::person);
    CHECK_FALSE(frame(r, "night-1/lights/L_001.fits").verdict.keep);
    CHECK_THROWS_AS(changes_for(r, {{"nothing*", Decision{}}}), UsageError);
    // The run keeps to it, and makes the master anew only where that changes something.
    const Quiet quiet;
    const RunReport first = run_project({folder / "p", {}, {}}, quiet.context);
    CHECK(first.stacks.at(0).used == 11);
    write_recipe(folder / "p", "[grading]\nlimits = [\"standard\", \"stars < 2\"]\n");
    CHECK(run_project({folder / "p", {}, {}}, quiet.context).stacks.at(0).reused);
    write_recipe(folder / "p", "[grading]\nlimits = [\"standard\", \"best 9 by worth\"]\n");
    const RunReport other = run_project({folder / "p", {}, {}}, quiet.context);
    CHECK_FALSE(other.stacks.at(0).reused);
    CHECK(other.stacks.at(0).used == 10); // nine and the one by hand
}

TEST_CASE("Measures inside a rectangle are those of that part") {
    GradeOptions o;
    o.part = {0, 252, 480, 108}; // under the roof
    const GradeReport part = grade(bad_project(), o), whole = grade(bad_project());
    const std::string roof = "night-1/lights/L_010.fits", clear = "night-1/lights/L_009.fits";
    CHECK(frame(part, roof).figures[Measure::stars] < 0.25 * frame(part, clear).figures[Measure::stars]);
    CHECK(frame(part, clear).figures[Measure::stars] < 0.5 * frame(whole, clear).figures[Measure::stars]);
    CHECK(frame(part, clear).figures[Measure::fwhm] == Approx(frame(whole, clear).figures[Measure::fwhm]).epsilon(0.1));
}

TEST_CASE("Lights that cannot be judged are told, not lost") {
    const TemporaryFolder folder;
    const Quiet quiet;
    sky::Scenario s = bare_lights(6);
    s.shots[1].capped = true;                        // no stars
    s.shots[2].conditions.sky = 2000;                // all saturated
    s.shots[3].conditions.pointing.offset_x += 5000; // another field: nothing of this one
    sky::write_scenario(s, folder / "p", quiet.context);
    const GradeReport r = grade(folder / "p");
    int told = 0, kept = 0;
    for (const StackGrade& stack : r.stacks)
        for (const FrameGrade& f : stack.frames) {
            kept += f.verdict.keep;
            told += !f.verdict.keep && !f.verdict.reason.empty();
        }
    CHECK(kept == 3);
    CHECK(told == 3);
    const std::string csv = grade_csv(r);
    CHECK(std::count(csv.begin(), csv.end(), '\n') == 7);
    CHECK_THROWS_AS(grade_text(r, {.sort = "beauty"}), UsageError);
    CHECK_THROWS_AS(grade(folder / "nothing"), InputError);
}

TEST_CASE("One light alone, and lights without times, are graded") {
    const TemporaryFolder folder;
    const Quiet quiet;
    sky::write_scenario(bare_lights(1), folder / "one", quiet.context);
    const GradeReport one = grade(folder / "one");
    CHECK(one.stacks.at(0).kept.frames == 1);
    CHECK(one.stacks.at(0).frames[0].figures[Measure::worth] == 1);
    sky::Scenario s = bare_lights(5);
    for (sky::Shot& shot : s.shots)
        shot.silent = true; // not even the time
    sky::write_scenario(s, folder / "silent", quiet.context);
    write_recipe(folder / "silent", "[assume]\nrole = \"light\"\n");
    CHECK(grade(folder / "silent").stacks.at(0).kept.frames == 5);
}

TEST_CASE("Lights that all claim the same time are graded, and told apart by nothing but their files") {
    const TemporaryFolder folder;
    const Quiet quiet;
    sky::Scenario s = bare_lights(6);
    for (sky::Shot& shot : s.shots)
        shot.start = s.shots.front().start;
    sky::write_scenario(s, folder / "p", quiet.context);
    const GradeReport r = grade(folder / "p");
    CHECK(r.stacks.at(0).kept.frames == 6);
    REQUIRE(r.drifts.size() == 1);
    CHECK(r.drifts[0].drift.diagnosis.at(0).find("no times that differ") != std::string::npos);
    const std::string csv = grade_csv(r);
    for (const FrameGrade& f : r.stacks[0].frames)
        CHECK(csv.find(f.path) != std::string::npos);
}

TEST_CASE("Exported lights are copies or links, originals and other files stay") {
    const auto before = digests(bad_project(), {"kasane"});
    const TemporaryFolder folder;
    const GradeReport r = grade(bad_project());
    CHECK(export_lights(r, {folder / "kept"}).exported == 12);
    CHECK(export_lights(r, {folder / "kept"}).there_already == 12);
    CHECK(export_lights(r, {folder / "dropped", ExportHow::symbolic_link, true}).exported == 4);
    CHECK(fs::is_symlink(folder / "dropped/night-1/lights/L_004.fits"));
    CHECK(read_file(folder / "kept/night-1/lights/L_001.fits") ==
          read_file(bad_project() / "night-1/lights/L_001.fits"));
    std::ofstream(folder / "kept/night-1/lights/L_002.fits") << "mine";
    CHECK_THROWS_AS(export_lights(r, {folder / "kept"}), OutputError);
    CHECK(read_file(folder / "kept/night-1/lights/L_002.fits") == "mine");
    CHECK_THROWS_AS(export_lights(r, {bad_project() / "kept"}), UsageError);
    CHECK(digests(bad_project(), {"kasane"}) == before);
}
