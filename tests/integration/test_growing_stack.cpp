// A mean that grows by one frame at a time, and gives frames back.
#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/integration/growing_stack.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <tuple>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr double kNoise = 10;
constexpr int kWide = 240, kHigh = 160;

/// Stars on a sky that slopes, seen through a shift and a scale.
StackFrame frame_of(std::uint64_t seed, double scale, double sky, double slope,
                    const std::vector<Streak>& streaks = {}) {
    const double dx = 0.37 * static_cast<double>(seed % 5), dy = 0.21 * static_cast<double>(seed % 3);
    Image image(kWide, kHigh);
    add_noise(image, kNoise, seed);
    for (int y = 0; y < kHigh; ++y)
        for (int x = 0; x < kWide; ++x)
            image(x, y) += static_cast<float>(sky + slope * (x - 120));
    for (int k = 0; k < 6; ++k)
        add_gaussian_star(image, 30 + 35 * k + dx, 40 + 15 * k + dy, 20000 / scale, 3);
    for (const Streak& s : streaks)
        for (int x = 0; x < kWide; ++x)
            image(x, static_cast<int>(std::lround(s.y0))) += 3000;
    StackFrame f;
    f.source = std::make_shared<ImagePlanes>(std::move(image));
    StackPlane p;
    p.to_frame = Transform(Affine{1, 0, dx, 0, 1, dy});
    p.level.scale.value = scale;
    p.noise = kNoise;
    f.planes = {p};
    f.streaks = streaks;
    return f;
}

double level_in(const Image& picture, const Region& region) {
    return image_statistics(picture.plane().crop(region)).location;
}

/// Largest difference of two pictures; infinite where one has data and the other none.
double difference(const Image& a, const Image& b) {
    double most = 0;
    for (std::size_t i = 0; i < a.pixels().size(); ++i) {
        const float u = a.pixels()[i], v = b.pixels()[i];
        if (std::isnan(u) && std::isnan(v)) continue;
        most = std::isnan(u) || std::isnan(v) ? INFINITY : std::max(most, static_cast<double>(std::abs(u - v)));
    }
    return most;
}

} // namespace

TEST_CASE("A growing stack has the noise of its weighted mean and one sky and the stars of all") {
    GrowingStack stack(reference_canvas(kWide, kHigh), 1);
    const Quiet quiet;
    // The first gives the level; the others are brighter, sloped, and through thinner air.
    stack.add("first", frame_of(1, 1, 500, 0), 1, quiet.workers);
    constexpr int kFrames = 9;
    for (std::uint64_t k = 2; k <= kFrames; ++k) {
        const double scale = 1 + 0.05 * static_cast<double>(k % 4);
        stack.add(std::to_string(k), frame_of(k, scale, 400 + 40 * static_cast<double>(k), 0.3), 1 / (scale * scale),
                  quiet.workers);
    }
    CHECK(stack.names().size() == kFrames);
    const Image picture = stack.picture();
    // 500 ADU everywhere: the slopes of 36 ADU from side to side are gone. The level of a patch of 40 x 40 pixels is
    // known to 10 / 40 ADU a frame, that of the plane to less.
    CHECK(level_in(picture, {10, 110, 40, 40}) == Approx(500).margin(1.5));
    CHECK(level_in(picture, {190, 5, 40, 40}) == Approx(500).margin(1.5));
    // Sum of 1 / scale^2 = 7.9; interpolation takes up to a quarter of the noise of neighbours.
    const double expected = kNoise / std::sqrt(7.9), noise = difference_noise(picture.plane().crop({60, 110, 150, 40}));
    CHECK(noise < 1.05 * expected);
    CHECK(noise > 0.6 * expected);
    double flux = 0;
    for (int y = 30; y <= 50; ++y)
        for (int x = 20; x <= 40; ++x)
            flux += picture(x, y) - 500;
    CHECK(flux == Approx(20000).epsilon(0.03)); // 21 x 21 pixels of noise 3.5 make 74, of level 1 make 441
}

