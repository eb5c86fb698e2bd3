// Places that are full, or that nobody may write to: said in words, nothing lost, and made up for.
#include "support/mounts.hpp"
#include "support/support.hpp"

#include <catch2/catch.hpp>
#include <fmt/format.h>
#include <sstream>

using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

/// What a script printed after lines "== name", by that name.
std::map<std::string, std::string> blocks_of(const std::string& out) {
    std::map<std::string, std::string> blocks;
    std::istringstream lines(out);
    std::string name;
    for (std::string line; std::getline(lines, line);) {
        if (line.rfind("== ", 0) == 0)
            name = line.substr(3);
        else
            blocks[name] += line + "\n";
    }
    return blocks;
}

/// Digests of what a project has made, without files that tell of times, and of what it was made from; a call with what
/// it says when it goes wrong, and its status; a folder that nobody may write to.
constexpr const char* kFunctions = R"(
made() { (cd "$1" && find . -name '.?*' -prune -o -type f ! -name report.txt ! -name report.json -print | sort | xargs sha256sum); }
inputs() { (cd "$1" && find . \( -path ./kasane -o -path ./.kasane \) -prune -o -type f -print | sort | xargs sha256sum); }
say() { "$@" 2>&1 >/dev/null; echo "status $?"; }
lock() { mount --bind $1 $1 && mount -o remount,ro,bind $1; }
)";

} // namespace

TEST_CASE("A disk that fills at any moment of a run is named, costs nothing, and the next run has the same bytes") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    // Where the disk lies: with -o all that is written is on it; else the results, or what is remembered, alone.
    const std::string place = GENERATE("out", "p/kasane", "p/.kasane");
    const std::string p = (folder / "p").string(), disk = (folder / place).string();
    const std::string out = place == "p/.kasane" ? p + "/kasane" : disk;
    const std::string run = "run -q " + p + (place == "out" ? " -o " + disk : "");
    const std::vector<int> shares = {1, 4, 10, 20, 33, 50, 70};
    const auto outcome = in_own_mounts(fmt::format(
        R"({0}
mkdir -p {1} && mount -t tmpfs -o size=200m tmpfs {1} || exit 9
echo "== inputs before"; inputs {2}
{{kasane}} {4} >/dev/null; echo "== expected"; made {3}
whole=$(du -s -k {1} | cut -f1)
for share in {5}; do
    umount {1}; rm -rf {2}/kasane/* {2}/.kasane/*
    mount -t tmpfs -o size=$((whole * share / 100 + 4))k tmpfs {1}
    echo "== full at $share"; say {{kasane}} {4}
    echo "== left at $share"; find {1} {2} -name '.kasane-part-*'
    for verb in status check; do {{kasane}} $verb -q {2} >/dev/null 2>&1; [ $? -le 3 ] || echo "$verb was cut off"; done
    mount -o remount,size=200m {1}
    {{kasane}} {4} >/dev/null; echo "== again at $share"; made {3}
    echo "== put aside at $share"; find {1} {2} -name 'ledger.damaged*' -o -name '.kasane-part-*'
done
umount {1}
echo "== inputs after"; inputs {2}
)",
        kFunctions, disk, p, out, run, fmt::join(shares, " ")));
    if (!outcome) {
        WARN("no file system can be mounted here: full disks are not tested");
        return;
    }
    INFO(place << "\n" << outcome->out << outcome->err);
    REQUIRE(outcome->status != 9);
    auto blocks = blocks_of(outcome->out);
    CHECK(!blocks["expected"].empty());
    CHECK(blocks["inputs before"] == blocks["inputs after"]);
    for (const int share : shares) {
        INFO("full at " << share << " %");
        CHECK_THAT(blocks[fmt::format("full at {}", share)], Catch::Contains(disk) &&
                                                                 Catch::Contains("the disk is full. Free some space") &&
                                                                 Catch::Contains("status 3"));
        CHECK(blocks[fmt::format("left at {}", share)].empty());
        CHECK(blocks[fmt::format("again at {}", share)] == blocks["expected"]);
        CHECK(blocks[fmt::format("put aside at {}", share)].empty());
    }
}

TEST_CASE("Places that nobody may write to are named before any work, and what needs no writing goes on") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    const std::string p = (folder / "p").string(), elsewhere = (folder / "out").string();
    const auto outcome = in_own_mounts(fmt::format(R"({0}
lock {1} || exit 9
echo "== project"; say {{kasane}} run -q {1}
echo "== looking"; for verb in scan check status; do say {{kasane}} $verb -q {1}; done
echo "== elsewhere"; say {{kasane}} run -q {1} -o {2}; ls {2}/lights
echo "== recipe"; say {{kasane}} init -q {1}
echo "== verdict"; say {{kasane}} grade -q -C {1} -o {2} --drop night-1/lights/L_001.fits
echo "== picture"; say {{kasane}} show -q {1}/night-1/lights/L_001.fits -p {1}/a.png
umount {1}
{{kasane}} run -q {1} >/dev/null; echo "== expected"; made {1}/kasane
lock {1}/kasane
printf '[integration]\nrejection = "none"\n' >{1}/kasane.toml
echo "== results"; say {{kasane}} run -q {1}
rm {1}/kasane.toml
echo "== table"; say {{kasane}} grade -q -C {1} --csv {1}/kasane/a.csv
umount {1}/kasane
lock {1}/.kasane
echo "== memory"; say {{kasane}} run -q {1}; say {{kasane}} forget previews --yes -C {1}
echo "== memory looked at"; say {{kasane}} status -q {1}
umount {1}/.kasane
{{kasane}} run -q {1} >/dev/null; echo "== again"; made {1}/kasane; find {1} -name '.kasane-part-*'
)",
                                                   kFunctions, p, elsewhere));
    if (!outcome) {
        WARN("no file system can be mounted here: places that are read-only are not tested");
        return;
    }
    INFO(outcome->out << outcome->err);
    REQUIRE(outcome->status != 9);
    auto blocks = blocks_of(outcome->out);
    const auto names = [&](const char* block, const std::string& place, const char* remedy) {
        INFO(block);
        CHECK_THAT(blocks[block], Catch::Contains(place + ": ") && Catch::Contains("Read-only file system") &&
                                      Catch::Contains(remedy) && Catch::Contains("status 3"));
    };
    constexpr const char *kFolder = "name another one with --output", *kFile = "choose another place";
    names("project", p + "/.kasane", kFolder);
    names("recipe", p + "/kasane.toml", kFile);
    names("verdict", p + "/verdicts.toml", kFile);
    names("picture", p + "/a.png", kFile);
    names("results", p + "/kasane", kFolder);
    names("table", p + "/kasane/a.csv", kFile);
    names("memory", p + "/.kasane", kFolder);
    CHECK(blocks["looking"] == "status 0\nstatus 0\nstatus 1\n"); // nothing is made yet
    CHECK_THAT(blocks["elsewhere"], Catch::Contains("status 0") && Catch::Contains("Paper-Lantern-Field-L.fits"));
    CHECK(blocks["memory looked at"] == "status 0\n");
    CHECK(!blocks["expected"].empty());
    CHECK(blocks["again"] == blocks["expected"]);
}
