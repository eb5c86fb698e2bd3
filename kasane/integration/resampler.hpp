// One rectangle of a frame on the canvas.
#pragma once

#include <kasane/image/peaks.hpp>
#include <kasane/image/resample.hpp>
#include <kasane/integration/slant.hpp>
#include <kasane/integration/stack.hpp>

#include <array>
#include <cstddef>
#include <cstdint>
#include <functional>
#include <span>
#include <vector>

namespace kasane {

/// A rectangle of an exposure's planes, read once and resampled plane by plane. Keeps its buffers from call to call;
/// one for each thread.
class Resampler {
public:
    /// What is done while rows are at hand.
    struct Along {
        /// By plane: samples so bright are saturated where one of the sixteen nearest is. Empty: none are looked for.
        std::span<const float> bright_from{};
        /// Called after each row of a plane, which it may change.
        std::function<void(std::size_t plane, int y)> row{};
    };
    /// Resamples all planes of a rectangle onto the canvas into `out` by Lanczos-3; NaN where the frame has no data.
    /// `ringing_sigmas` as in IntegrateOptions.
    void resample(const StackFrame& frame, const Region& region, double ringing_sigmas,
                  const std::vector<View<float>>& out, const Along& along);
    void resample(const StackFrame& frame, const Region& region, double ringing_sigmas,
                  const std::vector<View<float>>& out) {
        resample(frame, region, ringing_sigmas, out, {});
    }
    /// After `resample` with the same frame and rectangle: calls f(plane, x, y, bits) for each pixel of the rectangle,
    /// counted from its first, that has a marked sample of the frame among its four nearest. A pixel may come several
    /// times.
    void for_each_marked(const StackFrame& frame, const Region& region,
                         const std::function<void(std::size_t, int, int, quality::Bits)>& f) const;
    /// What `resample` found if it was asked to: pixels of the rectangle (y * width + x, ascending) whose samples of
    /// one plane are made of saturated ones: with one of the four nearest, or with one of the sixteen where they are
    /// as bright as was said.
    std::vector<std::uint32_t>& saturated(std::size_t plane) { return saturated_[plane]; }
    /// The part of the frame that the last call read.
    const Region& source() const { return inside_; }

private:
    /// Which rows of `inside_` a stretch of positions lies in: to before `end`.
    struct Rows {
        int first, end;
    };
    /// Positions that are at hand together.
    static constexpr int kChunk = 512;
    /// One plane of a rectangle.
    struct Plane {
        std::size_t index;
        const Transform& to_frame;
        const Region& region;
        struct {
            int x, y;
        } origin; ///< of `source` in the frame
        View<const float> source;
        View<float> out;
        ResampleOptions options;
        const Along& along;
    };
    void resample_rows(const Plane& plane, int top, int bottom);
    void resample_turned(const Plane& plane, const Slant& slant);
    void resample_band(const Plane& plane, const Region& band, const Slant& slant, bool continued);
    void prepare_band(const Plane& plane, const Region& band, const Slant& slant);
    Positions split_lines(const Plane& plane, const Region& band, const Slant& slant, int first, int line, int count);
    bool split_row(const Plane& plane, int x, int y, int count);
    Positions split(int count) {
        return {split_.column(), split_.row(), split_.fraction_x(), split_.fraction_y(), count};
    }
    void take_saturated(const Plane& plane, const Region& part, bool even);
    void mark_near_full(std::size_t plane);
    bool near_full(const Rows& rows) const;

    std::vector<float> pixels_;
    std::unique_ptr<ReadMemory> memory_;
    Peaks peaks_;
    std::vector<QualityPlane> quality_;        ///< of `inside_`, by plane
    std::vector<std::uint8_t> near_full_;      ///< of `inside_`: what a sample between its pixels has among its own
    std::vector<std::uint8_t> near_full_rows_; ///< where it holds any; the others are not written
    bool any_near_full_ = false;
    std::vector<std::vector<std::uint32_t>> saturated_;
    Region inside_;
    Transform::Patches patches_; ///< of the plane
    SplitPlaces<kChunk> split_;
    /// Where the first pixel of a band lies, and the steps from column to column and from row to row.
    struct {
        std::int64_t u, u_x, u_y, v, v_x, v_y;
    } even_{};
    /// Or where all of them lie, where they do not lie evenly.
    std::vector<std::int32_t> column_, row_;
    std::vector<float> fraction_x_, fraction_y_;
    std::vector<float> lines_;
    std::vector<float> carried_; ///< the last lines of each block, which reach into the next band
};

} // namespace kasane
