// Master lights finished, as a user does it at the terminal.
#include "support/projects.hpp"
#include "support/support.hpp"

#include <kasane/base/output_file.hpp>
#include <kasane/finishing/reshape.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/reader.hpp>
#include <kasane/io/tiff.hpp>
#include <kasane/io/world_coordinates.hpp>
#include <kasane/sky/random.hpp>
#include <kasane/stars/detection.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <fmt/format.h>
#include <fstream>
#include <nlohmann/json.hpp>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;
using nlohmann::json;

namespace {

constexpr int kWidth = 480, kHeight = 360;

/// A field of stars of one colour, a nebula that is red, and a gradient, through a filter.
void write_master(const fs::path& file, const char* filter, double stars, double nebula, double sky, double noise,
                  const Header& more = {}) {
    Image image(kWidth, kHeight);
    sky::Random field(5), own(static_cast<std::uint64_t>(100 * sky + 7 * noise));
    for (int y = 0; y < kHeight; ++y)
        for (int x = 0; x < kWidth; ++x) {
            const double u = 2.0 * x / kWidth - 1, v = 2.0 * y / kHeight - 1, r = std::hypot(u, v);
            image(x, y) = static_cast<float>(sky * (1 + 0.1 * u - 0.05 * v) + nebula * std::max(0.0, 1 - r / 0.8) +
                                             noise * own.normal());
        }
    for (int i = 0; i < 60; ++i) {
        const double x = field.uniform(10, kWidth - 10), y = field.uniform(10, kHeight - 10),
                     flux = 3000 * std::pow(20.0, field.uniform(0, 1));
        add_gaussian_star(image, x, y, stars * flux, 3);
    }
    Header h = more;
    h.set("FILTER", std::string(filter));
    h.set("OBJECT", "Paper Lantern Nebula");
    h.set("EXPTIME", 3600.0);
    write_fits(file, {{image.plane(), h, {}, 1}});
}

void write_colours(const fs::path& folder) {
    write_master(folder / "pln-R.fits", "R", 0.5, 60, 300, 3);
    write_master(folder / "pln-G.fits", "G", 1, 20, 400, 3);
    write_master(folder / "pln-B.fits", "Blue", 1.25, 10, 500, 3);
}

json finished(const std::string& arguments, int status) {
    const Outcome o = shell("{kasane} finish -q --json " + arguments);
    INFO(o.out << o.err);
    CHECK(o.status == status);
    return o.out.empty() ? json() : json::parse(o.out);
}

std::ptrdiff_t files_in(const fs::path& folder) {
    return std::distance(fs::directory_iterator(folder), fs::directory_iterator());
}

} // namespace

