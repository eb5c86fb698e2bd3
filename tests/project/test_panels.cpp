// Projects of several overlapping fields, as their users run them.
#include "support/projects.hpp"

#include <kasane/base/output_file.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/io/reader.hpp>
#include <kasane/project/grade.hpp>
#include <kasane/report/tables.hpp>
#include <kasane/sky/variants.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <fmt/format.h>
#include <set>

namespace fs = std::filesystem;
using namespace kasane;
using namespace kasane::test;

namespace {

sky::Scenario scenario() {
    return sky::demo_variant("panels").make();
}
void write_panels(const fs::path& folder) {
    const Quiet quiet;
    sky::write_scenario(scenario(), folder, quiet.context);
}
using PanelProject = CopyOf<&write_panels>;

const StackReport& stack_of(const RunReport& report, const std::string& filter) {
    for (const StackReport& s : report.stacks)
        if (s.filter == filter) return s;
    throw DataError("there is no such stack", {}, {});
}

/// Stars of the scene where the reference's plane, continued over the canvas, has them.
struct Truth {
    sky::Pointing pointing;
    sky::Instrument perfect;
    Point origin;
    Truth(const sky::Scenario& s, const StackReport& report, const Header& h)
        : perfect(s.instrument), origin{*h.number("CNVORGX"), *h.number("CNVORGY")} {
        perfect.lens.reset();
        for (const sky::Shot& shot : s.shots)
            if (shot.path == report.reference) pointing = shot.conditions.pointing;
    }
    Point at(const sky::SceneStar& star) const {
        const Point p = sky::pixel_of(pointing, perfect, {star.x, star.y});
        return {p.x - origin.x, p.y - origin.y};
    }
};

} // namespace

TEST_CASE("Panels become one picture by themselves, with every star once and in its place") {
    PanelProject project;
    const RunReport report = run(project.path);
    REQUIRE(report.stacks.size() == 2);
    CHECK(find(report.findings, "panel-apart") == nullptr);
    const StackReport& s = stack_of(report, "L");
    CHECK(s.name == "Paper-Lantern-Nebula-L");
    CHECK(s.used == 36);
    CHECK(s.dropped == 0); // the panel with the nebula is brighter: no reason to leave it out
    REQUIRE(s.panels.size() == 6);
    for (std::size_t k = 0; k < 6; ++k) {
        CHECK(s.panels[k].name == std::to_string(k + 1));
        CHECK(s.panels[k].used == 6);
        CHECK(s.panels[k].seconds == Approx(540));
        CHECK(s.panels[k].effective > 0.8 * 540);
    }
    // In the middle of the upper row, or of the lower one.
    CHECK((s.reference.starts_with("panel 2/") || s.reference.starts_with("panel 5/")));
    CHECK_THAT(run_table(report), Catch::Contains("panels: 6, solved together (1, 2, 3, 4, 5, 6 each: 9 min of 6"));
    CHECK(s.noise == Approx(s.expected_noise).epsilon(0.05));

    const auto file = open_frame(fs::path(report.output) / s.file);
    CHECK(file->width() > 1000);
    CHECK(file->height() > 540);
    CHECK(file->header().number("PANELS") == 6.0);
    const sky::Scenario made = scenario();
    const Truth truth(made, s, file->header());
    const Quiet quiet;
    const sky::Scene scene = sky::make_scene(made.scene, quiet.context.workers);
    Image master = read_plane(*file, 0);
    const std::vector<Star> stars = detect_stars(master.plane()).stars;
    std::vector<double> off;
    int doubled = 0;
    for (const sky::SceneStar& star : scene.stars) {
        const Point p = truth.at(star);
        constexpr double kBright = 120; // electrons a second: far above its neighbours
        if (star.rate.at("L") < kBright || p.x < 20 || p.y < 40 || p.x > master.width() - 20 ||
            p.y > master.height() - 40)
            continue;
        int near = 0;
        double nearest = 1e9;
        for (const Star& q : stars) {
            const double d = std::hypot(q.x - p.x, q.y - p.y);
            if (q.saturated) continue;
            near += d < 3 && q.flux * made.instrument.gain / 90 > 0.3 * star.rate.at("L");
            nearest = std::min(nearest, d);
        }
        doubled += near > 1;
        if (nearest < 3) off.push_back(nearest);
    }
    REQUIRE(off.size() > 60);
    std::sort(off.begin(), off.end());
    double squares = 0;
    const std::size_t counted = off.size() * 9 / 10; // the rest have neighbours
    for (std::size_t k = 0; k < counted; ++k)
        squares += off[k] * off[k];
    CHECK(std::sqrt(squares / static_cast<double>(counted)) < 0.15);
    CHECK(doubled <= 1);
}

