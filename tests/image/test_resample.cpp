#include "support/instruction_sets.hpp"
#include "support/support.hpp"

#include <kasane/image/positions.hpp>
#include <kasane/image/resample.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <limits>

using namespace kasane;
using namespace kasane::test;

namespace {

struct Path {
    std::vector<std::int32_t> column, row;
    std::vector<float> fx, fy;
    Positions positions() const {
        return {column.data(), row.data(), fx.data(), fy.data(), static_cast<int>(column.size())};
    }
};

/// `count` positions from (u, v) on, (du, dv) apart.
Path line(double u, double v, double du, double dv, int count) {
    Path p;
    for (int i = 0; i < count; ++i) {
        const double x = u + i * du, y = v + i * dv;
        p.column.push_back(static_cast<int>(std::floor(x)));
        p.row.push_back(static_cast<int>(std::floor(y)));
        p.fx.push_back(static_cast<float>(x - std::floor(x)));
        p.fy.push_back(static_cast<float>(y - std::floor(y)));
    }
    return p;
}

Image noise_image(int width, int height) {
    Image image(width, height);
    add_noise(image, 10, 9);
    for (float& v : image.pixels())
        v += 100;
    return image;
}

} // namespace

TEST_CASE("The vectorised interpolation agrees with the formula on every kind of path and instruction set") {
    const Image image = noise_image(90, 70);
    const auto [u, v, du, dv] =
        GENERATE(table<double, double, double, double>({{10.3, 20.7, 1.0, 0.0},     // a shift
                                                        {70.2, 20.1, -1.0, 0.0},    // upside down
                                                        {12.0, 12.0, 0.7, 0.6},     // turned and scaled
                                                        {5.2, 40.6, 1.3, 0.01},     // wide steps, two rows
                                                        {80.2, 40.6, -1.25, -0.01}, // the same upside down
                                                        {6.4, 20.3, 2.2, 0.03},     // wider still, to the edge
                                                        {20.4, 30.8, 0.4, 0.02},    // narrow steps
                                                        {8.9, 40.5, 1.01, -0.02},   // nearly a shift
                                                        {8.9, 40.05, 0.9998, 0.01}, // a slight turn
                                                        {80.9, 30.9, -1.002, 0.03}, // the same upside down
                                                        {22.9, 30.97, 1.0, 0.07},   // up to the right edge
                                                        {-4.0, -3.0, 1.3, 0.9}}));  // partly outside
    const Path path = line(u, v, du, dv, 59);
    on_every_instruction_set([&] {
        std::vector<float> out(59, -1);
        resample_lanczos3(image.plane(), path.positions(), out.data());
        for (int i = 0; i < 59; ++i) {
            const float expected = resample_lanczos3_reference(image.plane(), u + i * du, v + i * dv);
            if (std::isnan(expected))
                CHECK(std::isnan(out[static_cast<std::size_t>(i)]));
            else
                CHECK(out[static_cast<std::size_t>(i)] ==
                      Approx(expected).margin(1e-3)); // float sums of 36 terms about 100
        }
    });
}

TEST_CASE("What is interpolated at a place does not depend on what is beside it") {
    Image image = noise_image(90, 70);
    image(40, 35) = 9000;
    const auto [du, dv] = GENERATE(table<double, double>({{1.0, 0.004}, {0.8, 0.55}, {0.02, 0.9}}));
    const Path path = line(12.3, 6.1, du, dv, 60);
    on_every_instruction_set([&] {
        std::vector<float> whole(60);
        resample_lanczos3(image.plane(), path.positions(), whole.data(), {.ringing_contrast = 80});
        for (const int from : {1, 7, 13, 30}) {
            const Positions p = path.positions();
            std::vector<float> part(static_cast<std::size_t>(60 - from));
            resample_lanczos3(image.plane(),
                              {p.column + from, p.row + from, p.fraction_x + from, p.fraction_y + from, 60 - from},
                              part.data(), {.ringing_contrast = 80});
            for (std::size_t i = 0; i < part.size(); ++i)
                REQUIRE(part[i] == whole[i + static_cast<std::size_t>(from)]);
        }
    });
}

