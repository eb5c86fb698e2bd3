#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/finishing/comparison.hpp>
#include <kasane/finishing/comparison_pictures.hpp>
#include <kasane/finishing/star_light.hpp>
#include <kasane/registration/register.hpp>
#include <kasane/sky/random.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kWidth = 700, kHeight = 520;
constexpr double kSky = 500;

struct FieldOptions {
    double light = 1; ///< of all stars, and of the sky
    double noise = 5; ///< ADU
    double fwhm = 3;  ///< pixels
    int stars = 150;  ///< always the same, of so many
    int planes = 1;   ///< red and blue have 0.8 and 0.6 of the light
    double red = 1;   ///< times red
    std::uint64_t seed = 1;
};

/// Stars of 300 to 30000 ADU over an even sky.
Image field(const FieldOptions& o) {
    Image image(kWidth, kHeight, o.planes);
    sky::Random own(o.seed);
    for (int p = 0; p < o.planes; ++p) {
        sky::Random random(77);
        const double part = o.light * (o.planes == 1 || p == 1 ? 1 : p == 0 ? 0.8 * o.red : 0.6);
        Image plane(kWidth, kHeight, 1, static_cast<float>(kSky * part));
        for (int i = 0; i < o.stars; ++i) {
            const double x = random.uniform(12, kWidth - 12), y = random.uniform(12, kHeight - 12);
            add_gaussian_star(plane, x, y, part * 300 * std::pow(100.0, random.uniform(0, 1)), o.fwhm);
        }
        for (int y = 0; y < kHeight; ++y)
            for (int x = 0; x < kWidth; ++x)
                image(x, y, p) = static_cast<float>(static_cast<double>(plane(x, y)) + o.noise * own.normal());
    }
    return image;
}

/// Images with what is known of them, registered onto the first.
struct Compared {
    std::vector<Image> pixels;
    std::vector<StarList> lists;
    std::vector<ComparedImage> images;

    explicit Compared(std::vector<Image> all) : pixels(std::move(all)) {
        for (const Image& image : pixels)
            lists.push_back(detect_stars(image.plane(main_plane(image.planes()))));
        for (std::size_t k = 0; k < pixels.size(); ++k) {
            const StarList& list = lists[k];
            ComparedImage c{&pixels[k], &list.stars, &list.background, list.fwhm, 0, {}, {}};
            if (k > 0) {
                const kasane::Outcome found = register_stars(lists[0].stars, list.stars);
                REQUIRE(found);
                c.to_image = found->to_frame;
                c.match.assign(lists[0].stars.size(), -1);
                for (const StarMatch& m : found->matches)
                    c.match[static_cast<std::size_t>(m.reference)] = m.frame;
            }
            images.push_back(c);
        }
    }
    Comparison judge(int threads = 2) const { return compare(images, Workers(threads)); }
};

/// Every pixel four times: no more is known than before.
Image twice_as_fine(const Image& image) {
    Image out(2 * image.width(), 2 * image.height());
    for (int y = 0; y < out.height(); ++y)
        for (int x = 0; x < out.width(); ++x)
            out(x, y) = image(x / 2, y / 2);
    return out;
}

} // namespace

