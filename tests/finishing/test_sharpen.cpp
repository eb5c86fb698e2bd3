#include <kasane/base/error.hpp>
#include <kasane/finishing/deconvolution.hpp>
#include <kasane/finishing/sharpen.hpp>
#include <kasane/image/statistics.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <random>

namespace kasane {
namespace {

constexpr int kWidth = 700, kHeight = 500;
constexpr float kNoise = 5, kSky = 500;

struct Light {
    double x, y, peak;
};

/// Elliptical Moffat stars of exponent 3 on an even sky; `width` says their squared widths at a place.
struct Field {
    Image pixels{kWidth, kHeight};
    std::vector<Light> lights;
    StarList stars;

    template <class Width>
    explicit Field(const Width& width, float full = 1e9f, int count = 160) {
        std::mt19937_64 random(7);
        std::normal_distribution<float> normal;
        std::uniform_real_distribution<double> even;
        for (float& v : pixels.pixels())
            v = kSky + kNoise * normal(random);
        // On a lattice, so that each is seen alone.
        for (int k = 0; k < count; ++k)
            lights.push_back({25.0 + 43 * (k % 16) + 10 * even(random), 25.0 + 45 * (k / 16) + 10 * even(random),
                              25 * std::pow(600.0, std::pow(even(random), 2))});
        for (const Light& l : lights) {
            const StarWidth w = width(l.x, l.y);
            const double determinant = w.xx * w.yy - w.xy * w.xy;
            for (int y = std::max(0, static_cast<int>(l.y) - 40); y < std::min(kHeight, static_cast<int>(l.y) + 40);
                 ++y)
                for (int x = std::max(0, static_cast<int>(l.x) - 40); x < std::min(kWidth, static_cast<int>(l.x) + 40);
                     ++x) {
                    const double dx = x - l.x, dy = y - l.y,
                                 q = 4 * (w.yy * dx * dx - 2 * w.xy * dx * dy + w.xx * dy * dy) / determinant;
                    pixels(x, y) += static_cast<float>(l.peak * std::pow(1 + (std::cbrt(2.0) - 1) * q, -3));
                }
        }
        for (float& v : pixels.pixels())
            v = std::min(v, full);
        stars = detect_stars(pixels.plane());
    }
};

StarWidth round_ones(double, double) {
    return {10, 0, 10};
}
/// Drawn out the farther to the right, downwards to the right.
StarWidth drawn_out(double x, double) {
    return {9 + 4 * x / kWidth, 3 * x / kWidth, 9 + 2 * x / kWidth};
}

struct Sharpened {
    Image pixels;
    PlaneStars known;
    Sharpening told;
};

Sharpened sharpened(const Field& field, double share, int threads = 2) {
    const Workers workers(threads);
    Sharpened s{field.pixels, learn_stars(field.pixels.plane(), field.stars, kSky, kNoise), {}};
    SharpenCall call;
    call.target = share * s.known.psf.fwhm, call.sky = kSky, call.noise = kNoise;
    s.told = sharpen(s.pixels.plane(), s.known, call, workers);
    return s;
}

/// Over all rings from half a width to four around a light.
double darkest_ring(const Image& image, const Light& l, double fwhm) {
    double lowest = HUGE_VAL;
    for (double inner = 0.5 * fwhm; inner < 4 * fwhm; inner += 0.5) {
        double sum = 0, count = 0;
        const int far = static_cast<int>(inner) + 2;
        for (int j = -far; j <= far; ++j)
            for (int i = -far; i <= far; ++i) {
                const int x = static_cast<int>(std::lround(l.x)) + i, y = static_cast<int>(std::lround(l.y)) + j;
                const double r = std::hypot(x - l.x, y - l.y);
                if (r < inner || r >= inner + 1.5 || !image.bounds().contains({x, y, 1, 1})) continue;
                sum += static_cast<double>(image(x, y) - kSky), ++count;
            }
        if (count > 12) lowest = std::min(lowest, sum / count / kNoise);
    }
    return lowest;
}

double light_of(const Image& image, const Light& l) {
    double sum = 0;
    for (int j = -14; j <= 14; ++j)
        for (int i = -14; i <= 14; ++i) {
            const int x = static_cast<int>(std::lround(l.x)) + i, y = static_cast<int>(std::lround(l.y)) + j;
            if (std::hypot(i, j) <= 14) sum += static_cast<double>(image(x, y) - kSky);
        }
    return sum;
}

TEST_CASE("What a star looks like is told at any place of a field where it varies") {
    const Field field(drawn_out);
    const FieldPsf psf = measure_field_psf(field.pixels.plane(), field.stars, {});
    CHECK(psf.degree >= 1);
    CHECK(psf.beta == Approx(3).margin(0.3));
    for (const auto& [x, y] : {std::pair(60.0, 60.0), std::pair(640.0, 60.0), std::pair(640.0, 440.0)}) {
        const StarWidth is = psf.width_at(x, y), wanted = drawn_out(x, y);
        CHECK(is.xx == Approx(wanted.xx).epsilon(0.05));
        CHECK(is.yy == Approx(wanted.yy).epsilon(0.05));
        CHECK(is.xy == Approx(wanted.xy).margin(0.4));
        const Image star = psf.at(x, y, 12);
        double sum = 0, across = 0;
        for (int j = 0; j < 25; ++j)
            for (int i = 0; i < 25; ++i)
                sum += static_cast<double>(star(i, j)), across += static_cast<double>(star(i, j)) * (i - 12) * (j - 12);
        CHECK(sum == Approx(1).epsilon(1e-4));
        if (x > 600) CHECK(across > 0.1); // to the right and down, as they were made
    }
    CHECK_THROWS_AS(measure_field_psf(field.pixels.plane(), StarList{}, {}), DataError);
    // No star of a forbidden place takes part.
    CHECK_THROWS_AS(measure_field_psf(field.pixels.plane(), field.stars, {{350, 250, 1000}}), DataError);
}

TEST_CASE("Sharpening makes stars as narrow as asked and keeps their light and the noise of the sky") {
    const Field field(round_ones);
    const Sharpened s = sharpened(field, 0.75);
    const StarList after = detect_stars(s.pixels.plane());
    CHECK(s.told.settled);
    CHECK(s.told.before == Approx(std::sqrt(10.0)).epsilon(0.02));
    CHECK(after.fwhm == Approx(0.75 * std::sqrt(10.0)).epsilon(0.04));
    CHECK(after.noise == Approx(field.stars.noise).epsilon(0.1));
    double worst = 0, lowest = HUGE_VAL, before = HUGE_VAL;
    int judged = 0;
    for (const Light& l : field.lights) {
        if (l.x < 40 || l.y < 40 || l.x > kWidth - 40 || l.y > kHeight - 40) continue;
        lowest = std::min(lowest, darkest_ring(s.pixels, l, s.told.before));
        before = std::min(before, darkest_ring(field.pixels, l, s.told.before));
        if (l.peak < 1000) continue;
        worst = std::max(worst, std::abs(light_of(s.pixels, l) / light_of(field.pixels, l) - 1)), ++judged;
    }
    CHECK(judged > 10);
    CHECK(worst < 0.02);
    CHECK(lowest > std::min(-0.5, before - 0.25)); // noise makes rings, too
}

TEST_CASE("Stars that are drawn out become round where the field draws them out") {
    const Field field(drawn_out);
    const Sharpened s = sharpened(field, 0.75);
    const StarList after = detect_stars(s.pixels.plane());
    const auto usual = [](const StarList& list) {
        std::vector<float> right;
        for (const Star& star : list.stars)
            if (star.x > 500 && star.flux > 60 * star.flux_sigma)
                right.push_back(static_cast<float>(star.eccentricity));
        return median_in_place(right);
    };
    CHECK(usual(field.stars) > 0.55f);
    CHECK(usual(after) < 0.8f * usual(field.stars));
}

TEST_CASE("A star with a flat top stays as it is and gets no dark ring when sharpened") {
    const Field field(round_ones, 6000);
    const Sharpened s = sharpened(field, 0.7);
    int cut = 0;
    for (const Light& l : field.lights) {
        if (l.peak < 8000) continue;
        ++cut;
        const int x = static_cast<int>(std::lround(l.x)), y = static_cast<int>(std::lround(l.y));
        CHECK(std::any_of(s.known.flat_tops.begin(), s.known.flat_tops.end(),
                          [&](const Disc& d) { return std::hypot(d.x - l.x, d.y - l.y) < 2; }));
        for (int i = -4; i <= 4; ++i)
            CHECK(s.pixels(x + i, y) == Approx(field.pixels(x + i, y)).margin(0.01));
        CHECK(darkest_ring(s.pixels, l, s.told.before) > -0.5);
    }
    REQUIRE(cut > 3);
    CHECK(s.told.kept == static_cast<int>(s.known.flat_tops.size()));
}

TEST_CASE("A bright nebula is no star with a flat top") {
    Field field(round_ones, 1e9f, 96);
    for (int y = 0; y < kHeight; ++y)
        for (int x = 0; x < kWidth; ++x)
            field.pixels(x, y) += static_cast<float>(
                3000 * std::exp(-0.5 * (std::pow((x - 400) / 30.0, 2) + std::pow((y - 380) / 25.0, 2))));
    for (const Disc& d : learn_stars(field.pixels.plane(), field.stars, kSky, kNoise).flat_tops)
        CHECK(std::hypot(d.x - 400, d.y - 380) > 60);
}

TEST_CASE("Where there is no data nothing is sharpened and nothing rings beside it") {
    Field field(round_ones);
    for (int y = 0; y < kHeight; ++y)
        for (int x = 0; x < 150; ++x)
            field.pixels(x, y) = NAN;
    field.pixels(400, 250) = NAN;
    field.stars = detect_stars(field.pixels.plane());
    const Sharpened s = sharpened(field, 0.75);
    for (int y = 0; y < kHeight; ++y)
        for (int x = 0; x < kWidth; ++x)
            if (std::isfinite(field.pixels(x, y)) != std::isfinite(s.pixels(x, y))) FAIL("data at " << x << " " << y);
    double sum = 0;
    for (int y = 0; y < kHeight; ++y)
        sum += s.pixels(150, y) - field.pixels(150, y);
    CHECK(std::abs(sum / kHeight) < 5 * kNoise);
}

TEST_CASE("Sharpening gives the same bytes for any threads and changes nothing when it is broken off") {
    const Field field(drawn_out);
    const Sharpened one = sharpened(field, 0.75, 1), three = sharpened(field, 0.75, 3);
    CHECK(std::equal(one.pixels.pixels().begin(), one.pixels.pixels().end(), three.pixels.pixels().begin()));
    Image pixels = field.pixels;
    CancelToken cancel;
    const Workers workers(2, cancel);
    SharpenCall call;
    call.target = 2.3, call.sky = kSky, call.noise = kNoise;
    call.advance = [&] { cancel.request(); };
    CHECK_THROWS_AS(sharpen(pixels.plane(), one.known, call, workers), Cancelled);
    CHECK(std::equal(pixels.pixels().begin(), pixels.pixels().end(), field.pixels.pixels().begin()));
    call.target = 4, call.advance = {};
    CHECK_THROWS_AS(sharpen(pixels.plane(), one.known, call, Workers(1)), UsageError);
}

TEST_CASE("A kernel as a sum of products correlates as the kernel itself does") {
    std::mt19937_64 random(3);
    std::normal_distribution<float> normal;
    Image image(37, 29), out(37, 29);
    for (float& v : image.pixels())
        v = normal(random);
    const Image kernel =
        FieldPsf{1, 0, 2.5, {}, 3, 0, 0, 1, {{{12, 0, 0, 0, 0, 0}, {4, 0, 0, 0, 0, 0}, {7, 0, 0, 0, 0, 0}}}}.at(0, 0,
                                                                                                                5);
    std::vector<float> rows;
    for (const bool turned : {false, true}) {
        const SeparableKernel parts(kernel);
        (turned ? parts.turned() : parts).apply(image, out, rows);
        CHECK(parts.products() < 8);
        for (const auto& [x, y] : {std::pair(18, 14), std::pair(0, 0), std::pair(36, 3)}) {
            double sum = 0;
            for (int j = -5; j <= 5; ++j)
                for (int i = -5; i <= 5; ++i)
                    sum += kernel(5 + (turned ? -i : i), 5 + (turned ? -j : j)) *
                           image(std::clamp(x + i, 0, 36), std::clamp(y + j, 0, 28));
            CHECK(out(x, y) == Approx(sum).margin(0.005));
        }
    }
    const Image narrow = round_star(2.2, 3, 10), wide = round_star(3.2, 3, 10), blur = blur_between(narrow, wide, 10);
    Image again(21, 21), part(21, 21);
    SeparableKernel(blur).apply(narrow, again, rows);
    for (int i = 4; i <= 16; ++i)
        CHECK(again(i, 10) == Approx(wide(i, 10)).margin(0.02 * wide(10, 10)));
}

} // namespace
} // namespace kasane
