// One rectangle of a frame on the canvas.
#pragma once

#include <kasane/image/peaks.hpp>
#include <kasane/integration/stack.hpp>

#include <cstddef>
#include <functional>
#include <vector>

namespace kasane {

/// A rectangle of an exposure's planes, read once and resampled plane by plane. Keeps its buffers from call to call;
/// one for each thread.
class Resampler {
public:
    /// Resamples all planes of a rectangle onto the canvas into `out` by Lanczos-3; NaN where the frame has no data.
    /// `ringing_sigmas` as in IntegrateOptions.
    void resample(const StackFrame& frame, const Region& region, double ringing_sigmas,
                  const std::vector<View<float>>& out);
    /// After `resample` with the same frame and rectangle: calls f(plane, x, y, bits) for each pixel of the rectangle,
    /// counted from its first, that has a marked sample of the frame among its four nearest. A pixel may come several
    /// times.
    void for_each_marked(const StackFrame& frame, const Region& region,
                         const std::function<void(std::size_t, int, int, quality::Bits)>& f) const;
    /// After `resample` with the same frame and rectangle: pixels of the rectangle (y * width + x, ascending) whose
    /// samples of one plane are made of saturated ones: with one of the four nearest, or with one of the sixteen where
    /// `values` (what was resampled) is `bright_from` or more.
    void saturated_samples(const StackFrame& frame, std::size_t plane, const Region& region, View<const float> values,
                           float bright_from, std::vector<std::uint32_t>& out);
    /// The part of the frame that the last call read.
    const Region& source() const { return inside_; }

private:
    std::vector<float> pixels_;
    std::unique_ptr<ReadMemory> memory_;
    Peaks peaks_;
    std::vector<QualityPlane> quality_;   ///< of `inside_`, by plane
    std::vector<std::uint8_t> near_full_; ///< of `inside_`: what a sample between its pixels has among its own
    Region inside_;
};

} // namespace kasane
