// Registration as a user meets it at the terminal: tables, pictures, images on a grid, and calls that make no sense.
#include "support/support.hpp"

#include <catch2/catch.hpp>
#include <fmt/format.h>
#include <fstream>
#include <nlohmann/json.hpp>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;
using nlohmann::json;

TEST_CASE("Align tells how each light lies, in a table, as JSON and CSV, and draws it") {
    const TemporaryFolder folder;
    const std::string p = (folder / "p").string();
    write_small_project(folder / "p");
    const auto before = digests(folder / "p");
    Outcome o = shell(fmt::format("{{kasane}} align -q {} --csv {}/a.csv --html {}/a.html --pictures {}/pictures", p,
                                  folder.path().string(), folder.path().string(), folder.path().string()));
    CHECK(o.status <= 1);
    CHECK_THAT(o.out, Catch::Contains("Grid of night-1/lights/L_0") && Catch::Contains("it leads: the best of") &&
                          Catch::Contains("the grid") && Catch::Contains(": similarity") &&
                          Catch::Contains(" of 10 lights registered") && Catch::Contains("picture: "));
    CHECK_THAT(read_file(folder / "a.csv"),
               Catch::StartsWith("stack,file,night,filter,start,registered") && Catch::Contains("L_010.fits"));
    CHECK_THAT(read_file(folder / "a.html"),
               Catch::Contains("<title>Kasane:") && Catch::Contains("<svg ") && Catch::Contains("What the lens does"));
    std::size_t pictures = 0;
    for (const auto& e : fs::directory_iterator(folder / "pictures")) {
        ++pictures;
        CHECK_THAT(read_file(e.path()), Catch::StartsWith("<svg ") && Catch::EndsWith("</svg>\n"));
    }
    CHECK(pictures >= 1);
    o = shell(fmt::format("{{kasane}} align -q {} --json --pictures {}/pictures", p, folder.path().string())); // again
    const json report = json::parse(o.out);
    const json& frames = report.at("grids").at(0).at("stacks").at(0).at("frames");
    CHECK(frames.size() == 10);
    for (const json& f : frames) {
        CHECK(f.at("registered") == true);
        CHECK(f.at("outline").size() == 24);
        CHECK(f.at("scale").get<double>() == Approx(1).epsilon(1e-3));
        if (f.at("reference") == false) CHECK(f.at("residual").get<double>() < 2 * f.at("expected").get<double>());
    }
    CHECK(report.at("pictures").size() == pictures);

    o = shell(fmt::format("{{kasane}} align -q {} --reference 'L_007*'", p));
    CHECK_THAT(o.out, Catch::Contains("Grid of night-1/lights/L_007.fits"));
    CHECK_THAT(read_file(folder / "p/kasane.toml"), Catch::Contains("[registration]") && Catch::Contains("L_007"));
    CHECK(shell(fmt::format("{{kasane}} align -q {} --reference 'L_077*'", p)).status == 2);
    o = shell(fmt::format("{{kasane}} run -q {} --reference auto --json", p));
    CHECK(json::parse(o.out).at("stacks").at(0).at("used") == 10);

    auto after = digests(folder / "p", {"kasane"});
    after.erase("kasane.toml");
    CHECK(after == before);
}

TEST_CASE("Images come onto another's grid by a call, and calls that contradict themselves are refused") {
    const TemporaryFolder folder;
    const std::string f = folder.path().string();
    write_small_project(folder / "p");
    const std::string lights = f + "/p/night-1/lights/";
    Outcome o = shell(
        fmt::format("{{kasane}} align -q {0}L_001.fits {0}L_002.fits --onto {0}L_003.fits --write {1}/out", lights, f));
    CHECK(o.status == 0);
    CHECK_THAT(o.out, Catch::Contains("On the grid of ") && Catch::Contains("L_001.on-L_003.fits: written") &&
                          Catch::Contains("surface brightness"));
    CHECK(fs::exists(folder / "out/L_002.on-L_003.fits"));
    o = shell(fmt::format("{{kasane}} align -q {0}L_001.fits {1}/none.fits --onto {0}L_003.fits --json", lights, f));
    CHECK(o.status == 1);
    CHECK(json::parse(o.out).at("images").at(1).at("registered") == false);
    o = shell(fmt::format("{{kasane}} align -q {}/p/darks/dark_001.fits --onto {}L_003.fits", f, lights));
    CHECK(o.status == 3); // nothing came onto it
    for (const std::string& call :
         {fmt::format("--onto {}L_003.fits", lights),
          fmt::format("{0}L_001.fits --onto {0}L_003.fits --model round", lights),
          fmt::format("{0}L_001.fits --onto {0}L_003.fits --csv {1}/x.csv", lights, f),
          fmt::format("{0}L_001.fits {0}L_002.fits", lights), fmt::format("{}/p --write {}/out", f, f),
          fmt::format("{}/p --csv {}/p/kasane.toml", f, f), fmt::format("{}/p --night 2099-01-01", f),
          fmt::format("{}/p --filter Ha", f)}) {
        INFO(call);
        o = shell("{kasane} align -q " + call);
        CHECK(o.status == 2);
        CHECK_THAT(o.err, Catch::StartsWith("kasane: "));
    }
    o = shell(fmt::format("{{kasane}} align -q {0}L_001.fits --onto {1}/gone.fits", lights, f));
    CHECK(o.status == 3);
    CHECK_THAT(o.err, Catch::Contains("gone.fits"));
}

TEST_CASE("Masters are built by a verb of their own, for lights and for a library without any") {
    const TemporaryFolder folder;
    const std::string p = (folder / "p").string();
    write_small_project(folder / "p");
    Outcome o = shell("{kasane} masters -q " + p);
    CHECK(o.status == 0);
    CHECK_THAT(o.out, Catch::Contains("Calibration masters") && Catch::Contains("Results are in "));
    CHECK(fs::exists(folder / "p/kasane/masters"));
    CHECK_FALSE(fs::exists(folder / "p/kasane/lights"));
    const auto made = digests(folder / "p/kasane/masters");
    o = shell("{kasane} run -q " + p);
    CHECK(digests(folder / "p/kasane/masters") == made);
    fs::rename(folder / "p/darks", folder / "darks");
    o = shell("{kasane} masters -q --json " + (folder / "darks").string());
    CHECK(json::parse(o.out).at("masters").size() == 2); // bias too
    fs::create_directory(folder / "empty");
    CHECK(shell("{kasane} masters -q " + (folder / "empty").string()).status == 3);
}
