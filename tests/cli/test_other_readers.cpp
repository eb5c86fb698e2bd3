// What Kasane writes, read by programs that have nothing to do with it.
#include "support/projects.hpp"
#include "support/support.hpp"

#include <kasane/io/fits.hpp>
#include <kasane/io/reader.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

std::vector<std::string> files_of(const fs::path& folder, const std::string& ending) {
    std::vector<std::string> out;
    for (const auto& e : fs::recursive_directory_iterator(folder))
        if (e.path().extension() == ending) out.push_back(e.path().string());
    std::sort(out.begin(), out.end());
    return out;
}

void require_done(const std::string& line) {
    const kasane::test::Outcome o = shell(line);
    INFO(line << "\n" << o.out << o.err);
    REQUIRE(o.status < 2);
}

} // namespace

TEST_CASE("Other programs read all that is written, without a warning") {
    const TemporaryFolder folder;
    const std::string p = (folder / "p").string(), x = (folder / "x").string();
    write_small_project(p);
    // What cameras write into their headers, too: remarks, long texts, small numbers.
    rewrite(folder / "p/night-1/lights/L_001.fits", [](Image&, Header& h) {
        h.add({"COMMENT", "clouds from the west", {}, true});
        h.set("SITENAME", fmt::format("{:x>100} garden", ""), "where it stood");
        h.set("TINY", 3.9e-7, "a small number");
    });
    require_done("{kasane} run -q " + p);
    require_done(fmt::format("{{kasane}} finish -q -C {} --sharpen 0.8", p));
    require_done(fmt::format("{{kasane}} export masters {} -q -C {} --as fits,tiff,tiff-float,png,png-8,jpeg", x, p));
    require_done(fmt::format("{{kasane}} export frames {}/frames -q -C {}", x, p));
    for (const std::string& below : {p + "/kasane", x})
        for (const std::string& file : files_of(below, ".fits")) {
            const kasane::test::Outcome o = shell(fmt::format("fitsverify -q '{}'", file));
            INFO(o.out << shell(fmt::format("fitsverify '{}' | grep -A1 '\\*\\*\\* '", file)).out);
            CHECK_THAT(o.out, Catch::Contains("verification OK"));
        }
    const auto exported = files_of(folder / "x/frames", ".fits");
    REQUIRE(!exported.empty());
    CHECK_THAT(read_file(exported.front()), Catch::Contains("COMMENT clouds from the west"));
    const auto tiffs = files_of(x, ".tif");
    REQUIRE(tiffs.size() >= 2);
    for (const std::string& file : tiffs) {
        const kasane::test::Outcome o = shell(fmt::format("tiffinfo '{}'", file));
        CHECK(o.status == 0);
        CHECK(o.err.empty());
        CHECK_THAT(o.out, Catch::Contains("ICC Profile: <present>"));
    }
    for (const std::string& file : files_of(x, ".png"))
        CHECK_THAT(shell(fmt::format("pngcheck '{}'", file)).out, Catch::StartsWith("OK"));
    std::vector<std::string> pictures = tiffs;
    for (const char* ending : {".png", ".jpg"})
        for (const std::string& file : files_of(x, ending))
            pictures.push_back(file);
    for (const std::string& file : pictures) {
        const kasane::test::Outcome o = shell(fmt::format("exiftool -a -s '{}'", file));
        INFO(file << "\n" << o.out);
        CHECK_THAT(o.out,
                   !Catch::Contains("Warning") && Catch::Contains("ProfileDescription") && Catch::Contains("target: "));
    }
}