TEST_CASE("Master lights of three filters become one picture in colour, linear and stretched") {
    const TemporaryFolder folder;
    const std::string f = folder.path().string();
    Header world;
    world.set("CTYPE1", "RA---TAN"), world.set("CTYPE2", "DEC--TAN");
    world.set("CRVAL1", 83.0), world.set("CRVAL2", 20.0), world.set("CRPIX1", 240.0), world.set("CRPIX2", 180.0);
    world.set("CD1_1", -0.0005), world.set("CD1_2", 0.0), world.set("CD2_1", 0.0), world.set("CD2_2", 0.0005);
    world.set("ROWORDER", "TOP-DOWN");
    write_colours(folder.path());
    write_master(folder / "pln-R.fits", "R", 0.5, 60, 300, 3, world);
    write_master(folder / "pln-L.fits", "L", 3, 100, 900, 4);
    const auto before = digests(folder.path());
    const Outcome o = shell(fmt::format(
        "{{kasane}} finish {0}/pln-R.fits {0}/pln-G.fits {0}/pln-B.fits {0}/pln-L.fits --to {0}/done --crop "
        "\"40 20 400 300\" --turn 90 --bin 2",
        f));
    INFO(o.out << o.err);
    CHECK(o.status == 0);
    CHECK_THAT(o.out, Catch::Contains("in colour") && Catch::Contains("a polynomial of degree 1") &&
                          Catch::Contains("by the average star") && Catch::Contains("luminance") &&
                          Catch::Contains("pln-colour.tif"));
    const auto linear = open_fits(folder / "done/pln-colour.fits");
    REQUIRE(linear->planes() == 3);
    CHECK(linear->width() == 150);
    CHECK(linear->height() == 200);
    // Sky is neutral, stars are white, the nebula is red: 60 / 0.5 against 20 against 10 / 1.25.
    const auto level = [&](int p, const Region& r) {
        const Image plane = read_plane(*linear, p);
        return double{image_statistics(plane.plane().crop(r)).location};
    };
    const Region corner{2, 2, 20, 20}, middle{65, 90, 20, 20};
    CHECK(level(0, corner) == Approx(level(1, corner)).margin(1.5));
    CHECK(level(2, corner) == Approx(level(1, corner)).margin(1.5));
    const auto nebula = [&](int p) { return level(p, middle) - level(p, corner); };
    CHECK(nebula(0) / nebula(1) == Approx(6).epsilon(0.1));
    CHECK(nebula(2) / nebula(1) == Approx(0.4).epsilon(0.2));
    // Where it lies: the former pixel (x, y) was turned to (y - 20, 439 - x), then binned.
    const auto world_there = read_world(linear->header());
    REQUIRE(world_there);
    const SkyPoint at = world_there->to_sky({(100 - 20 - 0.5) / 2, (439 - 200 - 0.5) / 2});
    const auto former = read_world(open_fits(folder / "pln-R.fits")->header());
    REQUIRE(former);
    CHECK(separation(at, former->to_sky({200, 100})) * 3600 < 0.1);
    std::string history;
    for (const Card& c : linear->header().cards())
        if (c.key == "HISTORY") history += c.value;
    CHECK_THAT(history, Catch::Contains("background of R") && Catch::Contains("combine: red R, green") &&
                            Catch::Contains("by 90 degrees"));
    const auto shown = open_frame(folder / "done/pln-colour.tif");
    CHECK(shown->planes() == 3);
    CHECK(shown->width() == 150);
    const Image green = read_plane(*shown, 1);
    CHECK(double{image_statistics(green.plane().crop(corner)).location} == Approx(0.12 * 65535).epsilon(0.15));
    CHECK(open_frame(folder / "done/pln-colour.png")->planes() == 3);
    CHECK(fs::exists(folder / "done/pln-colour-sky-l.png"));
    for (const auto& [file, digest] : before)
        CHECK(digests(folder.path()).at(file) == digest);
    // Again, over its own work, with the same bytes for any threads.
    const auto first = digests(folder / "done");
    CHECK(shell(fmt::format("{{kasane}} finish --threads 1 {0}/pln-R.fits {0}/pln-G.fits {0}/pln-B.fits {0}/pln-L.fits "
                            "--to {0}/done --crop "
                            "\"40 20 400 300\" --turn 90 --bin 2",
                            f))
              .status == 0);
    CHECK(digests(folder / "done") == first);
}

TEST_CASE("Palettes make pictures of any filters, and what makes none is finished by itself") {
    const TemporaryFolder folder;
    const std::string f = folder.path().string();
    write_master(folder / "pln-Ha.fits", "H-alpha", 1, 80, 200, 2);
    write_master(folder / "pln-OIII.fits", "OIII", 1, 30, 250, 2);
    json r = finished(fmt::format("{0}/pln-Ha.fits {0}/pln-OIII.fits --to {0}/done", f), 0);
    REQUIRE(r.at("images").size() == 2);
    CHECK(r.at("images").at(0).at("planes") == 1);
    CHECK_THAT(r.at("notes").at(0).get<std::string>(),
               Catch::Contains("no master light of R") && Catch::Contains("Ha, O3"));
    r = finished(fmt::format("{0}/pln-Ha.fits {0}/pln-OIII.fits --to {0}/done --palette \"Ha; 0.5 Ha + 0.5 OIII; "
                             "OIII\" --white none --background none",
                             f),
                 0);
    REQUIRE(r.at("images").size() == 1);
    CHECK(r.at("images").at(0).at("palette") == "red Ha, green 0.5 Ha + 0.5 O3, blue O3");
    CHECK_FALSE(r.at("images").at(0).contains("white"));
    CHECK(r.at("images").at(0).at("parts").at(0).at("gradient_taken_off") == false);
    Outcome o = shell(fmt::format(
        "{{kasane}} finish {0}/pln-Ha.fits {0}/pln-OIII.fits --to {0}/done --palette \"SII; Ha; OIII\"", f));
    CHECK(o.status == 2);
    CHECK_THAT(o.err, Catch::Contains("S2") && Catch::Contains("Ha, O3"));
}