TEST_CASE("Positions that lie along rows get the bits that each would get anywhere") {
    Image image = noise_image(110, 70);
    image(40, 35) = 9000;
    image(71, 36) = std::numeric_limits<float>::quiet_NaN();
    image(80, 33) = std::numeric_limits<float>::infinity();
    Peaks peaks;
    peaks.take(image.plane());
    const double step = GENERATE(0.0, 0.3, 1.0, 1.08, 1.25, 1.41, -1.0, -1.3, -1.41, 1.9, -2.6, 4.5);
    const int rows = GENERATE(1, 2, 3, 4, 6); // that they lie in
    INFO(step << " " << rows);
    sky::Random random(4);
    constexpr std::size_t kCount = 64;
    Path path;
    double x = step < 0 ? 104 : 3.3;
    for (std::size_t i = 0; i < kCount; ++i, x += step) {
        if (x < 2 || x > 106) x = step < 0 ? 104 : 3.3;
        path.column.push_back(static_cast<int>(std::floor(x)));
        path.row.push_back(35 + static_cast<int>(random.uniform(0, rows)) - rows / 2);
        path.fx.push_back(static_cast<float>(x - std::floor(x)));
        path.fy.push_back(static_cast<float>(random.uniform(0, 1)));
    }
    Path mixed; // neighbours apart
    for (std::size_t i = 0; i < kCount; ++i) {
        const std::size_t k = i * 29 % kCount;
        mixed.column.push_back(path.column[k]), mixed.row.push_back(path.row[k]);
        mixed.fx.push_back(path.fx[k]), mixed.fy.push_back(path.fy[k]);
    }
    for (const Peaks* known : {static_cast<const Peaks*>(nullptr), static_cast<const Peaks*>(&peaks)})
        on_every_instruction_set([&] {
            const ResampleOptions options{.ringing_contrast = 80, .ringing_left = 3, .peaks = known};
            std::vector<float> out(kCount), other(kCount);
            resample_lanczos3(image.plane(), path.positions(), out.data(), options);
            resample_lanczos3(image.plane(), mixed.positions(), other.data(), options);
            for (std::size_t i = 0; i < kCount; ++i) {
                const float a = other[i], b = out[i * 29 % kCount];
                const bool same = a == b || (std::isnan(a) && std::isnan(b));
                REQUIRE(same);
            }
        });
}

TEST_CASE("Lines that are told to lie in two rows get the bits that their positions would get anyhow") {
    Image image = noise_image(110, 70);
    image(40, 35) = 9000;
    image(71, 36) = std::numeric_limits<float>::quiet_NaN();
    Peaks peaks;
    peaks.take(image.plane());
    const double step = GENERATE(0.3, 0.8, 1.0, 1.25, 1.41, 2.1, -0.8, -1.41);
    const int upper = GENERATE(0, 5, 15);
    INFO(step << " " << upper);
    sky::Random random(5);
    Path path;
    for (int n = 0; n < 40; ++n) { // anywhere, across the edges too
        const double x = random.uniform(-20, 120);
        const int top = static_cast<int>(random.uniform(0, 70));
        for (int k = 0; k < kLineLanes; ++k) {
            const double at = x + step * k;
            path.column.push_back(static_cast<int>(std::floor(at)));
            path.row.push_back(top + (k == upper ? 0 : static_cast<int>(random.uniform(0, 2))));
            path.fx.push_back(static_cast<float>(at - std::floor(at)));
            path.fy.push_back(static_cast<float>(random.uniform(0, 1)));
        }
    }
    on_every_instruction_set([&] {
        const ResampleOptions options{.ringing_contrast = 80, .ringing_left = 3, .peaks = &peaks};
        std::vector<float> told(path.column.size()), untold(path.column.size());
        Positions lines = path.positions();
        resample_lanczos3(image.plane(), lines, untold.data(), options);
        lines.upper = upper;
        resample_lanczos3(image.plane(), lines, told.data(), options);
        int numbers = 0;
        for (std::size_t i = 0; i < told.size(); ++i) {
            numbers += std::isfinite(told[i]);
            const bool same = told[i] == untold[i] || (std::isnan(told[i]) && std::isnan(untold[i]));
            REQUIRE(same);
        }
        CHECK(numbers > 200);
    });
}

TEST_CASE("Interpolation keeps a constant, and pixels where nothing moves") {
    const Image flat(40, 40, 1, 123.0f), image = noise_image(40, 40);
    std::vector<float> out(20);
    resample_lanczos3(flat.plane(), line(7.31, 9.77, 1.003, 0.01, 20).positions(), out.data());
    for (const float v : out)
        CHECK(v == Approx(123).epsilon(1e-6));
    resample_lanczos3(image.plane(), line(7, 9, 1, 0, 20).positions(), out.data());
    for (int i = 0; i < 20; ++i)
        CHECK(out[static_cast<std::size_t>(i)] == Approx(image(7 + i, 9)).epsilon(1e-5));
}

TEST_CASE("The six weights sum to one and mirror") {
    for (double f = 0; f <= 1; f += 0.05) {
        const auto w = lanczos3_weights(f), m = lanczos3_weights(1 - f);
        double sum = 0;
        for (std::size_t i = 0; i < 6; ++i) {
            sum += w[i];
            CHECK(w[i] == Approx(m[5 - i]).margin(1e-12));
        }
        CHECK(sum == Approx(1).epsilon(1e-12));
    }
}

