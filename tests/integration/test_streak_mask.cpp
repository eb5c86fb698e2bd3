#include "support/support.hpp"

#include <kasane/base/units.hpp>
#include <kasane/integration/integrate.hpp>
#include <kasane/integration/streak_mask.hpp>

#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

StackFrame frame_with_trail(int n, bool trail, double shift = 0) {
    Image image(160, 120, 1, 500.0f);
    add_noise(image, 5, 40 + static_cast<std::uint64_t>(n));
    const Streak streak{10 + shift, 20, 150 + shift, 90, 6};
    if (trail)
        for (int y = 0; y < 120; ++y)
            for (int x = 0; x < 160; ++x) {
                const double t = std::clamp((x - streak.x0) / 140, 0.0, 1.0);
                const double off = std::hypot(x - streak.x0 - 140 * t, y - 20 - 70 * t);
                image(x, y) += static_cast<float>(12 * std::exp(-0.5 * off * off / 4)); // hardly above the noise
            }
    StackFrame f{
        std::make_shared<const ImagePlanes>(std::move(image)), {{Transform(Affine{1, 0, shift, 0, 1, 0}), {}, 5}}, 0};
    if (trail) f.streaks = {streak};
    return f;
}

/// The excess of a master along the trail over its noise there.
double left_along(const MasterLight& m) {
    double sum = 0;
    int n = 0;
    for (int x = 20; x < 140; ++x) {
        sum += m.pixels(x, static_cast<int>(std::lround(20 + 0.5 * (x - 10)))) - 500;
        ++n;
    }
    return sum / n;
}

} // namespace

TEST_CASE("Samples under a trail are those within its width, in any rectangle of the canvas") {
    const StackFrame f = frame_with_trail(1, true, 3.25);
    std::vector<std::uint32_t> whole, part;
    samples_under_streaks(f, 0, {0, 0, 160, 120}, whole);
    CHECK(std::is_sorted(whole.begin(), whole.end()));
    // Length 156.5 and two half discs of radius 6; cut by nothing.
    CHECK(static_cast<double>(whole.size()) == Approx(156.5 * 12 + kPi * 36).epsilon(0.02));
    CHECK(std::binary_search(whole.begin(), whole.end(), 55u * 160 + 80));
    std::size_t pieces = 0;
    for (int y = 0; y < 120; y += 37)
        for (int x = 0; x < 160; x += 41) {
            const Region r = intersect({x, y, 41, 37}, {0, 0, 160, 120});
            samples_under_streaks(f, 0, r, part);
            pieces += part.size();
            for (const std::uint32_t i : part)
                CHECK(std::binary_search(whole.begin(), whole.end(),
                                         static_cast<std::uint32_t>((r.y + static_cast<int>(i) / r.width) * 160 + r.x +
                                                                    static_cast<int>(i) % r.width)));
        }
    CHECK(pieces == whole.size());
    samples_under_streaks(frame_with_trail(1, false), 0, {0, 0, 160, 120}, whole);
    CHECK(whole.empty());
}

TEST_CASE("A trail that was found leaves nothing in a stack of four, too faint for any limit though it is") {
    const Quiet quiet;
    std::vector<StackFrame> frames;
    for (int n = 0; n < 4; ++n)
        frames.push_back(frame_with_trail(n, n == 2, n));
    const Canvas canvas{160, 120};
    const MasterLight masked = integrate(frames, canvas, {500}, quiet.context);
    const MasterLight judged = integrate(frames, canvas, {500}, quiet.context, {.mask_streaks = false});
    // 120 samples of noise 5 / sqrt(3), hardly correlated along the trail: 0.3 ADU.
    CHECK(std::abs(left_along(masked)) < 0.9);
    CHECK(left_along(judged) > 2);
    CHECK(masked.under_streaks > 1500);
    CHECK((masked.shares[2].streaks == masked.under_streaks && judged.under_streaks == 0));
    CHECK(masked.rejected.high(80, 54) == Approx(RejectionMaps::kUnit / 4).epsilon(0.01));
    CHECK(masked.coverage(80, 54) == Approx(0.75).epsilon(0.01));
}

TEST_CASE("Where trails lie over each other in all frames, they stay: there is nothing else") {
    const Quiet quiet;
    std::vector<StackFrame> frames;
    for (int n = 0; n < 3; ++n)
        frames.push_back(frame_with_trail(n, true));
    const MasterLight m = integrate(frames, {160, 120}, {500}, quiet.context);
    CHECK(m.under_streaks == 0);
    CHECK(std::isfinite(m.pixels(80, 55)));
    // One of three is not enough to do without the others.
    frames[2] = frame_with_trail(2, false);
    CHECK(integrate(frames, {160, 120}, {500}, quiet.context).under_streaks == 0);
    // Of two frames it is.
    frames = {frame_with_trail(0, false), frame_with_trail(1, true)};
    const MasterLight two = integrate(frames, {160, 120}, {500}, quiet.context);
    CHECK(two.under_streaks > 1500);
    CHECK(std::isfinite(two.pixels(80, 55)));
}
