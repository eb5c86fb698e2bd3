// Master lights for other programs, as a user exports them at the terminal.
#include "support/projects.hpp"
#include "support/support.hpp"

#include <kasane/base/output_file.hpp>
#include <kasane/io/colour_profile.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/jpeg.hpp>
#include <kasane/io/png.hpp>
#include <kasane/io/reader.hpp>

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

/// A master light of a hand's making: sky, some stars, a hole.
void write_master(const fs::path& file, const char* filter, int planes = 1, const Header& more = {}) {
    Image image(240, 180, planes, 600);
    add_noise(image, 4, 17);
    for (int p = 0; p < planes; ++p) {
        Image stars(240, 180);
        for (int i = 0; i < 12; ++i)
            add_gaussian_star(stars, 20 + 18 * i, 25 + 11 * i, (20000 + 40000 * p) * (1 + i % 3), 3);
        for (int y = 0; y < 180; ++y)
            for (int x = 0; x < 240; ++x)
                image(x, y, p) += stars(x, y);
        image(7, 9, p) = std::nanf("");
    }
    Header h = more;
    h.set("FILTER", filter);
    h.set("OBJECT", "Paper Lantern Nebula");
    h.set("EXPTIME", 7200.0);
    h.set("NOISE", 4.0);
    write_fits(file, {{image.plane(), h, {}, planes}});
}

json exported(const std::string& arguments, int status = 0) {
    const Outcome o = shell("{kasane} export masters -q --json " + arguments);
    INFO(o.out << o.err);
    CHECK(o.status == status);
    return o.status < 2 ? json::parse(o.out) : json();
}

json of_format(const json& report, const std::string& format) {
    for (const json& f : report.at("files"))
        if (f.at("format") == format) return f;
    FAIL("no " << format);
    return {};
}

void refused(const std::string& arguments, const std::string& words) {
    const Outcome o = shell("{kasane} export " + arguments);
    INFO(arguments << "\n" << o.out << o.err);
    CHECK(o.status == 2);
    CHECK_THAT(o.err, Catch::Contains(words));
}

} // namespace

TEST_CASE("Colour profiles are whole, and the same every time") {
    for (const int planes : {1, 3})
        for (const ToneCurve curve : {ToneCurve::screen, ToneCurve::linear}) {
            const std::string p = colour_profile(planes, curve);
            REQUIRE(p.size() > 128);
            CHECK(p.substr(36, 4) == "acsp");
            CHECK(p.substr(16, 4) == (planes == 3 ? "RGB " : "GRAY"));
            CHECK(p == colour_profile(planes, curve));
            CHECK(p.substr(24, 4) == std::string("\x07\xd0\x00\x01", 4));
        }
    CHECK(colour_profile(3, ToneCurve::screen) != colour_profile(3, ToneCurve::linear));
}

TEST_CASE("PNG and JPEG hold what they are given, with a profile and words") {
    const TemporaryFolder folder;
    Image image(150, 90, 3);
    for (int p = 0; p < 3; ++p)
        for (int y = 0; y < 90; ++y)
            for (int x = 0; x < 150; ++x)
                image(x, y, p) = static_cast<float>((x + 50 * p) % 150 + y) / 240.0f;
    image(0, 0, 1) = -1, image(1, 0, 1) = 2, image(2, 0, 1) = std::nanf("");
    const PictureNotes notes{"some words", colour_profile(3, ToneCurve::screen)};
    for (const int bits : {8, 16}) {
        const fs::path file = folder / fmt::format("{}.png", bits);
        write_png(file, image, bits, notes);
        write_png(file, image, bits, notes); // over its own
        CHECK(is_own_work(file));
        const auto reader = open_frame(file);
        const double most = bits == 16 ? 65535 : 255;
        for (int p = 0; p < 3; ++p) {
            const Image back = read_plane(*reader, p);
            for (int y = 1; y < 90; y += 4)
                for (int x = 0; x < 150; ++x)
                    REQUIRE(back(x, y) == std::round(static_cast<float>(most) * image(x, y, p)));
        }
        const Image green = read_plane(*reader, 1);
        CHECK((green(0, 0) == 0 && green(1, 0) == Approx(most) && green(2, 0) == 0));
        CHECK_THAT(read_file(file), Catch::Contains("iCCP") && Catch::Contains("some words"));
    }
    write_jpeg(folder / "a.jpg", image, 95, notes);
    CHECK(is_own_work(folder / "a.jpg"));
    CHECK_THAT(read_file(folder / "a.jpg"), Catch::Contains("ICC_PROFILE") && Catch::Contains("some words"));
    const Image back = read_plane(*open_frame(folder / "a.jpg"), 0);
    CHECK(back(70, 40) == Approx(255 * static_cast<double>(image(70, 40, 0))).margin(6));
    CHECK_THROWS(write_png(folder / "b.png", Image(4, 4, 2), 8, {}));
    CHECK_THROWS(write_png(folder / "b.png", image, 12, {}));
    CHECK_THROWS(write_png(folder / "nowhere" / "b.png", image, 8, {}));
    CHECK_THROWS(write_jpeg(folder / "b.jpg", Image(70000, 2), 90, {}));
    CHECK_FALSE(fs::exists(folder / "b.png"));
}

