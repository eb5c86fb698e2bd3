// A comet among the stars, as its users run it.
#include "support/comets.hpp"
#include "support/projects.hpp"

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/io/reader.hpp>
#include <kasane/io/world_coordinates.hpp>
#include <kasane/recipe/recipe.hpp>
#include <kasane/report/tables.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>
#include <fmt/format.h>

namespace fs = std::filesystem;
using namespace kasane;
using namespace kasane::test;

namespace {

void write_comet(const fs::path& folder) {
    const Quiet quiet;
    sky::write_scenario(comet_scenario(), folder, quiet.context);
}
using CometProject = CopyOf<&write_comet>;

struct Spread {
    double mean = 0, sigma = 0;
};
/// Of pixels that lie so far from a place.
Spread around(const Image& image, Point place, double from, double until) {
    std::vector<double> values;
    for (int y = 20; y < image.height() - 20; ++y)
        for (int x = 20; x < image.width() - 20; ++x)
            if (const double r = std::hypot(x - place.x, y - place.y); r >= from && r < until)
                values.push_back(static_cast<double>(image(x, y)));
    Spread s;
    for (const double v : values)
        s.mean += v / static_cast<double>(values.size());
    for (const double v : values)
        s.sigma += std::pow(v - s.mean, 2) / static_cast<double>(values.size());
    s.sigma = std::sqrt(s.sigma);
    return s;
}

} // namespace

TEST_CASE("Two marks make three master lights of each filter: of the stars, of the comet, of both") {
    CometProject project;
    const RunReport report = run(project.path);
    REQUIRE(report.stacks.size() == 2);
    CHECK(find(report.findings, "comet-mark") == nullptr);
    CHECK(find(report.findings, "comet-doubtful") == nullptr);
    for (const StackReport& s : report.stacks) {
        INFO(s.name);
        const CometReport& c = s.comet;
        REQUIRE_FALSE(c.file.empty());
        CHECK(c.rms < 0.2);
        CHECK(c.rate == Approx(std::hypot(88, 35 - 6 * 0.5)).epsilon(0.03));
        CHECK(c.places.size() == static_cast<std::size_t>(s.used));
        int found = 0;
        for (const CometPlaceReport& p : c.places) {
            found += p.found;
            const Point truth = comet_on(p.file);
            // A tail draws the middle along, everywhere by the same.
            CHECK(std::hypot(p.x - truth.x, p.y - truth.y) < 1.2);
        }
        CHECK(found >= s.used - 3);

        const Image stars = read_plane(*open_frame(fs::path(report.output) / s.file), 0),
                    comet = read_plane(*open_frame(fs::path(report.output) / c.file), 0),
                    both = read_plane(*open_frame(fs::path(report.output) / c.both_file), 0);
        // It stands where it was on the reference.
        const Point home = comet_on(s.reference);
        const Spread core = around(comet, home, 0, 3), sky = around(comet, home, 190, 260);
        CHECK(core.mean - sky.mean > 100 * s.noise);
        // Without stars and nebulae: what is left of them is noise.
        CHECK(sky.sigma < 1.3 * c.noise);
        // The stars' master light shows nothing of it there, both together do.
        const Spread there = around(stars, home, 0, 3), beside = around(stars, home, 8, 14);
        CHECK(std::abs(there.mean - beside.mean) < 0.05 * (core.mean - sky.mean));
        const Spread together = around(both, home, 0, 3);
        CHECK(together.mean - there.mean == Approx(core.mean - sky.mean).epsilon(0.05));
        CHECK_THAT(run_table(report), Catch::Contains(c.file));
    }
    // Again, nothing is done; what was lost is made again.
    CHECK(run(project.path).stacks.front().reused);
    fs::remove(fs::path(report.output) / report.stacks.front().comet.both_file);
    CHECK_FALSE(run(project.path).stacks.front().reused);
    // A sum is as many means.
    const StackReport& mean = report.stacks.front();
    const Image one = read_plane(*open_frame(fs::path(report.output) / mean.file), 0),
                comet = read_plane(*open_frame(fs::path(report.output) / mean.comet.file), 0);
    write_recipe(project.path, read_file(project.path / "kasane.toml") + "\n[integration]\ncombine = \"sum\"\n");
    const RunReport summed = run(project.path);
    const StackReport& sum = summed.stacks.front();
    for (const auto& [before, file] : {std::pair{&one, sum.file}, std::pair{&comet, sum.comet.file}}) {
        const Image after = read_plane(*open_frame(fs::path(summed.output) / file), 0);
        for (const auto& [x, y] : {std::pair{100, 100}, std::pair{250, 280}, std::pair{500, 400}})
            CHECK(after(x, y) == Approx(mean.used * (*before)(x, y)).epsilon(0.02));
    }
    // Without marks there is no comet, and the stars' master light is made anew.
    write_recipe(project.path, "");
    const RunReport without = run(project.path);
    CHECK(without.stacks.front().comet.file.empty());
    CHECK_FALSE(fs::exists(fs::path(report.output) / report.stacks.front().comet.file));
    CHECK_FALSE(without.stacks.front().reused);
}

