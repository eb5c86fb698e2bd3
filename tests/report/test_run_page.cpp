// The page of a run: by the command, in a real browser, and what it says where things are missing.
#include "support/projects.hpp"
#include "support/webdriver.hpp"

#include <kasane/base/error.hpp>
#include <kasane/report/run_page.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <fmt/format.h>
#include <fstream>
#include <nlohmann/json.hpp>

namespace fs = std::filesystem;
using namespace kasane;
using namespace kasane::test;

namespace {

/// A small project of two nights that was run, whose target's name tries to be markup.
void write_run(const fs::path& folder) {
    const Quiet quiet;
    sky::PlainOptions o = small_options();
    o.lights = 8;
    o.calibration = 4;
    o.dither = 4;
    sky::Scenario s = sky::plain_scenario(o);
    s.target = "</script><b>Nebula";
    for (sky::Shot& shot : s.shots)
        if (shot.path.ends_with("L_005.fits")) shot.conditions.transparency = 0.25;
    sky::write_scenario(s, folder, quiet.context);
    REQUIRE(shell("{kasane} run -q " + folder.string()).status >= 0);
}
using Run = CopyOf<&write_run>;

} // namespace

TEST_CASE("A run leaves its page and a report is made of what is there") {
    Run p;
    const std::string folder = p.path.string();
    const fs::path page = p.path / "kasane/report.html";
    REQUIRE(fs::exists(page));
    CHECK(fs::file_size(page) < 8u << 20);
    const auto inputs = digests(p.path);
    // Nothing from elsewhere, nothing but itself.
    const std::string text = read_file(page);
    for (const char* elsewhere : {"src=\"http", "href=\"http", "url(http", "@import"})
        CHECK_THAT(text, !Catch::Contains(elsewhere));
    CHECK_THAT(text, Catch::Contains("default-src 'none'") && !Catch::Contains("</script><b>Nebula"));
    // A run that changes nothing leaves it; one that was lost, or of another run, is written again.
    const auto before = fs::last_write_time(page);
    shell("{kasane} run -q " + folder);
    CHECK(fs::last_write_time(page) == before);
    std::ofstream(page) << "<!doctype html>\n<title>Kasane: an older one";
    shell("{kasane} run -q " + folder);
    CHECK(read_file(page) == text);
    // The lights on it are shown as their measuring left them; where that is damaged or gone, as it would be left
    // again.
    const fs::path previews = p.path / ".kasane/previews";
    const auto made_again = [&] {
        fs::remove(page);
        shell("{kasane} run -q " + folder);
        return read_file(page) == text;
    };
    CHECK(made_again());
    for (const auto& entry : fs::recursive_directory_iterator(previews))
        if (entry.is_regular_file()) fs::resize_file(entry.path(), 300);
    CHECK(made_again());
    REQUIRE(fs::remove_all(previews) > 8);
    CHECK(made_again());
    const auto there = [&] {
        return std::count_if(fs::recursive_directory_iterator(previews), {},
                             [](const auto& entry) { return entry.is_regular_file(); });
    };
    CHECK(there() == 2); // the best and the worst
    // Figures are those of the run.
    const auto json = nlohmann::json::parse(shell("{kasane} report -q --json --no-open " + folder).out);
    const auto run = nlohmann::json::parse(read_file(p.path / "kasane/report.json"));
    const auto& stack = json.at("stacks").at(0);
    CHECK(stack.at("used") == 7);
    int lights = 0;
    for (const auto& f : json.at("files"))
        if (f.at("role") == "light" && f.at("how") == "header IMAGETYP = Light") lights += f.at("files").get<int>();
    CHECK(lights == 8);
    CHECK(stack.at("limiting_flux").get<double>() ==
          Approx(run.at("stacks").at(0).at("limiting_flux").get<double>()).epsilon(1e-3));
    CHECK(stack.at("growth").at("nights").size() == run.at("stacks").at(0).at("growth").at("nights").size());
    CHECK(stack.at("shape").at("zones").size() == 9);
    CHECK(stack.at("profiles").size() > 10);
    CHECK(stack.at("trials").size() == run.at("stacks").at(0).at("rejection_trials").size());
    // Without the lights it can still be read what came of them.
    fs::rename(p.path / "night-1/lights", p.folder / "away");
    const auto alone = shell("{kasane} report -q --no-open " + folder);
    CHECK(alone.status == 1);
    CHECK_THAT(read_file(page), Catch::Contains("there are no lights") && Catch::Contains("data:image/jpeg"));
    fs::rename(p.folder / "away", p.path / "night-1/lights");
    // A master light that is gone is told, and so is that it is not up to date.
    fs::remove(p.path / "kasane/lights" / fs::path(run.at("stacks").at(0).at("file").get<std::string>()).filename());
    const auto again = shell("{kasane} report -q --no-open " + folder);
    CHECK(again.status == 1);
    CHECK_THAT(again.out, Catch::Contains("not made"));
    CHECK_THAT(read_file(page), Catch::Contains("is not made"));
    // No report, no run: what to do.
    fs::remove(p.path / "kasane/report.json");
    const auto none = shell("{kasane} report -q --no-open " + folder);
    CHECK(none.status == 2);
    CHECK_THAT(none.err, Catch::Contains("kasane run"));
    std::ofstream(p.path / "kasane/report.json") << "{\"stacks\": 3}";
    CHECK_THAT(shell("{kasane} report -q --no-open " + folder).err, Catch::Contains("another version"));
    for (const auto& [file, digest] : inputs)
        if (file.find("kasane") == std::string::npos) CHECK(digests(p.path).at(file) == digest);
}

