#include "support/instruction_sets.hpp"
#include "support/support.hpp"

#include <kasane/image/positions.hpp>
#include <kasane/sky/random.hpp>

#include <array>
#include <catch2/catch.hpp>
#include <cmath>
#include <numeric>
#include <vector>

using namespace kasane;
using namespace kasane::test;

namespace {
constexpr std::size_t kCounts[] = {0, 1, 2, 3, 7, 15, 16, 17, 31, 32, 33, 64, 100};
} // namespace

TEST_CASE("Positions are split into whole pixels and what lies behind, below zero as well") {
    on_every_instruction_set([] {
        sky::Random random(8);
        for (const std::size_t n : kCounts) {
            std::vector<std::int64_t> positions(n);
            for (std::int64_t& p : positions)
                p = static_cast<std::int64_t>(random.uniform(-9000, 9000) * 0x1p32);
            if (n > 2) positions[0] = 0, positions[1] = -1, positions[2] = (std::int64_t{41} << 32) - 1;
            std::vector<std::int32_t> whole(n);
            std::vector<float> fraction(n);
            split_positions(positions.data(), n, 17, whole.data(), fraction.data());
            for (std::size_t i = 0; i < n; ++i) {
                const double exact = static_cast<double>(positions[i]) * 0x1p-32;
                REQUIRE(whole[i] == static_cast<std::int32_t>(std::floor(exact)) - 17);
                REQUIRE(fraction[i] >= 0);
                REQUIRE(fraction[i] <= 1);
                REQUIRE(whole[i] + 17 + static_cast<double>(fraction[i]) == Approx(exact).margin(1e-7));
            }
        }
    });
}

TEST_CASE("Positions that lie evenly are split as each alone, to the bit") {
    on_every_instruction_set([] {
        for (const std::size_t n : kCounts)
            for (const std::int64_t step : {std::int64_t{1} << 32, (std::int64_t{1} << 32) - 12345,
                                            -(std::int64_t{1} << 32) + 77, std::int64_t{0}, std::int64_t{4321}}) {
                const std::int64_t start = -(std::int64_t{5} << 32) + 123456789;
                std::vector<std::int64_t> positions(n);
                for (std::size_t i = 0; i < n; ++i)
                    positions[i] = start + static_cast<std::int64_t>(i) * step;
                std::vector<std::int32_t> whole(n), even_whole(n);
                std::vector<float> fraction(n), even_fraction(n);
                split_positions(positions.data(), n, 3, whole.data(), fraction.data());
                split_even_positions(start, step, n, 3, even_whole.data(), even_fraction.data());
                REQUIRE(whole == even_whole);
                REQUIRE(fraction == even_fraction);
            }
    });
}

namespace {

std::vector<std::int64_t> anywhere(std::size_t count, int seed) {
    sky::Random random(static_cast<std::uint64_t>(seed));
    std::vector<std::int64_t> out(count);
    for (std::int64_t& p : out)
        p = static_cast<std::int64_t>(random.uniform(-9000, 9000) * 0x1p32);
    return out;
}

} // namespace

TEST_CASE("Split positions are picked from where they lie") {
    on_every_instruction_set([] {
        constexpr std::size_t kAll = 200;
        const std::vector<std::int64_t> positions = anywhere(kAll, 9);
        std::vector<std::int32_t> whole(kAll);
        std::vector<float> fraction(kAll);
        split_positions(positions.data(), kAll, -12, whole.data(), fraction.data());
        REQUIRE(whole[1] != whole[0]);
        for (const std::size_t n : kCounts) {
            std::vector<std::int32_t> places(n), whole_there(n);
            std::vector<float> fraction_there(n);
            for (std::size_t i = 0; i < n; ++i)
                places[i] = static_cast<std::int32_t>(i / 2 * 61 % kAll); // each twice
            pick_positions(whole.data(), fraction.data(), places.data(), n, whole_there.data(), fraction_there.data());
            for (std::size_t i = 0; i < n; ++i) {
                REQUIRE(whole_there[i] == whole[static_cast<std::size_t>(places[i])]);
                REQUIRE(fraction_there[i] == fraction[static_cast<std::size_t>(places[i])]);
            }
        }
    });
}

