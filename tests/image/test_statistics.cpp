#include "support/instruction_sets.hpp"
#include "support/support.hpp"

#include <kasane/image/statistics.hpp>
#include <kasane/image/statistics_kernel.hpp>
#include <kasane/image/stretch.hpp>
#include <kasane/sky/random.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>
#include <limits>

using namespace kasane;
using namespace kasane::test;

TEST_CASE("The median is the middle value, or the mean of the two") {
    std::vector<float> odd = {5, 1, 3}, even = {4, 1, 3, 2};
    CHECK(median_in_place(odd) == 3);
    CHECK(median_in_place(even) == 2.5f);
    CHECK(std::isnan(median_in_place({})));
}

TEST_CASE("The median of eight is the mean of the two in the middle, whatever their order") {
    for (int pattern = 0; pattern < 256; ++pattern) { // by the zero-one principle these stand for all
        std::vector<float> v(8);
        int ones = 0;
        for (int i = 0; i < 8; ++i) {
            v[static_cast<std::size_t>(i)] = static_cast<float>((pattern >> i) & 1);
            ones += (pattern >> i) & 1;
        }
        CHECK(median_in_place(v) == (ones > 4 ? 1.0f : ones == 4 ? 0.5f : 0.0f));
    }
    std::vector<float> v = {5, -3, 8, 1, 7, 2, 100, 4};
    CHECK(median_in_place(v) == 4.5f);
}

TEST_CASE("The median of many values is that of the sorted ones, however they lie") {
    sky::Random random(5);
    const int kind = GENERATE(0, 1, 2, 3, 4, 5);
    const std::size_t size = GENERATE(300u, 301u, 1000u, 4096u, 20001u);
    std::vector<float> values;
    for (std::size_t i = 0; i < size; ++i) {
        const double noise = random.normal(), rising = static_cast<double>(i);
        values.push_back(static_cast<float>(kind == 0   ? 1000 + 20 * noise
                                            : kind == 1 ? rising                              // sorted
                                            : kind == 2 ? std::round(2 * noise)               // few different values
                                            : kind == 3 ? 7                                   // one
                                            : kind == 4 ? std::exp(3 * noise)                 // a long tail
                                                        : (i % 64 == 0 ? -1e6 : 0) + noise)); // in step with a sample
    }
    std::vector<float> sorted = values, asked = values;
    std::sort(sorted.begin(), sorted.end());
    const float expected = size % 2 ? sorted[size / 2] : 0.5f * (sorted[size / 2 - 1] + sorted[size / 2]);
    CHECK(median_in_place(asked) == expected);
}

TEST_CASE("The value of a rank and the next one are those of the sorted values on every instruction set") {
    sky::Random random(16);
    const int kind = GENERATE(0, 1, 2, 3, 4, 5, 6);
    const std::size_t size = GENERATE(1u, 2u, 15u, 16u, 17u, 95u, 96u, 132u, 511u, 4095u);
    std::vector<float> values;
    for (std::size_t i = 0; i < size; ++i) {
        const double noise = random.normal();
        values.push_back(static_cast<float>(kind == 0   ? 1000 + 20 * noise
                                            : kind == 1 ? noise // of both signs, around zero
                                            : kind == 2 ? std::round(2 * noise)
                                            : kind == 3 ? -3
                                            : kind == 4 ? std::exp(30 * noise) // all orders of magnitude
                                            : kind == 5
                                                ? (i % 3 ? 0.0 : -0.0)                    // zeros of both kinds
                                                : (i % 16 == 0 ? 1e30 : 1e-30 * noise))); // in step with a sample
    }
    if (kind == 4 && size > 2) values[size / 2] = std::numeric_limits<float>::infinity();
    std::vector<float> sorted = values;
    std::sort(sorted.begin(), sorted.end());
    on_every_instruction_set([&] {
        for (const std::size_t rank : {std::size_t{0}, size / 4, size / 2, 3 * size / 4, size - 1}) {
            const Neighbours found = select_rank(values.data(), size, rank);
            CHECK(found.at == sorted[rank]);
            CHECK(found.next == sorted[std::min(rank + 1, size - 1)]);
            CHECK_FALSE((found.at == 0 && std::signbit(found.at)));
        }
    });
}

