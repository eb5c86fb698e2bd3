// What lights share while they are measured and integrated: within the memory, and without a trace in the values.
#include "support/support.hpp"

#include <kasane/calibration/master_frame.hpp>
#include <kasane/stages/shared_frames.hpp>

#include <catch2/catch.hpp>
#include <limits>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kSharedWidth = 120, kSharedHeight = 90;
constexpr std::uint64_t kSharedPixels = kSharedWidth * kSharedHeight,
                        kAnyAmount = std::numeric_limits<std::uint64_t>::max();

std::shared_ptr<const FrameReader> flat_frame(float level, std::uint64_t seed) {
    Image image(kSharedWidth, kSharedHeight, 1, level);
    add_noise(image, 0.01 * static_cast<double>(level), seed);
    return std::make_shared<MemoryFrame>(std::move(image));
}

/// Lights, four of which have one pair of masters, three another, one a third dark.
std::vector<std::shared_ptr<const FrameView>> alike_and_other_lights() {
    const auto flat = flat_frame(1, 2), other_flat = flat_frame(1, 3);
    std::vector<std::shared_ptr<const FrameView>> out;
    for (std::uint64_t k = 0; k < 8; ++k) {
        static const std::shared_ptr<const FrameReader> dark = flat_frame(100, 1), third = flat_frame(110, 4);
        const CalibrationSet set{.dark = k == 7 ? third : dark, .flat = k < 4 || k == 7 ? flat : other_flat};
        out.push_back(
            std::make_shared<const FrameView>(std::make_shared<const CalibratedView>(flat_frame(900, 10 + k), set)));
    }
    return out;
}

const MasterFrame* effect_known(const std::shared_ptr<const FrameView>& view) {
    return view->source().calibration().prepared.get();
}

} // namespace

TEST_CASE("Lights with the same masters share what these do, as far as the memory goes") {
    const auto all = alike_and_other_lights();
    SharedFrames shared(all, kAnyAmount);
    std::vector<std::shared_ptr<const FrameView>> out;
    const Workers workers(2);
    for (std::size_t k = 0; k < all.size(); ++k) {
        out.push_back(shared.prepared(k, all[k], &workers));
        Image plain(kSharedWidth, kSharedHeight), prepared(kSharedWidth, kSharedHeight);
        all[k]->read(all[k]->bounds(), views_of(plain), {});
        out[k]->read(all[k]->bounds(), views_of(prepared), {});
        CHECK(plain.pixels() == prepared.pixels());
    }
    CHECK((effect_known(out[0]) && effect_known(out[0]) == effect_known(out[3])));
    CHECK((effect_known(out[4]) && effect_known(out[4]) == effect_known(out[6]) &&
           effect_known(out[4]) != effect_known(out[0])));
    CHECK_FALSE(effect_known(out[7]));
    CHECK(shared.bytes() == 2 * 8 * kSharedPixels); // not of the one that shares with nobody

    SharedFrames one(all, 12 * kSharedPixels); // room for one of two
    CHECK(effect_known(one.prepared(0, all[0])));
    CHECK_FALSE(effect_known(one.prepared(4, all[4])));
    CHECK(one.bytes() == 8 * kSharedPixels);
    SharedFrames none(all, 8 * kSharedPixels - 1);
    CHECK_FALSE(effect_known(none.prepared(0, all[0])));
    CHECK(none.bytes() == 0);
}

TEST_CASE("What lights share goes with the last of them") {
    const auto all = alike_and_other_lights();
    SharedFrames shared(all, 16 * kSharedPixels);
    std::weak_ptr<const MasterFrame> frame;
    for (std::size_t k = 0; k < 4; ++k) {
        const auto view = shared.prepared(k, all[k]);
        REQUIRE(effect_known(view));
        frame = view->source().calibration().prepared;
        CHECK_FALSE(frame.expired());
        shared.done(k);
    }
    CHECK(frame.expired());
    CHECK(shared.bytes() == 0);
    SharedFrames small(all, 8 * kSharedPixels); // one at a time
    CHECK(effect_known(small.prepared(0, all[0])));
    CHECK_FALSE(effect_known(small.prepared(4, all[4])));
    for (std::size_t k = 0; k < 4; ++k)
        small.done(k);
    CHECK(effect_known(small.prepared(4, all[4])));
}
