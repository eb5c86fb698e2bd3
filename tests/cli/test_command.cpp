// The command as a user meets it.
#include "support/places.hpp"
#include "support/support.hpp"

#include <kasane/io/fits.hpp>

#include <kasane/report/terminal_text.hpp>

#include <catch2/catch.hpp>
#include <fmt/format.h>
#include <fstream>
#include <nlohmann/json.hpp>
#include <unistd.h>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;
using nlohmann::json;

TEST_CASE("Every verb explains itself") {
    for (const char* verb : {"run", "scan", "check", "status", "init", "show", "demo", "grade", "review", "compare",
                             "finish", "export", "forget"}) {
        const Outcome o = shell(fmt::format("{{kasane}} {} --help", verb));
        CHECK(o.status == 0);
        CHECK(o.out.size() > 600);
        CHECK_THAT(o.out, Catch::Contains("--json"));
    }
    CHECK_THAT(shell("{kasane} --help").out, Catch::Contains("Exit status"));
}

TEST_CASE("Wrong calls end with status 2") {
    CHECK(shell("{kasane}").status == 2);
    CHECK(shell("{kasane} polish").status == 2);
    CHECK(shell("{kasane} run --threads none .").status == 2);
    const Outcome o = shell("{kasane} run --memory little .");
    CHECK(o.status == 2);
    CHECK_THAT(o.err, Catch::Contains("--memory little") && Catch::Contains("4G"));
}

TEST_CASE("Scan, run and show work on a folder, in text and JSON") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    const std::string p = (folder / "p").string();

    const Outcome scan = shell("{kasane} scan " + p);
    CHECK(scan.status == 0);
    CHECK_THAT(scan.out, Catch::Contains("header IMAGETYP = Light") && Catch::Contains("Paper-Lantern-Field-L (10)"));
    const json scanned = json::parse(shell("{kasane} scan --json " + p).out);
    CHECK(scanned.at("exposures").size() == 28);
    CHECK_FALSE(fs::exists(folder / "p/kasane")); // scan makes no results

    const Outcome run = shell("{kasane} run " + p);
    CHECK(run.status == 0);
    CHECK_THAT(run.out, Catch::Contains("Paper-Lantern-Field-L") && Catch::Contains("dark-120s_-10C"));
    const std::string report = read_file(folder / "p/kasane/report.txt");
    CHECK_THAT(report, Catch::StartsWith("Kasane report\n" + run.out));
    CHECK_THAT(report, Catch::Contains("rejections tried")); // and what else was thought of
    CHECK_THAT(report, Catch::Contains("weights, and what they make"));
    const json again = json::parse(shell("{kasane} run --json -q -C " + p).out);
    CHECK(again.at("stacks").at(0).at("reused") == true);
    CHECK(again.at("stacks").at(0).at("frames").size() == 10);

    const std::string light = p + "/kasane/lights/Paper-Lantern-Field-L.fits";
    const Outcome show = shell("{kasane} show -p " + (folder / "x.png").string() + " " + light);
    CHECK(show.status == 0);
    CHECK_THAT(show.out, Catch::Contains("master light of 10 frames") && Catch::Contains("FWHM"));
    CHECK(fs::file_size(folder / "x.png") > 1000);
    const json shown = json::parse(shell("{kasane} show --no-preview --json " + light).out);
    CHECK(shown.at("planes").at(0).at("noise").get<double>() > 1);
}

