// Where samples of each frame were rejected, in squares of its own pixels, and one by one.
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

MasterLight made(int tile, RejectedPixels* rejected = nullptr) {
    const Quiet quiet;
    IntegrateOptions o;
    o.rejection = NoiseRejection{};
    o.judge.growth.steps = 0;
    o.tile = tile;
    return integrate(stack(), {160, 120}, {500}, quiet.context, o, rejected);
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

TEST_CASE("Each rejected sample is told of its frame at its pixel of the canvas") {
    const Canvas canvas{160, 120};
    RejectedPixels all(canvas, 6, 1), parts(canvas, 6, 1);
    const MasterLight m = made(256, &all);
    made(37, &parts);
    std::uint64_t sum = 0;
    for (std::size_t k = 0; k < 6; ++k) {
        CHECK(all.count(k) == m.shares[k].low + m.shares[k].high);
        sum += all.count(k);
    }
    CHECK(sum == m.rejected_low + m.rejected_high);
    for (int y = 56; y < 64; ++y) // the bright square, where the third frame lies on the canvas
        for (int x = 72; x < 80; ++x) {
            CHECK((all.at(2, 0, x, y) && all.at(2, 0, x - 64, y + 32)));
            CHECK_FALSE((all.at(1, 0, x, y) && all.at(3, 0, x, y)));
        }
    for (std::size_t k = 0; k < 6; ++k)
        for (int y = 0; y < 120; ++y)
            for (int x = 0; x < 160; ++x)
                REQUIRE(all.at(k, 0, x, y) == parts.at(k, 0, x, y));
    CHECK_FALSE((all.at(2, 0, -1, 0) || all.at(2, 0, 160, 0) || all.at(2, 0, 0, 120)));
    CHECK(RejectedPixels::bytes(canvas, 6, 3) == 6ull * 3 * 120 * 5 * 4);
}
