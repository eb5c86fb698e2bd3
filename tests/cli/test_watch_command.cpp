// `kasane watch` as a person leaves it running.
#include "support/support.hpp"

#include <catch2/catch.hpp>
#include <fstream>
#include <nlohmann/json.hpp>
#include <sstream>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

/// Starts a watch, waits for `first` in what it prints, does something, waits for `then`, ends it with Ctrl-C.
Outcome watched(const fs::path& folder, const std::string& options, const std::string& first, const std::string& deed,
                const std::string& then) {
    const std::string log = (folder / "log").string();
    const auto until = [&](const std::string& text) {
        return "n=0; until grep -q '" + text + "' " + log + " || [ $n -ge 3000 ]; do sleep 0.01; n=$((n+1)); done; ";
    };
    return shell("{kasane} watch -q " + options + " " + (folder / "p").string() + " >" + log + " 2>&1 & pid=$!; " +
                 until(first) + deed + "; " + until(then) + "kill -INT $pid; wait $pid; s=$?; cat " + log +
                 "; exit $s");
}

} // namespace

TEST_CASE("A watch prints lights as they come, ends with Ctrl-C, and a run goes on from there") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    const std::string lights = (folder / "p/night-1/lights").string(), later = (folder / "L_010.fits").string();
    fs::rename(lights + "/L_010.fits", later);
    Outcome o = watched(folder.path(), "--no-page", "Watching\\|in an hour", "cp " + later + " " + lights, "L_010");
    INFO(o.out);
    CHECK(o.status == 0);
    CHECK_THAT(o.out, Catch::Contains("9 lights are here already") && Catch::Contains("in an hour") &&
                          Catch::Contains("L_010.fits  FWHM ") && Catch::Contains("  kept\n") &&
                          Catch::Contains("goes on from here"));
    CHECK(o.out.find("\033[") == std::string::npos); // not a terminal
    CHECK_THAT(o.out, !Catch::Contains("http"));
    for (auto it = fs::recursive_directory_iterator(folder.path()); it != fs::recursive_directory_iterator(); ++it)
        CHECK(it->path().filename().string().rfind(".kasane-part-", 0) != 0);
    o = shell("{kasane} run --json -q " + (folder / "p").string());
    CHECK(o.status == 0);
    CHECK(nlohmann::json::parse(o.out)["stacks"][0]["used"] == 10);
}

TEST_CASE("A watch as JSON is a line for each look, and its page is there as long as it lasts") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    const std::string lights = (folder / "p/night-1/lights").string(), later = (folder / "L_010.fits").string();
    fs::rename(lights + "/L_010.fits", later);
    const Outcome o = watched(folder.path(), "--json --no-open", "masters", "cp " + later + " " + lights, "L_010");
    CHECK(o.status == 0);
    std::istringstream in(o.out);
    std::vector<nlohmann::json> looks;
    for (std::string line; std::getline(in, line);)
        looks.push_back(nlohmann::json::parse(line));
    REQUIRE(looks.size() == 2);
    CHECK_THAT(looks[0]["address"].get<std::string>(), Catch::StartsWith("http://127.0.0.1:"));
    CHECK(looks[0]["lights"].size() == 9);
    REQUIRE(looks[1]["lights"].size() == 1);
    CHECK(looks[1]["lights"][0]["kept"] == true);
    CHECK(looks[1]["masters"][0]["kept"] == 10);
    CHECK(looks[1]["masters"][0]["noise"] < looks[0]["masters"][0]["noise"]);
}

TEST_CASE("Wrong calls of a watch are told before anything is done") {
    const TemporaryFolder folder;
    Outcome o = shell("{kasane} watch " + (folder / "nowhere").string());
    CHECK(o.status == 3);
    CHECK_THAT(o.err, Catch::Contains("nowhere"));
    fs::create_directories(folder / "p");
    o = shell("{kasane} watch --no-page --port 4000 " + (folder / "p").string());
    CHECK(o.status == 2);
    CHECK_THAT(o.err, Catch::Contains("--port"));
    std::ofstream(folder / "p/kasane.toml") << "[grading\n";
    o = shell("{kasane} watch " + (folder / "p").string());
    CHECK(o.status == 2);
    CHECK_THAT(o.err, Catch::Contains("kasane.toml"));
}
