// Frames that fade out towards their edges, and what that leaves of steps.
#include "support/support.hpp"

#include "support/instruction_sets.hpp"

#include <kasane/integration/edge_feather.hpp>
#include <kasane/integration/edge_feather_kernel.hpp>
#include <kasane/integration/integrate.hpp>

#include <catch2/catch.hpp>
#include <cmath>
#include <cstring>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kWidth = 200, kHeight = 120;

/// A frame whose sky is off by `off`, beginning `left` pixels into the canvas.
StackFrame frame(double off, int left, double noise, std::uint64_t seed) {
    Image image(kWidth, kHeight, 1, static_cast<float>(500 + off));
    if (noise > 0) add_noise(image, noise, seed);
    return {std::make_shared<const ImagePlanes>(std::move(image)),
            {{Transform(Affine{1, 0, static_cast<double>(-left), 0, 1, 0}), {}, std::max(noise, 1.0)}},
            0};
}

std::vector<StackFrame> stack(double noise = 0) {
    return {frame(0, 0, noise, 1), frame(0, 0, noise, 2), frame(0, 0, noise, 3), frame(2, 70, noise, 4)};
}

MasterLight made(double width, int tile = 256, double noise = 0) {
    const Quiet quiet;
    IntegrateOptions o;
    o.rejection = NoRejection{};
    o.feather = width;
    o.tile = tile;
    return integrate(stack(noise), {kWidth, kHeight}, {500}, quiet.context, o);
}

} // namespace

TEST_CASE("Where a frame begins, a step of its level becomes a slope, and the coverage tells") {
    const MasterLight hard = made(0), soft = made(40);
    const auto rise = [](const MasterLight& m) {
        double most = 0;
        for (int x = 60; x < 180; ++x)
            most = std::max(most, std::abs(static_cast<double>(m.pixels(x + 1, 60) - m.pixels(x, 60))));
        return most;
    };
    CHECK(rise(hard) == Approx(0.5).epsilon(0.05)); // a quarter of two
    CHECK(rise(soft) < 0.05);
    // 60 pixels below the upper edge and 40 right of its own: whole.
    CHECK(soft.pixels(150, 60) == Approx(hard.pixels(150, 60)).margin(1e-3));
    CHECK(soft.coverage(120, 60) == Approx(1).margin(1e-6));
    // Twenty pixels in, about half of it: what mean of weights 1, 1, 1 and w has as its weight.
    const double w = feather_share(20.5, 40);
    CHECK(soft.coverage(90, 60) == Approx((3 + w) * (3 + w) / (3 + w * w) / 4).margin(1e-5));
    CHECK(soft.pixels(90, 60) == Approx(500 + 2 * w / (3 + w)).margin(1e-3));
    CHECK(std::abs(w - 0.5) < 0.05);
    // At its ends no kink: within a tenth of the width a hundredth of it changes.
    CHECK(std::abs(soft.pixels(71, 60) - 500) < 0.02);
    CHECK(std::abs(soft.pixels(106, 60) - 500.5) < 0.02);
    // In a corner where three fade alike, they still make their mean, of all their weight.
    CHECK(soft.pixels(0, 0) == Approx(500).margin(1e-2));
    CHECK(soft.coverage(0, 0) == Approx(0.75).margin(1e-4));
    CHECK_THAT(soft.made.find("combine")->text, Catch::Contains("fade over 40 pixels"));
}

TEST_CASE("What fades is the same for any tiles") {
    const MasterLight whole = made(33, 256, 5), parts = made(33, 37, 5);
    CHECK(whole.pixels.pixels() == parts.pixels.pixels());
    CHECK(whole.coverage.pixels() == parts.coverage.pixels());

    // On a finer canvas a frame's outermost half pixel is several pixels wide, and may be alone in a tile.
    const Quiet quiet;
    std::vector<StackFrame> frames;
    for (int k = 0; k < 3; ++k) {
        Image image(60, 50, 1, 500.0f);
        add_noise(image, 3, 80 + static_cast<std::uint64_t>(k));
        frames.push_back({std::make_shared<const ImagePlanes>(std::move(image)),
                          {{Transform(Affine{0.25, 0.001, -0.4 - 3.7 * k, -0.001, 0.25, -0.3 - 2.9 * k}), {}, 3}},
                          0});
    }
    const auto fine = [&](int tile) {
        IntegrateOptions o;
        o.rejection = NoRejection{};
        o.feather = 12;
        o.tile = tile;
        return integrate(frames, {260, 230}, {500}, quiet.context, o);
    };
    const MasterLight one = fine(512);
    for (int tile = 16; tile < 36; ++tile) {
        INFO(tile);
        const MasterLight many = fine(tile);
        CHECK(std::memcmp(one.pixels.pixels().data(), many.pixels.pixels().data(), 260 * 230 * sizeof(float)) == 0);
        CHECK(one.coverage.pixels() == many.coverage.pixels());
    }
}