TEST_CASE("Init, check and status: a recipe, what goes with what, and what is done") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    const std::string p = (folder / "p").string();

    const Outcome init = shell("{kasane} init " + p);
    CHECK(init.status == 0);
    CHECK_THAT(init.out, Catch::Contains("kasane.toml"));
    CHECK(shell("{kasane} init " + p).status == 2); // never over a recipe that is there
    CHECK_THAT(shell("{kasane} init --reference").out, Catch::Contains("| `scale_darks` |"));

    const Outcome check = shell("{kasane} check " + p);
    CHECK(check.status == 0);
    CHECK_THAT(check.out, Catch::Contains("└─ flat: flat-L-2031-03-12 (6 frames)") &&
                              Catch::Contains("its offset: bias_-10C") &&
                              Catch::Contains("A run will build 3 masters, measure 10 lights"));
    const json checked = json::parse(shell("{kasane} check --json -q " + p).out);
    CHECK(checked.at("stacks").at(0).at("lights").size() == 10);
    CHECK(checked.at("stacks").at(0).at("lights").at(0).at("dark") == "dark-120s_-10C");
    CHECK(checked.at("cost").at("lights") == 10);
    CHECK(checked.at("exposures").at(0).at("sources").at("role") == "header IMAGETYP = Bias");

    const Outcome before = shell("{kasane} status " + p);
    CHECK(before.status == 1);
    CHECK_THAT(before.out, Catch::Contains("not made"));
    CHECK(shell("{kasane} run -q " + p).status == 0);
    const Outcome after = shell("{kasane} status --json " + p);
    CHECK(after.status == 0);
    CHECK(json::parse(after.out).at("results").size() == 4);
    CHECK_THAT(shell("{kasane} check " + p).out, Catch::Contains("all is done"));

    std::ofstream(folder / "p/kasane.toml") << "[pairing]\nscale_drks = true\n";
    for (const char* verb : {"scan", "check", "status", "run"}) {
        const Outcome wrong = shell(fmt::format("{{kasane}} {} {}", verb, p));
        CHECK(wrong.status == 2);
        CHECK_THAT(wrong.err, Catch::Contains("line 2, column 1") && Catch::Contains("scale_darks"));
    }
}

TEST_CASE("The demo's variants are written, and an unknown one is refused") {
    const TemporaryFolder folder;
    const Outcome o = shell("{kasane} demo -q --variant mistakes " + (folder / "m").string());
    CHECK(o.status == 0);
    CHECK_THAT(o.out, Catch::Contains("half a dozen mistakes") && Catch::Contains("kasane check"));
    CHECK(shell("{kasane} check -q " + (folder / "m").string()).status == 1);
    CHECK(shell("{kasane} demo --variant eclipse " + (folder / "c").string()).status == 2);
}

TEST_CASE("Bad folders and files: a clear message, status 3, and nothing written") {
    const TemporaryFolder folder;
    const auto fails = [&](const std::string& line, const char* text) {
        const Outcome o = shell(line);
        CHECK(o.status == 3);
        CHECK_THAT(o.err, Catch::Contains(text));
    };
    fs::create_directory(folder / "empty");
    fails("{kasane} run " + (folder / "empty").string(), "no exposures");
    fails("{kasane} run " + (folder / "missing").string(), "not a folder");
    std::ofstream(folder / "text.fits") << "no image";
    fails("{kasane} show " + (folder / "text.fits").string(), "not a FITS file");
    fails("{kasane} show " + (folder / "none.fits").string(), "none.fits");
    const Outcome o = shell("{kasane} show --json " + (folder / "text.fits").string());
    CHECK_THAT(json::parse(o.out).at("error").at("file").get<std::string>(), Catch::Contains("text.fits"));
    CHECK_FALSE(fs::exists(folder / "empty/kasane"));
    CHECK(shell("{kasane} scan " + (folder / "empty").string()).status == 1);
}

TEST_CASE("A damaged light ends with status 1 and is named") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    fs::resize_file(folder / "p/night-1/lights/L_002.fits", 30000);
    const Outcome o = shell("{kasane} run " + (folder / "p").string());
    CHECK(o.status == 1);
    CHECK_THAT(o.out,
               Catch::Contains("L_002.fits") && Catch::Contains("truncated") && Catch::Contains("from the camera"));
}

TEST_CASE("An output folder that cannot be written is named with the remedy") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    std::ofstream(folder / "file") << "in the way"; // stops even root
    const Outcome o =
        shell("{kasane} run " + (folder / "p").string() + " --output " + (folder / "file/results").string());
    CHECK(o.status == 3);
    CHECK_THAT(o.err, Catch::Contains("file/results") && Catch::Contains("cannot be made"));
}

