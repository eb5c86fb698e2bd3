#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/integration/tile_engine.hpp>

#include <catch2/catch.hpp>
#include <chrono>
#include <mutex>
#include <thread>

using namespace kasane;
using namespace kasane::test;

namespace {

/// Counts how often each pixel was done.
class CountingPass final : public TilePass {
public:
    explicit CountingPass(std::uint64_t bytes_per_pixel, std::uint64_t mapped = 0)
        : bytes_per_pixel_(bytes_per_pixel), mapped_(mapped) {}
    std::uint64_t bytes(std::int64_t pixels) const override {
        return static_cast<std::uint64_t>(pixels) * bytes_per_pixel_;
    }
    void run(const Region& region, MappedMemory& mapped) override {
        {
            const std::lock_guard lock(mutex);
            for (int y = region.y; y < region.bottom(); ++y)
                for (int x = region.x; x < region.right(); ++x)
                    ++done(x, y);
            largest = std::max({largest, region.width, region.height});
            ++tiles;
            if (stop_after > 0 && tiles == stop_after) throw InputError("is gone", "a.fits", {});
        }
        if (pause.count() > 0) std::this_thread::sleep_for(pause);
        mapped.touched(mapped_);
    }
    void release() override { ++releases; }

    Raster<int> done{300, 200};
    std::mutex mutex;
    int largest = 0, tiles = 0, stop_after = 0;
    std::atomic<int> releases{0};
    std::chrono::milliseconds pause{0}; ///< that each tile takes; long beside what throwing takes

private:
    std::uint64_t bytes_per_pixel_, mapped_;
};

} // namespace

TEST_CASE("Every pixel of the output is done once, and none beside it") {
    const int side = GENERATE(1, 7, 128, 1000);
    const Quiet quiet(2);
    CountingPass pass(4);
    run_tiles(pass, {13, 9, 201, 77}, {side, 0}, quiet.context);
    int wrong = 0;
    for (int y = 0; y < 200; ++y)
        for (int x = 0; x < 300; ++x)
            wrong += pass.done(x, y) != (x >= 13 && x < 214 && y >= 9 && y < 86 ? 1 : 0);
    CHECK(wrong == 0);
    CHECK(pass.largest <= side);
    CHECK(pass.releases == 1); // at the end
}

TEST_CASE("Tiles shrink until their buffers fit into half of the budget") {
    const Quiet plenty(2, 4ull << 30), little(2, 256ull << 20);
    CountingPass a(40000), b(40000);
    run_tiles(a, {0, 0, 300, 200}, {128, 0}, plenty.context);
    run_tiles(b, {0, 0, 300, 200}, {128, 0}, little.context);
    CHECK(a.largest == 128);
    CHECK(b.largest < 64);
    CHECK(b.largest >= 16);
    CHECK(2 * b.bytes(static_cast<std::int64_t>(b.largest) * b.largest) <= little.context.memory.for_buffers() / 2);
    CountingPass c(40000); // what the output takes is not there for buffers
    run_tiles(c, {0, 0, 300, 200}, {128, 150ull << 20}, little.context);
    CHECK(c.largest < b.largest);
}

TEST_CASE("Mapped memory is given back before it outgrows its share") {
    const Quiet quiet(2, 128ull << 20);
    CountingPass none(4, 0), much(4, 8ull << 20);
    run_tiles(none, {0, 0, 300, 200}, {16, 0}, quiet.context);
    run_tiles(much, {0, 0, 300, 200}, {16, 0}, quiet.context);
    CHECK(none.releases == 1);
    CHECK(much.releases > much.tiles / 8);
}

TEST_CASE("What a tile throws ends the work and comes out as it was") {
    const Quiet quiet(2);
    CountingPass pass(4);
    pass.stop_after = 5;
    pass.pause = std::chrono::milliseconds(20);
    CHECK_THROWS_AS(run_tiles(pass, {0, 0, 300, 200}, {10, 0}, quiet.context), InputError);
    CHECK(pass.tiles < 600);
}

TEST_CASE("A pool gives back what was returned, with its memory") {
    Pool<std::vector<int>> pool;
    const int* data = nullptr;
    {
        auto loan = pool.borrow();
        loan->resize(100);
        data = loan->data();
    }
    auto again = pool.borrow();
    CHECK((again->data() == data && again->size() == 100));
    auto other = pool.borrow();
    CHECK(other->empty());
}
