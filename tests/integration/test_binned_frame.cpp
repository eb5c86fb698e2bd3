// Frames of finer pixels than the canvas: none of their light is passed over.
#include "support/support.hpp"

#include <kasane/integration/binned_frame.hpp>
#include <kasane/integration/integrate.hpp>

#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

StackFrame frame_of(Image image, const Transform& t, double noise) {
    StackFrame f;
    f.source = std::make_shared<ImagePlanes>(std::move(image));
    f.planes = {{t, {}, noise}};
    f.electrons_per_adu = 0.5;
    return f;
}

} // namespace

TEST_CASE(
    "A frame of finer pixels is averaged to the canvas, where its stars are and as deep as all its pixels make it") {
    constexpr double kSigma = 10, kSide = 2.9;
    std::vector<StackFrame> stack;
    const Lens lens{{300, 300}, 420, {0.01, 0, 0}, {1e-4, -2e-4}};
    const auto glass = std::make_shared<const Lens>(lens);
    const std::array<double, 9> map = {kSide, 0.1, 3, -0.1, kSide, 5, 0, 0, 1};
    const Transform t(map, glass);
    const Canvas canvas = reference_canvas(190, 190);
    const Point star = t.map({90, 100});
    for (std::uint64_t k = 0; k < 6; ++k) {
        Image image(600, 600);
        add_noise(image, kSigma, 10 + k);
        add_gaussian_star(image, star.x, star.y, 60000, 8);
        stack.push_back(binned_to_canvas(frame_of(std::move(image), t, kSigma)));
    }
    CHECK(stack[0].source->width() == 200); // of three pixels
    CHECK(stack[0].planes[0].noise == Approx(kSigma / 3));
    CHECK(stack[0].electrons_per_adu == Approx(0.5 * 9));
    // Where a pixel of the canvas lies has not changed, but for the unit.
    for (const Point c : {Point{0, 0}, Point{150, 20}, Point{80, 160}}) {
        const Point fine = t.map(c), coarse = stack[0].planes[0].to_frame.map(c);
        CHECK(coarse.x == Approx((fine.x - 1) / 3).margin(1e-6));
        CHECK(coarse.y == Approx((fine.y - 1) / 3).margin(1e-6));
    }
    const MasterLight m = integrate(stack, canvas, {0}, Quiet().context);
    double squares = 0, x = 0, y = 0, flux = 0;
    int n = 0;
    for (int j = 20; j < 75; ++j)
        for (int i = 10; i < 175; ++i, ++n)
            squares += std::pow(m.pixels(i, j), 2);
    // Six frames, and the 8.4 pixels under each of the canvas's: a lone sample each would have 4.
    CHECK(std::sqrt(squares / n) < 1.1 * kSigma / std::sqrt(6 * kSide * kSide));
    for (int j = 92; j <= 108; ++j)
        for (int i = 82; i <= 98; ++i) {
            const double v = m.pixels(i, j);
            flux += v, x += v * i, y += v * j;
        }
    CHECK(x / flux == Approx(90).margin(0.05));
    CHECK(y / flux == Approx(100).margin(0.05));
    CHECK(flux * std::abs(t.at({90, 100}).determinant()) == Approx(60000).epsilon(0.01));
}

TEST_CASE("A frame of about the canvas's pixels is left as it is") {
    const StackFrame f = binned_to_canvas(frame_of(Image(50, 50), Transform(Affine{1.4, 0, 0, 0, 1.4, 0}), 1));
    CHECK(f.source->width() == 50);
    CHECK(f.planes[0].noise == 1);
}
