#include <kasane/integration/tile_engine.hpp>

#include <algorithm>

namespace kasane {

namespace {

constexpr std::uint64_t kLeastBuffers = 32u << 20; // bytes, whatever the budget
constexpr int kLeastSide = 16, kSideStep = 16;     // pixels

/// The largest tile whose buffers fit into half of what is left beside the output (the rest is for mapped pages), and
/// of which every thread has several.
int choose_side(const TilePass& pass, const Region& output, int wanted, std::uint64_t budget, int threads) {
    int side = wanted;
    const auto crowded = [&] {
        return static_cast<std::uint64_t>(threads) * pass.bytes(static_cast<std::int64_t>(side) * side) > budget / 2;
    };
    const auto few = [&] {
        constexpr std::int64_t kEach = 12, kSmall = 128; // tiles of a thread; pixels, below which the rims are too much
        const std::int64_t across = (output.width + side - 1) / side, down = (output.height + side - 1) / side;
        return side > kSmall && across * down < kEach * threads;
    };
    while (side > kLeastSide && (crowded() || few()))
        side -= kSideStep;
    return side;
}

} // namespace

void run_tiles(TilePass& pass, const Region& output, const TileOptions& options, const Context& context) {
    const std::uint64_t whole = context.memory.for_buffers(),
                        budget = std::max(kLeastBuffers, whole - std::min(whole, options.result_bytes));
    const int side = choose_side(pass, output, options.side, budget, context.workers.threads());
    const int across = (output.width + side - 1) / side, down = (output.height + side - 1) / side;
    MappedMemory mapped(budget / 4, [&pass] { pass.release(); });
    context.workers.for_each(static_cast<std::size_t>(across) * static_cast<std::size_t>(down), [&](std::size_t tile) {
        const int i = static_cast<int>(tile) % across, j = static_cast<int>(tile) / across;
        const Region region = intersect({output.x + i * side, output.y + j * side, side, side}, output);
        pass.run(region, mapped);
        context.progress.advance(region.area());
    });
    pass.release();
}

} // namespace kasane
