// What calibration masters do to a rectangle of a frame, kept for the frames that are read around the same place after
// it.
#pragma once

#include <kasane/calibration/master_effect.hpp>

#include <cstdint>
#include <memory>
#include <vector>

namespace kasane {

/// Of one thread. What it makes of a pixel does not depend on what was read before.
class MasterWindow final : public ReadMemory {
public:
    /// Pixels on every side of what is asked for that are kept as well: what frames are dithered by, for the most part.
    static constexpr int kMargin = 32;
    explicit MasterWindow(int margin = kMargin) : margin_(margin) {}

    /// The next rectangles are parts of this one, which is kept as a whole.
    void surround(const Region& region) {
        around_ = region;
        ++reads_;
    }

    /// Subtracts the darks of `calibration` from a rectangle of raw values of `raw` and divides by its flat; NaN where
    /// the flat has no light to speak of. Whether all of them are finite. Throws InputError where a master cannot be
    /// read.
    bool apply(const CalibrationSet& calibration, const FrameReader& raw, const Region& region, int plane,
               View<float> values);

private:
    /// One plane of a rectangle, and what it was made by.
    struct Part {
        MasterChoice by;
        Region region{};
        std::vector<float> subtract, multiply; ///< row by row, where there is a dark, and a flat
        bool served = true;                    ///< more than the read that it was made for
        std::uint64_t made_in = 0;             ///< that read, as `reads_` counts them
    };
    Part& part_for(const CalibrationSet& c, const FrameReader& raw, const Region& region, int plane);

    int margin_;
    Region around_{};
    std::uint64_t reads_ = 0; ///< that were told
    std::vector<Part> parts_; ///< by plane
    std::vector<float> scratch_;
};

} // namespace kasane
