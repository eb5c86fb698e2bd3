// Single lights, calibrated and registered, for another program.
#include "support/projects.hpp"
#include "support/support.hpp"

#include <kasane/image/statistics.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/reader.hpp>
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

json exported(const std::string& arguments, int status = 0) {
    const Outcome o = shell("{kasane} export frames -q --json " + arguments);
    INFO(o.out << o.err);
    CHECK(o.status == status);
    return o.status < 2 ? json::parse(o.out) : json();
}

void refused(const std::string& arguments, const std::string& words) {
    const Outcome o = shell("{kasane} export frames " + arguments);
    INFO(arguments << "\n" << o.out << o.err);
    CHECK(o.status == 2);
    CHECK_THAT(o.err, Catch::Contains(words));
}

std::vector<fs::path> files_below(const fs::path& folder) {
    std::vector<fs::path> out;
    for (const auto& e : fs::recursive_directory_iterator(folder))
        if (e.is_regular_file()) out.push_back(e.path());
    std::sort(out.begin(), out.end());
    return out;
}

} // namespace

TEST_CASE("Lights are exported calibrated, once, with their headers") {
    const TemporaryFolder folder;
    const std::string p = (folder / "p").string(), to = (folder / "out").string();
    write_small_project(p);
    const auto before = digests(folder / "p", {"kasane"});
    json r = exported(fmt::format("{} -C {}", to, p));
    CHECK(digests(folder / "p", {"kasane"}) == before);
    const int count = r.at("written");
    CHECK((count >= 8 && r.at("there_already") == 0 && r.at("left_out").empty()));
    const std::vector<fs::path> files = files_below(folder / "out");
    REQUIRE(static_cast<int>(files.size()) == count);
    CHECK_THAT(files.front().filename().string(), Catch::EndsWith(".calibrated.fits"));
    // The raw file it was made of, by its place.
    const std::string name = files.front().filename().string();
    const fs::path raw_file = folder / "p" / fs::relative(files.front(), folder / "out").parent_path() /
                              (name.substr(0, name.size() - std::string(".calibrated.fits").size()) + ".fits");
    const auto raw = open_frame(raw_file), made = open_frame(files.front());
    CHECK(made->header().text("DATE-OBS") == raw->header().text("DATE-OBS"));
    CHECK(made->header().number("EXPTIME") == raw->header().number("EXPTIME"));
    CHECK(made->header().text("FILTER") == raw->header().text("FILTER"));
    CHECK(made->check_sums().empty());
    CHECK_THAT(
        shell(fmt::format("{{kasane}} show {} -p {}/look.png", files.front().string(), folder.path().string())).out,
        !Catch::Contains("master light"));
    Image before_pixels = read_plane(*raw, 0), pixels = read_plane(*made, 0);
    const double offset = static_cast<double>(median_in_place(before_pixels.pixels())) -
                          static_cast<double>(median_in_place(pixels.pixels()));
    CHECK(offset > 100); // bias and dark are off
    // Again: nothing is written anew, to the time of its change.
    const auto time = fs::last_write_time(files.front());
    r = exported(fmt::format("{} -C {}", to, p));
    CHECK((r.at("written") == 0 && r.at("there_already") == count));
    CHECK(fs::last_write_time(files.front()) == time);
    // What was broken off goes on.
    const auto whole = digests(folder / "out");
    fs::remove(files.back());
    r = exported(fmt::format("{} -C {}", to, p));
    CHECK((r.at("written") == 1 && r.at("there_already") == count - 1));
    CHECK(digests(folder / "out") == whole);
    r = exported(fmt::format("{} -C {} --as tiff-float", (folder / "tiffs").string(), p));
    CHECK(r.at("written") == count);
    r = exported(fmt::format("{} -C {} --as tiff-float", (folder / "tiffs").string(), p));
    CHECK(r.at("there_already") == count);
    const std::vector<fs::path> tiffs = files_below(folder / "tiffs");
    Image tiff = read_plane(*open_frame(tiffs.front()), 0);
    const Image again = read_plane(*made, 0);
    for (int y = 0; y < tiff.height(); y += 9)
        for (int x = 0; x < tiff.width(); ++x)
            REQUIRE(tiff(x, y) == again(x, y));
}