TEST_CASE("What is taken out of a growing stack leaves no trace, and threads none either") {
    const Quiet one(1), two(2);
    GrowingStack with(reference_canvas(kWide, kHigh), 1), without(reference_canvas(kWide, kHigh), 1);
    for (std::uint64_t k = 1; k <= 4; ++k) {
        with.add(std::to_string(k), frame_of(k, 1, 500, 0), 1, one.workers);
        without.add(std::to_string(k), frame_of(k, 1, 500, 0), 1, two.workers);
    }
    CHECK(difference(with.picture(), without.picture()) == 0);
    with.add("a cloud", frame_of(77, 3, 2000, 4), 0.1, two.workers);
    CHECK(difference(with.picture(), without.picture()) > 1);
    with.add("a cloud", frame_of(78, 3, 2000, 4), 0.1, two.workers); // there already
    with.remove("a cloud", frame_of(77, 3, 2000, 4).source, one.workers);
    with.remove("never there", frame_of(79, 1, 0, 0).source, one.workers);
    CHECK_FALSE(with.has("a cloud"));
    CHECK(difference(with.picture(), without.picture()) < 1e-3); // ADU: rounding of floats of 500
    for (std::uint64_t k = 1; k <= 4; ++k)
        with.remove(std::to_string(k), frame_of(k, 1, 500, 0).source, one.workers);
    CHECK(std::isnan(with.picture()(100, 100)));
}

TEST_CASE("Trails that were found are not in a growing stack, and a canvas in small shows all of a frame") {
    const Quiet quiet;
    const std::vector<Streak> trail = {{0, 80, kWide - 1.0, 80, 3}};
    GrowingStack stack(reference_canvas(kWide, kHigh), 1);
    stack.add("clear", frame_of(5, 1, 500, 0), 1, quiet.workers); // shifted by nothing across
    stack.add("trailed", frame_of(10, 1, 500, 0, trail), 1, quiet.workers);
    CHECK(level_in(stack.picture(), {5, 79, 230, 3}) == Approx(500).margin(3));

    Canvas small{.width = 60, .height = 40, .origin = {1.5, 1.5}, .scale = 0.25};
    StackFrame f = frame_of(15, 1, 500, 0);
    f.planes[0].to_frame = f.planes[0].to_frame.after(small.to_reference());
    GrowingStack in_small(small, 1);
    in_small.add("one", f, 1, quiet.workers);
    const Image picture = in_small.picture();
    // Means of sixteen pixels: a quarter of the noise, within what interpolation takes of it.
    const double noise = difference_noise(picture.plane().crop({5, 28, 50, 10}));
    CHECK(noise < 1.15 * kNoise / 4);
    CHECK(noise > 0.55 * kNoise / 4);
}

TEST_CASE("A frame that cannot be read, or tells nothing, does not touch a growing stack") {
    struct Broken final : PlaneSource {
        std::filesystem::path name = "gone.fits";
        int planes() const override { return 1; }
        int width() const override { return kWide; }
        int height() const override { return kHigh; }
        const std::filesystem::path& path() const override { return name; }
        void read(const Region&, std::span<const View<float>>, std::span<QualityPlane>) const override {
            throw InputError("has vanished", name, "Bring it back");
        }
    };
    const Quiet quiet;
    GrowingStack stack(reference_canvas(kWide, kHigh), 1);
    stack.add("1", frame_of(1, 1, 500, 0), 1, quiet.workers);
    const Image before = stack.picture();
    StackFrame broken = frame_of(2, 1, 500, 0);
    broken.source = std::make_shared<Broken>();
    CHECK_THROWS_AS(stack.add("2", broken, 1, quiet.workers), InputError);
    stack.add("no weight", frame_of(3, 1, 900, 0), 0, quiet.workers);
    StackFrame colour = frame_of(4, 1, 500, 0);
    colour.planes.resize(3, colour.planes[0]);
    stack.add("other planes", colour, 1, quiet.workers);
    CHECK(stack.names() == std::vector<std::string>{"1"});
    CHECK(difference(stack.picture(), before) == 0);
}

TEST_CASE("Panels of a growing mosaic come to one level along what they share") {
    const Quiet quiet;
    const Canvas wide = reference_canvas(2 * kWide, kHigh);
    GrowingStack stack(wide, 1);
    // Each shows 240 of 480 columns, 60 of them together with the one before; the last shares nothing with the first.
    for (const auto& [seed, from, sky] : {std::tuple{15u, 0, 500.0}, {30u, 180, 620.0}, {45u, 240, 380.0}}) {
        StackFrame f = frame_of(seed, 1, sky, 0); // shifted by nothing
        f.planes[0].to_frame = Transform(Affine{1, 0, -1.0 * from, 0, 1, 0});
        stack.add(std::to_string(from), f, 1, quiet.workers);
    }
    const Image picture = stack.picture();
    // A square of 20 x 20 pixels tells a level to 10 x 1.25 x sqrt(2) / 20 ADU; medians of some, one after the other,
    // to less.
    for (const int x : {10, 130, 250, 300, 430})
        CHECK(level_in(picture, {x, 110, 40, 40}) == Approx(500).margin(2));
}