TEST_CASE("Master lights of a project are exported in every format, and stay as they are") {
    const TemporaryFolder folder;
    const std::string p = (folder / "p").string(), to = (folder / "out").string();
    write_small_project(p);
    REQUIRE(shell("{kasane} run -q " + p).status < 2);
    const auto before = digests(folder / "p");
    const json r = exported(fmt::format("{} -C {} --as fits,tiff,tiff-float --as png --as png-8,jpeg", to, p));
    CHECK(digests(folder / "p") == before);
    REQUIRE(r.at("files").size() == 6);
    const json fits = of_format(r, "fits"), floats = of_format(r, "tiff-float"), whole = of_format(r, "tiff");
    const auto master = open_frame(fits.at("source").get<std::string>());
    const Image pixels = read_plane(*master, 0);
    const auto copy = open_frame(fits.at("file").get<std::string>());
    CHECK(copy->header().text("FILTER") == master->header().text("FILTER"));
    CHECK(copy->header().number("NOISE") == master->header().number("NOISE"));
    CHECK(copy->check_sums().empty());
    const Image same = read_plane(*copy, 0), part = read_plane(*open_frame(floats.at("file").get<std::string>()), 0);
    CHECK_FALSE(floats.at("stretched").get<bool>());
    const double white = floats.at("range").at("white");
    CHECK(std::log2(white + 1) == std::round(std::log2(white + 1)));
    float highest = 0;
    for (int y = 0; y < pixels.height(); ++y)
        for (int x = 0; x < pixels.width(); ++x) {
            if (!std::isfinite(pixels(x, y))) continue;
            highest = std::max(highest, pixels(x, y));
            REQUIRE(same(x, y) == pixels(x, y));
            REQUIRE(static_cast<double>(part(x, y)) * white == Approx(pixels(x, y)).epsilon(1e-6));
        }
    CHECK((static_cast<double>(highest) <= white && 2.1 * static_cast<double>(highest) > white));
    CHECK(whole.at("stretched").get<bool>());
    const Image shown = read_plane(*open_frame(whole.at("file").get<std::string>()), 0),
                png = read_plane(*open_frame(of_format(r, "png").at("file").get<std::string>()), 0);
    std::vector<float> values(shown.pixels().begin(), shown.pixels().end());
    std::nth_element(values.begin(), values.begin() + 4000, values.end());
    CHECK((values[4000] > 3000 && values[4000] < 20000)); // sky is seen
    CHECK(std::equal(shown.pixels().begin(), shown.pixels().end(), png.pixels().begin()));
    for (const json& f : r.at("files"))
        CHECK(is_own_work(f.at("file").get<std::string>()));
    CHECK_THAT(read_file(whole.at("file").get<std::string>()), Catch::Contains("acsp") && Catch::Contains("strength"));
    exported(fmt::format("{} -C {} --as tiff", to, p)); // again, over its own
    // Among the results, but not beside the lights.
    exported(fmt::format("{0}/kasane/exported -C {0}", p));
    refused(fmt::format("masters {0}/for-me -C {0}", p), "lies inside the project");
    refused(fmt::format("masters {0}/kasane/lights -C {0} --as fits", p), "would be written over");
    CHECK(shell("{kasane} scan -q " + p).status == 0); // nothing of it is an exposure
}