TEST_CASE("The vectorised loops of the statistics agree with the scalar references on every instruction set") {
    sky::Random random(6);
    std::vector<float> values;
    for (int i = 0; i < 5003; ++i)
        values.push_back(static_cast<float>(std::round(1000 + 20 * random.normal())));
    values[17] = std::numeric_limits<float>::quiet_NaN();
    on_every_instruction_set([&] {
        const SumsWithin fast = sums_within(values.data(), values.size(), 1000, 990, 1030),
                         plain = sums_within_reference(values.data(), values.size(), 1000, 990, 1030);
        CHECK(fast.count == plain.count);
        CHECK(fast.sum == plain.sum); // whole numbers, which float sums exactly
        CHECK(fast.square == plain.square);
        std::vector<float> few(values.size() + kTakeSlack), same = few;
        const Between quick = take_between(values.data(), values.size(), 995, 1005, few.data()),
                      slow = take_between_reference(values.data(), values.size(), 995, 1005, same.data());
        CHECK(quick.less == slow.less);
        REQUIRE(quick.taken == slow.taken);
        few.resize(quick.taken);
        same.resize(slow.taken);
        CHECK(few == same);
    });
}

TEST_CASE("Quantiles interpolate between order statistics") {
    std::vector<float> v = {40, 10, 30, 20, 50};
    CHECK(quantile_in_place(v, 0.0) == 10);
    CHECK(quantile_in_place(v, 1.0) == 50);
    CHECK(quantile_in_place(v, 0.375) == Approx(25));
}

TEST_CASE("The spread from the median deviation is that of a normal distribution") {
    std::vector<float> v = {1, 2, 3, 4, 5, 6, 7, 8, 9};
    CHECK(mad_sigma_in_place(v, 5) == Approx(2 * 1.4826022).epsilon(1e-6));
}

TEST_CASE("Clipped statistics recover a normal sample under one tenth of outliers") {
    sky::Random random(1);
    std::vector<float> values;
    for (int i = 0; i < 20000; ++i)
        values.push_back(static_cast<float>(i % 10 == 0 ? random.uniform(100, 1000) : 50 + 4 * random.normal()));
    values.push_back(std::numeric_limits<float>::quiet_NaN());
    const RobustStatistics s = clipped_statistics(values);
    // 18000 good values: the mean is known to 0.03, the spread to 0.02; the outliers' density near the sample is small.
    CHECK(s.location == Approx(50).margin(0.12));
    CHECK(s.sigma == Approx(4).epsilon(0.03));
}

TEST_CASE("Noise from differences is blind to gradients and stars") {
    Image image(400, 300);
    add_noise(image, 7, 3);
    for (int y = 0; y < 300; ++y)
        for (int x = 0; x < 400; ++x)
            image(x, y) += 0.5f * static_cast<float>(x) + 0.001f * static_cast<float>(y * y);
    for (int i = 0; i < 10; ++i)
        add_gaussian_star(image, 20 + 37 * i, 15 + 28 * i, 20000, 3);
    CHECK(difference_noise(image.plane()) == Approx(7).epsilon(0.02));
    CHECK(difference_noise(image.plane(), 5) == Approx(7).epsilon(0.02));
}

TEST_CASE("The stretch keeps order, puts the sky where asked, and clips nothing but the extremes") {
    Image image(300, 200);
    add_noise(image, 5, 4);
    for (float& v : image.pixels())
        v += 1000;
    for (int i = 0; i < 12; ++i)
        add_gaussian_star(image, 20 + 22 * i, 100, 30000, 4);
    const Stretch s = choose_stretch(image.plane());
    CHECK(s(1000) == Approx(0.12).margin(0.01));
    CHECK(s(990) < s(1000));
    CHECK(s(1200) < s(2000));
    CHECK(s(-1e9f) == 0);
    CHECK(s(1e9f) == Approx(1));
    const auto small = render(image.plane(), s, 150);
    CHECK(small.width() == 150);
}
