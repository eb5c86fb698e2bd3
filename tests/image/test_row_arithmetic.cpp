// Loops over rows: what they say they do, value by value, on every instruction set.
#include "support/instruction_sets.hpp"
#include "support/support.hpp"

#include <kasane/base/units.hpp>
#include <kasane/image/binning.hpp>
#include <kasane/image/row_arithmetic.hpp>
#include <kasane/image/statistics_kernel.hpp>
#include <kasane/sky/random.hpp>

#include <algorithm>
#include <array>
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

TEST_CASE("Rows are convolved as single values are, to the bit") {
    const int sets = on_every_instruction_set([] {
        for (const std::size_t n : kLengths) {
            const std::vector<float> middle = values(n, 1), left = values(n, 2), right = values(n, 3),
                                     far = values(n, 4);
            const std::vector<float> kernel = {1.4f, -0.3f, 0.1f};
            const float *before[] = {left.data(), far.data()}, *after[] = {right.data(), left.data()};
            std::vector<float> to(n), expected(n);
            for (std::size_t i = 0; i < n; ++i) {
                volatile float sum = kernel[0] * middle[i];
                const volatile float one = kernel[1] * (left[i] + right[i]);
                sum = sum + one;
                const volatile float two = kernel[2] * (far[i] + left[i]);
                expected[i] = sum + two;
            }
            symmetric_row(to.data(), middle.data(), before, after, kernel.data(), kernel.size(), n);
            CHECK(same(to, expected));
            const float* rows[] = {middle.data(), left.data(), far.data()};
            for (std::size_t i = 0; i < n; ++i) {
                volatile float sum = 0;
                for (std::size_t k = 0; k < kernel.size(); ++k) {
                    const volatile float one = kernel[k] * rows[k][i];
                    sum = sum + one;
                }
                expected[i] = sum;
            }
            weighted_row(to.data(), rows, kernel.data(), kernel.size(), n);
            CHECK(same(to, expected));
        }
    });
    CHECK(sets > 0);
}

TEST_CASE("Rows are calibrated as single values are, to the bit") {
    const int sets = on_every_instruction_set([] {
        for (const std::size_t n : kLengths) {
            const std::vector<float> light = values(n, 1), dark = values(n, 2), gain = values(n, 3, 1);
            for (const bool subtracts : {false, true})
                for (const bool multiplies : {false, true}) {
                    std::vector<float> to = light, expected = light;
                    for (std::size_t i = 0; i < n; ++i) {
                        const volatile float difference = subtracts ? light[i] - dark[i] : light[i];
                        expected[i] = multiplies ? difference * gain[i] : difference;
                    }
                    const auto calibrate = [&] {
                        return calibrate_row(to.data(), subtracts ? dark.data() : nullptr,
                                             multiplies ? gain.data() : nullptr, n);
                    };
                    CHECK(calibrate());
                    CHECK(same(to, expected));
                    for (std::size_t i = 0; i < n; i += 7) { // a gap anywhere is told
                        to = light;
                        to[i] = i % 2 ? kNoData : std::numeric_limits<float>::infinity();
                        CHECK_FALSE(calibrate());
                    }
                }

            std::vector<float> by = values(n, 4, 20000);
            const std::vector<float> level(n, 21000.0f);
            for (std::size_t i = 0; i < n; i += 5)
                by[i] = i % 2 ? 0.01f * 21000 : kNoData; // too dark, or nothing
            std::vector<float> expected = by;
            for (std::size_t i = 0; i < n; ++i)
                expected[i] = by[i] > 0.02f * level[i] ? level[i] / by[i] : kNoData;
            reciprocal_row(by.data(), level.data(), 0.02f, n);
            for (std::size_t i = 0; i < n; ++i)
                CHECK((by[i] == expected[i] || (std::isnan(by[i]) && std::isnan(expected[i]))));
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
            if (n > 0) {
                const float most = *std::max_element(v.begin(), v.end());
                CHECK(any_at_least(v.data(), most, n));
                CHECK_FALSE(any_at_least(v.data(), std::nextafter(most, 1e30f), n));
            }
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
                    REQUIRE(any_at_least(v.data(), 1e30f, n) == (gap > 0));
                    REQUIRE(count_present(v.data(), n) == n - std::isnan(gap));
                    REQUIRE(count_present(v.data(), where.data(), n) == marked - (std::isnan(gap) && where[i]));
                    v[i] = kept;
                }
        }
    });
}

