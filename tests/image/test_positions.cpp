#include "support/instruction_sets.hpp"
#include "support/support.hpp"

#include <kasane/image/positions.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <cmath>

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

TEST_CASE("Positions of groups of a line are split as those of a row, and values put at their places") {
    on_every_instruction_set([] {
        sky::Random random(9);
        constexpr int kLength = 90, kAcross = 40, kStep = kLength;
        std::vector<std::int64_t> along(kLength), across(kAcross + LineGroup::kTogether),
            positions(static_cast<std::size_t>(kLength) * kAcross);
        for (auto* values : {&along, &across})
            for (std::int64_t& p : *values)
                p = static_cast<std::int64_t>(random.uniform(-9000, 9000) * 0x1p32);
        std::vector<std::int32_t> rise(kLength), places(kLength);
        for (std::size_t i = 1; i < rise.size(); ++i)
            rise[i] = rise[i - 1] + (random.uniform(0, 1) < 0.4 || i > 70); // a stretch that rises at each step
        for (std::size_t i = 0; i < places.size(); ++i)
            places[i] = static_cast<std::int32_t>(i) + rise[i] * kStep;
        for (std::size_t y = 0; y < kAcross; ++y)
            for (std::size_t i = 0; i < kLength; ++i)
                positions[y * kLength + i] = along[i] + across[y];
        std::vector<std::int32_t> whole(positions.size());
        std::vector<float> fraction(positions.size());
        split_positions(positions.data(), positions.size(), -12, whole.data(), fraction.data());

        const LineTable table{rise.data(), places.data(), kStep};
        std::vector<LineGroup> groups{{0, 0, 16}, {17, 3, 16}, {3, 1, 5}, {74, -(rise[74] - 2), 16}, {9, -rise[9], 1}};
        const std::size_t n = groups.size() * LineGroup::kTogether;
        std::vector<std::int32_t> sums(n), known(n);
        std::vector<float> sums_behind(n), known_behind(n), to(positions.size(), -5);
        split_line_positions(table, along.data(), across.data(), groups.data(), groups.size(), -12, sums.data(),
                             sums_behind.data());
        split_positions_at(table, positions.data(), groups.data(), groups.size(), -12, known.data(),
                           known_behind.data());
        put_at(table, known_behind.data(), groups.data(), groups.size(), to.data());
        std::vector<float> expected(positions.size(), -5);
        for (std::size_t g = 0; g < groups.size(); ++g)
            for (int k = 0; k < LineGroup::kTogether; ++k) {
                const auto i = static_cast<std::size_t>(groups[g].first + std::min(k, groups[g].count - 1));
                const auto at = static_cast<std::size_t>(groups[g].line + rise[i]) * kLength + i;
                const std::size_t told = g * LineGroup::kTogether + static_cast<std::size_t>(k);
                REQUIRE(sums[told] == whole[at]);
                REQUIRE(sums_behind[told] == fraction[at]);
                REQUIRE(known[told] == whole[at]);
                REQUIRE(known_behind[told] == fraction[at]);
                expected[at] = fraction[at];
            }
        REQUIRE(to == expected);
    });
}