TEST_CASE("Finishing refuses what makes no sense before it writes anything, and leaves what others wrote") {
    const TemporaryFolder folder;
    const std::string f = folder.path().string();
    write_colours(folder.path());
    const std::string colours = fmt::format("{0}/pln-R.fits {0}/pln-G.fits {0}/pln-B.fits", f);
    const auto refused = [&](const std::string& arguments, int status, const std::string& what) {
        const Outcome o = shell("{kasane} finish " + arguments);
        INFO(arguments << "\n" << o.out << o.err);
        CHECK(o.status == status);
        CHECK_THAT(o.err, Catch::Contains(what));
        CHECK_FALSE(fs::exists(folder / "done"));
    };
    const std::string to = " --to " + f + "/done ";
    refused(colours + to + "--turn 45", 2, "0, 90, 180 or 270");
    refused(colours + to + "--crop \"0 0 0 0\"", 2, "no crop");
    refused(colours + to + "--stretch 2", 2, "0.005 to 0.6");
    refused(colours + to + "--white moon", 2, "what is white");
    refused(colours + to + "--background cubic", 2, "polynomial, spline or none");
    refused(colours + to + fmt::format("{}/pln-R.fits", f), 2, "named twice");
    refused(fmt::format("{}/none.fits", f) + to, 3, "none.fits");
    fs::copy_file(folder / "pln-R.fits", folder / "again.fits");
    refused(colours + to + f + "/again.fits", 2, "several master lights of R");
    Image small(100, 100, 1, 5);
    Header blue;
    blue.set("FILTER", "B");
    write_fits(folder / "small.fits", {{small.plane(), blue, {}, 1}});
    refused(fmt::format("{0}/pln-R.fits {0}/pln-G.fits {0}/small.fits", f) + to, 2, "one canvas");
    // Somebody's own picture stays, an edited one of ours too.
    fs::create_directory(folder / "kept");
    std::ofstream(folder / "kept/pln-colour.tif") << "II*\0 mine";
    Outcome o = shell("{kasane} finish " + colours + " --to " + f + "/kept");
    CHECK(o.status == 2);
    CHECK_THAT(o.err, Catch::Contains("pln-colour.tif") && Catch::Contains("did not write it"));
    fs::create_directory(folder / "own");
    std::ofstream(folder / "own/pln-colour-sharp-g.png") << "mine";
    o = shell("{kasane} finish " + colours + " --sharpen 0.8 --to " + f + "/own");
    CHECK(o.status == 2);
    CHECK_THAT(o.err, Catch::Contains("pln-colour-sharp-g.png"));
    CHECK(files_in(folder / "own") == 1);
    // Inputs are never written over, nor is what gives the grid.
    fs::copy_file(folder / "pln-G.fits", folder / "kept/pln-R.fits");
    o = shell(fmt::format("{{kasane}} finish {0}/pln-R.fits --onto {0}/kept/pln-R.fits --to {0}/kept", f));
    CHECK(o.status == 2);
    CHECK_THAT(o.err, Catch::Contains("would be written over"));
    fs::copy_file(folder / "pln-G.fits", folder / "kept/x-G.fits");
    o = shell(fmt::format("{{kasane}} finish {0}/kept/x-G.fits --to {0}/kept", f));
    CHECK(o.status == 2);
    CHECK_THAT(o.err, Catch::Contains("would be written over"));
    // A crop beyond the picture is told with its size.
    o = shell("{kasane} finish " + colours + " --to " + f + "/other --crop \"400 0 400 300\"");
    CHECK(o.status == 2);
    CHECK_THAT(o.err, Catch::Contains("480 x 360"));
}