TEST_CASE("Panels over more than forty degrees lie in the stereographic projection") {
    TemporaryFolder folder;
    sky::Scenario wide = scenario();
    constexpr double kFocal = 900,
                     kStep = 330; // pixels: panels of 25 degrees, of which the outer ones look aside by 20
    wide.instrument.focal_length_mm = 8.1;
    wide.instrument.lens.reset();
    wide.scene.width = 1300, wide.scene.height = 420, wide.scene.nebula = wide.scene.galaxy = 0;
    std::erase_if(wide.shots, [](const sky::Shot& s) {
        return s.filter == "R" || (s.role == sky::Shot::Role::light && s.path[6] > '3');
    });
    int number = 0;
    for (sky::Shot& s : wide.shots)
        if (s.role == sky::Shot::Role::light) {
            sky::Pointing& p = s.conditions.pointing;
            p.sky = sky::sky_pointed(kFocal, (s.path[6] - '2') * kStep + 1.3 * (number % 5), 1.7 * (number % 3));
            ++number;
        }
    REQUIRE(number == 18);
    const Quiet quiet;
    sky::write_scenario(wide, folder.path() / "wide", quiet.context);
    const RunReport report = run(folder.path() / "wide");
    REQUIRE(report.stacks.size() == 1);
    const StackReport& s = report.stacks.front();
    CHECK(s.used == 18);
    CHECK_THAT(run_table(report), Catch::Contains("stereographic"));
    const auto file = open_frame(fs::path(report.output) / s.file);
    const Truth truth(wide, s, file->header());
    const Point origin{*file->header().number("CNVORGX"), *file->header().number("CNVORGY")},
        middle{0.5 * (wide.instrument.width - 1), 0.5 * (wide.instrument.height - 1)};
    const sky::Scene scene = sky::make_scene(wide.scene, quiet.context.workers);
    const Image master = read_plane(*file, 0);
    const std::vector<Star> stars = detect_stars(master.plane()).stars;
    std::vector<double> off;
    double farthest = 0;
    for (const sky::SceneStar& star : scene.stars) {
        if (star.rate.at("L") < 200) continue;
        const Point plane = truth.at(star); // of the canvas's origin
        const double x = plane.x + origin.x - middle.x, y = plane.y + origin.y - middle.y, r = std::hypot(x, y);
        const double drawn = r > 0 ? 2 * kFocal * std::tan(0.5 * std::atan(r / kFocal)) / r : 1;
        const Point at{middle.x + drawn * x - origin.x, middle.y + drawn * y - origin.y};
        double nearest = 1e9;
        for (const Star& q : stars)
            if (!q.saturated) nearest = std::min(nearest, std::hypot(q.x - at.x, q.y - at.y));
        if (nearest > 3) continue;
        off.push_back(nearest);
        farthest = std::max(farthest, r);
    }
    REQUIRE(off.size() > 25);
    std::sort(off.begin(), off.end());
    CHECK(off[off.size() * 4 / 5] < 0.5);
    CHECK(farthest > 500); // 29 degrees from the middle, on both sides together nearly 60
}

TEST_CASE("Going from panel to panel is no knock, and each is held against its own") {
    PanelProject project;
    GradeOptions options;
    options.run.folder = project.path;
    const Quiet quiet;
    const GradeReport report = grade_project(options, quiet.context);
    REQUIRE(report.stacks.size() == 2);
    CHECK(report.clean());
    for (const NightDrift& d : report.drifts) {
        CHECK(d.drift.jumps.empty());
        CHECK(d.drift.scatter < 30);
    }
    std::set<std::string> panels;
    for (const FrameGrade& f : report.stacks.front().frames)
        panels.insert(f.panel);
    CHECK(panels == std::set<std::string>{"1", "2", "3", "4", "5", "6"});
    CHECK(report.stacks.front().kept.noise == Approx(12.25).epsilon(0.05)); // of a place in a panel
}

