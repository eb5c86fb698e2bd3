// Grading, verdicts and export as a user meets them.
#include "support/support.hpp"

#include <catch2/catch.hpp>
#include <fmt/format.h>
#include <fstream>
#include <nlohmann/json.hpp>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;
using nlohmann::json;

TEST_CASE("Grade, decide, try a limit, export: one evening at the terminal") {
    const TemporaryFolder folder;
    const std::string p = (folder / "p").string();
    write_small_project(folder / "p");
    const auto before = digests(folder / "p");

    Outcome o = shell("{kasane} grade -q " + p);
    CHECK(o.status == 0);
    CHECK_THAT(o.out,
               Catch::Contains("10 exposures") && Catch::Contains("effective") && Catch::Contains("The telescope"));

    o = shell(fmt::format("{{kasane}} grade -q {} --drop 'night-1/lights/L_00[34].fits' --note 'the lamp'", p));
    CHECK(o.status == 1);
    CHECK_THAT(o.out, Catch::Contains("DROP") && Catch::Contains("dropped by hand: the lamp") &&
                          Catch::Contains("verdicts.toml"));
    CHECK_THAT(read_file(folder / "p/verdicts.toml"),
               Catch::Contains("note = 'the lamp'") || Catch::Contains("note = \"the lamp\""));
    o = shell(fmt::format("{{kasane}} grade -q {} --auto night-1/lights/L_004.fits --json --csv {}", p,
                          (folder / "all.csv").string()));
    const json report = json::parse(o.out);
    CHECK(report.at("stacks").at(0).at("kept").at("frames") == 9);
    CHECK(report.at("stacks").at(0).at("frames").at(2).at("by") == "person");
    CHECK(report.at("stacks").at(0).at("frames").at(0).at("measures").at("fwhm").get<double>() ==
          Approx(3).epsilon(0.15));
    CHECK_THAT(read_file(folder / "all.csv"), Catch::Contains("stack,file,night") && Catch::Contains("L_010.fits"));

    o = shell(
        fmt::format("{{kasane}} grade -q {} --limit 'best 4 by worth' --sort fwhm --columns fwhm,snr --dropped", p));
    CHECK_THAT(o.out, Catch::Contains("kept:       4 exposures") && Catch::Contains("snr"));
    CHECK(shell(fmt::format("{{kasane}} grade -q {} --limit 'best of all'", p)).status == 2);
    CHECK(shell(fmt::format("{{kasane}} grade -q {} --keep nothing.fits", p)).status == 2);
    CHECK(shell(fmt::format("{{kasane}} grade -q {} --part '1 2 3'", p)).status == 2);

    o = shell(fmt::format("{{kasane}} export lights {} -C {} -q --as symlink", (folder / "kept").string(), p));
    CHECK(o.status == 0);
    CHECK_THAT(o.out, Catch::Contains("9 kept lights linked"));
    CHECK(shell(fmt::format("{{kasane}} export lights {}/inside -C {} -q", p, p)).status == 2);

    std::ofstream(folder / "p/verdicts.toml", std::ios::app)
        << "[[verdict]]\nfile = \"gone.fits\"\nverdict = \"maybe\"\n";
    o = shell("{kasane} run -q " + p);
    CHECK(o.status == 2);
    CHECK_THAT(o.err, Catch::Contains("verdicts.toml") && Catch::Contains("line ") &&
                          Catch::Contains("\"maybe\" is no verdict"));
    auto after = digests(folder / "p", {"kasane"});
    after.erase("verdicts.toml");
    CHECK(after == before);
}

TEST_CASE("Show draws what was detected") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    const std::string file = (folder / "p/night-1/lights/L_001.fits").string();
    for (const char* more : {"", "--stars"})
        CHECK(shell(fmt::format("{{kasane}} show --raw {} {} -p {}", more, file,
                                (folder / (std::string("x") + more + ".png")).string()))
                  .status == 0);
    CHECK(read_file(folder / "x.png") != read_file(folder / "x--stars.png"));
}