TEST_CASE("Lights are exported on one grid: their stars lie on each other") {
    const TemporaryFolder folder;
    const std::string p = (folder / "p").string(), to = (folder / "out").string();
    write_small_project(p);
    for (const fs::path& light : files_below(folder / "p")) // which is true of their own pixels alone
        if (light.parent_path().filename() == "lights")
            rewrite(light, [](Image&, Header& h) { h.set("CD1_1", 0.001); });
    const json r = exported(fmt::format("{} -C {} --registered", to, p));
    REQUIRE(r.at("written").get<int>() >= 8);
    const std::vector<fs::path> files = files_below(folder / "out");
    CHECK_THAT(files.front().filename().string(), Catch::EndsWith(".registered.fits"));
    const Image first = read_plane(*open_frame(files.front()), 0), last = read_plane(*open_frame(files.back()), 0);
    REQUIRE((first.width() == last.width() && first.height() == last.height()));
    const StarList a = detect_stars(first.plane()), b = detect_stars(last.plane());
    int together = 0;
    double off = 0;
    for (std::size_t i = 0; i < std::min<std::size_t>(20, a.stars.size()); ++i)
        for (const Star& s : b.stars)
            if (const double d = std::hypot(s.x - a.stars[i].x, s.y - a.stars[i].y); d < 2) ++together, off += d;
    CHECK(together >= 12);
    CHECK(off / together < 0.3);
    CHECK_FALSE(open_frame(files.front())->header().find("CD1_1"));
    CHECK(open_frame(files.front())->header().find("EXPTIME"));
    CHECK_THAT(read_file(files.front()), Catch::Contains("register: onto the grid of"));
    // Where one of them says where it lies on the sky, that is so of all on their grid.
    rewrite(folder / "p/night-1/lights/L_001.fits", [](Image&, Header& h) {
        h.set("CTYPE1", "RA---TAN"), h.set("CTYPE2", "DEC--TAN");
        h.set("CRVAL1", 83.0), h.set("CRVAL2", 20.0), h.set("CRPIX1", 100.0), h.set("CRPIX2", 80.0);
        h.set("CD1_1", -0.0005), h.set("CD1_2", 0.0), h.set("CD2_1", 0.0), h.set("CD2_2", 0.0005);
    });
    CHECK(exported(fmt::format("{} -C {} --registered", to, p)).at("there_already") == 0);
    const auto here = read_world(open_frame(files.front())->header()),
               there = read_world(open_frame(files.back())->header());
    REQUIRE((here && there));
    CHECK(here->to_sky({50, 50}).ra == Approx(there->to_sky({50, 50}).ra).epsilon(1e-9));
    CHECK(here->to_sky({50, 50}).dec == Approx(20).margin(0.2));
}

namespace {

/// A square of 5 x 5 pixels of a light, as a particle leaves it.
constexpr int kHitX = 61, kHitY = 47, kHit = 5;
constexpr const char* kHitLight = "night-1/lights/L_002.fits";

void hit(const fs::path& project) {
    rewrite(project / kHitLight, [](Image& image, Header&) {
        for (int y = kHitY; y < kHitY + kHit; ++y)
            for (int x = kHitX; x < kHitX + kHit; ++x)
                image(x, y) += 9000;
    });
}

fs::path exported_name(const fs::path& folder, const char* light, const char* ending) {
    return folder / fs::path(light).parent_path() / (fs::path(light).stem().string() + ending);
}

int without_data(const Image& image, const Region& region) {
    int count = 0;
    for (int y = region.y; y < region.bottom(); ++y)
        for (int x = region.x; x < region.right(); ++x)
            count += std::isnan(image(x, y));
    return count;
}

} // namespace

