// What is made again and what is kept: the same in status, check and run; and what a name, a camera, a key stand for.
#include "support/projects.hpp"

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/project/check.hpp>
#include <kasane/project/grade.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <fmt/format.h>
#include <fstream>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

/// Two filters of one target, that share a reference.
void write_two_filters(const fs::path& folder) {
    const Quiet quiet;
    sky::PlainOptions o = small_options();
    o.lights = 6;
    o.dither = 4;
    for (const char* filter : {"L", "R"}) {
        o.filter = filter;
        o.seed = 5; // the same sky
        sky::write_scenario(sky::plain_scenario(o), folder, quiet.context);
        if (std::string(filter) == "L") // of both, one set of darks and bias
            o.calibration = 6;
    }
}

using Copy = CopyOf<[](const fs::path& to) {
    write_two_filters(to);
    run(to);
}>;

CheckReport check_of(const fs::path& folder) {
    const Quiet quiet;
    return check_project({folder, {}, {}}, quiet.context);
}

/// What status says is not done, and what a run then makes: names of both.
std::pair<std::vector<std::string>, std::vector<std::string>> promised_and_made(const fs::path& folder) {
    std::vector<std::string> promised, made;
    for (const ResultStatus& s : status_of(folder).results)
        if (s.state != ResultStatus::State::done) promised.push_back(s.name);
    const RunReport r = run(folder);
    for (const MasterReport& m : r.masters)
        if (!m.reused) made.push_back(m.name);
    for (const StackReport& s : r.stacks)
        if (!s.reused) made.push_back(s.name);
    std::sort(promised.begin(), promised.end());
    std::sort(made.begin(), made.end());
    return {promised, made};
}

void flip_a_byte(const fs::path& file) {
    std::string bytes = read_file(file);
    bytes[bytes.size() / 2] = static_cast<char>(bytes[bytes.size() / 2] ^ 1);
    std::ofstream(file, std::ios::binary) << bytes;
}

} // namespace

TEST_CASE("Status promises what a run does, whatever was changed") {
    const Copy p;
    REQUIRE(status_of(p.path).all_done());
    const std::string reference = run(p.path).stacks.front().reference;
    const auto change = [&](const char* what, const std::function<void()>& act, std::size_t least) {
        INFO(what);
        act();
        const auto [promised, made] = promised_and_made(p.path);
        CHECK(promised == made);
        CHECK(made.size() >= least);
        CHECK(status_of(p.path).all_done());
    };
    change(
        "one pixel of a flat", [&] { flip_a_byte(p.path / "night-1/flats/flat-L_002.fits"); }, 2);
    change(
        "a bias gone", [&] { fs::remove(p.path / "darks/bias_003.fits"); }, 1);
    change(
        "a limit that drops nobody", [&] { write_recipe(p.path, "[grading]\nlimits = [\"stars < 1\"]\n"); }, 0);
    change(
        "the reference changed", [&] { flip_a_byte(p.path / reference); }, 2);
    change(
        "the reference gone", [&] { fs::remove(p.path / run(p.path).stacks.front().reference); }, 2);
    change(
        "a light gone", [&] { fs::remove(p.path / "night-1/lights/R_005.fits"); }, 1);
    change(
        "seconds by the recipe",
        [&] {
            write_recipe(p.path,
                         "[grading]\nlimits = [\"stars < 1\"]\n[[files]]\nmatch = \"night-1/lights/L_001.fits\"\n"
                         "seconds = 60\n");
        },
        1);
    change(
        "focal length by the recipe",
        [&] {
            write_recipe(p.path,
                         "[grading]\nlimits = [\"stars < 1\"]\n[[files]]\nmatch = \"**/L_0*\"\nfocal_length = 777\n");
        },
        1);
}

TEST_CASE("What a run calls done, grading does not change") {
    const Copy p;
    write_recipe(p.path, "[grading]\nlimits = [\"sky > 3 and fwhm > 1\"]\n");
    run(p.path);
    write_recipe(p.path, "[grading]\nlimits = [\"sky > 3 and fwhm > 1\"]\n[[files]]\nmatch = \"**/lights/L_002.fits\"\n"
                         "seconds = 1\n");
    const RunReport r = run(p.path);
    const Quiet quiet;
    GradeOptions o;
    o.run.folder = p.path;
    const GradeReport g = grade_project(o, quiet.context);
    for (const StackGrade& stack : g.stacks)
        for (const FrameGrade& f : stack.frames)
            for (const StackReport& s : r.stacks)
                for (const FrameReport& frame : s.frames)
                    if (frame.path == f.path) CHECK(frame.used == f.verdict.keep);
}

TEST_CASE("A pattern that is corrected makes the flat again") {
    const Copy p;
    const auto with = [&](const char* cfa) {
        write_recipe(p.path, fmt::format("[assume]\ncfa = \"{}\"\n[colour]\nmethod = \"binned\"\n", cfa));
        return promised_and_made(p.path);
    };
    with("RGGB");
    const auto [promised, made] = with("GRBG");
    CHECK(promised == made);
    CHECK(std::find(made.begin(), made.end(), "flat-L-2031-03-12") != made.end());
}

