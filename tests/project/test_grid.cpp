// Which light gives the grid, by hand and from outside; several cameras on one grid; the sky behind a landscape; where
// on the sky a master light lies; and lights without stars.
#include "support/projects.hpp"

#include <kasane/base/error.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/png.hpp>
#include <kasane/io/world_coordinates.hpp>
#include <kasane/project/align.hpp>
#include <kasane/project/align_images.hpp>
#include <kasane/report/tables.hpp>
#include <kasane/sky/variants.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>
#include <fmt/format.h>
#include <fstream>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

sky::PlainOptions plain() {
    sky::PlainOptions o;
    o.width = 400, o.height = 300;
    o.lights = 6, o.calibration = 0;
    o.stars = 140, o.nebula = 0;
    o.rotation = 3;
    return o;
}

using PlainCopy =
    CopyOf<[](const fs::path& to) { sky::write_scenario(sky::plain_scenario(plain()), to, Quiet().context); }>;

AlignReport align(const fs::path& folder) {
    RunOptions options;
    options.folder = folder;
    return align_project(options, Quiet().context);
}

const AlignedFrame* frame(const AlignReport& r, const std::string& name) {
    for (const AlignedGrid& g : r.grids)
        for (const AlignedStack& s : g.stacks)
            for (const AlignedFrame& f : s.frames)
                if (f.path.find(name) != std::string::npos) return &f;
    return nullptr;
}

} // namespace

TEST_CASE("The report says which light gives the grid and why, and a recipe can name another") {
    const PlainCopy p;
    const RunReport first = run(p.path);
    const StackReport& s = first.stacks.at(0);
    CHECK_THAT(s.reference_reason, Catch::Contains("the best of 6 compared"));
    CHECK(s.runners_up.size() == 2);
    CHECK_THAT(run_table(first), Catch::Contains("on the grid of " + s.reference) && Catch::Contains("next to it"));

    const std::string other = s.reference.find("L_003") == std::string::npos ? "L_003" : "L_004";
    write_recipe(p.path, "[registration]\nreference = \"night-1/lights/" + other + "*\"\n");
    const RunReport wished = run(p.path);
    CHECK_FALSE(wished.stacks[0].reused);
    CHECK_THAT(wished.stacks[0].reference, Catch::Contains(other));
    CHECK_THAT(wished.stacks[0].reference_reason, Catch::Contains("as [registration] reference says"));
    CHECK(run(p.path).stacks[0].reused);

    SECTION("of several that are named, the best leads") {
        write_recipe(p.path, "[registration]\nreference = \"night-1/lights/L_00[34]*\"\n");
        const RunReport r = run(p.path);
        CHECK((r.stacks[0].reference.find("L_003") != std::string::npos ||
               r.stacks[0].reference.find("L_004") != std::string::npos));
        CHECK(run(p.path).stacks[0].reused);
    }
    SECTION("without the line, all is as it was") {
        const auto results = digests(p.path / "kasane/lights");
        write_recipe(p.path, "");
        const RunReport back = run(p.path);
        CHECK(back.stacks[0].reference == s.reference);
        CHECK(digests(p.path / "kasane/lights") != results);
        CHECK(back.stacks[0].frames.size() == s.frames.size());
        for (std::size_t i = 0; i < s.frames.size(); ++i)
            CHECK(back.stacks[0].frames[i].rms == s.frames[i].rms);
    }
    SECTION("what names no light is an error, and a reference that has vanished too") {
        write_recipe(p.path, "[registration]\nreference = \"L_099*\"\n");
        CHECK_THROWS_AS(run(p.path), UsageError);
        CHECK_THROWS_WITH(run(p.path), Catch::Contains("\"L_099*\"") && Catch::Contains("names no light"));
        CHECK(find(check_project({p.path}, Quiet().context).findings, "reference-missing"));
        write_recipe(p.path, "[registration]\nonto = \"gone.fits\"\n");
        CHECK_THROWS_WITH(run(p.path), Catch::Contains("cannot be read"));
        write_recipe(p.path, "[registration]\nreference = \"a\"\nonto = \"b\"\n");
        CHECK_THROWS_WITH(run(p.path), Catch::Contains("both reference and onto"));
    }
    SECTION("by a call it is kept in the recipe, wherever it is named from") {
        RunOptions o;
        o.folder = p.path;
        write_recipe(p.path, "# mine\n[grading]\nlimits = []\n");
        CHECK(keep_reference(o, (p.path / "night-1/lights/L_002.fits").string(), Quiet().context) ==
              "night-1/lights/L_002.fits");
        CHECK(read_file(p.path / "kasane.toml") ==
              "# mine\n[grading]\nlimits = []\n\n[registration]\nreference = \"night-1/lights/L_002.fits\"\n");
        CHECK_THAT(run(p.path).stacks[0].reference, Catch::Contains("L_002"));
        CHECK_THROWS_AS(keep_reference(o, "nothing*", Quiet().context), UsageError);
        CHECK_THAT(read_file(p.path / "kasane.toml"), Catch::Contains("L_002"));
        CHECK(keep_reference(o, "auto", Quiet().context) == "auto");
        CHECK(run(p.path).stacks[0].reference == s.reference);
    }
}

