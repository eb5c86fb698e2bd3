// The samples of a tile: of all frames, on the canvas, at one level, without those that are known to be of no use.
#pragma once

#include <kasane/combination/combiner.hpp>
#include <kasane/integration/lengths.hpp>
#include <kasane/integration/resampler.hpp>
#include <kasane/integration/stack.hpp>
#include <kasane/integration/tile_engine.hpp>

#include <optional>
#include <vector>

namespace kasane {

struct SampleOptions {
    double ringing_sigmas = 8; ///< as in IntegrateOptions
    double real_share = 0.25;
    bool mask_streaks = true;
    const LengthRules* lengths = nullptr; ///< null: saturated samples are as good as others
};

/// Keeps its memory from tile to tile; one for each thread.
class TileSamples {
public:
    /// Reads and brings onto the canvas. A frame that cannot be read is returned, and nothing else is of use then.
    std::optional<FrameFailure> fill(const std::vector<StackFrame>& frames, const Region& region,
                                     const SampleOptions& options, MappedMemory& mapped);

    /// Plane by plane, frame by frame, rows of the rectangle one after the other; NaN without data.
    float* data() { return samples_.data(); }
    const float* data() const { return samples_.data(); }
    std::ptrdiff_t pixels() const { return pixels_; }
    float* plane(std::size_t p) { return samples_.data() + static_cast<std::ptrdiff_t>(p * frames_) * pixels_; }
    const float* plane(std::size_t p) const {
        return samples_.data() + static_cast<std::ptrdiff_t>(p * frames_) * pixels_;
    }
    /// Samples of a plane that lie under trails and were taken out, where others stand in for them; by frame.
    const std::vector<RejectedSample>& under_streaks(std::size_t p) const { return under_streaks_[p]; }
    /// The same of samples made of neighbours.
    const std::vector<RejectedSample>& passed_over(std::size_t p) const { return passed_over_[p]; }
    /// The same of samples that are saturated, or of a length of which others are.
    const std::vector<RejectedSample>& saturated(std::size_t p) const { return left_out_[p]; }
    /// How many of the longest lengths left each pixel; empty: none left any.
    const std::vector<std::uint8_t>& left(std::size_t p) const { return left_[p]; }
    /// Pixels where all that stayed is saturated, ascending.
    const std::vector<std::uint32_t>& burnt(std::size_t p) const { return burnt_[p]; }
    /// Whether a frame has data everywhere, but for the samples that were taken out.
    bool complete(std::size_t p, std::size_t frame) const { return complete_[p * frames_ + frame] != 0; }

private:
    using Lists = std::vector<std::vector<std::uint32_t>>; ///< pixels by frame
    template <class Use>
    void take_out(Lists& lists, std::size_t plane, double least, Use use);
    void leave_to_shorter(const std::vector<StackFrame>& frames, const LengthRules& rules, std::size_t plane);

    std::size_t frames_ = 0;
    std::ptrdiff_t pixels_ = 0;
    std::vector<float> samples_;
    Resampler resampler_;
    std::vector<Lists> repaired_, streaked_; ///< by plane
    std::vector<std::vector<RejectedSample>> under_streaks_;
    std::vector<std::vector<RejectedSample>> passed_over_;
    std::vector<Lists> full_; ///< saturated, by plane
    std::vector<std::vector<RejectedSample>> left_out_;
    std::vector<std::vector<std::uint8_t>> left_;
    std::vector<std::vector<std::uint32_t>> burnt_;
    std::vector<std::uint16_t> real_;
    std::vector<std::uint8_t> complete_; ///< by plane and frame
};

} // namespace kasane
