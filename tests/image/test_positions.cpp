#include "support/instruction_sets.hpp"
#include "support/support.hpp"

#include <kasane/image/positions.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {
constexpr std::size_t kLengths[] = {0, 1, 2, 3, 7, 15, 16, 17, 31, 32, 33, 64, 100};
} // namespace

TEST_CASE("Positions are split into whole pixels and what lies behind, below zero as well") {
    on_every_instruction_set([] {
        sky::Random random(8);
        for (const std::size_t n : kLengths) {
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
        for (const std::size_t n : kLengths)
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

TEST_CASE("Positions at places are split as those of a row, and values put there") {
    on_every_instruction_set([] {
        sky::Random random(9);
        constexpr std::size_t kAll = 200;
        std::vector<std::int64_t> positions(kAll);
        for (std::int64_t& p : positions)
            p = static_cast<std::int64_t>(random.uniform(-9000, 9000) * 0x1p32);
        std::vector<std::int32_t> whole(kAll);
        std::vector<float> fraction(kAll);
        split_positions(positions.data(), kAll, -12, whole.data(), fraction.data());
        for (const std::size_t n : kLengths) {
            std::vector<std::int32_t> places(n), whole_there(n);
            std::vector<float> fraction_there(n), to(kAll, -5);
            for (std::size_t i = 0; i < n; ++i)
                places[i] = static_cast<std::int32_t>(i / 2 * 61 % kAll); // each twice
            split_positions_at(positions.data(), places.data(), n, -12, whole_there.data(), fraction_there.data());
            put_at(fraction_there.data(), places.data(), n, to.data());
            std::vector<float> expected(kAll, -5);
            for (std::size_t i = 0; i < n; ++i) {
                const auto at = static_cast<std::size_t>(places[i]);
                REQUIRE(whole_there[i] == whole[at]);
                REQUIRE(fraction_there[i] == fraction[at]);
                expected[at] = fraction[at];
            }
            REQUIRE(to == expected);
        }
    });
}