TEST_CASE("A project's lights come onto the grid of an image from outside, and images onto each other's") {
    const PlainCopy p;
    run(p.path);
    fs::create_directories(p.folder / "other");
    const fs::path made = p.path / "kasane/lights";
    const fs::path outside = p.folder / "other/last-year.fits";
    for (const auto& e : fs::directory_iterator(made))
        if (e.path().extension() == ".fits") fs::copy_file(e.path(), outside);

    // The master turned and shrunk: another camera's.
    fs::path light = p.path / "night-1/lights/L_001.fits";
    ImageAlignOptions o;
    o.files = {outside, p.path / "night-1/lights/L_005.fits"};
    o.onto = light;
    o.folder = p.folder / "on-grid";
    const auto inputs = digests(p.path, {"kasane"});
    const ImageAlignReport images = align_images(o, Quiet().context);
    REQUIRE(images.images.size() == 2);
    for (const AlignedImage& i : images.images) {
        INFO(i.file << " " << i.text);
        REQUIRE(i.registered);
        CHECK(i.scale == Approx(1).epsilon(1e-3));
        CHECK(i.covered > 0.8);
        CHECK(i.covered < 1);
        const auto written = open_frame(i.written);
        CHECK(written->width() == 400);
        CHECK(written->header().text("REFERENC") == "L_001.fits");
        CHECK(written->header().number("PIXAREA") == Approx(1).epsilon(2e-3));
        CHECK(open_fits(i.written, "COVERAGE")->width() == 400);
    }
    CHECK(digests(p.path, {"kasane"}) == inputs);
    CHECK_FALSE(fs::exists(p.folder / "on-grid/on-grid"));
    const ImageAlignReport again = align_images(o, Quiet(1).context); // over its own work, to the same bytes
    CHECK(read_file(images.images[0].written) == read_file(again.images[0].written));
    o.files = {outside, p.folder / "x/last-year.fits"};
    CHECK_THROWS_WITH(align_images(o, Quiet().context), Catch::Contains("would both become"));
    std::ofstream(p.folder / "on-grid/mine.on-L_001.fits") << "mine";
    o.files = {p.folder / "mine.fits"};
    CHECK_THROWS_WITH(align_images(o, Quiet().context), Catch::Contains("Kasane did not write it"));
    o.files = {p.folder / "gone.fits", outside};
    o.folder.clear();
    const ImageAlignReport gone = align_images(o, Quiet().context);
    CHECK_FALSE(gone.images[0].registered);
    CHECK_THAT(gone.images[0].text, Catch::Contains("not"));
    CHECK(gone.images[1].registered);

    write_recipe(p.path, "[registration]\nonto = \"../other/last-year.fits\"\n");
    const RunReport onto = run(p.path);
    CHECK(onto.stacks.at(0).used == 6);
    CHECK(onto.stacks[0].reference == "../other/last-year.fits");
    CHECK(run(p.path).stacks[0].reused);
    fs::last_write_time(outside, fs::file_time_type::clock::now());
    CHECK(run(p.path).stacks[0].reused); // the same content
}