TEST_CASE("Images of other light and noise are told apart as they are") {
    const Compared c({field({}), field({.light = 2.5, .noise = 25, .seed = 2}), field({.noise = 2.5, .seed = 3})});
    const Comparison r = c.judge();
    REQUIRE(r.images.size() == 3);
    CHECK(r.stars > 80);
    CHECK(r.places > 100);
    const ImageJudgement &a = r.images[0], &b = r.images[1], &d = r.images[2];
    CHECK(a.pixel_noise == Approx(5).epsilon(0.05));
    CHECK(b.pixel_noise == Approx(25).epsilon(0.05));
    CHECK(a.correlation == Approx(1).epsilon(0.05));
    CHECK(b.ratio == Approx(2.5).epsilon(0.004));
    CHECK(std::abs(b.ratio - 2.5) < 4 * b.ratio_error);
    CHECK(b.ratio_error < 0.01);
    CHECK(d.ratio == Approx(1).epsilon(0.003));
    // Twice the noise after its light, and half of it.
    CHECK(b.deeper == Approx(-2.5 * std::log10(2.0)).margin(0.06));
    CHECK(d.deeper == Approx(2.5 * std::log10(2.0)).margin(0.06));
    CHECK(a.deeper == 0);
    CHECK(b.fwhm == Approx(3).epsilon(0.03));
    // A disc of one FWHM holds all but a sixteenth of a Gaussian star; the pixels blur it a little more.
    CHECK(a.disc_share == Approx(1 - std::pow(2.0, -4)).margin(0.01));
    // The disc has 28 pixels.
    CHECK(a.disc_noise == Approx(5 * std::sqrt(kPi * 9)).epsilon(0.08));
    CHECK(std::abs(b.slope) < 4 * b.slope_error);
    CHECK(std::abs(b.slope) < 0.01);
    CHECK(b.background == Approx(2.5 * kSky).epsilon(0.01));
    CHECK(b.difference < 3);
    REQUIRE(b.steps.size() > 2);
    CHECK(b.steps.front().flux > b.steps.back().flux);
    for (const BrightnessStep& s : b.steps)
        CHECK(std::abs(s.ratio - 1) < 4 * s.error + 0.002);
}

TEST_CASE("Pixels that share their noise reach no deeper") {
    const Image one = field({});
    const Compared c({one, twice_as_fine(one)});
    const Comparison r = c.judge();
    const ImageJudgement& fine = r.images[1];
    CHECK(fine.scale == Approx(2).epsilon(1e-3));
    CHECK(fine.ratio == Approx(4).epsilon(0.005));
    CHECK(fine.pixel_noise == Approx(5).epsilon(0.05));
    CHECK(fine.correlation == Approx(2).epsilon(0.06));
    CHECK(fine.fwhm == Approx(r.images[0].fwhm).epsilon(0.03));
    CHECK(std::abs(fine.deeper) < 0.06); // so small a field tells its noise to 5 %
}

TEST_CASE("What images state of their noise is taken where all do") {
    Compared c({field({}), field({.noise = 10, .seed = 2})});
    CHECK_FALSE(c.judge().by_account);
    c.images[0].stated_noise = 5.1, c.images[0].stated_fwhm = 2.8;
    CHECK_FALSE(c.judge().by_account); // not of all
    c.images[1].stated_noise = 9.8;
    CHECK_FALSE(c.judge().by_account);
    c.images[1].stated_fwhm = 2.9;
    const Comparison r = c.judge();
    CHECK(r.by_account);
    CHECK(r.images[0].disc_noise == Approx(5.1 * std::sqrt(kPi) * 2.8));
    CHECK(r.images[1].disc_noise == Approx(9.8 * std::sqrt(kPi) * 2.9 / r.images[1].ratio));
    CHECK(r.images[1].depth == Approx(5 * r.images[1].disc_noise / 0.9375));
}

TEST_CASE("An image that is not linear shows it by its stars") {
    Image bent = field({.noise = 1, .seed = 4});
    for (float& v : bent.pixels())
        v = 1000 * std::pow(std::max(0.0f, v / 1000), 0.8f);
    const Compared c({field({.noise = 1}), bent});
    const ImageJudgement j = c.judge().images[1];
    CHECK(j.slope < -0.05);
    CHECK(j.slope < -5 * j.slope_error);
    REQUIRE(j.steps.size() > 2);
    CHECK(j.steps.front().ratio < j.steps.back().ratio);
}

TEST_CASE("Colours of stars are held against those of the first image") {
    const Compared c({field({.planes = 3}), field({.light = 1.5, .planes = 3, .red = 1.25, .seed = 5})});
    const ImageJudgement j = c.judge().images[1];
    CHECK(j.colour[0] == Approx(1.25).epsilon(0.004));
    CHECK(j.colour[1] == Approx(1).epsilon(0.004));
    CHECK(j.ratio == Approx(1.5).epsilon(0.004));
    CHECK((j.colour_scatter > 0.0005 && j.colour_scatter < 0.1));
}