TEST_CASE("A comet's place and motion are taken from headers where a mark asks for them") {
    CometProject project;
    for (const fs::directory_entry& f : fs::directory_iterator(project.path / "lights"))
        if (f.path().filename().string().starts_with("G") || f.path().filename().string() > "L_011") fs::remove(f);
    // Positions as they were solved: a second of arc a pixel, of the plain sky about (83.5, -5).
    const sky::Scenario& s = comet_scenario();
    const auto world_of = [&](const std::string& file) {
        const auto shot =
            std::find_if(s.shots.begin(), s.shots.end(), [&](const auto& one) { return one.path == file; });
        WorldCoordinates w;
        w.pixel = sky::pixel_of(shot->conditions.pointing, s.instrument, {320, 240});
        w.sky = {83.5, -5};
        const Point right = sky::pixel_of(shot->conditions.pointing, s.instrument, {321, 240});
        const double c = right.x - w.pixel.x, d = right.y - w.pixel.y, k = 1 / (3600 * (c * c + d * d));
        w.cd = {-k * c, -k * d, k * d, -k * c};
        return w;
    };
    const auto each = [&](const std::function<void(const std::string&, Header&, const WorldCoordinates&)>& change) {
        for (const fs::directory_entry& f : fs::directory_iterator(project.path / "lights"))
            rewrite(f.path(), [&](Image& image, Header& h) {
                const std::string file = "lights/" + f.path().filename().string();
                const WorldCoordinates w = world_of(file);
                write_world(h, w, image.width(), image.height());
                change(file, h, w);
            });
    };
    const auto sky_of = [&](const std::string& file) { return world_of(file).to_sky(comet_on(file)); };
    each([&](const std::string& file, Header& h, const WorldCoordinates&) {
        const SkyPoint at = sky_of(file);
        h.set("OBJCTRA", at.ra, "[deg] of the comet");
        h.set("OBJCTDEC", at.dec, "[deg] of the comet");
        if (file != "lights/L_001.fits") return;
        const SkyPoint later = sky_of("lights/L_010.fits");
        const auto clock = [&](const std::string& name) {
            const auto shot =
                std::find_if(s.shots.begin(), s.shots.end(), [&](const auto& one) { return one.path == name; });
            const auto part = [&](std::size_t from) { return std::stoi(shot->start.substr(from, 2)); };
            return part(11) * 3600.0 + part(14) * 60.0 + part(17); // of one evening
        };
        const double hours = (clock("lights/L_010.fits") - clock(file)) / 3600;
        h.set("RARATE", 60 * (later.ra - at.ra) * std::cos(radians(-5)) / hours, "[arcmin/h] of the comet");
        h.set("DECRATE", (later.dec - at.dec) / hours, "[deg / h] of the comet");
    });
    const auto made = [&](const std::string& marks) {
        write_recipe(project.path, "[comet]\nmarks = [" + marks + "]\n");
        const RunReport report = run(project.path);
        REQUIRE(report.stacks.size() == 1);
        const Finding* f = find(report.findings, "comet-mark");
        INFO(marks << (f ? f->text : ""));
        CHECK(f == nullptr);
        CHECK_FALSE(report.stacks.front().comet.file.empty());
        for (const CometPlaceReport& p : report.stacks.front().comet.places) {
            const Point truth = comet_on(p.file);
            CHECK(std::hypot(p.x - truth.x, p.y - truth.y) < 1.5); // few lights, and its tail draws the middle along
        }
    };
    made(R"(["lights/L_001.fits"], ["lights/L_010.fits"])"); // places of two
    made(R"(["lights/L_001.fits"])");                        // place and motion of one
    const Point pointed = comet_on("lights/L_001.fits");
    made(fmt::format("[\"lights/L_001.fits\", {:.0f}, {:.0f}]", pointed.x, pointed.y)); // a hand's, and the motion

    const auto told = [&](const std::string& marks) {
        write_recipe(project.path, "[comet]\nmarks = [" + marks + "]\n");
        const RunReport report = run(project.path);
        CHECK(report.stacks.front().comet.file.empty());
        const Finding* f = find(report.findings, "comet-mark");
        return f ? f->text : std::string();
    };
    // Another light's header says nothing of the motion; and rates without a unit are none.
    CHECK_THAT(told(R"(["lights/L_002.fits"])"), Catch::Contains("does not say so either"));
    rewrite(project.path / "lights/L_001.fits",
            [](Image&, Header& h) { h.set("RARATE", 60.0, "motion of the comet"); });
    CHECK_THAT(told(R"(["lights/L_001.fits"])"), Catch::Contains("no rates with their unit"));
    rewrite(project.path / "lights/L_001.fits", [](Image&, Header& h) { h.set("OBJCTRA", "elsewhere"); });
    CHECK_THAT(told(R"(["lights/L_001.fits"], ["lights/L_005.fits"])"), Catch::Contains("no position on the sky"));
}