TEST_CASE("Two cameras of one target share a grid, each with a stack of its own, but not another sky") {
    const PlainCopy p;
    sky::PlainOptions o = plain();
    o.width = 300, o.height = 240, o.lights = 4;
    sky::Scenario second = sky::plain_scenario(o);
    second.instrument.camera = "Second camera";
    second.scene = sky::plain_scenario(plain()).scene; // the same sky
    for (sky::Shot& shot : second.shots) {
        shot.conditions.pointing.scale = 0.7;
        shot.path = "second/" + shot.path;
    }
    const bool other_sky = GENERATE(false, true);
    if (other_sky) second.scene.seed += 17;
    sky::write_scenario(second, p.path, Quiet().context);
    const RunReport r = run(p.path);
    REQUIRE(r.stacks.size() == 2);
    CHECK(r.stacks[0].used == 6 - 2 * (r.stacks[0].frames.size() == 4));
    CHECK(r.stacks[1].used == 4 + 2 * (r.stacks[1].frames.size() == 6));
    std::set<std::string> references = {r.stacks[0].reference, r.stacks[1].reference};
    CHECK(references.size() == (other_sky ? 2 : 1));
    std::set<std::pair<int, int>> sizes;
    for (const StackReport& s : r.stacks) {
        const auto light = open_frame(p.path / "kasane" / s.file);
        sizes.insert({light->width(), light->height()});
    }
    CHECK(sizes.size() == (other_sky ? 2 : 1));
    const RunReport again = run(p.path);
    CHECK(again.stacks[0].reused);
    CHECK(again.stacks[1].reused);
}

TEST_CASE("A master light has the position on the sky that its lights' headers have, distortion included") {
    sky::PlainOptions o = plain();
    sky::Scenario s = sky::plain_scenario(o);
    s.instrument.distortion = 0.01;
    s.instrument.vignetting = 0;
    s.solved = SkyPoint{201.3, -47.4};
    int light = 0;
    for (sky::Shot& shot : s.shots) {
        if (light == 1) shot.world_error = {0.1, 0}; // by far more than a pixel
        ++light;
    }
    const TemporaryFolder folder;
    sky::write_scenario(s, folder / "p", Quiet().context);
    const RunReport r = run(folder / "p");
    const StackReport& stack = r.stacks.at(0);
    CHECK_THAT(stack.world, Catch::Contains("by the headers of 5 lights") ||
                                Catch::Contains("by the reference's header, with which those of 4 lights agree"));
    const Finding* wrong = find(r.findings, "world-coordinates-differ");
    REQUIRE(wrong);
    CHECK(wrong->files.size() == 1);
    const auto master = open_frame(folder / "p/kasane" / stack.file);
    const auto world = read_world(master->header());
    REQUIRE(world);
    // A pixel of the master, through its own header and through the reference's pointing.
    const auto reference = std::find_if(s.shots.begin(), s.shots.end(),
                                        [&](const sky::Shot& shot) { return shot.path == stack.reference; });
    REQUIRE(reference != s.shots.end());
    WorldCoordinates plane;
    plane.sky = *s.solved;
    const double scale = 206.264806 * s.instrument.pixel_um / s.instrument.focal_length_mm / 3600;
    plane.cd = {-scale, 0, 0, -scale};
    for (const Point p : {Point{0, 0}, Point{399, 0}, Point{0, 299}, Point{399, 299}, Point{210, 140}}) {
        const SkyPoint truth = plane.to_sky(sky::scene_at(reference->conditions.pointing, s.instrument, p));
        CHECK(separation(world->to_sky(p), truth) / scale < 0.1);
    }
}

