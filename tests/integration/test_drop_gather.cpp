#include "support/instruction_sets.hpp"
#include "support/support.hpp"

#include <kasane/image/positions.hpp>
#include <kasane/integration/drop_gather.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <vector>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kAcross = 61, kDown = 47;

/// A frame's samples; a few rows lack one, or have one that counts half.
struct FrameSamples {
    std::vector<float> values, counts;
    std::vector<std::uint8_t> whole;

    explicit FrameSamples(bool all = false)
        : values(kAcross * kDown + DropRows::kBehind), counts(kAcross * kDown + DropRows::kBehind) {
        sky::Random random(5);
        for (int i = 0; i < kAcross * kDown; ++i) {
            const auto k = static_cast<std::size_t>(i);
            counts[k] = all || i % 97 != 13 ? 1.0f : i % 2 ? 0.0f : 0.5f;
            values[k] = counts[k] * static_cast<float>(random.uniform(-50, 900));
        }
        whole_rows(counts.data(), kAcross, kDown, whole);
    }
    DropRows rows(bool told = true) const {
        return {values.data(), counts.data(), kAcross, told ? whole.data() : nullptr};
    }
};

struct LaidDown {
    std::vector<float> values, weights;
    explicit LaidDown(int count)
        : values(static_cast<std::size_t>(count), 3), weights(static_cast<std::size_t>(count), 2) {}
    DropSums to() { return {values.data(), weights.data()}; }
    bool operator==(const LaidDown&) const = default;
};

struct Split {
    std::vector<std::int32_t> column, row;
    std::vector<float> x, y;
    explicit Split(const EvenPositions& p) {
        const auto n = static_cast<std::size_t>(p.count);
        column.resize(n), row.resize(n), x.resize(n), y.resize(n);
        split_even_positions(p.u, p.du, n, p.origin_x, column.data(), x.data());
        split_even_positions(p.v, p.dv, n, p.origin_y, row.data(), y.data());
    }
    Positions all() const { return {column.data(), row.data(), x.data(), y.data(), static_cast<int>(column.size())}; }
};

std::int64_t fixed(double v) {
    return std::llround(v * 0x1p32);
}

/// Lines along and across, fine and coarse, whose taps lie inside.
std::vector<EvenPositions> lines() {
    std::vector<EvenPositions> out;
    struct Line {
        double x, dx, y, dy;
    };
    for (const Line& l : {Line{9.3, 0.5, 20.9, 0.0007}, Line{50.2, -0.5, 20.02, -0.0007}, Line{10, 0.31, 30, -0.31},
                          Line{9, 1, 18, 0}, Line{50, -1, 18.25, 0}, Line{9.7, 1.03, 12.1, 0.2},
                          Line{30.4, 0, 9.1, 0.7}, Line{12.6, 0.02, 37.9, -0.66}, Line{9.5, 2.6, 20.5, 0.1}})
        for (const int count : {1, 2, 7, 8, 15, 16, 17, 33, 40}) {
            const EvenPositions p{fixed(l.x + 100), fixed(l.dx), fixed(l.y - 40), fixed(l.dy), 100, -40, count};
            if (taps_inside(p, DropKernel(DropShape::square, 2, 2), kAcross, kDown)) out.push_back(p);
        }
    return out;
}

const DropKernel kKernels[] = {DropKernel(DropShape::square, 0.7, 0.5), DropKernel(DropShape::square, 1.6, 1.1),
                               DropKernel(DropShape::gaussian, 0.8, 0.5)};

} // namespace

TEST_CASE("Drops give each position the share of its samples that lies over it") {
    const FrameSamples samples;
    on_every_instruction_set([&] {
        for (const DropKernel& kernel : kKernels)
            for (const EvenPositions& line : lines()) {
                const Split split(line);
                LaidDown sums(line.count);
                gather_drops(samples.rows(), split.all(), kernel, 1.5f, sums.to());
                for (int i = 0; i < line.count; ++i) {
                    const auto k = static_cast<std::size_t>(i);
                    double value = 3, weight = 2;
                    for (int y = 0; y < kDown; ++y)
                        for (int x = 0; x < kAcross; ++x) {
                            const auto at = static_cast<std::size_t>(y * kAcross + x);
                            const double w = 1.5 * kernel.at(static_cast<float>(x - split.column[k]) - split.x[k]) *
                                             kernel.at(static_cast<float>(y - split.row[k]) - split.y[k]);
                            value += w * samples.values[at], weight += w * samples.counts[at];
                        }
                    REQUIRE(sums.values[k] == Approx(value).epsilon(1e-5).margin(1e-2));
                    REQUIRE(sums.weights[k] == Approx(weight).epsilon(1e-5));
                }
            }
    });
}

TEST_CASE("Even positions gather the same bits as split ones, of rows known to be whole or not") {
    REQUIRE(lines().size() > 60);
    for (const bool all : {false, true}) {
        const FrameSamples samples(all);
        on_every_instruction_set([&] {
            for (const DropKernel& kernel : kKernels)
                for (const EvenPositions& line : lines()) {
                    const Split split(line);
                    LaidDown by_split(line.count), by_line(line.count), untold(line.count);
                    gather_drops(samples.rows(), split.all(), kernel, 0.7f, by_split.to());
                    gather_even_drops(samples.rows(), line, kernel, 0.7f, by_line.to());
                    gather_even_drops(samples.rows(false), line, kernel, 0.7f, untold.to());
                    CAPTURE(line.du, line.dv, line.count);
                    REQUIRE(by_line == by_split);
                    REQUIRE(untold == by_split);
                }
        });
    }
}

TEST_CASE("Whether all taps lie inside is told of lines as of their positions") {
    on_every_instruction_set([] {
        for (const DropKernel& kernel : kKernels) {
            int inside = 0, outside = 0;
            for (EvenPositions line : lines())
                for (const double dx : {-12.0, -8.5, 0.0, 7.25, 11.0})
                    for (const double dy : {-19.5, 0.0, 24.75}) {
                        EvenPositions moved = line;
                        moved.u += fixed(dx), moved.v += fixed(dy);
                        const bool told = taps_inside(moved, kernel, kAcross, kDown);
                        REQUIRE(told == taps_inside(Split(moved).all(), kernel, kAcross, kDown));
                        ++(told ? inside : outside);
                    }
            REQUIRE(inside > 100);
            REQUIRE(outside > 100);
        }
    });
}

TEST_CASE("Rows are whole as far as all their samples count fully") {
    on_every_instruction_set([] {
        constexpr int kTall = 300;
        std::vector<float> counts(static_cast<std::size_t>(kAcross * kTall), 1.0f);
        std::vector<std::uint8_t> whole;
        whole_rows(counts.data(), kAcross, kTall, whole);
        REQUIRE(whole.size() == kTall);
        REQUIRE(whole[0] == 255);
        REQUIRE(whole[kTall - 7] == 7);
        for (const int x : {0, 15, 16, kAcross - 2, kAcross - 1}) {
            std::vector<float> one_less = counts;
            one_less[static_cast<std::size_t>(40 * kAcross + x)] = 0.999f;
            whole_rows(one_less.data(), kAcross, kTall, whole);
            REQUIRE(whole[39] == 1);
            REQUIRE(whole[40] == 0);
            REQUIRE(whole[41] == 255);
            REQUIRE(whole[0] == 40);
        }
    });
}