TEST_CASE("A row is raised by what is higher, and by no gap") {
    on_every_instruction_set([] {
        for (const std::size_t n : kLengths) {
            std::vector<float> to = values(n, 11), from = values(n, 12), expected = to;
            for (std::size_t i = 0; i < n; i += 4)
                from[i] = kNoData;
            for (std::size_t i = 0; i < n; ++i)
                if (from[i] > expected[i]) expected[i] = from[i];
            raise_row(to.data(), from.data(), n);
            CHECK(same(to, expected));
        }
    });
}

TEST_CASE("Peaks of a row are higher than all their neighbours, in every instruction set") {
    sky::Random random(21);
    constexpr int kWidth = 203;
    Image image(kWidth + 2, 3);
    for (float& v : image.pixels())
        v = static_cast<float>(std::round(3 * random.normal())); // with plateaus
    const float limit = 0.75f;
    std::vector<std::int32_t> expected;
    for (int x = 0; x < kWidth; ++x) {
        const float v = image(x + 1, 1);
        bool highest = v > limit;
        for (int j = 0; j < 3; ++j)
            for (int i = 0; i < 3; ++i) {
                const bool before = j < 1 || (j == 1 && i < 1), self = i == 1 && j == 1;
                const float other = image(x + i, j);
                if (!self) highest = highest && (before ? v >= other : v > other);
            }
        if (highest) expected.push_back(x);
    }
    REQUIRE(expected.size() > 5);
    on_every_instruction_set([&] {
        std::vector<std::int32_t> found(kWidth);
        found.resize(peaks_of_row({image.plane().row(0) + 1, image.plane().row(1) + 1, image.plane().row(2) + 1}, limit,
                                  kWidth, found.data()));
        CHECK(found == expected);
    });
}

TEST_CASE("Counts and uncovered values are those of plain loops, in every instruction set") {
    sky::Random random(22);
    constexpr std::size_t kCount = 101;
    std::vector<float> values(kCount);
    std::vector<std::uint8_t> covered(kCount);
    for (std::size_t i = 0; i < kCount; ++i) {
        values[i] = i % 11 == 3 ? std::numeric_limits<float>::quiet_NaN() : static_cast<float>(random.normal());
        covered[i] = i % 5 == 2 ? 1 : i % 17 == 4 ? 255 : 0;
    }
    std::vector<float> open;
    std::size_t present = 0, high = 0;
    for (std::size_t i = 0; i < kCount; ++i) {
        high += values[i] >= 0.5f;
        if (std::isnan(values[i])) continue;
        ++present;
        if (!covered[i]) open.push_back(values[i]);
    }
    on_every_instruction_set([&] {
        std::vector<float> taken(kCount + kTakeSlack);
        std::size_t numbers = 3; // adds to what was counted before
        taken.resize(take_uncovered(values.data(), covered.data(), kCount, taken.data(), numbers));
        CHECK(taken == open);
        CHECK(numbers == 3 + present);
        CHECK(count_at_least(values.data(), 0.5f, kCount) == high);
    });
}