TEST_CASE("A new night with its own flats measures that night alone, and check says so before") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    run(folder / "p");
    sky::PlainOptions o = small_options();
    o.lights = 4;
    sky::Scenario s = sky::plain_scenario(o);
    s.seed += 17;                   // other noise
    for (sky::Shot& shot : s.shots) // three nights later
        shot.start.replace(8, 2, fmt::format("{:02}", std::stoi(shot.start.substr(8, 2)) + 3));
    const Quiet quiet;
    sky::write_scenario(s, folder / "more", quiet.context);
    fs::create_directories(folder / "p/night-4");
    for (const char* part : {"lights", "flats"})
        fs::copy(folder / "more/night-1" / part, folder / "p/night-4" / part, fs::copy_options::recursive);
    const CheckReport check = check_of(folder / "p");
    CHECK(check.cost.lights == 4);
    CHECK(check.cost.masters == 1);
    Meddler progress;
    const Workers workers(2);
    const RunReport r = run_project({folder / "p", {}, {}}, {workers, {1ull << 30}, progress});
    CHECK(progress.totals.at("measure") == 4);
    CHECK(r.stacks.front().frames.size() == 14);
    CHECK(run(folder / "p").stacks.front().reused);
}

TEST_CASE("A camera that was measurably wrong is corrected, and that is said") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    run(folder / "p");
    for (const char* kind : {"flats", "lights"}) { // the same pixels in other units: half the electrons a count
        for (const auto& entry : fs::directory_iterator(folder / "p/night-1" / kind)) {
            repaint(entry.path(), [](Image& image) {
                for (float& v : image.pixels())
                    v = 500 + 1.9f * (v - 500);
            });
        }
    }
    const RunReport r = run(folder / "p");
    REQUIRE(find(r.findings, "camera-changed"));
    CHECK_FALSE(find(run(folder / "p").findings, "camera-changed"));
}

TEST_CASE("A bias that was deleted is not kept alive by the library's master") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    fs::create_directory(folder / "library");
    write_recipe(folder / "p", "[calibration]\nlibrary = \"../library\"\n");
    run(folder / "p");
    CHECK(status_of(folder / "p").all_done());
    fs::remove(folder / "p/darks/bias_002.fits");
    CHECK_FALSE(status_of(folder / "p").all_done()); // looked for where it is
    const RunReport r = run(folder / "p");
    for (const MasterReport& m : r.masters)
        if (m.role == "bias") {
            CHECK(m.frames == 5);
            CHECK_FALSE(m.reused);
        }
    CHECK(find(r.findings, "master-superseded"));
    // A project that has none of the frames takes what is there, with all it says of the camera.
    write_small_project(folder / "q");
    fs::remove_all(folder / "q/darks");
    write_recipe(folder / "q", "[calibration]\nlibrary = \"../library\"\n");
    const RunReport q = run(folder / "q");
    CHECK(find(q.findings, "dark-missing") == nullptr);
}

TEST_CASE("A master found in the library says as much as on the day it was made") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    fs::create_directory(folder / "library");
    write_recipe(folder / "p", "[calibration]\nlibrary = \"../library\"\n");
    const RunReport made = run(folder / "p");
    fs::remove_all(folder / "p/.kasane");
    const RunReport found = run(folder / "p");
    REQUIRE(made.masters.size() == found.masters.size());
    for (std::size_t i = 0; i < made.masters.size(); ++i) {
        const MasterReport &a = made.masters[i], &b = found.masters[i];
        INFO(a.name);
        CHECK(b.reused);
        CHECK(b.saturation == Approx(a.saturation));
        CHECK(b.electrons_per_adu == Approx(a.electrons_per_adu));
        CHECK(b.read_noise == Approx(a.read_noise));
        CHECK(b.gradient == Approx(a.gradient));
        CHECK(b.level_spread == Approx(a.level_spread));
        CHECK(b.star_pixels == a.star_pixels);
        CHECK(b.doubts == a.doubts);
    }
    // Altered, it is not found.
    for (const auto& entry : fs::directory_iterator(folder / "library"))
        if (entry.path().extension() == ".fits") flip_a_byte(entry.path());
    fs::remove_all(folder / "p/.kasane");
    for (const MasterReport& m : run(folder / "p").masters)
        CHECK_FALSE(m.reused);
}

TEST_CASE("A name once given stays with its stack, and a new one says what tells it apart") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    const RunReport alone = run(folder / "p");
    const std::string name = alone.stacks.front().name;
    sky::PlainOptions o = small_options();
    o.width = 300; // another sensor on the same target, which sorts before the first
    o.height = 200;
    o.lights = 5;
    const Quiet quiet;
    sky::write_scenario(sky::plain_scenario(o), folder / "other", quiet.context);
    fs::copy(folder / "other/night-1/lights", folder / "p/a-second-rig", fs::copy_options::recursive);
    for (const bool with_ledger : {true, false}) {
        if (!with_ledger) fs::remove_all(folder / "p/.kasane"); // names are in the results too
        const RunReport both = run(folder / "p");
        REQUIRE(both.stacks.size() == 2);
        for (const StackReport& s : both.stacks)
            CHECK(s.name == (s.frames.size() == 10 ? name : name + "-300x200"));
    }
    const CheckReport check = check_of(folder / "p");
    REQUIRE(find(check.findings, "name-changed"));
    CHECK_THAT(find(check.findings, "name-changed")->text, Catch::Contains("300x200"));
}