TEST_CASE("Stars that are no stars and images without data are told") {
    const TemporaryFolder folder;
    const std::string f = folder.path().string();
    Image nothing(200, 150, 1, NAN);
    write_fits(folder / "nothing.fits", {{nothing.plane(), Header(), {}, 1}});
    Outcome o = shell(fmt::format("{{kasane}} finish {0}/nothing.fits --to {0}/done", f));
    CHECK(o.status != 0);
    CHECK_THAT(o.out + o.err, Catch::Contains("no data") && Catch::Contains("Nothing could be finished"));
    Image flat(200, 150, 3, 100);
    write_fits(folder / "flat.fits", {{flat.plane(), Header(), {}, 3}});
    const json r = finished(fmt::format("{0}/flat.fits --to {0}/done", f), 1);
    CHECK_THAT(r.at("images").at(0).at("doubts").dump(), Catch::Contains("white was not told"));
}

TEST_CASE("A TIFF holds what it is given, is known as our own, and not after somebody else wrote it") {
    const TemporaryFolder folder;
    Image image(301, 77, 3);
    for (std::size_t i = 0; i < image.pixels().size(); ++i)
        image.pixels()[i] = static_cast<float>(i % 1000) / 999.0f;
    image(0, 0, 1) = -0.5f, image(1, 0, 1) = 1.5f, image(2, 0, 1) = NAN;
    write_tiff(folder / "whole.tif", image, TiffSamples::whole_16, {"lines\nof words", {}});
    write_tiff(folder / "float.tif", image, TiffSamples::float_32, {});
    const auto whole = open_frame(folder / "whole.tif"), floats = open_frame(folder / "float.tif");
    CHECK(whole->header().text("Exif.ImageDescription").value_or("") == "lines\nof words");
    for (int p = 0; p < 3; ++p) {
        const Image w = read_plane(*whole, p), g = read_plane(*floats, p);
        for (int y = 0; y < 77; y += 7)
            for (int x = 3; x < 301; ++x) {
                REQUIRE(w(x, y) == std::round(65535 * image(x, y, p)));
                REQUIRE(g(x, y) == image(x, y, p));
            }
    }
    const Image green = read_plane(*whole, 1);
    CHECK(green(0, 0) == 0);
    CHECK(green(1, 0) == 65535);
    CHECK(green(2, 0) == 0);
    CHECK(is_own_work(folder / "whole.tif"));
    CHECK(is_own_work(folder / "float.tif"));
    write_tiff(folder / "whole.tif", image, TiffSamples::float_32, {}); // over itself
    std::string bytes = content_of(folder / "float.tif").value();
    bytes[4] = 16; // its directory elsewhere, as in a file that an editor saved
    std::ofstream(folder / "edited.tif", std::ios::binary) << bytes;
    CHECK_FALSE(is_own_work(folder / "edited.tif"));
    CHECK_THROWS(write_tiff(folder / "edited.tif", image, TiffSamples::whole_16, {}));
    CHECK_THROWS(write_tiff(folder / "two.tif", Image(4, 4, 2), TiffSamples::whole_16, {}));
}

