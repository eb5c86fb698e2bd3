// The pass that lays the samples of a stack's frames down on a finer grid (drizzle.hpp).
#pragma once

#include <kasane/combination/combiner.hpp>
#include <kasane/integration/drizzle.hpp>
#include <kasane/integration/drop_gather.hpp>
#include <kasane/integration/drop_samples.hpp>
#include <kasane/integration/length_map.hpp>
#include <kasane/integration/noise_covariance.hpp>
#include <kasane/integration/rejected_cells.hpp>
#include <kasane/integration/sample_counts.hpp>
#include <kasane/integration/tile_engine.hpp>
#include <kasane/integration/tile_judge.hpp>
#include <kasane/integration/tile_samples.hpp>

#include <atomic>
#include <cstdint>
#include <optional>
#include <vector>

namespace kasane {

/// What a drizzled stack is made of. All live on.
struct DrizzleStack {
    const std::vector<StackFrame>& frames;
    const Canvas& canvas;                   ///< that the frames lie on
    const std::vector<Combiner>& combiners; ///< of the interpolated stack, one a plane; sums as means
    const CombineOptions& combine;
    const std::vector<double>& noise; ///< of its mean, by plane, as without resampling
};

class DrizzlePass final : public TilePass {
public:
    /// The images of `result` have the size of the fine grid.
    DrizzlePass(const DrizzleStack& stack, const IntegrateOptions& integrate, const DrizzleOptions& options,
                MasterLight& result);

    std::uint64_t bytes(std::int64_t pixels) const override;
    void run(const Region& region, MappedMemory& mapped) override;
    void release() override;
    std::uint64_t kept_bytes() const { return cells_.bytes(); }
    /// What the noise of neighbouring pixels has in common, from windows spread over the output: after `run_tiles`.
    void measure_noise(const Context& context);
    /// Writes the counts into the result, when all is done, and restores its pixels where that is asked for.
    void finish(const Context& context);

private:
    struct Scratch {
        TileSamples samples;
        TileJudge::Scratch judged;
        Region judged_region;           ///< of the canvas
        std::vector<DropSamples> drops; ///< of frames that are laid down together
        std::vector<std::size_t> held;  ///< which these are
        /// By plane, two halves of the frames each: values above the level times weights, then their weights, by pixel.
        std::vector<std::vector<float>> sums;
        std::vector<std::vector<std::uint8_t>> hidden; ///< by plane: pixels of the judging rectangle
        std::vector<float> low, high;                  ///< weight that was rejected, all planes
        std::vector<std::uint8_t> marked;              ///< rows that have any
        SampleCounts counts;
        std::vector<std::uint16_t> lengths; ///< which makes each pixel of the judging rectangle
        bool counted = true;                ///< what is rejected stands in the cells of the frames
    };
    static constexpr float kLeastWeight = 1e-4f; ///< of the whole: less tells nothing
    struct Way {                                 ///< of one plane of a frame, from the fine grid
        Transform to_frame;
        DropKernel kernel;
        float weight = 1; ///< of a sample's drop
        int pixels = 1;   ///< of the canvas that a sample stands for, all planes
    };

    struct Halves { ///< of one plane: the sums of one half of the frames, and of the other
        float *values[2], *weights[2];
    };
    static Halves halves(Scratch& s, std::size_t plane);
    /// To which half each frame belongs, so that both show every place about as often.
    std::vector<int> split_evenly() const;

    /// Everything over a rectangle of the output into the scratch. False: a frame could not be read.
    bool work(const Region& region, Scratch& s, MappedMemory& mapped);
    std::size_t together() const;
    /// What of a frame counts over a rectangle of the output. False: it shows nothing there. Throws InputError.
    bool judge_drops(std::size_t frame, const Region& region, DropSamples& drops, Scratch& s,
                     MappedMemory& mapped) const;
    /// Takes what is held into the sums, the maps and the counts.
    void lay_down(const Region& region, Scratch& s);
    struct Rows { ///< of the output, in a frame that is held
        std::size_t held;
        std::optional<EvenPositions> first;  ///< if they lie evenly
        std::int64_t down_u = 0, down_v = 0; ///< from one to the next
        Transform::Patches patches;
    };
    Rows rows_of(std::size_t held, std::size_t plane, const Region& region, const Scratch& s) const;
    void lay_row(Rows& rows, std::size_t plane, const Region& region, int y, Scratch& s) const;
    void count_drops(std::size_t frame, std::size_t plane, const DropPlane& drops, Scratch& s);
    void mark_rejected(std::size_t frame, std::size_t plane, const DropPlane& drops, const Region& region,
                       Scratch& s) const;
    bool structured(const PlaneVerdict& verdict, const Region& judged, int x, int y) const;
    Image window_noise(const Region& window, Scratch& s, std::size_t plane, float& usual) const;
    static std::vector<float> smoothed(const std::vector<float>& image, const Region& region);
    double judged_at(const std::vector<float>& mean, const Region& judged, int x, int y) const;
    Region judging_region(const Region& region) const;
    void write(const Region& region, Scratch& s);
    void restore_pixels(const Context& context);
    void write_lengths(const Region& region, Scratch& s);

    const DrizzleStack stack_;
    const IntegrateOptions& integrate_;
    const DrizzleOptions& options_;
    MasterLight& result_;
    const LengthRules lengths_;
    TileJudge judge_;
    const Region fine_;
    const Affine to_coarse_;
    std::vector<std::vector<Way>> ways_; ///< by frame and plane
    std::vector<int> half_of_;           ///< by frame
    int margin_ = 0;                     ///< of the canvas, around what a rectangle shows
    float times_ = 1;                    ///< of the mean
    double side_ = 1;                    ///< of a frame's pixel, the usual one, in pixels of the canvas
    RejectedCellCounts cells_;
    Pool<Scratch> pool_;
    std::atomic<bool> failed_{false};
    std::mutex mutex_; ///< of what follows
    SampleCounts counts_;
    std::vector<NoiseCovariance> covariance_; ///< by plane
};

} // namespace kasane
