// The pass that brings the frames of a stack onto the canvas by interpolation, and combines them pixel by pixel.
#pragma once

#include <kasane/combination/combiner.hpp>
#include <kasane/integration/edge_feather.hpp>
#include <kasane/integration/halves.hpp>
#include <kasane/integration/integrate.hpp>
#include <kasane/integration/length_fade.hpp>
#include <kasane/integration/length_map.hpp>
#include <kasane/integration/lengths.hpp>
#include <kasane/integration/rejected_cells.hpp>
#include <kasane/integration/sample_counts.hpp>
#include <kasane/integration/tile_engine.hpp>
#include <kasane/integration/tile_judge.hpp>
#include <kasane/integration/tile_samples.hpp>

#include <atomic>
#include <vector>

namespace kasane {

class ResamplePass final : public TilePass {
public:
    /// `combiners` one a plane, for `combine` (sums as means); the images of `result` have the canvas's size. All live
    /// on. `rejected` may be null.
    ResamplePass(const std::vector<StackFrame>& frames, const std::vector<Combiner>& combiners,
                 const CombineOptions& combine, const IntegrateOptions& options, MasterLight& result,
                 RejectedPixels* rejected = nullptr);

    std::uint64_t bytes(std::int64_t pixels) const override;
    void run(const Region& region, MappedMemory& mapped) override;
    void release() override;
    /// Pixels around a tile on which its own depend.
    int halo() const;
    /// That are held until `finish`.
    std::uint64_t kept_bytes() const { return cells_.bytes(); }
    /// Writes the counts into the result, when all is done. A frame that could not be read is told there already; the
    /// tiles after it were left undone.
    void finish();

private:
    struct Scratch {
        TileSamples samples;
        TileJudge::Scratch judged;
        std::vector<float> low, high;     ///< shares of the weight that were rejected
        std::vector<std::uint8_t> marked; ///< rows of the tile that have any
        std::vector<std::int32_t> core;   ///< of a row: 1 where the image has structure
        EdgeFeather feather;
        LengthFade fade;
        std::vector<float> stays;           ///< by pixel of the tile with its rim, what does not fade of its mean
        std::vector<std::uint16_t> lengths; ///< which makes each pixel of the tile with its rim
    };
    /// A tile, and what was judged with it.
    struct Tile {
        Region region, wide;
        bool holds(std::uint32_t pixel) const;
        std::size_t place(std::uint32_t pixel) const; ///< in the tile itself
    };

    void take(const Tile& tile, Scratch& s, std::size_t plane, SampleCounts& counts);
    void feather(const Tile& tile, Scratch& s, std::size_t plane);
    void fade_lengths(const Tile& tile, Scratch& s, std::size_t plane);
    void write_maps(const Tile& tile, const Scratch& s);
    void write_lengths(const Tile& tile, Scratch& s);
    void compare_halves(const Tile& tile, const Scratch& s, std::size_t plane);

    const std::vector<StackFrame>& frames_;
    const std::vector<Combiner>& combiners_;
    const IntegrateOptions& options_;
    MasterLight& result_;
    RejectedPixels* const rejected_;
    const LengthRules lengths_;
    TileJudge judge_;
    const Region bounds_; ///< of the canvas
    float times_ = 1;     ///< of the mean
    RejectedCellCounts cells_;
    Pool<Scratch> pool_;
    std::atomic<bool> failed_{false};
    std::mutex mutex_; ///< of what follows
    SampleCounts counts_;
    std::vector<HalvesScatter> halves_; ///< by plane
};

} // namespace kasane