TEST_CASE("Without common stars nothing is compared") {
    Compared c({field({}), field({.seed = 2})});
    std::fill(c.images[1].match.begin(), c.images[1].match.end(), -1);
    c.images[1].match[0] = 0;
    CHECK_THROWS_AS(c.judge(), DataError);
    // Saturated ones do not count.
    Compared full({field({}), field({.seed = 2})});
    for (Star& s : full.lists[1].stars)
        s.saturated = true;
    CHECK_THROWS_AS(full.judge(), DataError);
}

TEST_CASE("A comparison is the same for any number of threads, and of an image with a hole") {
    Image hole = field({.noise = 7, .seed = 6});
    for (int y = 100; y < 300; ++y)
        for (int x = 200; x < 400; ++x)
            hole(x, y) = kNoData;
    const Compared c({field({}), hole});
    const Comparison one = c.judge(1), four = c.judge(4);
    CHECK(one.stars == four.stars);
    CHECK(one.places == four.places);
    CHECK(one.images[1].deeper == four.images[1].deeper);
    CHECK(one.images[1].ratio == four.images[1].ratio);
    CHECK(one.images[1].ratio == Approx(1).epsilon(0.004));
    CHECK(one.images[1].pixel_noise == Approx(7).epsilon(0.06));
}

TEST_CASE("Of an image without noise neither noise nor depth is told, and all else is") {
    Image steps = field({.noise = 0});
    for (float& v : steps.pixels())
        v = std::round(v / 20) * 20;
    Compared c({field({}), field({.seed = 2})});
    c.images[1].pixels = &steps; // whose stars are where the others' are
    const ImageJudgement j = c.judge().images[1];
    CHECK_FALSE(j.depth > 0);
    CHECK_FALSE(j.disc_noise > 0);
    CHECK(j.ratio == Approx(1).epsilon(0.02));
}

TEST_CASE("A disc counts the pixels at its edge by their share, and none without data") {
    Image even(41, 41, 1, 3);
    for (const double at : {20.0, 20.3, 19.5})
        CHECK(disc_light(even.plane(), at, 20.2, 6, 1) == Approx(2 * kPi * 36).epsilon(0.01));
    CHECK(ring_sky(even.plane(), 20, 20, 8, 12).level == Approx(3));
    CHECK(std::isnan(disc_light(even.plane(), 3, 20, 6, 1)));
    CHECK(ring_sky(even.plane(), 5, 20, 8, 12).pixels == 0);
    even(22, 20) = kNoData;
    CHECK(std::isnan(disc_light(even.plane(), 20, 20, 6, 1)));
}

TEST_CASE("Pictures of a comparison show both sides and what differs") {
    const Image one = field({.noise = 2});
    Image other = field({.noise = 2, .seed = 9});
    for (float& v : other.pixels())
        v = 3 * v + 40;
    bring_to_level(other, {3 * kSky + 40}, 3, {kSky});
    CHECK(other(5, 5) == Approx(kSky).margin(20));
    for (int y = 50; y < 60; ++y)
        for (int x = 50; x < 60; ++x)
            other(x, y) += 300;
    other(10, 10) = kNoData;
    const DifferencePicture d = difference_picture(one.plane(), other.plane());
    CHECK(d.pixels(55, 55) == 255);
    CHECK(d.pixels(10, 10) == 0);
    CHECK(std::abs(d.pixels(300, 300) - 128) < 100);
    CHECK(d.white == Approx(6 * std::hypot(2, 2)).epsilon(0.1));
    CHECK(difference_picture(one.plane(), other.plane(), 350).pixels.width() == 350);

    Raster<std::uint8_t> dark(8, 4, 1, 10), bright(8, 4, 3, 200);
    const Raster<std::uint8_t> halves = split(dark, bright);
    CHECK((halves.planes() == 3 && halves.width() == 8));
    CHECK((halves(0, 0, 2) == 10 && halves(7, 3, 0) == 200 && halves(4, 0, 0) == 230));
    CHECK(beside({dark, bright}).width() == 18);
    CHECK(crops(one, choose_stretches(one), 100).width() == 5 * 100 + 4 * 2);
    CHECK(crops(Image(30, 20, 1, 5), {Stretch{}}, 100).height() == 20);
}