TEST_CASE("Marks that cannot be are told with their file, and the stars are integrated as ever") {
    CometProject project;
    for (const fs::directory_entry& f : fs::directory_iterator(project.path / "lights"))
        if (f.path().filename().string().starts_with("G") || f.path().filename().string() > "L_014") fs::remove(f);
    const auto told = [&](const std::string& marks) {
        write_recipe(project.path, "[comet]\nmarks = [" + marks + "]\n");
        const RunReport report = run(project.path);
        REQUIRE(report.stacks.size() == 1);
        CHECK(report.stacks.front().comet.file.empty());
        CHECK_FALSE(report.stacks.front().file.empty());
        const Finding* f = find(report.findings, "comet-mark");
        if (!f) f = find(report.findings, "comet-doubtful");
        return f ? f->text + (f->files.empty() ? "" : " " + f->files.front()) : std::string();
    };
    CHECK_THAT(told(R"(["lights/L_001.fits", 243, 284])"), Catch::Contains("on this light alone"));
    CHECK_THAT(told(R"(["lights/L_001.fits", 243, 284], ["lights/L_010.fits", 900, 20])"),
               Catch::Contains("outside its 640 x 480 pixels") && Catch::Contains("L_010"));
    CHECK_THAT(told(R"(["lights/L_001.fits", 243, 284], ["lights/nowhere.fits", 90, 20])"),
               Catch::Contains("no light of this project") && Catch::Contains("nowhere"));
    CHECK_THROWS_AS(parse_recipe("[comet]\nmarks = [[\"a.fits\", 1]]"), UsageError);
    CHECK_THROWS_AS(parse_recipe("[comet]\nmarks = [[\"a.fits\", 1, 2], [\"a.fits\", 3, 4]]"), UsageError);
    CHECK_THROWS_AS(parse_recipe("[comet]\nmarks = \"a.fits\""), UsageError);
    const Recipe r = parse_recipe("[comet]\nmarks = [[\"./a.fits\", 1, 2.5], [\"b.fits\", 3, 4]]");
    CHECK(r.comet == std::vector<CometMark>{{"a.fits", 1, 2.5}, {"b.fits", 3, 4}});

    // Marks beside it, where there is nothing: the path is theirs, and that is said.
    write_recipe(project.path,
                 "[comet]\nmarks = [[\"lights/L_001.fits\", 520, 90], [\"lights/L_013.fits\", 560, 60]]\n");
    const RunReport beside = run(project.path);
    const Finding* f = find(beside.findings, "comet-doubtful");
    REQUIRE(f);
    CHECK_THAT(f->text, Catch::Contains("the marks alone"));
}

TEST_CASE("A light that could not be read when the path of a comet was found is asked again for every filter") {
    const CometProject undisturbed, p;
    run(undisturbed.path);
    const fs::path light = p.path / "lights/L_004.fits", aside = p.path.parent_path() / "aside";
    REQUIRE(fs::exists(light));
    const auto written = fs::last_write_time(light);
    Meddler meddler;
    meddler.at["register"] = [&] { // it has been measured
        fs::copy_file(light, aside);
        fs::resize_file(light, 0);
    };
    const Workers workers(2);
    const RunReport without = run_project({p.path, {}, {}}, {workers, {}, meddler});
    REQUIRE(without.stacks.size() == 2);
    for (const StackReport& s : without.stacks)
        CHECK(s.comet.unread == std::vector<std::string>{"lights/L_004.fits"});
    CHECK(digests(p.path / "kasane") != digests(undisturbed.path / "kasane"));
    fs::remove(light);
    fs::copy_file(aside, light);
    fs::last_write_time(light, written);
    for (const StackReport& s : run(p.path).stacks) {
        CHECK_FALSE(s.reused);
        CHECK(s.comet.unread.empty());
    }
    CHECK(digests(p.path / "kasane") == digests(undisturbed.path / "kasane"));
}