TEST_CASE("Planes, cubics and second differences along a row are those of single values, to the bit") {
    const int sets = on_every_instruction_set([] {
        for (const std::size_t n : kLengths) {
            const std::vector<float> a = values(n, 1), b = values(n, 2), c = values(n, 3);
            std::vector<float> to(n), expected(n);
            ramp_row(3.5f, -0.0173f, 12345, n, to.data());
            for (std::size_t i = 0; i < n; ++i) {
                const volatile float product = -0.0173f * static_cast<float>(12345 + static_cast<int>(i));
                expected[i] = 3.5f + product;
            }
            CHECK(same(to, expected));
            const std::array<float, 4> cubic = {0.4f, -7.3f, 11.1f, 2.9f};
            to = a;
            add_cubic_row(cubic, 0.25f, 0.0071f, -3, n, to.data());
            for (std::size_t i = 0; i < n; ++i) {
                volatile float t = 0.0071f * static_cast<float>(static_cast<int>(i) - 3);
                t = 0.25f + t;
                volatile float sum = t * cubic[3];
                for (const std::size_t k : {std::size_t{2}, std::size_t{1}}) {
                    sum = cubic[k] + sum;
                    sum = t * sum;
                }
                sum = cubic[0] + sum;
                expected[i] = a[i] + sum;
            }
            CHECK(same(to, expected));
            to = a;
            CHECK(scale_row(to.data(), b.data(), c.data(), n));
            for (std::size_t i = 0; i < n; ++i) {
                const volatile float product = b[i] * a[i];
                expected[i] = product + c[i];
            }
            CHECK(same(to, expected));
            for (std::size_t i = 0; i < n; i += 7) {
                to = a;
                to[i] = kNoData;
                CHECK_FALSE(scale_row(to.data(), b.data(), c.data(), n));
            }
            second_difference_row(a.data(), b.data(), c.data(), n, to.data());
            for (std::size_t i = 0; i < n; ++i) {
                volatile float fall = 2 * b[i];
                fall = a[i] - fall;
                expected[i] = fall + c[i];
            }
            CHECK(same(to, expected));
        }
    });
    CHECK(sets >= 1);
}

TEST_CASE("Every second, fourth or other value of a row is taken, and no more") {
    on_every_instruction_set([] {
        for (const std::size_t n : kLengths)
            for (const std::size_t step : {1u, 2u, 3u, 4u, 8u}) {
                const std::vector<float> from = values(n, 5);
                std::vector<float> to(n + 1, -1.0f), expected;
                for (std::size_t i = 0; i < n; i += step)
                    expected.push_back(from[i]);
                REQUIRE(take_every(from.data(), step, n, to.data()) == expected.size());
                CHECK(to[expected.size()] == -1.0f);
                to.resize(expected.size());
                CHECK(same(to, expected));
            }
    });
}

TEST_CASE("Means over squares count what has data, and what the edges leave") {
    const int factor = GENERATE(1, 2, 3, 5), width = GENERATE(30, 31, 47);
    Image image(width, 29);
    add_noise(image, 40, 7);
    image(3, 4) = image(10, 11) = std::numeric_limits<float>::quiet_NaN();
    for (int y = 0; y < 6; ++y)
        for (int x = 20; x < 26; ++x)
            image(x, y) = std::numeric_limits<float>::quiet_NaN();
    // As many as fit, and one more each way, of which a part lies in the image.
    const bool beyond = width % factor != 0 && 29 % factor != 0 && GENERATE(false, true);
    Image small(width / factor + beyond, 29 / factor + beyond);
    average_down(image.plane(), factor, small.plane());
    for (int y = 0; y < small.height(); ++y)
        for (int x = 0; x < small.width(); ++x) {
            double sum = 0;
            int count = 0;
            for (int j = y * factor; j < std::min(29, (y + 1) * factor); ++j)
                for (int i = x * factor; i < std::min(width, (x + 1) * factor); ++i)
                    if (!std::isnan(image(i, j))) sum += static_cast<double>(image(i, j)), ++count;
            CHECK(std::isnan(small(x, y)) == (count == 0));
            if (count > 0) CHECK(small(x, y) == Approx(sum / count).margin(1e-4));
        }
}