TEST_CASE("A recipe says how a project is finished, at the end of every run if it asks for that") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    const std::string p = (folder / "p").string();
    write_recipe(folder / "p", "[finish]\nafter_run = true\nbackground = \"spline\"\nbin = 2\nstretch = 0.2\n");
    json r = json::parse(shell("{kasane} run -q --json " + p).out);
    const json& image = r.at("finished").at("images").at(0);
    CHECK(image.at("geometry") == "binned 2 x 2");
    CHECK(image.at("parts").at(0).at("gradient") == "a spline");
    CHECK(fs::exists(image.at("stretched").get<std::string>()));
    CHECK(fs::path(image.at("linear").get<std::string>()).parent_path() == folder / "p/kasane/finished");
    const auto masters = digests(folder / "p/kasane/lights");
    // Options go before the recipe.
    r = json::parse(shell("{kasane} finish -q --json --bin 1 --background none -C " + p).out);
    CHECK_FALSE(r.at("images").at(0).contains("geometry"));
    CHECK(r.at("images").at(0).at("parts").at(0).at("gradient_taken_off") == false);
    // What cannot be finished costs the run nothing.
    write_recipe(folder / "p",
                 "[finish]\nafter_run = true\npalette = { red = \"Ha\", green = \"Ha\", blue = \"OIII\" }\n");
    const Outcome o = shell("{kasane} run -q " + p);
    CHECK(o.status == 1);
    CHECK_THAT(o.out, Catch::Contains("nothing was finished") && Catch::Contains("no master light of Ha"));
    CHECK(digests(folder / "p/kasane/lights") == masters);
    // Two cameras leave two master lights of a filter: which belong together is not guessed, and nothing else is lost.
    const fs::path lights = folder / "p/kasane/lights";
    write_colours(lights);
    fs::copy_file(lights / "pln-R.fits", lights / "other-R.fits");
    json report = json::parse(read_file(folder / "p/kasane/report.json")), stacks = json::array();
    for (const char* name : {"pln-R", "other-R", "pln-G", "pln-B"}) {
        json stack = report.at("stacks").at(0);
        stack["file"] = fmt::format("lights/{}.fits", name);
        stacks.push_back(stack);
    }
    report["stacks"] = stacks;
    std::ofstream(folder / "p/kasane/report.json") << report;
    write_recipe(folder / "p", "");
    r = json::parse(shell("{kasane} finish -q --json -C " + p).out);
    CHECK(r.at("images").size() == 4);
    CHECK_THAT(r.at("notes").dump(), Catch::Contains("several master lights of R"));
    const std::string files =
        fmt::format("{0}/pln-R.fits {0}/other-R.fits {0}/pln-G.fits {0}/pln-B.fits", lights.string());
    const Outcome several = shell("{kasane} finish -q --to " + p + "/x " + files);
    CHECK(several.status == 2);
    CHECK_THAT(several.err, Catch::Contains("several master lights of R") && Catch::Contains("Name the files"));
    for (const auto& [line, what] :
         {std::pair("white = \"moon\"", "region"), std::pair("degree = 2.5", "whole number from 1 to 6"),
          std::pair("palette = { red = \"Ha\" }", "red, green and blue"),
          std::pair("palette = { red = \"+\", green = \"R\", blue = \"R\" }", "Name filters"),
          std::pair("turn = 30", "0, 90, 180 or 270"), std::pair("sharpen = 0.2", "0.6 to 0.95"),
          std::pair("crop = \"coverage x\"", "coverage 0.9"), std::pair("sky = [\"1 2 3\"]", "width and height"),
          std::pair("background = \"cubic\"", "spline"), std::pair("shine = 1", "shine")}) {
        INFO(line);
        write_recipe(folder / "p", fmt::format("[finish]\n{}\n", line));
        const Outcome wrong = shell("{kasane} check -q " + p);
        CHECK(wrong.status == 2);
        CHECK_THAT(wrong.err, Catch::Contains("kasane.toml") && Catch::Contains(what));
    }
}

