// A comet, told from the stars and nebulae that it moves before.
#include "support/support.hpp"

#include <kasane/integration/comet_light.hpp>
#include <kasane/integration/integrate.hpp>
#include <kasane/integration/moving_light.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kWidth = 240, kHeight = 160, kFrames = 16;
const Point kHome{110, 80};

double comet_at(double dx, double dy) {
    const double r2 = (dx * dx + dy * dy) / 49, along = std::max(0.0, dx),
                 tail = 60 * std::exp(-along / 60) * std::exp(-0.5 * dy * dy / 64) / (1 + std::exp(-dx / 4));
    return 250 * std::pow(1 + r2, -1.5) + 900 * std::exp(-0.5 * (dx * dx + dy * dy) / 1.7) + tail;
}

/// Cloud of 40 pixels, wherever the comet is.
double nebula_at(double x, double y) {
    return 500 + 60 * std::sin(x / 17) * std::cos(y / 23) +
           40 * std::exp(-(std::pow(x - 150, 2) + std::pow(y - 70, 2)) / 900);
}

std::vector<Point> moved() {
    std::vector<Point> out;
    for (int k = 0; k < kFrames; ++k)
        out.push_back({-30 + 4.3 * k, 12 - 1.6 * k});
    return out;
}

Image mean_of(const std::function<double(double, double, const Point&)>& light, double noise, std::uint64_t seed) {
    Image image(kWidth, kHeight);
    add_noise(image, noise, seed);
    for (int y = 0; y < kHeight; ++y)
        for (int x = 0; x < kWidth; ++x) {
            double sum = 0;
            for (const Point& m : moved())
                sum += light(x, y, m);
            image(x, y) += static_cast<float>(sum / kFrames);
        }
    return image;
}

} // namespace

TEST_CASE("What a comet adds to the stars is taken out, its tail along its way and its nucleus as well") {
    const double noise = 2;
    const Image among =
        mean_of([](double x, double y,
                   const Point& m) { return nebula_at(x, y) + comet_at(x - kHome.x - m.x, y - kHome.y - m.y); },
                noise, 3);
    const Image on =
        mean_of([](double x, double y,
                   const Point& m) { return nebula_at(x + m.x, y + m.y) + comet_at(x - kHome.x, y - kHome.y); },
                noise, 4);
    const std::vector<Point> path = moved();
    const std::vector<double> weights(kFrames, 1.0 / kFrames), sigma = {noise};
    const std::vector<Disc> none;
    const Image sky = without_moving({among, on, path, weights, none, sigma, kHome});
    double squares = 0, before = 0, n = 0;
    for (int y = 30; y < kHeight - 30; ++y)
        for (int x = 60; x < kWidth - 60; ++x) {
            const double truth = nebula_at(x, y);
            squares += std::pow(static_cast<double>(sky(x, y)) - truth, 2);
            before += std::pow(static_cast<double>(among(x, y)) - truth, 2);
            ++n;
        }
    CHECK(std::sqrt(before / n) > 15);
    CHECK(std::sqrt(squares / n) < 3); // noise is 2
    // Far from it nothing is changed.
    CHECK(sky(20, 150) == among(20, 150));
}

TEST_CASE("A comet's light is told from sky and noise, and what does not hang together with it is not its") {
    Image master(kWidth, kHeight, 1, 0.0f);
    add_noise(master, 3, 9);
    for (int y = 0; y < kHeight; ++y)
        for (int x = 0; x < kWidth; ++x)
            master(x, y) += static_cast<float>(500 + 0.2 * x - 0.1 * y + comet_at(x - kHome.x, y - kHome.y));
    add_gaussian_star(master, 30, 130, 5000, 3);
    const Image light = light_of_comet(master, {3}, kHome);
    CHECK(light(30, 130) == 0);
    CHECK(light(10, 10) == 0);
    for (const int dx : {0, 3, 10, 30, 50})
        CHECK(light(110 + dx, 80) == Approx(comet_at(dx, 0)).margin(12));
}

