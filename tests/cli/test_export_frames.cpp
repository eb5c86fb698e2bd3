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

TEST_CASE("What of single lights cannot be exported is said before any work") {
    const TemporaryFolder folder;
    const std::string p = (folder / "p").string(), to = (folder / "out").string();
    write_small_project(p);
    refused(fmt::format("{0}/here -C {0}", p), "lies inside the project");
    refused(fmt::format("{} -C {} --as png", to, p), "not exported as png");
    refused(fmt::format("{} -C {} --stretched", to, p), "means nothing to 'export frames'");
    refused(fmt::format("{} -C {} --filter Ha", to, p), "no light is of that filter");
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