TEST_CASE("A still camera before hills: the lens is found, the hills are no data, stars are round to the corners") {
    const TemporaryFolder folder;
    const fs::path p = folder / "p";
    sky::Scenario scenario = sky::demo_variant("tripod").make();
    int light_number = 0;
    std::erase_if(scenario.shots, [&](const sky::Shot& shot) {
        return shot.role == sky::Shot::Role::light && light_number++ % 3 == 2;
    });
    sky::write_scenario(scenario, p, Quiet().context);
    const RunReport r = run(p);
    const StackReport& s = r.stacks.at(0);
    CHECK(s.used == 24);
    CHECK_THAT(s.optics.at(0), Catch::Contains("distortion, 2."));
    double sharpest = 1e9;
    for (const FrameReport& f : s.frames)
        sharpest = std::min(sharpest, f.fwhm);
    CHECK(s.fwhm < 1.1 * sharpest);
    const auto light = open_frame(p / "kasane" / s.file);
    const Image green = read_plane(*light, 1);
    CHECK(std::isfinite(green(100, 250)));
    CHECK(std::isnan(green(200, 390))); // never sky
    CHECK_FALSE(find(r.findings, "landscape-suspected"));
    for (const Region corner : {Region{0, 0, 200, 130}, Region{400, 0, 200, 130}, Region{0, 200, 200, 130}}) {
        Image part(corner.width, corner.height);
        light->read(corner, part.plane(), 1);
        const StarList stars = detect_stars(part.plane());
        CHECK(stars.stars.size() >= 10);
        CHECK(stars.eccentricity < 0.45); // 0.3 is what the lights have; a pixel of smear would make 0.55
        CHECK(stars.fwhm < 1.15 * sharpest);
    }

    // Without the mask the hills are offered as one.
    write_recipe(p, "[grading]\nlimits = []\n");
    const AlignReport a = align(p);
    const Finding* offered = find(a.findings, "landscape-suspected");
    REQUIRE(offered);
    CHECK_THAT(offered->remedy, Catch::Contains("hide = [["));
}

TEST_CASE("A mask may be an image, and one of another size, or none, is refused by name") {
    const TemporaryFolder folder;
    const fs::path p = folder / "p";
    sky::Scenario scenario = sky::demo_variant("tripod").make();
    int light_number = 0;
    std::erase_if(scenario.shots, [&](const sky::Shot& shot) {
        return shot.role != sky::Shot::Role::light || light_number++ % 6 != 0;
    });
    sky::write_scenario(scenario, p, Quiet().context);
    CHECK(std::isfinite(read_plane(*open_frame(p / "kasane" / run(p).stacks.at(0).file), 1)(100, 312)));
    Raster<std::uint8_t> white(600, 400);
    for (int y = 0; y < 300; ++y)
        std::fill_n(white.plane().row(y), 600, std::uint8_t{255});
    write_png(p / "sky.png", white);
    write_recipe(p, "[[files]]\nmatch = \"lights/**\"\nmask = \"sky.png\"\n");
    const RunReport masked = run(p);
    CHECK_FALSE(masked.stacks.at(0).reused);
    const auto m = open_frame(p / "kasane" / masked.stacks.at(0).file);
    CHECK(std::isnan(read_plane(*m, 1)(100, 312)));
    write_png(p / "sky.png", Raster<std::uint8_t>(60, 40));
    CHECK_THROWS_WITH(run(p), Catch::Contains("sky.png") && Catch::Contains("60 x 40"));
    fs::remove(p / "sky.png");
    CHECK_THROWS_WITH(run(p), Catch::Contains("the mask sky.png"));
}

