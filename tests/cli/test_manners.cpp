// How the command answers odd calls, and what it refuses to harm.
#include "support/places.hpp"
#include "support/support.hpp"

#include <algorithm>
#include <catch2/catch.hpp>
#include <fmt/format.h>
#include <fstream>
#include <nlohmann/json.hpp>
#include <sstream>
#include <sys/stat.h>
#include <unistd.h>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;
using nlohmann::json;

TEST_CASE("A verb that does not exist is answered with those that may have been meant") {
    const Outcome stak = shell("{kasane} stak .");
    CHECK(stak.status == 2);
    CHECK_THAT(stak.err, Catch::Contains("'status'") && Catch::Contains("'run' (to stack)"));
    CHECK_THAT(shell("{kasane} view x").err, Catch::Contains("'show'"));
    CHECK_THAT(shell("{kasane} reveiw").err, Catch::Contains("'review'"));
    const Outcome help = shell("{kasane} help");
    CHECK(help.status == 0);
    CHECK_THAT(help.out, Catch::Contains("Exit status"));
    CHECK_THAT(shell("{kasane} help grade").out, Catch::Contains("--limit"));
}

TEST_CASE("Wrong calls answer in JSON where that was asked for") {
    for (const char* line : {"run --threads none --json .", "--json stak", "status --json --no-such-thing",
                             "grade --json --note why -C ."}) {
        INFO(line);
        const Outcome o = shell(std::string("{kasane} ") + line);
        CHECK(o.status == 2);
        CHECK(json::parse(o.out).at("error").at("text").get<std::string>().size() > 5);
    }
}

TEST_CASE("Options may stand before the verb, and paths are relative to where one stands") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    const std::string p = (folder / "p").string();
    const Outcome before = shell("{kasane} --json -q -C " + p + " --threads 1 scan");
    CHECK(before.status == 0);
    CHECK(json::parse(before.out).at("exposures").size() == 28);
    CHECK(shell("cd " + folder.path().string() + " && {kasane} -q scan p").status == 0);
    CHECK(shell("{kasane} scan -C " + p + " " + p).status == 2); // named twice
    // A file of the project, from elsewhere.
    CHECK(shell("cd " + folder.path().string() + " && {kasane} show --no-preview -C p p/night-1/lights/L_001.fits")
              .status == 0);
}

TEST_CASE("No verb writes over a file that Kasane did not write") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    const std::string p = (folder / "p").string(), light = p + "/night-1/lights/L_000.fits",
                      other = p + "/night-1/lights/L_001.fits", notes = (folder / "notes.txt").string();
    if (!fs::exists(light)) fs::copy(other, light);
    std::ofstream(notes) << "clear until two";
    const auto before = digests(folder / "p", {"kasane"});
    for (const std::string& call : {"show -p " + light + " " + other, "show -p " + notes + " " + other,
                                    "grade -q --csv " + light + " " + p, "grade -q --csv " + notes + " " + p,
                                    "review --html " + light + " " + p, "review --html " + notes + " " + p}) {
        INFO(call);
        const Outcome o = shell("{kasane} " + call);
        CHECK(o.status == 2);
        CHECK_THAT(o.err, Catch::Contains("Kasane did not write it") &&
                              (Catch::Contains("L_000.fits") || Catch::Contains("notes.txt")));
    }
    // Nor does one give a name that would be read as something else.
    for (const std::string& call : {"show -p " + p + "/new.fits " + other, "grade -q --csv " + p + "/kasane.toml " + p,
                                    "review --html " + p + "/kasane.toml " + p}) {
        INFO(call);
        const Outcome o = shell("{kasane} " + call);
        CHECK(o.status == 2);
        CHECK_THAT(o.err, Catch::Contains("is no name for a") && Catch::Contains("Let it end in ."));
    }
    CHECK(digests(folder / "p", {"kasane"}) == before);
    CHECK(read_file(notes) == "clear until two");
    // A result's name that is taken is found before the work.
    fs::create_directories(folder / "out/lights");
    fs::copy(other, folder / "out/lights/Paper-Lantern-Field-L.fits");
    const Outcome taken = shell("{kasane} run " + p + " -o " + (folder / "out").string());
    CHECK(taken.status == 2);
    CHECK_THAT(taken.err,
               Catch::Contains("out/lights/Paper-Lantern-Field-L.fits") && !Catch::Contains("measure: done"));
    // What Kasane wrote can be written again.
    const std::string csv = (folder / "a.csv").string();
    for (int i = 0; i < 2; ++i)
        CHECK(shell("{kasane} grade -q --csv " + csv + " " + p).status < 2);
}

TEST_CASE("Pictures made for looking are never exposures, and go to the results") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    const std::string p = (folder / "p").string();
    CHECK(shell("{kasane} run -q " + p).status == 0);
    const auto count = [&] { return json::parse(shell("{kasane} scan --json -q " + p).out).at("exposures").size(); };
    const std::size_t before = count();
    const Outcome o = shell("cd " + p + "/night-1/lights && {kasane} show L_001.fits");
    CHECK(o.status < 2);
    CHECK(fs::exists(folder / "p/kasane/looks/night-1-lights-L_001.preview.png"));
    CHECK(fs::exists(folder / "p/kasane/looks/night-1-lights-L_001.calibrated.png"));
    CHECK(shell("{kasane} show -p " + p + "/night-1/lights/here.png " + p + "/night-1/lights/L_001.fits").status < 2);
    CHECK(fs::exists(folder / "p/night-1/lights/here.png"));
    CHECK(count() == before);
    CHECK_THAT(o.out, !Catch::Contains("(1 is right)"));
}

