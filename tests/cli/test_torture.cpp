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

TEST_CASE("Wrong calls of the script that kills runs are told") {
    CHECK(shell(std::string(kSources) + "/scripts/torture --nonsense").status == 2);
}