TEST_CASE("Ringing beside a steep star is clamped, noise is not") {
    const auto held = [&](float contrast, float left = 0) {
        return ResampleOptions{.ringing_contrast = contrast, .ringing_left = left};
    };
    Image image(60, 60, 1, 100.0f);
    image(30, 30) = 20000; // as steep as it gets
    std::vector<float> plain(40), clamped(40);
    const Path path = line(10.5, 30.5, 1, 0, 40);
    resample_lanczos3(image.plane(), path.positions(), plain.data());
    resample_lanczos3(image.plane(), path.positions(), clamped.data(), held(200));
    CHECK(*std::min_element(plain.begin(), plain.end()) < -1000);
    CHECK(*std::min_element(clamped.begin(), clamped.end()) == Approx(100).margin(0.01));
    CHECK(*std::max_element(clamped.begin(), clamped.end()) == *std::max_element(plain.begin(), plain.end()));

    // What may be left of it is, and no more.
    resample_lanczos3(image.plane(), path.positions(), clamped.data(), held(200, 5));
    CHECK(*std::min_element(clamped.begin(), clamped.end()) == Approx(95).margin(0.01));
    for (int i = 0; i < 40; ++i)
        CHECK(clamped[static_cast<std::size_t>(i)] ==
              Approx(resample_lanczos3_reference(image.plane(), 10.5 + i, 30.5, {200, 5})).margin(0.02));

    const Image noise = noise_image(60, 60);
    resample_lanczos3(noise.plane(), path.positions(), plain.data());
    resample_lanczos3(noise.plane(), path.positions(), clamped.data(), held(200));
    CHECK(plain == clamped);
}

TEST_CASE("No data spreads to every position whose neighbourhood holds it, and no farther") {
    Image image = noise_image(40, 40);
    image(20, 20) = std::numeric_limits<float>::quiet_NaN();
    std::vector<float> out(30);
    resample_lanczos3(image.plane(), line(5.5, 20.5, 1, 0, 30).positions(), out.data());
    for (int i = 0; i < 30; ++i) {
        const int first_tap = 5 + i - 2;
        CHECK(std::isnan(out[static_cast<std::size_t>(i)]) == (first_tap <= 20 && 20 <= first_tap + 5));
    }
}

TEST_CASE("Peaks bound every rectangle, and with them ringing is clamped to the same bits") {
    Image image = noise_image(130, 90);
    for (const auto& [x, y] : {std::pair(40, 31), std::pair(64, 70), std::pair(0, 0), std::pair(129, 89)})
        image(x, y) += 5000;
    image(90, 20) = std::numeric_limits<float>::quiet_NaN();
    Peaks peaks;
    peaks.take(image.plane());
    for (const Region& r : {Region{0, 0, 130, 90}, Region{39, 30, 2, 2}, Region{100, 10, 20, 70}, Region{17, 40, 1, 1},
                            Region{89, 19, 3, 3}, Region{128, 88, 2, 2}}) {
        float highest = Peaks::kLowest;
        for (int y = r.y; y < r.bottom(); ++y)
            for (int x = r.x; x < r.right(); ++x)
                if (image(x, y) > highest) highest = image(x, y);
        CHECK(peaks.over(r.x, r.y, r.right() - 1, r.bottom() - 1) >= highest);
    }
    CHECK(peaks.over(100, 32, 110, 40) < 200); // it tells far from near
    for (int top = 0; top < 90; top += 7)
        for (int left = 0; left < 130; left += 11)
            CHECK(peaks.near(left, top) >= peaks.over(left, top, std::min(129, left + Peaks::kNearColumns - 1),
                                                      std::min(89, top + Peaks::kNearRows - 1)));
    CHECK(peaks.near(80, 32) < 200);
    // Of parts alone: within them as of the whole, beside them nothing.
    const Region parts[] = {{30, 28, 21, 9}, {10, 37, 41, 20}, {0, 70, 64, 20}};
    Peaks of_parts;
    of_parts.take(image.plane(), parts);
    for (const Region& part : parts) {
        float highest = Peaks::kLowest;
        for (int y = part.y; y < part.bottom(); ++y)
            for (int x = part.x; x < part.right(); ++x)
                highest = std::max(highest, image(x, y));
        CHECK(of_parts.over(part.x, part.y, part.right() - 1, part.bottom() - 1) >= highest);
    }
    CHECK(of_parts.over(40, 31, 40, 31) > 4000);
    CHECK(of_parts.over(64, 70, 64, 70) == Peaks::kLowest); // beside the last, at the edge of its square
    CHECK(of_parts.over(112, 80, 129, 89) == Peaks::kLowest);
    std::size_t clamped = 0;
    on_every_instruction_set([&] {
        for (int y = 3; y < 86; ++y)
            for (const auto& [dx, dy] :
                 {std::pair(1.0, 0.0), std::pair(0.999, 0.013), std::pair(0.5, 0.01), std::pair(1.06, 0.02)}) {
                const Path path = line(2.4, y + 0.37, dx, dy, 117);
                std::vector<float> plain(117), with(117), without(117);
                ResampleOptions o;
                resample_lanczos3(image.plane(), path.positions(), plain.data(), o);
                o.ringing_contrast = 400;
                resample_lanczos3(image.plane(), path.positions(), without.data(), o);
                o.peaks = &peaks;
                resample_lanczos3(image.plane(), path.positions(), with.data(), o);
                for (std::size_t i = 0; i < 117; ++i) {
                    const bool same = with[i] == without[i] || (std::isnan(with[i]) && std::isnan(without[i]));
                    REQUIRE(same);
                    clamped += without[i] > plain[i];
                }
            }
    });
    CHECK(clamped > 50);
}
