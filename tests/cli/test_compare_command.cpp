// Images judged against each other, as a user does it at the terminal.
#include "support/support.hpp"

#include <kasane/io/fits.hpp>
#include <kasane/io/png.hpp>
#include <kasane/io/reader.hpp>
#include <kasane/sky/random.hpp>

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

/// The same stars for one `field`; the view moved by (dx, dy).
Image view(double light, double noise, std::uint64_t seed, double dx = 0, double dy = 0, std::uint64_t field = 21) {
    Image image(kWidth, kHeight, 1, static_cast<float>(400 * light));
    sky::Random random(field), own(seed);
    for (int i = 0; i < 110; ++i) {
        const double x = random.uniform(-20, kWidth + 20) + dx, y = random.uniform(-20, kHeight + 20) + dy;
        const double flux = light * 800 * std::pow(80.0, random.uniform(0, 1));
        if (x > 10 && y > 10 && x < kWidth - 10 && y < kHeight - 10) add_gaussian_star(image, x, y, flux, 3.2);
    }
    for (float& v : image.pixels())
        v += static_cast<float>(noise * own.normal());
    return image;
}

void write(const fs::path& file, const Image& image) {
    write_fits(file, {{image.plane(), Header(), {}, image.planes()}});
}

json compared(const std::string& arguments, int status) {
    const Outcome o = shell("{kasane} compare -q --json " + arguments);
    INFO(o.out << o.err);
    CHECK(o.status == status);
    return o.out.empty() ? json() : json::parse(o.out);
}

} // namespace

TEST_CASE("Compare tells what differs between images, in words, as JSON and in pictures") {
    const TemporaryFolder folder;
    const std::string f = folder.path().string();
    write(folder / "old.fits", view(1, 8, 1));
    write(folder / "new.fits", view(3, 12, 2, 4.3, -2.6));
    fs::create_directory(folder / "other");
    write(folder / "other/old.fits", view(1, 8, 3));
    const auto before = digests(folder.path());
    Outcome o = shell(fmt::format("{{kasane}} compare {0}/old.fits {0}/new.fits --pictures {0}/pictures", f));
    CHECK(o.status == 0);
    CHECK_THAT(o.out, Catch::Contains("old.fits") && Catch::Contains("new.fits") && Catch::Contains("+0.7") &&
                          Catch::Contains("light of a star 3") &&
                          Catch::Contains("2-new.difference.png: this one less"));
    for (const char* name : {"sides", "1-old.crops", "2-new.crops", "2-new.split", "2-new.difference"}) {
        INFO(name);
        const auto picture = open_frame(folder / fmt::format("pictures/{}.png", name));
        CHECK(picture->width() >= kWidth);
    }
    CHECK(open_frame(folder / "pictures/sides.png")->width() == 2 * kWidth + 2);

    const json r = compared(fmt::format("{0}/old.fits {0}/new.fits {0}/other/old.fits", f), 0);
    CHECK(r.at("images").size() == 3);
    const json& told = r.at("images").at(1).at("told");
    CHECK(told.at("ratio").get<double>() == Approx(3).epsilon(0.01));
    // Twice as good: a third of the light for one and a half times the noise.
    CHECK(told.at("deeper").get<double>() == Approx(2.5 * std::log10(2)).margin(0.1));
    CHECK(r.at("images").at(2).at("told").at("deeper").get<double>() == Approx(0).margin(0.1));
    CHECK(r.at("noise_by") == "spectrum of the sky");
    CHECK(r.at("stars").get<int>() > 40);
    // Names that are alike are told apart by their folders; a second time all pictures are replaced.
    o = shell(fmt::format("{{kasane}} compare -q {0}/old.fits {0}/other/old.fits --pictures {0}/pictures", f));
    CHECK_THAT(o.out, Catch::Contains("other/old.fits"));
    CHECK(shell(fmt::format("{{kasane}} compare -q {0}/old.fits {0}/new.fits --pictures {0}/pictures", f)).status == 0);
    CHECK(digests(folder.path(), {"pictures"}) == before);
}

