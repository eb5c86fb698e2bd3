// Parts of a rectangle, read along with what other frames left: as integration reads frames that are turned.
#include "support/support.hpp"

#include <kasane/base/error.hpp>
#include <kasane/calibration/frame_view.hpp>
#include <kasane/sky/random.hpp>

#include <array>
#include <catch2/catch.hpp>
#include <cmath>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kWidth = 130, kHeight = 110;
constexpr float kUntouched = -7e6f;

std::shared_ptr<const FrameReader> field(float level, double noise, std::uint64_t seed) {
    Image image(kWidth, kHeight, 1, level);
    add_noise(image, noise, seed);
    return std::make_shared<MemoryFrame>(std::move(image));
}

/// A light with saturated pixels, and defects in two rows of each strip; a mosaic where `letters` say so.
FrameView light_of(const std::string& letters, ColourMethod method, std::uint64_t seed) {
    Image raw(kWidth, kHeight, 1, 1500.0f);
    add_noise(raw, 20, seed);
    sky::Random random(seed);
    std::vector<std::pair<int, int>> defects;
    for (int y = 0; y < kHeight; ++y) {
        raw(static_cast<int>(random.uniform(0, kWidth)), y) = 60000;
        if (y % 3 != 2) defects.emplace_back(static_cast<int>(random.uniform(0, kWidth)), y);
    }
    CalibrationSet set{.dark = field(100, 3, seed + 1),
                       .flat = field(1, 0.01, seed + 2),
                       .defects = std::make_shared<const DefectList>(kHeight, defects)};
    set.saturation = 50000;
    if (!letters.empty()) set.cfa = CfaPattern(letters);
    return {std::make_shared<const CalibratedView>(std::make_shared<MemoryFrame>(std::move(raw)), std::move(set)),
            method};
}

} // namespace

TEST_CASE("Parts of a rectangle come out as the rectangle does, with what is told of their samples") {
    struct Case {
        std::string letters;
        ColourMethod method;
    };
    const Case c = GENERATE(Case{"", ColourMethod::adaptive}, Case{"RGGB", ColourMethod::adaptive},
                            Case{"GBRG", ColourMethod::bilinear}, Case{"RGGB", ColourMethod::binned},
                            Case{"GRBG", ColourMethod::separate}, Case{"RGGB", ColourMethod::green},
                            Case{"GGRGGBGGBGGRBRGRBGGGBGGRGGRGGBRBGBRG", ColourMethod::adaptive});
    INFO(c.letters << " " << colour_method_name(c.method));
    std::unique_ptr<ReadMemory> memory;
    for (const std::uint64_t seed : {1U, 2U, 3U}) { // the later ones with what the earlier left
        const FrameView view = light_of(c.letters, c.method, seed);
        const int w = view.width(), h = view.height();
        const Region all{1, 2, w - 3, h - 4};
        // A lozenge of strips of odd heights, the last not up to the end.
        std::vector<Region> parts;
        for (int y = all.y, k = 0; y + 7 < all.bottom() - 3; y += 7, ++k) {
            const int off = std::abs(k % 6 - 3) * w / 12;
            parts.push_back({all.x + off, y, all.width - 2 * off, 7});
        }
        const auto planes = static_cast<std::size_t>(view.planes());
        Image whole(all.width, all.height, view.planes());
        Image in_parts(all.width, all.height, view.planes(), kUntouched);
        std::vector<QualityPlane> of_whole(planes), of_parts(planes);
        view.read(all, views_of(whole), of_whole);
        view.read_parts(all, parts, views_of(in_parts), of_parts, memory);
        int marked = 0, wrong = 0;
        for (std::size_t p = 0; p < planes; ++p)
            for (int y = 0; y < all.height; ++y)
                for (int x = 0; x < all.width; ++x) {
                    const Region here{all.x + x, all.y + y, 1, 1};
                    const bool asked = std::any_of(parts.begin(), parts.end(),
                                                   [&](const Region& part) { return part.contains(here); });
                    const float value = in_parts.plane(static_cast<int>(p))(x, y);
                    const quality::Bits bits = of_parts[p].at(x, y), expected = of_whole[p].at(x, y);
                    wrong += asked ? value != whole.plane(static_cast<int>(p))(x, y) || bits != expected
                                   : value != kUntouched || bits != 0;
                    marked += bits != 0;
                }
        CHECK(wrong == 0);
        CHECK(marked > 20);
    }
}