TEST_CASE("What samples near an edge counted too much is that of a plain loop, in every instruction set") {
    sky::Random random(31);
    constexpr std::size_t kCount = 53;
    const FadingEdge edge{59.5, 39.5, 12, 0.01, 0.37};
    std::vector<std::int64_t> u(kCount), v(kCount);
    std::vector<float> values(kCount);
    for (std::size_t i = 0; i < kCount; ++i) { // on both sides of the edge, and far inside
        u[i] = static_cast<std::int64_t>(random.uniform(-2, 62) * 0x1p32);
        v[i] = static_cast<std::int64_t>(random.uniform(-2, 42) * 0x1p32);
        values[i] = i % 9 == 4 ? std::numeric_limits<float>::quiet_NaN() : static_cast<float>(500 + random.normal());
    }
    std::vector<double> sum(kCount, 1), weight(kCount, 2), squares(kCount, 3);
    std::size_t inside = 0;
    for (std::size_t i = 0; i < kCount; ++i) {
        const double x = static_cast<double>(u[i]) * 0x1p-32, y = static_cast<double>(v[i]) * 0x1p-32;
        const double deep = std::min({x + 0.5, y + 0.5, edge.right - x, edge.bottom - y});
        inside += deep >= edge.width;
        if (deep >= edge.width || std::isnan(values[i])) continue;
        const double share = feather_share(deep, edge.width), less = edge.weight * (1 - share);
        sum[i] += less * static_cast<double>(values[i]);
        weight[i] += less;
        squares[i] += less * (1 + share);
    }
    REQUIRE(inside > 5);
    REQUIRE(inside < kCount / 2);
    on_every_instruction_set([&] {
        std::vector<double> a(kCount, 1), b(kCount, 2), c(kCount, 3);
        add_fading(edge, {u.data(), v.data(), values.data(), kCount}, {a.data(), b.data(), c.data()});
        CHECK(a == sum);
        CHECK(b == weight);
        CHECK(c == squares);
    });
}

TEST_CASE("A sample that was rejected near an edge is not taken out twice") {
    const Quiet quiet;
    std::vector<StackFrame> frames;
    for (int k = 0; k < 8; ++k) {
        Image image(kWidth, kHeight, 1, 500.0f);
        add_noise(image, 3, 60 + static_cast<std::uint64_t>(k));
        if (k == 3)
            for (int y = 10; y < 20; ++y)
                image(5, y) += 4000; // ten pixels near its edge
        frames.push_back({std::make_shared<const ImagePlanes>(std::move(image)), {{Transform(), {}, 3}}, 0});
    }
    IntegrateOptions o;
    o.rejection = SigmaRejection{};
    o.feather = 30;
    const MasterLight m = integrate(frames, {kWidth, kHeight}, {500}, quiet.context, o);
    o.feather = 0;
    const MasterLight hard = integrate(frames, {kWidth, kHeight}, {500}, quiet.context, o);
    for (int y = 10; y < 20; ++y) {
        CHECK(m.pixels(5, y) == Approx(hard.pixels(5, y)).margin(1e-2)); // all fade alike
        CHECK(hard.coverage(5, y) < 0.9);
        CHECK(m.coverage(5, y) / hard.coverage(5, y) == Approx(m.coverage(5, 40) / hard.coverage(5, 40)).epsilon(1e-3));
    }
    CHECK_THAT((IntegrateOptions{.combination = Combination::median, .feather = 5}.check()),
               Catch::Contains("edges of frames fade"));
    CHECK_THAT((IntegrateOptions{.feather = -1}.check()), Catch::Contains("edges"));
}
