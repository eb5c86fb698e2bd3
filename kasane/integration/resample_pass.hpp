// The pass that brings the frames of a stack onto the canvas by interpolation, and combines them pixel by pixel.
#pragma once

#include <kasane/combination/combiner.hpp>
#include <kasane/integration/halves.hpp>
#include <kasane/integration/integrate.hpp>
#include <kasane/integration/resampler.hpp>
#include <kasane/integration/tile_engine.hpp>

#include <atomic>
#include <vector>

namespace kasane {

class ResamplePass final : public TilePass {
public:
    /// `combiners` one a plane; the pixels and the coverage of `result` have the canvas's size. All live on.
    ResamplePass(const std::vector<StackFrame>& frames, const std::vector<Combiner>& combiners,
                 const IntegrateOptions& options, MasterLight& result);

    std::uint64_t bytes(std::int64_t pixels) const override;
    void run(const Region& region, MappedMemory& mapped) override;
    void release() override;
    /// Writes the counts into the result, when all is done. A frame that could not be read is told there already; the
    /// tiles after it were left undone.
    void finish();

private:
    /// Samples of one plane of a tile that do not count where others have real data.
    struct Flagged {
        std::vector<std::vector<std::uint32_t>> by_frame; ///< pixels of the tile
    };
    struct Scratch {
        std::vector<float> samples; ///< plane by plane, frame by frame
        Resampler resampler;
        std::vector<Flagged> flagged; ///< by plane
        std::vector<std::uint16_t> real;
        std::vector<float> mean, weight;
        std::vector<std::uint16_t> low, high;
    };

    /// False if a frame cannot be read.
    bool fill(const Region& region, Scratch& s, MappedMemory& mapped);
    std::uint64_t pass_over(Scratch& s, std::size_t plane, std::ptrdiff_t pixels) const;
    void combine(const Region& region, Scratch& s, std::size_t plane);
    void compare_halves(const Region& region, const Scratch& s, std::size_t plane);

    const std::vector<StackFrame>& frames_;
    const std::vector<Combiner>& combiners_;
    const IntegrateOptions& options_;
    MasterLight& result_;
    Pool<Scratch> pool_;
    std::atomic<std::uint64_t> samples_{0}, low_{0}, high_{0}, passed_over_{0};
    std::atomic<bool> failed_{false};
    std::mutex halves_mutex_;
    std::vector<HalvesScatter> halves_; ///< by plane
    std::mutex failure_mutex_;
};

} // namespace kasane
