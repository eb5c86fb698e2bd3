// Loops over rows: what they say they do, value by value, on every instruction set.
#include "support/instruction_sets.hpp"
#include "support/support.hpp"

#include <kasane/base/units.hpp>
#include <kasane/image/row_arithmetic.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <cstring>
#include <limits>
#include <vector>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr std::size_t kLengths[] = {0, 1, 3, 7, 8, 15, 16, 17, 31, 64, 131};

std::vector<float> values(std::size_t count, std::uint64_t seed, double mean = 500) {
    sky::Random random(seed);
    std::vector<float> out(count);
    for (float& v : out)
        v = static_cast<float>(mean + 40 * random.normal());
    return out;
}

bool same(const std::vector<float>& a, const std::vector<float>& b) {
    return a.size() == b.size() && (a.empty() || std::memcmp(a.data(), b.data(), a.size() * sizeof(float)) == 0);
}

} // namespace

TEST_CASE("Rows are subtracted and divided as single values are, to the bit") {
    const int sets = on_every_instruction_set([] {
        for (const std::size_t n : kLengths) {
            std::vector<float> to = values(n, 1), expected = to;
            const std::vector<float> from = values(n, 2);
            subtract_row(to.data(), 0.7312f, from.data(), n);
            for (std::size_t i = 0; i < n; ++i) {
                const volatile float product = 0.7312f * from[i];
                expected[i] -= product;
            }
            CHECK(same(to, expected));

            std::vector<float> light = values(n, 3), by = values(n, 4, 20000);
            const std::vector<float> level(n, 21000.0f);
            for (std::size_t i = 0; i < n; i += 5)
                by[i] = i % 2 ? 0.01f * 21000 : kNoData; // too dark, or nothing
            expected = light;
            for (std::size_t i = 0; i < n; ++i) {
                const volatile float product = expected[i] * level[i];
                expected[i] = by[i] > 0.02f * level[i] ? product / by[i] : kNoData;
            }
            divide_row(light.data(), level.data(), by.data(), 0.02f, n);
            for (std::size_t i = 0; i < n; ++i)
                CHECK((light[i] == expected[i] || (std::isnan(light[i]) && std::isnan(expected[i]))));
        }
    });
    CHECK(sets >= 1);
}

TEST_CASE("A gap is found wherever it is, and numbers are counted") {
    on_every_instruction_set([] {
        for (const std::size_t n : kLengths) {
            std::vector<float> v = values(n, 5);
            std::vector<std::int32_t> where(n, 0);
            CHECK_FALSE(any_gap(v.data(), n));
            CHECK(count_present(v.data(), n) == n);
            std::size_t marked = 0;
            for (std::size_t i = 0; i < n; i += 3)
                where[i] = 1, ++marked;
            CHECK(count_present(v.data(), where.data(), n) == marked);
            for (std::size_t i = 0; i < n; ++i)
                for (const float gap :
                     {kNoData, std::numeric_limits<float>::infinity(), -std::numeric_limits<float>::infinity()}) {
                    const float kept = v[i];
                    v[i] = gap;
                    REQUIRE(any_gap(v.data(), n));
                    REQUIRE(count_present(v.data(), n) == n - std::isnan(gap));
                    REQUIRE(count_present(v.data(), where.data(), n) == marked - (std::isnan(gap) && where[i]));
                    v[i] = kept;
                }
        }
    });
}

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
