// Memory behind which a file stands.
#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/base/scratch.hpp>
#include <kasane/image/image.hpp>

#include <catch2/catch.hpp>
#include <chrono>
#include <numeric>
#include <thread>

namespace fs = std::filesystem;
using namespace kasane;
using namespace kasane::test;

TEST_CASE("Pixels in a scratch are as others, leave nothing behind, and copies are on the heap") {
    const TemporaryFolder folder;
    Image kept;
    {
        Image a(300, 200, 3, 1.5f, std::make_shared<Scratch>(folder.path(), default_budget()));
        CHECK(fs::is_empty(folder.path())); // without a name
        CHECK(a.pixels() == Image(300, 200, 3, 1.5f).pixels());
        std::iota(a.pixels().begin(), a.pixels().end(), 0.0f);
        kept = a;
        CHECK(kept.pixels().scratch() == nullptr);
        const Image moved = std::move(a);
        CHECK(moved.pixels().scratch() != nullptr);
        moved.pixels().scratch()->release();
        CHECK(moved.pixels() == kept.pixels());
        Image there(300, 200, 3, 0.0f, moved.pixels().scratch());
        there = kept; // of the same size: where it lies already
        CHECK(there.pixels().scratch() != nullptr);
        CHECK(there.pixels() == kept.pixels());
        there = Image(2, 1);
        CHECK(there.pixels().scratch() == nullptr);
        CHECK(there.pixels() != kept.pixels());
    }
    CHECK(kept(299, 199, 2) == 300 * 200 * 3 - 1);
    CHECK(fs::is_empty(folder.path()));
}

TEST_CASE("What lies in a scratch stays within the budget of the process") {
    const TemporaryFolder folder;
    constexpr int kSide = 8192; // 268 MB
    const std::uint64_t before = resident_memory(), budget = before + (100u << 20);
    Image a(kSide, kSide, 1, 0.0f, std::make_shared<Scratch>(folder.path(), MemoryBudget{budget}));
    double sum = 0;
    for (int y = 0; y < kSide; ++y)
        for (int x = 0; x < kSide; ++x)
            a(x, y) = static_cast<float>(y);
    for (int y = 0; y < kSide; y += 64)
        for (int x = 0; x < kSide; ++x)
            sum += a(x, y);
    CHECK(sum == 64.0 * kSide * (127 * 128 / 2));
    // However busy the machine is, what was touched is given back, and is still there.
    std::uint64_t now = resident_memory();
    for (int tries = 0; tries < 500 && now > budget; ++tries, now = resident_memory())
        std::this_thread::sleep_for(std::chrono::milliseconds(10));
    CHECK(now <= budget);
    CHECK(a(kSide - 1, kSide - 1) == kSide - 1);
}

TEST_CASE("A scratch where none can be says which folder, why, and what to do") {
    const TemporaryFolder folder;
    try {
        Image a(100, 100, 1, 0.0f, std::make_shared<Scratch>(folder / "nowhere", default_budget()));
        FAIL("it was made");
    } catch (const OutputError& e) {
        CHECK_THAT(e.what(), Catch::Contains("nowhere") && Catch::Contains("--memory"));
    }
}