TEST_CASE("No seam shows in a bare sky over six panels") {
    TemporaryFolder folder;
    sky::Scenario bare = scenario();
    bare.scene.nebula = bare.scene.galaxy = 0;
    bare.scene.stars = 1500;
    std::erase_if(bare.shots, [](const sky::Shot& s) { return s.filter == "R"; });
    {
        const Quiet quiet;
        sky::write_scenario(bare, folder / "p", quiet.context);
    }
    const RunReport report = run(folder / "p");
    const StackReport& s = stack_of(report, "L");
    REQUIRE(s.used == 36);
    const auto file = open_frame(fs::path(report.output) / s.file);
    const Image master = read_plane(*file, 0);
    // Medians over lengths along where panels end, to either side; every border lies within the dither of a line.
    const auto strip = [&](bool across, int at, int from, int until) {
        std::vector<float> v;
        for (int i = from; i < until; ++i)
            for (int k = at - 6; k < at + 6; ++k) {
                const float x = across ? master(k, i) : master(i, k);
                if (std::isfinite(x)) v.push_back(x);
            }
        return v.size() > 200 ? static_cast<double>(median_in_place(v)) : std::nan("");
    };
    double worst = 0;
    for (const bool across : {true, false}) {
        const int length = across ? master.width() : master.height(), other = across ? master.height() : master.width();
        for (int from = 30; from + 240 < other; from += 240)
            for (int at = 40; at + 40 < length; at += 4) {
                const int along = across ? at % 350 : at; // panels end about every 350 pixels, and begin 60 before
                if (across ? along < 300 && along > 60 : along < 240 || along > 330) continue;
                // What is left of a straight line: a step shows, a slope does not.
                const double here = strip(across, at, from, from + 200),
                             next = strip(across, at + 12, from, from + 200),
                             before = strip(across, at - 12, from, from + 240),
                             after = strip(across, at + 24, from, from + 240);
                const double step = (next - here) - 0.5 * ((here - before) + (after - next));
                if (std::isfinite(step)) worst = std::max(worst, std::abs(step));
            }
    }
    CHECK(worst < 0.5 * s.noise);
}

TEST_CASE("A second run of panels has nothing to do, and another panel is added to them") {
    PanelProject project;
    for (const int panel : {5, 6}) // they come later
        fs::rename(project.path / fmt::format("panel {}", panel),
                   project.path.parent_path() / fmt::format("{}", panel));
    const RunReport first = run(project.path);
    CHECK(stack_of(first, "L").panels.size() == 4);
    const RunReport again = run(project.path);
    for (const StackReport& s : again.stacks)
        CHECK(s.reused);
    for (const int panel : {5, 6})
        fs::rename(project.path.parent_path() / fmt::format("{}", panel),
                   project.path / fmt::format("panel {}", panel));
    const RunReport all = run(project.path);
    REQUIRE(all.stacks.size() == 2);
    CHECK(stack_of(all, "L").panels.size() == 6);
    CHECK(stack_of(all, "L").reference == stack_of(first, "L").reference); // finished grids are not moved
}