TEST_CASE("Linear pictures say what their numbers are, and what is cut off") {
    const TemporaryFolder folder;
    const std::string f = folder.path().string();
    write_master(folder / "a.fits", "L");
    write_master(folder / "rgb.fits", "RGB", 3);
    json r = exported(fmt::format("{0}/out {0}/a.fits {0}/rgb.fits --as tiff --linear", f));
    REQUIRE(r.at("files").size() == 2);
    CHECK(r.at("files").at(0).at("range") == r.at("files").at(1).at("range")); // they stay comparable
    CHECK(r.at("files").at(1).at("planes") == 3);
    CHECK(r.at("files").at(0).at("no_data").get<double>() == Approx(1.0 / (240 * 180)));
    CHECK(r.at("files").at(0).at("beyond_white") == 0);
    r = exported(fmt::format("{0}/out {0}/a.fits --as tiff,tiff-float --linear --range '500 1000'", f));
    const json whole = of_format(r, "tiff"), floats = of_format(r, "tiff-float");
    CHECK(whole.at("beyond_white").get<double>() > 0);
    CHECK(floats.at("beyond_white") == 0);
    const Image is = read_plane(*open_frame(f + "/a.fits"), 0),
                part = read_plane(*open_frame(floats.at("file").get<std::string>()), 0);
    CHECK(part(100, 20) == Approx((is(100, 20) - 500) / 500));
    r = exported(fmt::format("{0}/out {0}/a.fits --as png-8 --linear", f), 1);
    CHECK_THAT(r.at("files").at(0).at("doubt").get<std::string>(), Catch::Contains("coarser than the noise"));
    // In colour: stars of another colour keep it when they are stretched.
    r = exported(fmt::format("{0}/out {0}/rgb.fits --as png", f));
    const auto shown = open_frame(r.at("files").at(0).at("file").get<std::string>());
    CHECK(read_plane(*shown, 2)(20, 25) > read_plane(*shown, 0)(20, 25));
    Header white; // of the average star
    white.set("CHSCALE1", 3.0), white.set("CHSCALE2", 1.0), white.set("CHSCALE3", 0.6);
    write_master(folder / "white.fits", "RGB", 3, white);
    r = exported(fmt::format("{0}/out {0}/white.fits --as png --stretch 0.05", f));
    const auto balanced = open_frame(r.at("files").at(0).at("file").get<std::string>());
    const float red = read_plane(*balanced, 0)(38, 38), blue = read_plane(*balanced, 2)(38, 38);
    CHECK(red > 8000);
    CHECK(red == Approx(blue).epsilon(0.1));
    const Outcome words = shell(fmt::format("{{kasane}} export masters {0}/out {0}/a.fits --linear", f));
    CHECK_THAT(words.out, Catch::Contains("a.tif") && Catch::Contains("linear: 0 is 0 ADU") &&
                              Catch::Contains("cut off: none below"));
}

TEST_CASE("Names of exported files follow a template") {
    const TemporaryFolder folder;
    const std::string f = folder.path().string();
    write_master(folder / "a.fits", "L");
    write_master(folder / "b.fits", "Ha");
    exported(fmt::format("{0}/out {0}/a.fits {0}/b.fits --name '{{target}}_{{filter}}_{{seconds}}s'", f));
    CHECK(fs::exists(folder / "out/Paper-Lantern-Nebula_L_7200s.tif"));
    CHECK(fs::exists(folder / "out/Paper-Lantern-Nebula_Ha_7200s.tif"));
    refused(fmt::format("masters {0}/out {0}/a.fits {0}/b.fits --name same", f), "would be called same.tif");
    refused(fmt::format("masters {0}/out {0}/a.fits --name '{{camera}}'", f), "unknown field");
    refused(fmt::format("masters {0}/out {0}/a.fits --name '{{frames}}'", f), "says nothing of its frames");
    refused(fmt::format("masters {0}/out {0}/a.fits --name '../x'", f), "no name of a file");
    exported(fmt::format("{0}/out {0}/a.fits {0}/b.fits --filter Ha --name only", f));
    CHECK(fs::exists(folder / "out/only.tif"));
}

TEST_CASE("What cannot be exported is said before any work") {
    const TemporaryFolder folder;
    const std::string f = folder.path().string();
    write_master(folder / "a.fits", "L");
    refused(fmt::format("masters {0}/out {0}/a.fits --linear --stretched", f), "contradict");
    refused(fmt::format("masters {0}/out {0}/a.fits --as bmp", f), "no format of master lights");
    refused(fmt::format("masters {0}/out {0}/a.fits --as fits --stretched", f), "not stretched");
    refused(fmt::format("masters {0}/out {0}/a.fits --range '5 1' --linear", f), "above black");
    refused(fmt::format("masters {0}/out {0}/a.fits --range '0 100'", f), "--range is for linear");
    refused(fmt::format("masters {0}/out {0}/a.fits --range 'much' --linear", f), "no range");
    refused(fmt::format("masters {0}/out {0}/a.fits {0}/a.fits", f), "named twice");
    refused(fmt::format("masters {0}/out {0}/a.fits --dropped", f), "means nothing to 'export masters'");
    refused(fmt::format("lights {0}/out --as tiff", f), "lights are not exported as tiff");
    refused(fmt::format("lights {0}/out --linear", f), "means nothing to 'export lights'");
    refused(fmt::format("masters {0}/out {0}/a.fits --filter Ha", f), "no master light of the filter Ha");
    refused(fmt::format("masters {0} {0}/a.fits --as fits", f), "would be written over");
    CHECK_FALSE(fs::exists(folder / "out"));
    fs::create_directory(folder / "out");
    std::ofstream(folder / "out/a.tif") << "somebody's";
    refused(fmt::format("masters {0}/out {0}/a.fits --as fits,tiff", f), "Kasane did not write it");
    CHECK_FALSE(fs::exists(folder / "out/a.fits"));
    CHECK(read_file(folder / "out/a.tif") == "somebody's");
    const Outcome none = shell(fmt::format("{{kasane}} export masters {0}/out {0}/missing.fits", f));
    CHECK(none.status != 0);
    CHECK_THAT(none.err, Catch::Contains("missing.fits"));
    const Outcome small = shell(fmt::format("{{kasane}} export masters {0}/o2 {0}/a.fits --memory 1M", f));
    CHECK(small.status != 0);
}