TEST_CASE("The sky of a picture is that of its darkest places, under a veil of nebula as well") {
    const TemporaryFolder folder;
    const std::string f = folder.path().string();
    Image veiled(720, 480);
    sky::Random own(8);
    for (int y = 0; y < 480; ++y)
        for (int x = 0; x < 720; ++x)
            veiled(x, y) = static_cast<float>(500 + 8 * (1 + std::sin(x / 9.0) * std::sin(y / 7.7)) + 5 * own.normal());
    write_fits(folder / "veiled.fits", {{veiled.plane(), Header(), {}, 1}});
    const json r = finished(fmt::format("{0}/veiled.fits --to {0}/done", f), 0);
    CHECK(r.at("images").at(0).at("parts").at(0).at("sky").get<double>() == Approx(500).margin(3.6));
}

TEST_CASE("Sharpening makes the stars of all colours equally wide, and tells and shows what it did") {
    const TemporaryFolder folder;
    const std::string f = folder.path().string();
    write_colours(folder.path());
    const std::string colours = fmt::format("{0}/pln-R.fits {0}/pln-G.fits {0}/pln-B.fits", f);
    const json r = finished(fmt::format("{} --to {}/done --sharpen 0.75", colours, f), 0);
    const json& image = r.at("images").at(0);
    REQUIRE(image.at("parts").size() == 3);
    for (const json& part : image.at("parts")) {
        const json& s = part.at("sharpened");
        CHECK(s.at("fwhm_wanted") == image.at("parts").at(0).at("sharpened").at("fwhm_wanted"));
        CHECK(s.at("fwhm").get<double>() == Approx(s.at("fwhm_wanted").get<double>()).epsilon(0.1));
        CHECK(s.at("fwhm_wanted").get<double>() < 0.8 * s.at("fwhm_before").get<double>());
        CHECK(s.at("stars").get<int>() > 10);
        const FrameSummary shown = read_summary(s.at("picture").get<std::string>());
        CHECK(shown.format == Format::png);
    }
    const FrameSummary linear = read_summary(folder / "done/pln-colour.fits");
    int told = 0;
    for (const Card& c : linear.header.cards())
        told += c.value.find("sharpen ") != std::string::npos;
    CHECK(told == 3);
    CHECK(detect_stars(read_plane(*open_fits(folder / "done/pln-colour.fits"), 1).plane()).fwhm < 2.6);
    // What cannot be is refused, or told and left as it is.
    Image clean(400, 300);
    for (int i = 0; i < 30; ++i)
        add_gaussian_star(clean, 30 + 11 * i, 30 + (i * 67) % 240, 20000, 3);
    write_fits(folder / "clean.fits", {{clean.plane(), Header(), {}, 1}});
    CHECK_THAT(finished(fmt::format("{0}/clean.fits --to {0}/clean --sharpen 0.8", f), 1).dump(),
               Catch::Contains("is not sharpened"));
    const Outcome o = shell(fmt::format("{{kasane}} finish {} --to {}/more --sharpen 0.3", colours, f));
    CHECK(o.status == 2);
    CHECK_THAT(o.err, Catch::Contains("0.6 to 0.95"));
    CHECK_FALSE(fs::exists(folder / "more"));
    // Done again without it, what was drawn of it goes; what is drawn now stays.
    CHECK_FALSE(finished(fmt::format("{} --to {}/done --sharpen 1", colours, f), 0)
                    .at("images")
                    .at(0)
                    .at("parts")
                    .at(0)
                    .contains("sharpened"));
    CHECK_FALSE(fs::exists(image.at("parts").at(0).at("sharpened").at("picture").get<std::string>()));
    CHECK(fs::exists(folder / "done/pln-colour.fits"));
    Image empty(300, 200);
    sky::Random own(4);
    for (float& v : empty.pixels())
        v = static_cast<float>(400 + 4 * own.normal());
    write_fits(folder / "empty.fits", {{empty.plane(), Header(), {}, 1}});
    CHECK_THAT(finished(fmt::format("{0}/empty.fits --to {0}/none --sharpen 0.8", f), 1).at("images").at(0).dump(),
               Catch::Contains("is not sharpened") && Catch::Contains("5 are needed"));
}

