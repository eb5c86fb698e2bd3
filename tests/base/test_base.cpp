#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/base/memory.hpp>
#include <kasane/base/output_file.hpp>

#include <atomic>
#include <catch2/catch.hpp>
#include <filesystem>
#include <fstream>
#include <limits>
#include <numeric>
#include <thread>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

TEST_CASE("An error reads as a sentence that names the file and the remedy") {
    const InputError e("is truncated", "night/light.fits", "Copy it again");
    CHECK(std::string(e.what()) == "night/light.fits: is truncated. Copy it again");
}

TEST_CASE("A parallel loop runs every item once, whatever the number of threads") {
    for (const int threads : {1, 2, 5}) {
        const Workers workers(threads);
        std::vector<std::atomic<int>> hits(1000);
        workers.for_each(hits.size(), [&](std::size_t i) { ++hits[i]; });
        CHECK(std::all_of(hits.begin(), hits.end(), [](const auto& h) { return h == 1; }));
    }
}

TEST_CASE("A parallel loop keeps no more items in flight than asked") {
    const Workers workers(4);
    std::atomic<int> now{0}, most{0};
    workers.for_each(
        40,
        [&](std::size_t) {
            int seen = ++now;
            for (int m = most; seen > m && !most.compare_exchange_weak(m, seen);) {
            }
            std::this_thread::sleep_for(std::chrono::milliseconds(1));
            --now;
        },
        2);
    CHECK(most <= 2);
}

TEST_CASE("A parallel loop hands on the exception of an item") {
    const Workers workers(2);
    CHECK_THROWS_AS(workers.for_each(100,
                                     [](std::size_t i) {
                                         if (i == 7) throw InputError("broken", "x", "");
                                     }),
                    InputError);
}

TEST_CASE("Cancelling ends a loop between items") {
    CancelToken cancel;
    const Workers workers(2, cancel);
    std::atomic<int> done{0};
    CHECK_THROWS_AS(workers.for_each(100000,
                                     [&](std::size_t) {
                                         if (++done == 10) cancel.request();
                                     }),
                    Cancelled);
    CHECK(done < 1000);
}

TEST_CASE("A failed write leaves the former file and no leftovers") {
    const TemporaryFolder folder;
    write_text_safely(folder / "report.txt", std::string(kReportMark) + "old");
    CHECK_THROWS_AS(write_file_safely(folder / "report.txt",
                                      [](const std::filesystem::path& temporary) {
                                          std::ofstream(temporary) << "half of the ne";
                                          throw OutputError("the disk is full", temporary, "");
                                      }),
                    OutputError);
    CHECK(read_file(folder / "report.txt") == std::string(kReportMark) + "old");
    CHECK(std::distance(std::filesystem::directory_iterator(folder.path()), {}) == 1);
}

TEST_CASE("Leftovers of a killed run are removed, nothing else is") {
    const TemporaryFolder folder;
    std::ofstream(folder / ".kasane-part-123-light.fits") << "half";
    std::ofstream(folder / "light.fits") << "whole";
    remove_leftovers(folder.path());
    CHECK_FALSE(std::filesystem::exists(folder / ".kasane-part-123-light.fits"));
    CHECK(std::filesystem::exists(folder / "light.fits"));
}

TEST_CASE("A fingerprint follows content, not name, and sees a change at either end") {
    const TemporaryFolder folder;
    std::string bytes(2 << 20, 'a');
    std::iota(bytes.begin(), bytes.end(), static_cast<char>(0));
    std::ofstream(folder / "a") << bytes;
    std::ofstream(folder / "b") << bytes;
    bytes.back() = 'z';
    std::ofstream(folder / "c") << bytes;
    CHECK(fingerprint(folder / "a") == fingerprint(folder / "b"));
    CHECK(fingerprint(folder / "a") != fingerprint(folder / "c"));
    CHECK_THROWS_AS(fingerprint(folder / "missing"), InputError);
}

TEST_CASE("A digest keeps its pieces apart") {
    CHECK(Digester().add("ab").add("c").result() != Digester().add("a").add("bc").result());
    CHECK(Digester().add(0.1 + 0.2).result() != Digester().add(0.3).result());
}

TEST_CASE("A memory budget says how many buffers fit, and never none") {
    const MemoryBudget budget{1ull << 30};
    CHECK(budget.fitting(100ull << 20, 64) >= 8);
    CHECK(budget.fitting(100ull << 20, 4) == 4);
    CHECK(budget.fitting(1ull << 40, 4) == 1);
}

TEST_CASE("The limit of memory is the lowest of the control groups around a process") {
    const TemporaryFolder folder;
    const auto write = [&](const std::string& file, const std::string& text) {
        fs::create_directories((folder / file).parent_path());
        std::ofstream(folder / file) << text << '\n';
    };
    const auto limit = [&] { return group_memory(folder / "own", folder / "tree"); };
    constexpr auto kNone = std::numeric_limits<std::uint64_t>::max();
    CHECK(limit() == kNone);
    write("own", "0::/user.slice/night.scope");
    CHECK(limit() == kNone);
    write("tree/user.slice/night.scope/memory.max", "max");
    write("tree/user.slice/other.scope/memory.max", "1000");
    write("tree/memory/memory.limit_in_bytes", "3000"); // of the other version, which this process is not in
    CHECK(limit() == kNone);
    write("tree/user.slice/memory.max", "5000000");
    CHECK(limit() == 5000000);
    write("tree/user.slice/night.scope/memory.max", "4000000");
    CHECK(limit() == 4000000);
    write("tree/memory.max", "2000"); // of a container, which shows its own group as the root
    CHECK(limit() == 2000);
    write("own", "7:cpu,cpuacct:/user.slice\n5:pids:/a\n4:cpuset,memory:/jobs/9\nno line of it");
    CHECK(limit() == 3000);
    write("tree/memory/jobs/9/memory.limit_in_bytes", "2500");
    CHECK(limit() == 2500);
    write("tree/memory/jobs/memory.limit_in_bytes", "9223372036854771712");
    CHECK(limit() == 2500);
    CHECK(machine_memory() > 0);
}
