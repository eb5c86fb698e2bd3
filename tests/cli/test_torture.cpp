// Runs that are killed at random moments; scripts/torture does the same for hours.
#include "support/places.hpp"
#include "support/support.hpp"

#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace kasane;
using namespace kasane::test;

TEST_CASE("Runs killed at random moments are made up for by the next, to the byte") {
    const TemporaryFolder folder;
    const auto o = shell(fmt::format("{}/scripts/torture --kasane {} --in {} --kills 3 --seed 7 sparse-pixels",
                                     kSources, kCommand, (folder / "work").string()));
    INFO(o.out << o.err);
    CHECK(o.status == 0);
    CHECK_THAT(o.out, Catch::Contains("| sparse-pixels |") && Catch::Contains("| 0 | 0 | 0 |"));
}

TEST_CASE("A run killed between two choices of a reference goes the same way again") {
    // A mosaic's lights are registered once to learn which panel lies in the middle, then onto a light of it.
    const TemporaryFolder folder;
    const std::string project = (folder / "p").string(), log = (folder / "log").string();
    REQUIRE(shell("{kasane} demo -q --variant panels " + project).status == 0);
    REQUIRE(shell("{kasane} run -q " + project).status <= 1);
    const auto expected = digests(folder / "p/kasane/lights");
    std::filesystem::remove_all(folder / "p/kasane");
    std::filesystem::remove_all(folder / "p/.kasane");
    shell("{kasane} run " + project + " 2>" + log + " & pid=$!; n=0; until grep -q 'register: done' " + log +
          " || [ $n -ge 6000 ]; do sleep 0.01; n=$((n+1)); done; kill -KILL $pid; wait $pid");
    REQUIRE_FALSE(std::filesystem::exists(folder / "p/kasane/report.txt"));
    REQUIRE(shell("{kasane} run -q " + project).status <= 1);
    CHECK(digests(folder / "p/kasane/lights") == expected);
}

TEST_CASE("Wrong calls of the script that kills runs are told") {
    CHECK(shell(std::string(kSources) + "/scripts/torture --nonsense").status == 2);
}
