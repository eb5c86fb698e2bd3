// What demosaicing and resampling do to noise.
#include "support/support.hpp"

#include <kasane/calibration/frame_view.hpp>
#include <kasane/integration/noise_factors.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kSide = 256;

/// A mosaic of nothing but noise, of another size in each colour.
FrameView mosaic(const std::array<double, 3>& noise, ColourMethod method, std::uint64_t seed) {
    CalibrationSet set;
    set.cfa = CfaPattern("RGGB");
    Image white(kSide, kSide), pixels(kSide, kSide);
    add_noise(white, 1, seed);
    for (int y = 0; y < kSide; ++y)
        for (int x = 0; x < kSide; ++x)
            pixels(x, y) = static_cast<float>(1000 + noise[static_cast<std::size_t>(set.cfa.colour(x, y))] *
                                                         static_cast<double>(white(x, y)));
    return {std::make_shared<const CalibratedView>(std::make_shared<MemoryFrame>(std::move(pixels)), set), method};
}

double variance_of(const Image& planes, int plane) {
    double sum = 0, squares = 0, n = 0;
    for (int y = 8; y < kSide - 8; ++y)
        for (int x = 8; x < kSide - 8; ++x) {
            const double v = static_cast<double>(planes(x, y, plane)) - 1000;
            sum += v, squares += v * v, ++n;
        }
    return squares / n - sum * sum / n / n;
}

} // namespace

TEST_CASE("A demosaiced plane has of the noise of the other colours, in units of its own") {
    const Canvas canvas = reference_canvas(kSide, kSide);
    for (const ColourMethod method : {ColourMethod::adaptive, ColourMethod::bilinear})
        for (const std::array<double, 3>& noise :
             {std::array<double, 3>{10, 10, 10}, {30, 10, 20}, {10, 30, 12}, {12, 8, 40}}) {
            const FrameView view = mosaic(noise, method, 5);
            const Image planes = read_planes(view);
            const NoiseFactors factors(view, noise);
            for (int p = 0; p < 3; ++p) {
                INFO(static_cast<int>(method)
                     << " plane " << p << " of noise " << noise[0] << " " << noise[1] << " " << noise[2]);
                const double unit = noise[static_cast<std::size_t>(p)];
                CHECK(factors.factor(p, {}, canvas) == Approx(variance_of(planes, p) / unit / unit).epsilon(0.05));
            }
        }
}

TEST_CASE("Sources of one size are of one kind, by the usual noise of their planes") {
    std::vector<StackFrame> frames;
    for (const double red : {10.0, 30.0, 31.0}) {
        const auto view = std::make_shared<const FrameView>(mosaic({red, 10, 10}, ColourMethod::adaptive, 9));
        StackFrame f;
        f.source = view;
        for (const double noise : {red, 10.0, 10.0})
            f.planes.push_back({{}, {}, noise});
        frames.push_back(std::move(f));
    }
    const StackNoiseFactors factors(frames);
    const Canvas canvas = reference_canvas(kSide, kSide);
    const std::array<double, 3> usual = {30, 10, 10};
    const NoiseFactors expected(*frames[1].source, usual);
    for (const StackFrame& f : frames)
        CHECK(factors.of(f).factor(1, {}, canvas) == expected.factor(1, {}, canvas));
}
