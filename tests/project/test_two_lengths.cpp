// Projects whose lights have several lengths, as their users run them.
#include "support/projects.hpp"

#include <kasane/io/fits.hpp>
#include <kasane/io/reader.hpp>
#include <kasane/project/grade.hpp>
#include <kasane/report/tables.hpp>
#include <kasane/sky/variants.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <fstream>

namespace fs = std::filesystem;
using namespace kasane;
using namespace kasane::test;

namespace {

void write_core(const fs::path& folder) {
    const Quiet quiet;
    sky::write_scenario(sky::demo_variant("bright-core").make(), folder, quiet.context);
}
using CoreProject = CopyOf<&write_core>;

Image plane_of(const fs::path& file, int plane = 0) {
    return read_plane(*open_frame(file), plane);
}

} // namespace

TEST_CASE("A core that long lights burn comes from short ones of another night, by itself") {
    CoreProject project;
    // Two of the four short ones are enough.
    fs::remove(project.path / "lights/short_003.fits");
    fs::remove(project.path / "lights/short_004.fits");
    const RunReport report = run(project.path);
    REQUIRE(report.stacks.size() == 1);
    const StackReport& s = report.stacks.front();
    REQUIRE(s.used == 16);
    REQUIRE(s.lengths.size() == 2);
    CHECK(s.lengths[0].seconds == std::vector<double>{240});
    CHECK(s.lengths[0].lights == 14);
    CHECK(s.lengths[1].seconds == std::vector<double>{1});
    CHECK(s.lengths[1].lights == 2);
    CHECK(s.lengths[1].share > 0.01);
    CHECK(s.lengths[1].share < 0.03);
    CHECK(s.lengths[1].matched > 0);
    CHECK(s.lengths[1].matched < 0.005);
    CHECK(s.burnt.pixels == 0);
    CHECK(find(report.findings, "burnt-in-all-lengths") == nullptr);
    CHECK_THAT(run_table(report), Catch::Contains("lengths: 240 s (14 lights)"));

    // The light of its core, from what long lights show around it inwards.
    const Image master = plane_of(fs::path(report.output) / s.file),
                truth = plane_of(sky::truth_folder(CoreProject::original() / "project") / "scene-L.fits");
    int x0 = 0, y0 = 0, tx = 0, ty = 0;
    const auto brightest = [](const Image& image, int& x, int& y) {
        for (int j = 0; j < image.height(); ++j)
            for (int i = 0; i < image.width(); ++i)
                if (image(i, j) > image(x, y)) x = i, y = j;
    };
    brightest(master, x0, y0);
    brightest(truth, tx, ty);
    const auto light = [](const Image& image, int x, int y, double from, double until) {
        double sum = 0, n = 0;
        for (int j = -80; j <= 80; ++j)
            for (int i = -80; i <= 80; ++i)
                if (const double r = std::hypot(i, j); r >= from && r < until) {
                    sum += static_cast<double>(image(x + i, y + j));
                    ++n;
                }
        return sum / n;
    };
    const auto above = [&](const Image& image, int x, int y, double from, double until) {
        return light(image, x, y, from, until) - light(image, x, y, 70, 80);
    };
    const double scale = above(master, x0, y0, 47, 60) / above(truth, tx, ty, 47, 60);
    CHECK(above(master, x0, y0, 0, 30) / above(truth, tx, ty, 0, 30) == Approx(scale).epsilon(0.015));
    CHECK(above(master, x0, y0, 30, 44) / above(truth, tx, ty, 30, 44) == Approx(scale).epsilon(0.015));

    // The file tells it, and where.
    const auto frame = open_frame(fs::path(report.output) / s.file);
    CHECK(frame->header().number("LENGTH1") == 240.0);
    CHECK(frame->header().number("LENGTH2") == 1.0);
    CHECK(frame->header().number("BURNTPIX") == 0.0);
    CHECK(read_file(fs::path(report.output) / s.file).find("'LENGTHS '") != std::string::npos);

    SECTION("again, nothing is done; without the short ones, it says what is burnt") {
        CHECK(run(project.path).stacks.front().reused);
        for (const char* name : {"short_001", "short_002"})
            fs::remove(project.path / "lights" / (std::string(name) + ".fits"));
        const RunReport burnt = run(project.path);
        const StackReport& b = burnt.stacks.front();
        CHECK(b.lengths.size() == 1);
        CHECK(b.burnt.largest > 3000);
        CHECK(std::hypot(b.burnt.x + b.burnt.width / 2 - x0, b.burnt.y + b.burnt.height / 2 - y0) < 12);
        CHECK(find(burnt.findings, "burnt-in-all-lengths") == nullptr); // nobody tried
        CHECK_THAT(run_table(burnt), Catch::Contains("saturated: "));
    }
}

TEST_CASE("Short lights are judged among themselves, and what even they burn is told with the remedy") {
    CoreProject project;
    // Short ones that were taken as long as a quarter of a minute: full of light as well.
    for (int k = 1; k <= 4; ++k)
        repaint(project.path / fmt::format("lights/short_{:03}.fits", k), [](Image& image) {
            for (float& v : image.pixels())
                v = std::min(65535.0f, 500 + 8 * (v - 500));
        });
    const RunReport report = run(project.path);
    const StackReport& s = report.stacks.front();
    CHECK(s.dropped == 0); // with a quarter of the stars of the others
    REQUIRE(s.lengths.size() == 2);
    CHECK(s.burnt.largest > 64);
    const Finding* told = find(report.findings, "burnt-in-all-lengths");
    REQUIRE(told);
    CHECK_THAT(told->remedy, Catch::Contains("less than 1 s"));
    GradeOptions options;
    options.run.folder = project.path;
    const Quiet quiet;
    const GradeReport graded = grade_project(options, quiet.context);
    for (const FrameGrade& f : graded.stacks.front().frames)
        CHECK(f.kin == (f.path.find("short") != std::string::npos ? 1 : 0));
}