TEST_CASE("What cannot be compared, or hardly, is said") {
    const TemporaryFolder folder;
    const std::string f = folder.path().string();
    const Image good = view(1, 8, 1);
    write(folder / "good.fits", good);
    const auto expect = [&](const std::string& files, int status, const char* words) {
        const Outcome o = shell(fmt::format("{{kasane}} compare -q {}", files));
        INFO(files << "\n" << o.out << o.err);
        CHECK(o.status == status);
        CHECK_THAT(o.out + o.err, Catch::Contains(words));
    };
    expect(f + "/good.fits", 2, "two images or more");
    expect(f + "/good.fits " + f + "/good.fits", 2, "named twice");
    expect(f + "/good.fits " + f + "/none.fits", 3, "none.fits");
    expect(f + "/none.fits " + f + "/good.fits", 3, "none.fits");

    fs::copy_file(folder / "good.fits", folder / "copy.fits");
    expect(f + "/good.fits " + f + "/copy.fits", 1, "byte for byte the same");

    write(folder / "elsewhere.fits", view(1, 8, 4, 0, 0, 99));
    expect(f + "/good.fits " + f + "/elsewhere.fits", 3, "nothing to compare it with");
    // The others go on.
    write(folder / "second.fits", view(1, 9, 5));
    expect(fmt::format("{0}/good.fits {0}/elsewhere.fits {0}/second.fits", f), 1, "not judged");

    write(folder / "nothing.fits", Image(kWidth, kHeight, 1, std::nanf("")));
    expect(f + "/good.fits " + f + "/nothing.fits", 3, "no data at all");
    Image inverted = good;
    for (float& v : inverted.pixels())
        v = 60000 - v;
    write(folder / "inverted.fits", inverted);
    expect(f + "/good.fits " + f + "/inverted.fits", 3, "inverted");
    Image bent = good;
    for (float& v : bent.pixels())
        v = 65000 * std::asinh(std::max(0.0f, v - 300) / 40) / std::asinh(1000.0f);
    write(folder / "stretched.fits", bent);
    expect(f + "/good.fits " + f + "/stretched.fits", 1, "stretched or not linear");
    Raster<std::uint8_t> eight(kWidth, kHeight);
    for (int y = 0; y < kHeight; ++y)
        for (int x = 0; x < kWidth; ++x)
            eight(x, y) = static_cast<std::uint8_t>(std::clamp((good(x, y) - 350) / 8, 0.0f, 255.0f));
    write_png(folder / "eight.png", eight);
    expect(f + "/good.fits " + f + "/eight.png", 1, "8 bits");
    Image hole = view(1, 8, 6);
    for (int y = 100; y < 200; ++y)
        for (int x = 100; x < 250; ++x)
            hole(x, y) = std::nanf("");
    write(folder / "hole.fits", hole);
    expect(f + "/good.fits " + f + "/hole.fits", 1, "8 % of its pixels have no data");
    Image one(kWidth, kHeight, 1, 400);
    add_gaussian_star(one, 200, 150, 90000, 3.2);
    write(folder / "one.fits", one);
    expect(f + "/good.fits " + f + "/one.fits", 3, "one.fits");

    // Somebody's picture is not replaced, and a file is no folder.
    fs::create_directory(folder / "pictures");
    std::ofstream(folder / "pictures/sides.png") << "a picture of somebody's";
    expect(fmt::format("{0}/good.fits {0}/second.fits --pictures {0}/pictures", f), 2, "sides.png");
    expect(fmt::format("{0}/good.fits {0}/second.fits --pictures {0}/good.fits", f), 3, "good.fits");
    write_png(folder / "sides.png", eight); // Kasane's own work, but an input
    expect(fmt::format("{0}/good.fits {0}/sides.png --pictures {0}", f), 2, "would be written over");
}
