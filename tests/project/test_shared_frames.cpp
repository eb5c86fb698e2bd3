// What lights share while they are measured and integrated: within the memory, and without a trace in the values.
#include "support/support.hpp"

#include <kasane/calibration/master_frame.hpp>
#include <kasane/stages/shared_frames.hpp>

#include <catch2/catch.hpp>
#include <limits>

using namespace kasane;
using namespace kasane::test;

namespace {

constexpr int kWidth = 120, kHeight = 90;
constexpr std::uint64_t kPixels = kWidth * kHeight, kNoLimit = std::numeric_limits<std::uint64_t>::max();

std::shared_ptr<const FrameReader> frame(float level, std::uint64_t seed) {
    Image image(kWidth, kHeight, 1, level);
    add_noise(image, 0.01 * static_cast<double>(level), seed);
    return std::make_shared<MemoryFrame>(std::move(image));
}

/// Lights, four of which have one pair of masters, three another, one a third dark.
std::vector<std::shared_ptr<const FrameView>> views() {
    const auto flat = frame(1, 2), other_flat = frame(1, 3);
    std::vector<std::shared_ptr<const FrameView>> out;
    for (std::uint64_t k = 0; k < 8; ++k) {
        static const std::shared_ptr<const FrameReader> dark = frame(100, 1), third = frame(110, 4);
        const CalibrationSet set{.dark = k == 7 ? third : dark, .flat = k < 4 || k == 7 ? flat : other_flat};
        out.push_back(
            std::make_shared<const FrameView>(std::make_shared<const CalibratedView>(frame(900, 10 + k), set)));
    }
    return out;
}

const MasterFrame* known(const std::shared_ptr<const FrameView>& view) {
    return view->source().calibration().prepared.get();
}

} // namespace

TEST_CASE("Lights with the same masters share what these do, as far as the memory goes") {
    const auto all = views();
    SharedFrames shared(all, kNoLimit);
    std::vector<std::shared_ptr<const FrameView>> out;
    const Workers workers(2);
    for (std::size_t k = 0; k < all.size(); ++k) {
        out.push_back(shared.prepared(k, all[k], &workers));
        Image plain(kWidth, kHeight), prepared(kWidth, kHeight);
        all[k]->read(all[k]->bounds(), views_of(plain), {});
        out[k]->read(all[k]->bounds(), views_of(prepared), {});
        CHECK(plain.pixels() == prepared.pixels());
    }
    CHECK((known(out[0]) && known(out[0]) == known(out[3])));
    CHECK((known(out[4]) && known(out[4]) == known(out[6]) && known(out[4]) != known(out[0])));
    CHECK_FALSE(known(out[7]));
    CHECK(shared.bytes() == 2 * 8 * kPixels); // not of the one that shares with nobody

    SharedFrames one(all, 12 * kPixels); // room for one of two
    CHECK(known(one.prepared(0, all[0])));
    CHECK_FALSE(known(one.prepared(4, all[4])));
    CHECK(one.bytes() == 8 * kPixels);
    SharedFrames none(all, 8 * kPixels - 1);
    CHECK_FALSE(known(none.prepared(0, all[0])));
    CHECK(none.bytes() == 0);
}

TEST_CASE("What lights share goes with the last of them") {
    const auto all = views();
    SharedFrames shared(all, 16 * kPixels);
    std::weak_ptr<const MasterFrame> frame;
    for (std::size_t k = 0; k < 4; ++k) {
        const auto view = shared.prepared(k, all[k]);
        REQUIRE(known(view));
        frame = view->source().calibration().prepared;
        CHECK_FALSE(frame.expired());
        shared.done(k);
    }
    CHECK(frame.expired());
    CHECK(shared.bytes() == 0);
    SharedFrames small(all, 8 * kPixels); // one at a time
    CHECK(known(small.prepared(0, all[0])));
    CHECK_FALSE(known(small.prepared(4, all[4])));
    for (std::size_t k = 0; k < 4; ++k)
        small.done(k);
    CHECK(known(small.prepared(4, all[4])));
}