TEST_CASE("Lights are exported without what is rejected in their stack") {
    const bool mosaic = GENERATE(false, true);
    const TemporaryFolder folder;
    const std::string p = (folder / "p").string(), to = (folder / "out").string();
    write_small_project(p);
    hit(p);
    if (mosaic)
        for (const fs::path& file : files_below(p))
            if (file.extension() == ".fits") rewrite(file, [](Image&, Header& h) { h.set("BAYERPAT", "RGGB"); });
    const auto before = digests(folder / "p", {"kasane"});
    exported(fmt::format("{} -C {}", to, p));
    json r = exported(fmt::format("{} -C {} --rejected-as-nan", to, p));
    const int count = r.at("written");
    CHECK((count >= 8 && r.at("there_already") == 0)); // made anew: something else is asked for
    CHECK(digests(folder / "p", {"kasane"}) == before);
    const fs::path marked = exported_name(to, kHitLight, ".calibrated.fits"),
                   other = exported_name(to, "night-1/lights/L_001.fits", ".calibrated.fits");
    const Image own = read_plane(*open_frame(marked), 0), beside = read_plane(*open_frame(other), 0);
    const Region square{kHitX, kHitY, kHit, kHit};
    CHECK(without_data(own, square) >= kHit * kHit - 1);
    // What interpolation of colours and pixels, and growth, make of it: up to 6 pixels around.
    const int spread = mosaic ? 6 : 4, most_lost = (kHit + 2 * spread) * (kHit + 2 * spread);
    CHECK(without_data(own, {kHitX - 12, kHitY - 12, kHit + 24, kHit + 24}) <= most_lost + 4);
    CHECK(without_data(beside, square) <= 2);
    const auto all = without_data(own, own.bounds());
    CHECK(all < 0.03 * own.width() * own.height());
    CHECK(r.at("rejected_samples").get<int>() >= all);
    CHECK_THAT(read_file(marked), Catch::Contains("of its pixels are without data") && Catch::Contains(" lights"));
    r = exported(fmt::format("{} -C {} --rejected-as-nan", to, p));
    CHECK((r.at("written") == 0 && r.at("there_already") == count && r.at("rejected_samples") == 0));
    r = exported(fmt::format("{} -C {} --rejected-as-nan --threads 1", (folder / "one").string(), p));
    CHECK(digests(folder / "one") == digests(to));

    exported(fmt::format("{} -C {} --rejected-as-nan --registered", to, p));
    const Image placed = read_plane(*open_frame(exported_name(to, kHitLight, ".registered.fits")), 0),
                there = read_plane(*open_frame(exported_name(to, "night-1/lights/L_001.fits", ".registered.fits")), 0);
    const Region around{kHitX - 12, kHitY - 12, kHit + 24, kHit + 24}; // lights are dithered by less
    const int lost = without_data(placed, around);
    CHECK(lost >= kHit * kHit - 5);
    CHECK(lost <= most_lost + 4);
    CHECK(without_data(there, around) <= 6);
    double most = 0; // what interpolation spread is gone too
    for (int y = around.y; y < around.bottom(); ++y)
        for (int x = around.x; x < around.right(); ++x)
            if (!std::isnan(placed(x, y)) && !std::isnan(there(x, y)))
                most = std::max(most, static_cast<double>(placed(x, y) - there(x, y)));
    CHECK(most < 900);

    // What else is rejected is another export.
    write_recipe(p, "[integration]\nrejection = \"none\"\nstreaks = false\n");
    r = exported(fmt::format("{} -C {} --rejected-as-nan", to, p));
    CHECK((r.at("written") == count && r.at("rejected_samples") == 0));
    CHECK(without_data(read_plane(*open_frame(marked), 0), square) == 0);
}

TEST_CASE("What of single lights cannot be exported is said before any work") {
    const TemporaryFolder folder;
    const std::string p = (folder / "p").string(), to = (folder / "out").string();
    write_small_project(p);
    refused(fmt::format("{0}/here -C {0}", p), "lies inside the project");
    refused(fmt::format("{} -C {} --as png", to, p), "not exported as png");
    refused(fmt::format("{} -C {} --stretched", to, p), "means nothing to 'export frames'");
    refused(fmt::format("{} -C {} --filter Ha", to, p), "no light is of that filter");
    refused(fmt::format("{} -C {} --rejected-as-nan --dropped", to, p), "they were in no stack");
    CHECK(shell(fmt::format("{{kasane}} export masters {} -C {} --rejected-as-nan", to, p)).status == 2);
    CHECK(shell(fmt::format("{{kasane}} export lights {} -C {} --rejected-as-nan", to, p)).status == 2);
    CHECK(shell(fmt::format("{{kasane}} export masters {} -C {} --registered", to, p)).status == 2);
    CHECK(shell(fmt::format("{{kasane}} export lights {} -C {} --registered", to, p)).status == 2);
    CHECK_FALSE(fs::exists(to));
    exported(fmt::format("{} -C {}", to, p));
    const fs::path one = files_below(to).front();
    fs::remove(one);
    std::ofstream(one) << "somebody's";
    refused(fmt::format("{} -C {}", to, p), "Kasane did not write it");
    CHECK(read_file(one) == "somebody's");
}
