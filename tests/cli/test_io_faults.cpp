// Every read, write, sync, rename and allocation of a run fails once; the next run is as if nothing had been.
#include "support/places.hpp"
#include "support/support.hpp"

#include <catch2/catch.hpp>
#include <cstdlib>
#include <fmt/format.h>
#include <fstream>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

[[maybe_unused]] std::map<std::string, std::string> results_of(const fs::path& folder) {
    auto all = digests(folder);
    for (const char* with_times : {"report.txt", "report.json"})
        all.erase(with_times);
    return all;
}

[[maybe_unused]] void write_tiny_project(const fs::path& folder) {
    sky::PlainOptions o = small_options();
    o.width = 200;
    o.height = 150;
    o.lights = 4;
    o.calibration = 3;
    o.stars = 90;
    o.dither = 3;
    write_small_project(folder, o);
}

/// Files that were being written.
[[maybe_unused]] std::vector<std::string> parts_in(const fs::path& folder) {
    std::vector<std::string> parts;
    for (const auto& entry : fs::recursive_directory_iterator(folder))
        if (entry.path().filename().string().starts_with(".kasane-part-")) parts.push_back(entry.path().string());
    return parts;
}

/// A project of which single reads are counted.
[[maybe_unused]] void write_few_files(const fs::path& folder) {
    sky::PlainOptions o = small_options();
    o.lights = 4;
    o.calibration = 3;
    write_small_project(folder, o);
}

} // namespace

TEST_CASE("Whatever call fails, a run ends in order, and the next gives the same bytes") {
#if defined(__SANITIZE_ADDRESS__)
    WARN("the sanitizers want to be loaded first: tested without them");
#else
    // All of them with KASANE_EVERY_FAULT=1 (hours), all of a kind with KASANE_EVERY_FAULT=write, one alone with
    // KASANE_EVERY_FAULT=read:17; else a sample that moves with nothing but the number of calls.
    const char* wish = std::getenv("KASANE_EVERY_FAULT");
    const std::string wanted = wish ? wish : "";
    const auto colon = wanted.find(':');
    constexpr long kSample = 12; // of each kind
    const std::string kind =
        GENERATE("read", "read of masters", "read of what is written", "write", "sync", "rename", "allocate");
    const bool all = wanted == "1" || wanted == kind;
    if (!wanted.empty() && !all && wanted.substr(0, colon) != kind) return;
    const TemporaryFolder folder;
    write_tiny_project(folder / "p");
    const fs::path output = folder / "out";
    const std::string run = "{kasane} run -q --threads 1 " + (folder / "p").string() + " -o " + output.string();
    // Masters are read back and used; what is written is compared with what reads back, in a few pieces.
    const fs::path where = kind == "read of masters"           ? output / "masters"
                           : kind == "read of what is written" ? output / "masters/.kasane-part-"
                                                               : folder.path();
    const std::string call = kind.substr(0, kind.find(' '));
    const auto with_fault = [&](long n) {
        return shell(
            fmt::format("KASANE_FAULT={}:{} KASANE_FAULT_IN={} KASANE_FAULT_COUNT={} LD_PRELOAD={} timeout 60 {}", call,
                        n, where.string(), (folder / "count").string(), kFaultShim, run));
    };
    REQUIRE(with_fault(0).status <= 1);
    const auto expected = results_of(output);
    const std::string page = expected.at("report.html");
    long count = 0;
    std::ifstream(folder / "count") >> count;
    REQUIRE(count > (kind == "rename" || kind == "read of what is written" ? 5 : 10));
    int failed = 0;
    const bool one = colon != std::string::npos;
    const long sample = std::max(1L, count / kSample), dense = kind == "read of what is written" ? 8 : 0;
    for (long n = one ? std::stol(wanted.substr(colon + 1)) : 1; n <= count; n += one                ? count
                                                                                  : all || n < dense ? 1
                                                                                                     : sample) {
        fs::remove_all(output);
        const Outcome broken = with_fault(n);
        INFO(kind << " " << n << " of " << count << ": status " << broken.status << " " << broken.out << broken.err);
        CHECK((broken.status >= 0 && broken.status <= 3));                         // no signal, no hang
        if (broken.status == 3) CHECK(broken.err.size() + broken.out.size() > 20); // in words
        failed += broken.status > 1;
        const Outcome again = shell(run);
        INFO(again.out << again.err);
        CHECK(again.status <= 1);
        auto results = results_of(output);
        // Where a run did without a file, the page shows what its master light was before as well.
        if ((call == "read" || call == "allocate") && fs::exists(output / ".kasane/former"))
            results["report.html"] = page;
        CHECK(results == expected);
        CHECK(parts_in(output).empty());
    }
    if (kind == "write" || kind == "rename") CHECK(failed > 0); // the shim does what it is for
#endif
}