TEST_CASE("Where nothing could be made, nothing is called done") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    const auto ends = [&](const std::string& arguments, int status) {
        const Outcome o = shell("{kasane} " + arguments);
        INFO(arguments << "\n" << o.out << o.err);
        CHECK(o.status == status);
        CHECK(o.out.find("ll is done") == std::string::npos);
        CHECK(o.out.find("Nothing is wrong") == std::string::npos);
    };
    const std::string p = (folder / "p").string();
    write_recipe(folder / "p", "[grading]\nlimits = [\"stars > 0\"]\n"); // drops all
    ends("run -q " + p, 3);
    ends("status -q " + p, 1);
    ends("check -q " + p, 1);
    write_recipe(folder / "p", "[grading]\npart = \"4000 4000 100 100\"\n");
    for (const char* verb : {"run", "status", "check", "grade"})
        ends(std::string(verb) + " -q " + p, 2);
    write_recipe(folder / "p", "[project]\nexclude = [\"**\"]\n");
    ends("run -q " + p, 3);
    ends("status -q " + p, 1);
    ends("check -q " + p, 1);
    write_recipe(folder / "p", "[project]\noutput = \".\"\n");
    for (const char* verb : {"run", "status", "check", "scan"})
        ends(std::string(verb) + " -q " + p, 2);
    fs::remove(folder / "p/kasane.toml");
    ends("run -q -o " + p + " " + p, 2);
    write_recipe(folder / "p", "[project]\noutput = \"night-1\"\n"); // hides the lights
    CHECK_THAT(shell("{kasane} check -q " + p).out, Catch::Contains("16 files lie in the folder of the results"));
    ends("run -q " + p, 3);
    fs::remove(folder / "p/kasane.toml");
    fs::create_directory(folder / "empty");
    ends("status -q " + (folder / "empty").string(), 1);
    ends("check -q " + (folder / "empty").string(), 1);
}

TEST_CASE("A light without an exposure time drops no other, and that is said") {
    for (const char* value : {"", "NaN", "-120.0", "1e300", "0.0"}) {
        INFO(value);
        const TemporaryFolder folder;
        write_small_project(folder / "p");
        const fs::path file = folder / "p/night-1/lights/L_004.fits";
        std::string bytes = read_file(file);
        const std::size_t at = bytes.find("EXPTIME =");
        REQUIRE(at != std::string::npos);
        std::string card = fmt::format("{:<8}= {:>20} / [s]", *value ? "EXPTIME" : "NOTHING", *value ? value : "1");
        card.resize(80, ' ');
        bytes.replace(at, 80, card);
        std::ofstream(file, std::ios::binary) << bytes;
        const RunReport r = run(folder / "p");
        CHECK(r.stacks.front().used == 10);
        REQUIRE(find(r.findings, "exposure-time-unknown"));
        CHECK(find(r.findings, "exposure-time-unknown")->files ==
              std::vector<std::string>{"night-1/lights/L_004.fits"});
        for (const FrameReport& f : r.stacks.front().frames)
            if (f.path.ends_with("L_004.fits"))
                CHECK(f.transparency == 0); // not measured
            else
                CHECK(f.transparency > 0.8);
        CHECK_THAT(shell("{kasane} scan " + (folder / "p").string()).out, Catch::Contains("10"));
    }
}

TEST_CASE("An enormous light among good ones is set aside, and the rest goes on") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    const fs::path file = folder / "p/night-1/lights/L_900.fits";
    fs::copy(folder / "p/night-1/lights/L_001.fits", file);
    std::string bytes = read_file(file);
    const auto enlarge = [&](const std::string& side, std::uint64_t size) {
        std::string changed = bytes;
        for (const char* key : {"NAXIS1  =", "NAXIS2  ="})
            changed.replace(changed.find(key) + 9, 21, fmt::format("{:>21}", side));
        std::ofstream(file, std::ios::binary) << changed;
        fs::resize_file(file, size); // sparse
    };
    enlarge("100000", 20'000'005'760);
    const RunReport absurd = run(folder / "p");
    CHECK(absurd.stacks.size() == 1);
    CHECK(absurd.stacks.front().used == 10);
    REQUIRE(find(absurd.findings, "file-unreadable"));
    enlarge("30000", 1'800'005'760); // possible, but more than the budget allows
    const RunReport large = run(folder / "p");
    const auto whole = std::find_if(large.stacks.begin(), large.stacks.end(), [](auto& s) { return s.used == 10; });
    CHECK(whole != large.stacks.end());
    bool told = false;
    for (const StackReport& s : large.stacks)
        for (const FrameReport& f : s.frames)
            told = told || (f.path.ends_with("L_900.fits") && f.reason.find("GB of memory") != std::string::npos);
    CHECK(told);
}