TEST_CASE("Light that moves is taken out of frames where it is, the same for any tiles") {
    const Quiet quiet;
    auto light = std::make_shared<Image>(kWidth, kHeight);
    for (int y = 0; y < kHeight; ++y)
        for (int x = 0; x < kWidth; ++x)
            (*light)(x, y) = static_cast<float>(comet_at(x - kHome.x, y - kHome.y));
    std::vector<StackFrame> frames;
    for (const Point& m : moved()) {
        Image image(kWidth, kHeight);
        for (int y = 0; y < kHeight; ++y)
            for (int x = 0; x < kWidth; ++x)
                image(x, y) = static_cast<float>(500 + comet_at(x - kHome.x - m.x, y - kHome.y - m.y));
        StackFrame f{std::make_shared<const ImagePlanes>(std::move(image)), {{Transform(), {}, 3}}, 0};
        f.moving = MovingLight{light, m};
        frames.push_back(std::move(f));
    }
    IntegrateOptions o;
    o.rejection = NoRejection{};
    const MasterLight whole = integrate(frames, {kWidth, kHeight}, {500}, quiet.context, o);
    double most = 0;
    for (int y = 10; y < kHeight - 10; ++y)
        for (int x = 10; x < kWidth - 10; ++x)
            most = std::max(most, std::abs(static_cast<double>(whole.pixels(x, y)) - 500));
    CHECK(most < 8); // of a nucleus of 1150: what interpolating it costs
    o.tile = 41;
    CHECK(integrate(frames, {kWidth, kHeight}, {500}, quiet.context, o).pixels.pixels() == whole.pixels.pixels());
}

TEST_CASE("Stars that frames are to do without do not count where two others show the sky") {
    const Quiet quiet;
    std::vector<StackFrame> frames;
    for (int k = 0; k < 6; ++k) {
        Image image(kWidth, kHeight, 1, 500.0f);
        if (k < 4) add_gaussian_star(image, 60, 50, 20000, 3); // four show it, all are covered there
        StackFrame f{std::make_shared<const ImagePlanes>(std::move(image)),
                     {{Transform(Affine{1, 0, 0.3 * k, 0, 1, 0}), {}, 3}},
                     0};
        if (k < 4) f.covered = {{60, 50, 9}};
        frames.push_back(std::move(f));
    }
    IntegrateOptions o;
    o.rejection = NoRejection{};
    o.real_share = 0;
    const MasterLight m = integrate(frames, {kWidth, kHeight}, {500}, quiet.context, o);
    for (int y = 40; y <= 60; ++y)
        for (int x = 50; x <= 70; ++x)
            CHECK(m.pixels(x, y) == Approx(500).margin(0.5));
    CHECK(m.coverage(60, 50) == Approx(2.0 / 6).epsilon(1e-3));
    CHECK(m.coverage(100, 100) == Approx(1));
    for (StackFrame& f : frames) // where none is left, what there is
        f.covered = {{60, 50, 9}};
    CHECK(integrate(frames, {kWidth, kHeight}, {500}, quiet.context, o).coverage(60, 50) == Approx(1));
}

TEST_CASE("Where few samples are left that contradict each other, there is no hole, and tiles do not show") {
    const Quiet quiet;
    std::vector<StackFrame> frames;
    for (int k = 0; k < 12; ++k) {
        Image image(kWidth, kHeight, 1, 500.0f);
        add_noise(image, 5, 200 + static_cast<std::uint64_t>(k));
        for (int i = 0; i < 1500; ++i) // particles, somewhere else in each
            image((37 * i + 61 * k) % kWidth, (29 * i + 17 * k * k) % kHeight) += static_cast<float>(20 + i % 60);
        StackFrame f{std::make_shared<const ImagePlanes>(std::move(image)),
                     {{Transform(Affine{1, 0, 0.37 * k, 0, 1, 0.23 * k}), {}, 5}},
                     0.8};
        for (int i = 0; i < 130; ++i)
            f.covered.push_back({(53.0 * i + 71 * k) - std::floor((53.0 * i + 71 * k) / kWidth) * kWidth,
                                 (31.0 * i * k + 11 * i) - std::floor((31.0 * i * k + 11 * i) / kHeight) * kHeight,
                                 11});
        frames.push_back(std::move(f));
    }
    IntegrateOptions o;
    o.real_share = 0;
    o.rejection = NoiseRejection{};
    const MasterLight whole = integrate(frames, {kWidth, kHeight}, {500}, quiet.context, o);
    int holes = 0;
    for (int y = 5; y < kHeight - 5; ++y)
        for (int x = 5; x < kWidth - 10; ++x)
            holes += std::isnan(whole.pixels(x, y));
    CHECK(holes == 0);
    for (const int tile : {33, 57}) {
        o.tile = tile;
        const MasterLight parts = integrate(frames, {kWidth, kHeight}, {500}, quiet.context, o);
        int differ = 0;
        for (std::size_t i = 0; i < whole.pixels.pixels().size(); ++i) {
            const float a = whole.pixels.pixels()[i], b = parts.pixels.pixels()[i];
            differ += !(a == b || (std::isnan(a) && std::isnan(b)));
        }
        CHECK(differ == 0);
    }
}