TEST_CASE("Whatever write or rename a run is killed before, the next gives the same bytes") {
#if defined(__SANITIZE_ADDRESS__)
    WARN("the sanitizers want to be loaded first: tested without them");
#else
    const bool all = std::getenv("KASANE_EVERY_FAULT") != nullptr;
    constexpr long kSample = 20;
    const std::string kind = GENERATE("write", "rename");
    const TemporaryFolder folder;
    write_tiny_project(folder / "p");
    const fs::path output = folder / "out";
    const std::string run = "{kasane} run -q --threads 1 " + (folder / "p").string() + " -o " + output.string();
    const auto killed_before = [&](long n) {
        return shell(fmt::format("KASANE_FAULT={}:{} KASANE_FAULT_IN={} KASANE_FAULT_KILLS=1 KASANE_FAULT_COUNT={} "
                                 "LD_PRELOAD={} {}",
                                 kind, n, output.string(), (folder / "count").string(), kFaultShim, run));
    };
    REQUIRE(killed_before(0).status <= 1);
    const auto expected = results_of(output);
    long count = 0;
    std::ifstream(folder / "count") >> count;
    REQUIRE(count > (kind == "rename" ? 5 : 100));
    const long step = all ? 1 : std::max(1L, count / kSample);
    for (long n = 1; n <= count; n += step) {
        INFO(kind << " " << n << " of " << count);
        fs::remove_all(output);
        CHECK(killed_before(n).status > 3);
        CHECK(shell(run).status <= 1);
        CHECK(results_of(output) == expected);
        CHECK(parts_in(output).empty());
    }
#endif
}

TEST_CASE("A share that does not answer can be left, and the next run is as if nothing had been") {
#if defined(__SANITIZE_ADDRESS__)
    WARN("the sanitizers want to be loaded first: tested without them");
#else
    const TemporaryFolder folder;
    write_few_files(folder / "p");
    const std::string project = (folder / "p").string(), log = (folder / "log").string();
    const std::string run = "{kasane} run -q --threads 2 " + project;
    CHECK(shell(run).status <= 1);
    const auto expected = results_of(folder / "p/kasane");
    for (const long n : {3, 20, 60}) { // reads of raw files: headers, masters, lights
        fs::remove_all(folder / "p/kasane");
        fs::remove_all(folder / "p/.kasane");
        // Ctrl-C once: it says why nothing happens; again: it ends.
        const Outcome left = shell(fmt::format(
            "KASANE_FAULT=read:{} KASANE_FAULT_IN={}/ KASANE_FAULT_STALLS=1 LD_PRELOAD={} {} 2>{} & pid=$!; sleep 1.5; "
            "kill -INT $pid; n=0; until grep -q 'Ctrl-C again' {} || [ $n -ge 1000 ]; do sleep 0.01; n=$((n+1)); done; "
            "kill -INT $pid; wait $pid; s=$?; cat {} >&2; exit $s",
            n, project, kFaultShim, run, log, log, log));
        INFO(n << left.err);
        CHECK(left.status == 3);
        CHECK_THAT(left.err, Catch::Contains("does not answer") && Catch::Contains("Ctrl-C again"));
        CHECK(shell(run).status <= 1);
        CHECK(results_of(folder / "p/kasane") == expected);
    }
#endif
}

TEST_CASE("While nothing comes the line on a terminal is drawn again") {
#if defined(__SANITIZE_ADDRESS__)
    WARN("the sanitizers want to be loaded first: tested without them");
#else
    const TemporaryFolder folder;
    write_few_files(folder / "p");
    const std::string project = (folder / "p").string(), log = (folder / "log").string();
    constexpr long kOfLights = 60; // the read that never comes back
    shell(fmt::format("script -qec 'stty cols 100; timeout -s KILL 6 env KASANE_FAULT=read:{} KASANE_FAULT_IN={}/ "
                      "KASANE_FAULT_STALLS=1 LD_PRELOAD={} {{kasane}} run --threads 1 {}' {} </dev/null",
                      kOfLights, project, kFaultShim, project, log));
    std::ifstream file(log);
    const std::string all(std::istreambuf_iterator<char>(file), {});
    std::vector<std::string> shares; // of the stage, as they were drawn
    for (std::size_t at = 0; (at = all.find("\r\033[K", at)) != std::string::npos; ++at) {
        const std::string line = all.substr(at + 4, all.find_first_of("\r\n", at + 1) - at - 4);
        if (const auto end = line.find(" %"); end != std::string::npos) shares.push_back(line.substr(0, end));
    }
    INFO(all);
    REQUIRE(shares.size() > 3);
    for (std::size_t k = shares.size() - 3; k + 1 < shares.size(); ++k)
        CHECK(shares[k] == shares.back());
#endif
}