TEST_CASE("Lights out of focus come onto the grid by their pictures, and only the stars of a part may lead") {
    sky::PlainOptions o = plain();
    o.nebula = 3, o.calibration = 8, o.rotation = 0, o.stars = 90;
    sky::Scenario s = sky::plain_scenario(o);
    int light = 0;
    for (sky::Shot& shot : s.shots)
        if (shot.role == sky::Shot::Role::light && ++light == 3) shot.conditions.fwhm = 26;
    const TemporaryFolder folder;
    sky::write_scenario(s, folder / "p", Quiet().context);
    const AlignReport r = align(folder / "p");
    const AlignedFrame* blurred = frame(r, "L_003");
    REQUIRE(blurred);
    INFO(blurred->text << blurred->way);
    REQUIRE(blurred->registered);
    CHECK_THAT(blurred->way, Catch::Contains("by its picture"));
    const sky::Pointing& truth = s.shots[2].conditions.pointing;
    const auto reference = std::find_if(s.shots.begin(), s.shots.end(),
                                        [&](const sky::Shot& x) { return x.path == r.grids[0].reference; });
    REQUIRE(reference != s.shots.end());
    CHECK(blurred->shift_x == Approx(truth.offset_x - reference->conditions.pointing.offset_x).margin(1.5));
    CHECK(blurred->shift_y == Approx(truth.offset_y - reference->conditions.pointing.offset_y).margin(1.5));

    write_recipe(folder / "p", "[registration]\npart = \"50 50 250 200\"\n");
    const AlignReport part = align(folder / "p");
    for (const AlignedFrame& f : part.grids.at(0).stacks.at(0).frames)
        if (!f.is_reference && f.registered) CHECK(f.matched < 0.8 * r.grids[0].stacks[0].frames[1].matched);
    write_recipe(folder / "p", "[registration]\npart = \"1 1 2 2\"\n");
    CHECK_THROWS_WITH(align(folder / "p"), Catch::Contains("part holds"));
}

TEST_CASE("A light that was taken with the cap on is not brought onto the grid by what its flat leaves") {
    const TemporaryFolder folder;
    sky::Scenario s = sky::demo_variant("mistakes").make();
    std::erase_if(s.shots, [](const sky::Shot& shot) {
        return shot.role == sky::Shot::Role::light && !shot.path.starts_with("lights/L_");
    });
    s.copies.clear();
    sky::write_scenario(s, folder / "p", Quiet().context);
    const AlignReport r = align(folder / "p");
    const AlignedFrame* capped = frame(r, "L_001");
    REQUIRE(capped);
    CHECK_FALSE(capped->registered);
    CHECK_THAT(capped->text, Catch::Contains("0 stars here") && Catch::Contains("picture"));
    const AlignedFrame* good = frame(r, "L_003");
    REQUIRE(good);
    CHECK(good->registered);
}