TEST_CASE("A panel beyond a gap is made by itself, and those that meet make a picture") {
    PanelProject project;
    for (const int panel : {2, 4, 5})
        fs::remove_all(project.path / fmt::format("panel {}", panel));
    const RunReport report = run(project.path);
    const Finding* apart = find(report.findings, "panel-apart");
    REQUIRE(apart);
    CHECK_THAT(apart->text, Catch::Contains("Paper Lantern Nebula panel 1") && Catch::Contains("of it alone"));
    std::set<std::string> names;
    for (const StackReport& s : report.stacks) {
        names.insert(s.name);
        CHECK(s.dropped == 0);
        CHECK(s.panels.size() == (s.name.find("panel") == std::string::npos ? 2 : 0));
    }
    CHECK(names == std::set<std::string>{"Paper-Lantern-Nebula-L", "Paper-Lantern-Nebula-R",
                                         "Paper-Lantern-Nebula-panel-1-L", "Paper-Lantern-Nebula-panel-1-R"});
    // The panel between comes, and all is one.
    const Quiet quiet;
    sky::Scenario rest = scenario();
    std::erase_if(rest.shots, [](const sky::Shot& s) { return !s.path.starts_with("panel 2"); });
    sky::write_scenario(rest, project.path, quiet.context);
    const RunReport whole = run(project.path);
    CHECK(find(whole.findings, "panel-apart") == nullptr);
    REQUIRE(whole.stacks.size() == 2);
    CHECK(stack_of(whole, "L").panels.size() == 4);
}

TEST_CASE("Panels of one name, and a frame that a person asks for") {
    PanelProject project;
    for (const int panel : {3, 5, 6})
        fs::remove_all(project.path / fmt::format("panel {}", panel));
    write_recipe(project.path, "[[files]]\nmatch = \"panel*/**\"\ntarget = \"Lantern\"\n[canvas]\nframe = "
                               "\"reference\"\n[registration]\nreference = \"panel 4/L_002.fits\"\n");
    const RunReport report = run(project.path);
    const StackReport& s = stack_of(report, "L");
    CHECK(s.name == "Lantern-L");
    CHECK(s.panels.size() == 3);
    CHECK(s.reference == "panel 4/L_002.fits");
    const auto file = open_frame(fs::path(report.output) / s.file);
    CHECK(file->width() == 400);
    CHECK(file->height() == 300);

    // A person drops all red lights of a panel: a hole, which is told.
    std::string verdicts;
    for (int k = 1; k <= 4; ++k)
        verdicts += fmt::format("[[verdict]]\nfile = \"panel 2/R_{:03}.fits\"\nverdict = \"drop\"\n", k);
    write_text_safely(project.path / "verdicts.toml", verdicts, Over::anything);
    const RunReport less = run(project.path);
    const StackReport& red = stack_of(less, "R");
    REQUIRE(red.panels.size() == 3);
    int holes = 0;
    for (const PanelReport& p : red.panels) {
        CHECK(p.used + p.dropped == 4);
        holes += p.used == 0;
    }
    CHECK(holes == 1);
    CHECK_THAT(run_table(less), Catch::Contains("NOTHING, 4 lights left out"));
    CHECK(open_frame(fs::path(less.output) / red.file)->header().number("PANELS") == 2.0);
}

TEST_CASE("A panel of another camera lies on the grid of the others, and joins them when asked for") {
    PanelProject project;
    for (const int panel : {2, 3, 5, 6})
        fs::remove_all(project.path / fmt::format("panel {}", panel));
    const Quiet quiet;
    sky::Scenario other = scenario();
    other.instrument.camera = "Second camera";
    std::erase_if(other.shots, [](const sky::Shot& s) {
        return s.role == sky::Shot::Role::light && (!s.path.starts_with("panel 5") || s.filter == "R");
    });
    for (sky::Shot& s : other.shots)
        if (s.role != sky::Shot::Role::light) s.path = "second/" + s.path;
    sky::write_scenario(other, project.path, quiet.context);
    const RunReport report = run(project.path);
    const Finding* told = find(report.findings, "panel-of-other-camera");
    REQUIRE(told);
    CHECK_THAT(told->text, Catch::Contains("\"Paper Lantern Nebula panel 5\" was taken by another camera"));
    REQUIRE(report.stacks.size() == 3); // L twice, R
    for (const StackReport& s : report.stacks)
        CHECK(s.reference == report.stacks.front().reference);
    write_recipe(project.path, "[pairing]\nrigs = \"together\"\n");
    const RunReport one = run(project.path);
    CHECK(find(one.findings, "panel-of-other-camera") == nullptr);
    const StackReport& s = stack_of(one, "L");
    CHECK(s.used == 18);
    CHECK(s.panels.size() == 3);
}