TEST_CASE("Positions of lines that lie evenly are split as each alone, to the bit") {
    std::array<std::int64_t, kLineLanes> start{};
    const std::vector<std::int64_t> some = anywhere(kLineLanes, 3);
    std::copy(some.begin(), some.end(), start.begin());
    start[3] = (std::int64_t{7} << 32) - 1; // carries at once
    const std::int64_t step = GENERATE(std::int64_t{0}, std::int64_t{1}, std::int64_t{-1}, std::int64_t{1} << 31,
                                       -(std::int64_t{5} << 30), (std::int64_t{3} << 32) + 12345);
    on_every_instruction_set([&] {
        constexpr std::size_t kLines = 23;
        std::vector<std::int64_t> positions;
        for (std::size_t line = 0; line < kLines; ++line)
            for (const std::int64_t from : start)
                positions.push_back(from + static_cast<std::int64_t>(line) * step);
        std::vector<std::int32_t> expected(positions.size()), whole(positions.size());
        std::vector<float> expected_behind(positions.size()), fraction(positions.size());
        split_positions(positions.data(), positions.size(), 40, expected.data(), expected_behind.data());
        split_line_positions(start, step, kLines, 40, whole.data(), fraction.data());
        REQUIRE(whole == expected);
        REQUIRE(fraction == expected_behind);
    });
}

TEST_CASE("Lanes are gathered from where they lie") {
    on_every_instruction_set([] {
        std::vector<float> from(400), to(70, -1);
        for (std::size_t i = 0; i < from.size(); ++i)
            from[i] = static_cast<float>(i);
        std::array<std::int32_t, kLineLanes> places{};
        for (std::size_t k = 0; k < places.size(); ++k)
            places[k] = static_cast<std::int32_t>(7 * k % 16 * 11);
        gather_lanes(from.data() + 5, 50, places, 3, to.data() + 1, 20);
        for (std::size_t i = 0; i < to.size(); ++i) {
            const std::size_t n = (i - 1) / 20, k = (i - 1) % 20;
            const bool told = i >= 1 && n < 3 && k < kLineLanes;
            REQUIRE(to[i] == (told ? from[5 + 50 * n + static_cast<std::size_t>(places[k])] : -1));
        }
    });
}

TEST_CASE("Rows are put together out of lines that rise, be it up or down") {
    using Rise = std::array<std::int32_t, kLineLanes>;
    const Rise rise = GENERATE(Rise{}, Rise{0, 1, 2, 2, 3, 4, 5, 5, 6, 7, 8, 8, 9, 10, 11, 11},
                               Rise{0, 0, -1, -1, -1, -1, -1, -2, -2, -2, -2, -2, -2, -2, -2, -3},
                               Rise{0, -1, -2, -3, -4, -5, -6, -7, -8, -9, -10, -11, -12, -13, -14, -15});
    const int rows = GENERATE(1, 4, 7);
    std::vector<float> lines(static_cast<std::size_t>(rows + 30) * kLineLanes);
    std::iota(lines.begin(), lines.end(), 0.0f);
    constexpr int kLine = 15; // that begins in the first row
    on_every_instruction_set([&] {
        std::vector<float> to(static_cast<std::size_t>(20 * rows), -1);
        rows_of_lines(lines.data() + kLine * kLineLanes, rise, static_cast<std::size_t>(rows), to.data(), 20);
        for (int n = 0; n < rows; ++n)
            for (int i = 0; i < 20; ++i) {
                const auto at = static_cast<std::size_t>(i);
                REQUIRE(to[static_cast<std::size_t>(20 * n) + at] ==
                        (i < kLineLanes ? static_cast<float>((kLine + n - rise[at]) * kLineLanes + i) : -1.0f));
            }
    });
}