TEST_CASE("Two rigs of one target make one master light where the recipe says so, as good as both together can be") {
    const TemporaryFolder p;
    sky::PlainOptions o = plain();
    o.stars = 40; // far apart: the sky between them is to be noise alone
    sky::Scenario first = sky::plain_scenario(o);
    first.scene.faintest_rate = 200;
    first.instrument.vignetting = 0;
    sky::write_scenario(first, p.path(), Quiet().context);
    const double scale = GENERATE(0.7, 1.7); // its pixels on those of the first
    o.width = scale < 1 ? 300 : 660, o.height = scale < 1 ? 240 : 500, o.lights = 6;
    o.fwhm = 3 * scale;
    sky::Scenario second = sky::plain_scenario(o);
    second.instrument.camera = "Second camera";
    second.instrument.gain = 1.7;
    second.instrument.vignetting = 0; // without flats it would be left over the sky of each in another way
    second.scene = first.scene;
    for (sky::Shot& shot : second.shots) {
        shot.conditions.pointing.scale = scale;
        shot.path = "second/" + shot.path;
    }
    sky::write_scenario(second, p.path(), Quiet().context);
    const RunReport apart = run(p.path());
    REQUIRE(apart.stacks.size() == 2);
    std::ofstream(p.path() / "kasane.toml") << "[pairing]\nrigs = \"together\"\n";
    const RunReport r = run(p.path());
    REQUIRE(r.stacks.size() == 1);
    const StackReport& s = r.stacks.front();
    CHECK(s.name == "Paper-Lantern-Field-L-together");
    CHECK(s.used == 12);
    CHECK(
        std::any_of(r.findings.begin(), r.findings.end(), [](const Finding& f) { return f.code == "rigs-together"; }));
    double weights = 0, of_patch[2] = {};
    for (const FrameReport& f : s.frames) {
        weights += f.weight;
        of_patch[f.path.starts_with("second")] += f.weight * std::pow(f.scale * f.noise, 2) / 6;
    }
    CHECK(weights == Approx(1));
    CHECK(of_patch[1] / of_patch[0] == Approx(scale * scale).epsilon(0.01)); // pixels in a patch of sky

    // Noise in blocks of pixels, where what resampling shares among neighbours has gone; over the light of the stars,
    // which is what each master's unit is worth.
    const auto noise = [](const Image& image) {
        const View<const float> v = image.plane();
        std::vector<float> blocks;
        constexpr int kSide = 4;
        for (int y = 40; y + kSide < v.height - 40; y += kSide)
            for (int x = 40; x + 2 * kSide < v.width - 40; x += 2 * kSide) {
                float difference = 0;
                for (int j = 0; j < kSide; ++j)
                    for (int i = 0; i < kSide; ++i)
                        difference += v(x + i, y + j) - v(x + kSide + i, y + j);
                blocks.push_back(difference);
            }
        return static_cast<double>(clipped_statistics(blocks, 2.5f).sigma);
    };
    const Image joint = read_plane(*open_fits(p.path() / "kasane" / s.file));
    const std::vector<Star> stars = detect_stars(joint.plane()).stars;
    double squares = 0;
    for (const StackReport& one : apart.stacks) {
        const Image alone = read_plane(*open_fits(p.path() / "kasane" / one.file));
        std::vector<Star> same = stars;
        measure_fluxes(alone.plane(), measure_background(alone.plane()), 3, {}, same);
        std::vector<Star> here = stars;
        measure_fluxes(joint.plane(), measure_background(joint.plane()), 3, {}, here);
        std::vector<float> units;
        for (std::size_t i = 0; i < stars.size(); ++i)
            if (!stars[i].saturated && here[i].flux > 30 * here[i].flux_sigma)
                units.push_back(static_cast<float>(here[i].flux / same[i].flux));
        REQUIRE(units.size() > 10);
        squares += std::pow(noise(joint) / (noise(alone) * static_cast<double>(median_in_place(units))), 2);
    }
    CHECK(squares == Approx(1).epsilon(0.15)); // the noise of some thousand blocks each

    const RunReport again = run(p.path());
    CHECK(again.stacks.at(0).reused);
    const Header header = read_fits_summary(p.path() / "kasane" / s.file).header;
    CHECK_THAT(*header.text("INSTRUME"), Catch::Contains("Second camera + ") || Catch::Contains(" + Second camera"));
    CHECK_FALSE(header.find("GAIN"));
    fs::remove(p.path() / "kasane.toml");
    const RunReport back = run(p.path()); // what was there is there still
    REQUIRE(back.stacks.size() == 2);
    CHECK(back.stacks[0].reused);
    CHECK(back.stacks[1].reused);
}

TEST_CASE("A lens that the first lights could not show is found when later ones do") {
    const TemporaryFolder p;
    sky::PlainOptions o = plain();
    o.lights = 28;
    sky::Scenario s = sky::plain_scenario(o);
    s.scene.margin = 160;
    s.instrument.lens = Lens{{200, 150}, 250, {0.012, 0, 0}, {0, 0}};
    sky::Scenario early = s, late = s;
    early.shots.clear(), late.shots.clear();
    for (std::size_t i = 0; i < s.shots.size(); ++i) { // a mount that keeps still to a pixel, and one that does not
        sky::Shot shot = s.shots[i];
        const double step = static_cast<double>(i % 7) - 3;
        const bool first = i < 20;
        shot.conditions.pointing = {};
        shot.conditions.pointing.offset_x = first ? 0.3 * step : 30 * step;
        shot.conditions.pointing.offset_y = first ? -0.2 * step : 60 - 25 * step;
        (first ? early : late).shots.push_back(std::move(shot));
    }
    sky::write_scenario(early, p.path(), Quiet().context);
    const RunReport before = run(p.path());
    REQUIRE(before.stacks.size() == 1);
    CHECK(before.stacks[0].used == 20);
    const auto told = [](const RunReport& r) { return fmt::format("{}", fmt::join(r.stacks.at(0).optics, " ")); };
    CHECK_THAT(told(before), !Catch::Contains("distortion"));
    sky::write_scenario(late, p.path(), Quiet().context);
    const RunReport after = run(p.path());
    CHECK(after.stacks.at(0).used == 28);
    CHECK_THAT(told(after), Catch::Contains("distortion"));
    CHECK(run(p.path()).stacks.at(0).reused);
}