TEST_CASE("Images of other grids are finished on the grid of one") {
    const TemporaryFolder folder;
    const std::string f = folder.path().string();
    write_colours(folder.path());
    // Green was taken with the camera turned by a quarter, and part of the field is missing.
    Header green;
    green.set("FILTER", "G");
    Image turned = reshaped(read_plane(*open_fits(folder / "pln-G.fits"), 0), {{40, 0, 440, kHeight}, 90, false, 1});
    write_fits(folder / "turned-G.fits", {{turned.plane(), green, {}, 1}});
    const std::string images = fmt::format("{0}/pln-R.fits {0}/turned-G.fits {0}/pln-B.fits --to {0}/done", f);
    CHECK(shell("{kasane} finish " + images).status == 2);
    const json r = finished(fmt::format("{} --onto {}/pln-R.fits --crop \"coverage 0.9\"", images, f), 0);
    const json& image = r.at("images").at(0);
    CHECK(image.at("planes") == 3);
    CHECK(image.at("width").get<int>() == Approx(440).margin(8)); // what all three cover
    CHECK(image.at("height").get<int>() == Approx(kHeight).margin(8));
    const auto file = open_fits(image.at("linear").get<std::string>());
    if (!file) FAIL("no result");
    const StarList red = detect_stars(read_plane(*file, 0).plane()), other = detect_stars(read_plane(*file, 1).plane());
    int same = 0;
    for (const Star& a : red.stars)
        for (const Star& b : other.stars)
            same += std::hypot(a.x - b.x, a.y - b.y) < 0.3;
    CHECK(same > 20);
    Image nothing(200, 200, 1, 7);
    write_fits(folder / "nothing.fits", {{nothing.plane(), Header(), {}, 1}});
    const json none = finished(fmt::format("{0}/pln-R.fits --to {0}/done --onto {0}/nothing.fits", f), 3);
    CHECK_THAT(none.at("images").at(0).at("why_not").get<std::string>(),
               Catch::Contains("pln-R.fits") && Catch::Contains("onto the grid of nothing.fits"));
}

TEST_CASE("A picture is cropped to what has its share of the full coverage") {
    const TemporaryFolder folder;
    const std::string f = folder.path().string();
    write_master(folder / "pln-R.fits", "R", 1, 50, 300, 3);
    const Image pixels = read_plane(*open_fits(folder / "pln-R.fits"), 0);
    Image coverage(kWidth, kHeight, 1, 12);
    for (int y = 0; y < kHeight; ++y)
        for (int x = 0; x < 60; ++x)
            coverage(x, y) = 6;
    for (int x = 0; x < kWidth; ++x)
        coverage(x, 0) = 1;
    // Particles and a trail that were rejected are no edges.
    for (int k = 0; k < 300; ++k)
        coverage((k * 37) % kWidth, 5 + (k * 61) % (kHeight - 5)) = 9;
    for (int x = 0; x < kWidth; ++x)
        for (int y = x / 2; y < x / 2 + 7; ++y)
            coverage(x, y + 20) = std::min(coverage(x, y + 20), 10.0f);
    write_fits(folder / "c-R.fits", {{pixels.plane(), {}, {}, 1}, {coverage.plane(), {}, "COVERAGE", 1}});
    const auto size = [&](const char* share) {
        const json r = finished(fmt::format("{0}/c-R.fits --to {0}/done --crop \"coverage {1}\"", f, share), 0);
        const json& image = r.at("images").at(0);
        return std::pair(image.at("width").get<int>(), image.at("height").get<int>());
    };
    CHECK(size("0.9") == std::pair(kWidth - 60, kHeight - 1));
    CHECK(size("0.4") == std::pair(kWidth, kHeight - 1));
    CHECK(size("0.05") == std::pair(kWidth, kHeight));
    const Outcome o = shell(fmt::format("{{kasane}} finish {0}/c-R.fits --to {0}/x --crop \"coverage 2\"", f));
    CHECK(o.status == 2);
    CHECK_THAT(o.err, Catch::Contains("above 0 to 1"));
}