TEST_CASE("Read-only originals are exported, as an ordinary user would") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    for (const auto& entry : fs::directory_iterator(folder / "p/night-1/lights"))
        fs::permissions(entry.path(), static_cast<fs::perms>(0444));
    shell("chmod 777 " + folder.path().string() + " && chmod -R a+rX " + (folder / "p").string() + " && chmod 777 " +
          (folder / "p").string());
    const std::string call = std::string(kCommand) + " export lights " + (folder / "out").string() + " -C " +
                             (folder / "p").string() + " -q";
    const bool root = ::getuid() == 0;
    const Outcome o = shell(root ? "setpriv --reuid 65534 --regid 65534 --clear-groups " + call : call);
    if (root && o.err.find("setpriv") != std::string::npos) {
        WARN("no other user can be taken on here");
        return;
    }
    INFO(o.err);
    CHECK(o.status == 0);
    CHECK_THAT(o.out, Catch::Contains("10 kept lights"));
}

TEST_CASE("The more particular wish wins, contradictions are refused, and idle options are told") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    const std::string p = (folder / "p").string();
    CHECK(shell("{kasane} grade -q " + p + " --drop 'L_00*' --keep L_001.fits").status == 1);
    const std::string verdicts = read_file(folder / "p/verdicts.toml");
    const auto entries = [&](const std::string& word) {
        std::size_t n = 0;
        for (std::size_t at = 0; (at = verdicts.find(word, at)) != std::string::npos; ++at)
            ++n;
        return n;
    };
    CHECK(entries("L_001.fits") == 1);
    CHECK(entries("verdict = \"keep\"") == 1);
    CHECK(entries("verdict = \"drop\"") == 8);
    const Outcome both = shell("{kasane} grade -q " + p + " --drop 'L_*' --keep 'L_00*'");
    CHECK(both.status == 2);
    CHECK_THAT(both.err, Catch::Contains("L_00") && Catch::Contains("both"));
    CHECK(read_file(folder / "p/verdicts.toml") == verdicts);
    CHECK(shell("{kasane} grade -q " + p + " --drop L_002.fits --keep L_002.fits").status == 2);
    CHECK_THAT(shell("{kasane} grade -q --filter O3 " + p).err, Catch::Contains("no light has the filter O3"));
    CHECK(shell("{kasane} grade -q --note windy " + p).status == 2);
    std::ofstream(folder / "p/kasane.toml") << "[[files]]\nmatch = \"night-9/**\"\ngain = 1\n";
    CHECK_THAT(shell("{kasane} check -q " + p).out, Catch::Contains("no file matches \"night-9/**\""));
    std::ofstream(folder / "p/kasane.toml") << "[pairing]\ntemperature_tolerance = 3\n";
    CHECK_THAT(shell("{kasane} check -q " + p).out, Catch::Contains("is now written alike"));
    for (const char* where : {"/", ".."}) {
        std::ofstream(folder / "p/kasane.toml") << "[calibration]\nlibrary = \"" << where << "\"\n";
        const Outcome o = shell("timeout 20 {kasane} check -q " + p);
        CHECK(o.status == 2);
        CHECK_THAT(o.err, Catch::Contains("holds the project itself"));
    }
}

TEST_CASE("Tables fit a hundred columns, and say what they leave out") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    const std::string p = (folder / "p").string();
    for (const char* verb : {"scan", "check", "run", "status", "grade"}) {
        INFO(verb);
        std::istringstream lines(shell(fmt::format("{{kasane}} {} -q {}", verb, p)).out);
        std::string line;
        while (std::getline(lines, line)) {
            const auto width = std::count_if(line.begin(), line.end(), [](char c) { return (c & 0xc0) != 0x80; });
            if (line.find(p) == std::string::npos) CHECK(width <= 100); // a path is as long as it is
        }
    }
    CHECK_THAT(shell("{kasane} run -q " + p).out, Catch::Contains("not shown, for want of width"));
}

TEST_CASE("A pipe in place of an image is refused at once, and a role by pixels is known in all that show says") {
    const TemporaryFolder folder;
    REQUIRE(::mkfifo((folder / "pipe.fits").c_str(), 0600) == 0);
    const Outcome o = shell("timeout 10 {kasane} show " + (folder / "pipe.fits").string());
    CHECK(o.status == 3);
    CHECK_THAT(o.err, Catch::Contains("is not a file"));
}

TEST_CASE("An exposure time that is not known is not printed as none") {
    const TemporaryFolder folder;
    CHECK(shell("{kasane} demo -q --variant silent " + (folder / "s").string()).status == 0);
    const std::string s = (folder / "s").string();
    CHECK_THAT(shell("{kasane} check -q " + s).out, Catch::Contains("8 lights, unknown") && !Catch::Contains("0.0 s"));
    for (const char* verb : {"run", "grade"})
        CHECK_THAT(shell(fmt::format("{{kasane}} {} -q {}", verb, s)).out,
                   Catch::Contains("unknown") && !Catch::Contains("0.0 s, effective"));
    // By its pixels a light, in all that is said of it.
    const Outcome o = shell("{kasane} show --no-preview " + s + "/heap/img_0101.fits");
    CHECK_THAT(o.out, Catch::Contains("light (pixels show") && !Catch::Contains("unknown ("));
}