TEST_CASE("In the browser: the report shows the result, a star's profile, and blinks with the keyboard") {
    Run p;
    write_recipe(p.path, "[integration]\nrejection = \"sigma\"\n"); // made anew, so that there is a former one
    REQUIRE(shell("{kasane} run -q " + p.path.string()).status <= 1);
    Browser b;
    b.open("file://" + (p.path / "kasane/report.html").string());
    REQUIRE(b.wait_for("return window.kasaneReport !== undefined"));
    const auto text = [&](const std::string& id) {
        return b.run("return document.getElementById('" + id + "').textContent").get<std::string>();
    };
    CHECK_THAT(text("table"), Catch::Contains("7 of 8") && Catch::Contains("ADU"));
    CHECK_THAT(text("findings"), Catch::Contains("1 of 8 lights left out"));
    CHECK_THAT(text("added"), Catch::Contains("Two more hours"));
    CHECK(b.run("return document.querySelectorAll('#stamps figure').length") == 9);
    CHECK(b.run("return document.querySelectorAll('b b, nebula').length === 0 && window.broken === undefined") == true);
    CHECK(b.run("const i = document.getElementById('master'); return i.complete && i.naturalWidth > 100") == true);
    // A click on the brightest star shows its profile.
    CHECK(b.run("return document.getElementById('star').hidden") == true);
    b.run("const s = kasaneData.stacks[0], i = document.getElementById('master'), r = i.getBoundingClientRect(), "
          "k = Math.min(r.width / s.width, r.height / s.height), t = s.profiles[0]; "
          "document.getElementById('frame').dispatchEvent(new MouseEvent('click', {bubbles: true, clientX: r.left + "
          "(r.width - k * s.width) / 2 + k * t.x, clientY: r.top + (r.height - k * s.height) / 2 + k * t.y}))");
    CHECK(b.run("return document.getElementById('star').hidden") == false);
    CHECK(b.run("return kasaneReport.S.star") == 0);
    CHECK_THAT(text("startext"), Catch::Contains("FWHM"));
    CHECK(b.run("return document.querySelectorAll('#marks circle').length") == 1);
    CHECK_THAT(text("startext"),
               Catch::StartsWith(fmt::format(
                   "At ({}, ", b.run("return String(kasaneData.stacks[0].profiles[0].x)").get<std::string>())));
    // Blink.
    const auto shown = [&] {
        return b.run("return document.querySelector('#blinked img:not(.away)').src.length").get<int>();
    };
    const int first = shown();
    const std::string before = text("seen");
    b.press(" ");
    CHECK(text("seen") != before);
    CHECK(shown() != first);
    b.press("\xEE\x80\x94"); // right: the next pair
    CHECK_THAT(text("seen"), Catch::Contains("as it was before: 7 lights"));
    b.press(" ");
    CHECK_THAT(text("seen"), Catch::Contains("as it is now: 7 lights"));
    b.press("\xEE\x80\x94");
    CHECK_THAT(text("seen"), Catch::Contains("best light"));
    CHECK_THAT(text("details"),
               Catch::Contains("Rejection:") && Catch::Contains("Calibration:") && Catch::Contains("Files:"));
    CHECK(b.run("return document.querySelectorAll('#details img.dark').length") == 1);
    // Both looks.
    b.press("l");
    CHECK(b.run("return document.documentElement.dataset.look === 'night' || document.documentElement.dataset.look "
                "=== 'day'") == true);
}

TEST_CASE("In the browser: filters are weighed against each other, and stacks of one filter go by their names") {
    const TemporaryFolder folder;
    ProjectResult result;
    result.run.folder = result.run.output = folder.path().string();
    for (const auto& [name, filter, seconds] :
         {std::tuple("East-L", "L", 3600), std::tuple("West-L", "L", 7200), std::tuple("West-R", "R", 600)}) {
        StackReport s;
        s.name = name, s.filter = filter, s.file = "lights/none.fits", s.noise = 2, s.fwhm = 3;
        s.seconds_total = s.seconds_effective = seconds;
        s.used = 1;
        FrameReport f;
        f.path = "a.fits", f.night = "2031-03-12", f.used = true, f.seconds = seconds, f.worth = 1;
        s.frames.push_back(f);
        result.run.stacks.push_back(s);
    }
    Browser b;
    b.open("file://" + write_run_page(result).string());
    REQUIRE(b.wait_for("return window.kasaneReport !== undefined"));
    const auto text = [&](const std::string& id) {
        return b.run("return document.getElementById('" + id + "').textContent").get<std::string>();
    };
    CHECK(text("stacks") == "East-LWest-LR");
    CHECK_THAT(text("added"), Catch::Contains("R has the least (10 min), West-L the most (2 h 00 min)"));
    CHECK_THAT(text("caption"), Catch::Contains("could not be read")); // its preview
    CHECK_FALSE(has_page(result.run));                                 // so that the next run tries again
}