TEST_CASE("A row through values is straight between the middles of cells, constant beyond them") {
    const int cell = GENERATE(16, 64, 21), cells = GENERATE(1, 2, 5), beyond = GENERATE(-7, 0, 9);
    const std::vector<float> above = values(static_cast<std::size_t>(cells), 3),
                             below = values(static_cast<std::size_t>(cells), 4);
    std::vector<float> knots;
    for (std::size_t i = 0; i < above.size(); ++i)
        knots.push_back(0.75f * above[i] + 0.25f * below[i]);
    const int width = cell * cells + beyond;
    const MeshRow mesh{above.data(), below.data(), 0.25f, cells, cell};
    std::vector<float> pixels = values(static_cast<std::size_t>(width), 5);
    pixels[7] = std::numeric_limits<float>::quiet_NaN();
    on_every_instruction_set([&] {
        std::vector<float> to(static_cast<std::size_t>(width)), over(to.size());
        mesh_row(mesh, 0, width, to.data());
        minus_mesh_row(mesh, pixels.data(), 0, width, over.data());
        for (const int first : {1, 7, cell / 2, cell, width / 2, width - 1}) { // wherever it begins
            if (first >= width) continue;
            const auto from = static_cast<std::size_t>(first);
            std::vector<float> part(to.size() - from), part_over(part.size());
            mesh_row(mesh, first, width - first, part.data());
            minus_mesh_row(mesh, pixels.data() + from, first, width - first, part_over.data());
            CHECK(std::equal(part.begin(), part.end(), to.begin() + first));
            CHECK(std::equal(part_over.begin(), part_over.end(), over.begin() + first));
        }
        for (std::size_t x = 0; x < to.size(); ++x)
            CHECK(over[x] == (std::isnan(pixels[x]) ? 0 : pixels[x] - to[x]));
        for (int x = 0; x < width; ++x) {
            const double at = std::clamp((x + 0.5) / cell - 0.5, 0.0, cells - 1.0);
            const auto i = static_cast<std::size_t>(std::min(static_cast<int>(at), std::max(0, cells - 2))),
                       next = std::min(i + 1, static_cast<std::size_t>(cells - 1));
            const double share = at - static_cast<double>(i);
            CHECK(to[static_cast<std::size_t>(x)] ==
                  Approx((1 - share) * static_cast<double>(knots[i]) + share * static_cast<double>(knots[next]))
                      .epsilon(1e-5));
        }
    });
}

TEST_CASE("The highest value of a row is found between gaps, and what is free is taken cell by cell") {
    constexpr std::size_t kCount = 150;
    std::vector<float> row = values(kCount, 11);
    row[140] = 9000;
    row[17] = row[141] = std::numeric_limits<float>::quiet_NaN();
    std::vector<std::uint8_t> covered(kCount);
    for (std::size_t i = 0; i < kCount; ++i)
        covered[i] = i % 7 == 3;
    constexpr int kSide = 32;
    constexpr std::size_t kCells = 4; // the last one longer
    on_every_instruction_set([&] {
        CHECK(highest_of(row.data(), kCount) == 9000);
        CHECK(highest_of(row.data() + 17, 1) == -std::numeric_limits<float>::infinity());
        std::vector<float> taken(kCells * (kCount + kTakeSlack)), expected(kCount + kTakeSlack);
        std::vector<CellValues> cells;
        for (std::size_t k = 0; k < kCells; ++k)
            cells.push_back({taken.data() + k * (kCount + kTakeSlack), 5});
        take_uncovered_cells(row.data(), covered.data(), kSide, kCount, kCells, cells.data());
        for (std::size_t k = 0; k < kCells; ++k) {
            const std::size_t from = k * kSide, end = k + 1 == kCells ? kCount : (k + 1) * kSide;
            std::size_t present = 5;
            const std::size_t n =
                take_uncovered(row.data() + from, covered.data() + from, end - from, expected.data(), present);
            const float* mine = taken.data() + k * (kCount + kTakeSlack);
            CHECK(cells[k].present == present);
            CHECK(static_cast<std::size_t>(cells[k].next - mine) == n);
            CHECK(std::equal(mine, mine + n, expected.begin()));
        }
    });
}