TEST_CASE("A full disk ends in a clear message, and a later run recovers") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    const std::string small = (folder / "small").string(), p = (folder / "p").string();
    fs::create_directory(small);
    // A small file system of its own: mounted directly as root, else in a namespace of its own.
    const std::string inner = "mount -t tmpfs -o size=1400k tmpfs " + small + " && {kasane} run " + p +
                              " -q --output " + small + "; s=$?; find " + small +
                              " -name '.kasane-part-*' | grep . >&2; umount " + small + "; exit $s";
    if (shell("unshare --mount true").status != 0) {
        WARN("no mount namespace can be made here: the full disk is not tested");
        return;
    }
    std::ofstream(folder / "inner.sh") << [&] {
        std::string s = inner;
        s.replace(s.find("{kasane}"), 8, kCommand);
        return s;
    }();
    const Outcome o = shell("unshare --mount sh " + (folder / "inner.sh").string());
    CHECK(o.status == 3);
    CHECK_THAT(o.err, Catch::Contains("the disk is full") || Catch::Contains("Free some space"));
    CHECK_THAT(o.err, !Catch::Contains(".kasane-part-"));
    CHECK(shell("{kasane} run -q " + p + " --output " + (folder / "room").string()).status == 0);
}

TEST_CASE("Killed at any moment, the next run gives the same bytes") {
    const TemporaryFolder a, b;
    write_small_project(a / "p");
    fs::copy(a / "p", b / "p", fs::copy_options::recursive);
    CHECK(shell("{kasane} run -q " + (a / "p").string()).status == 0);
    for (int i = 1; i <= 8; ++i)
        shell(fmt::format("timeout -s KILL 0.{:02} {{kasane}} run -q {}", 12 * i - 4, (b / "p").string()));
    CHECK(shell("{kasane} run -q " + (b / "p").string()).status == 0);
    auto x = digests(a / "p/kasane"), y = digests(b / "p/kasane");
    for (auto* d : {&x, &y}) // these tell times
        for (const char* report : {"report.txt", "report.json"})
            d->erase(report);
    CHECK(x == y);
}

TEST_CASE("Ctrl-C stops cleanly") {
    const TemporaryFolder folder;
    sky::PlainOptions o = small_options();
    o.width = 640; // seconds of work on any machine
    o.height = 480;
    o.lights = 60;
    write_small_project(folder / "p", o);
    // Interrupted as soon as the masters are made, while the lights are being measured.
    const std::string log = (folder / "log").string();
    const Outcome stopped = shell(
        "{kasane} run " + (folder / "p").string() + " 2>" + log + " & pid=$!; n=0; until grep -q 'masters: done' " +
        log + " || [ $n -ge 3000 ]; do sleep 0.01; n=$((n+1)); done; kill -INT $pid; wait $pid; s=$?; cat " + log +
        " >&2; exit $s");
    CHECK(stopped.status == 3);
    CHECK_THAT(stopped.err, Catch::Contains("stopped on request"));
    for (auto it = fs::recursive_directory_iterator(folder.path()); it != fs::recursive_directory_iterator(); ++it)
        CHECK(it->path().filename().string().rfind(".kasane-part-", 0) != 0);
}

TEST_CASE("What is drawn while a run works stays within the terminal, and tells what remains of all") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    const int width = GENERATE(40, 80, 132);
    const std::string log = (folder / "log").string();
    shell(fmt::format("script -qec 'stty cols {}; {{kasane}} run {}' {} </dev/null", width, (folder / "p").string(),
                      log));
    std::ifstream file(log);
    const std::string all(std::istreambuf_iterator<char>(file), {});
    int drawn = 0, of_all = 0;
    for (std::size_t at = 0; (at = all.find("\r\033[K", at)) != std::string::npos;) {
        at += 4;
        const std::string line = all.substr(at, all.find_first_of("\r\n", at) - at);
        if (line.find(" %") == std::string::npos) continue;
        INFO(line);
        CHECK(static_cast<int>(shown_width(line)) < width);
        ++drawn;
        of_all += line.find(" left in all") != std::string::npos;
    }
    CHECK(drawn > 4);
    CHECK(of_all > 1);
}

TEST_CASE("The demo refuses to write over a folder in use") {
    const TemporaryFolder folder;
    std::ofstream(folder / "thesis.txt") << "precious";
    const Outcome o = shell("{kasane} demo " + folder.path().string());
    CHECK(o.status == 2);
    CHECK_THAT(o.err, Catch::Contains("not empty") && Catch::Contains("--force"));
}
