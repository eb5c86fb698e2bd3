// Where samples of each frame were rejected, in squares of its own pixels.
#include "support/support.hpp"

#include <kasane/integration/integrate.hpp>
#include <kasane/integration/rejected_cells.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

/// Six frames; the third is shifted and has a bright square at (96..103, 40..47) of its own pixels, and a gap.
std::vector<StackFrame> stack() {
    std::vector<StackFrame> frames;
    for (int k = 0; k < 6; ++k) {
        Image image(160, 120, 1, 500.0f);
        add_noise(image, 3, 10 + static_cast<std::uint64_t>(k));
        if (k == 2)
            for (int y = 40; y < 48; ++y)
                for (int x = 96; x < 104; ++x) {
                    image(x, y) += 900;
                    image(x - 64, y + 32) -= 300;
                }
        frames.push_back({std::make_shared<const ImagePlanes>(std::move(image)),
                          {{Transform(Affine{1, 0, k == 2 ? 24.0 : 0.0, 0, 1, k == 2 ? -16.0 : 0.0}), {}, 3}},
                          0});
    }
    return frames;
}

MasterLight made(int tile) {
    const Quiet quiet;
    IntegrateOptions o;
    o.rejection = NoiseRejection{};
    o.judge.growth.steps = 0;
    o.tile = tile;
    return integrate(stack(), {160, 120}, {500}, quiet.context, o);
}

std::uint8_t at(const std::vector<std::uint8_t>& shares, const RejectedCells& c, int i, int j) {
    return shares[static_cast<std::size_t>(j) * static_cast<std::size_t>(c.columns) + static_cast<std::size_t>(i)];
}

} // namespace

TEST_CASE("What was rejected of a frame is told in squares of its own pixels, above and below") {
    const MasterLight m = made(256);
    REQUIRE(m.cells.size() == 6);
    const RejectedCells& c = m.cells[2];
    CHECK((c.cell == 8 && c.columns == 20 && c.rows == 15));
    CHECK(at(c.high, c, 12, 5) > 250);
    CHECK(at(c.low, c, 4, 9) > 250);
    CHECK(at(c.low, c, 12, 5) == 0);
    CHECK(at(c.high, c, 14, 5) < 10);
    double sum = 0;
    for (const RejectedCells& one : m.cells)
        for (const std::uint8_t v : one.high)
            sum += v / 255.0 * 64;
    CHECK(sum == Approx(static_cast<double>(m.rejected_high)).epsilon(0.05));
    const MasterLight parts = made(37);
    for (std::size_t k = 0; k < 6; ++k)
        CHECK((parts.cells[k].high == m.cells[k].high && parts.cells[k].low == m.cells[k].low));
}

TEST_CASE("Many frames have squares that fit into their memory") {
    const std::vector<StackFrame> frames = stack();
    CHECK(RejectedCellCounts(frames).bytes() == 6ull * 20 * 15 * 2 * 2);
    CHECK(RejectedCellCounts(frames, 2000).bytes() <= 2000);
    CHECK(RejectedCellCounts(frames, 0).shares().front().columns == 1);
}
