// What of a tile's samples counts, and what they make together: each pixel by its own samples; then once more where
// star cores ask for wider limits; then by what lies beside it.
#pragma once

#include <kasane/combination/combiner.hpp>
#include <kasane/integration/growth.hpp>
#include <kasane/integration/structure.hpp>

#include <vector>

namespace kasane {

struct JudgeOptions {
    GrowthOptions growth;
    bool star_cores = true; ///< limits widen where frames of other seeing must differ
    std::string check() const { return growth.check(); }
};

/// One plane of a tile.
struct PlaneVerdict {
    std::vector<float> mean, weight;
    std::vector<RejectedSample> rejected; ///< by pixel, then frame
    std::vector<RejectedSample> spared;   ///< those that were at first, where the image has structure
    Structure structure;                  ///< empty where nobody asks for it
    bool core(std::size_t pixel) const { return !structure.curvature.empty() && structure.any(pixel); }
};

/// For one stack. Thread-safe.
class TileJudge {
public:
    /// `combiners` one a plane, for `combine`; they live on. Sums are combined as means.
    TileJudge(const std::vector<Combiner>& combiners, const CombineOptions& combine, const JudgeOptions& options);

    /// Pixels around a tile on which its own depend: it is to be judged with so many more on each side.
    int halo() const;

    struct Scratch {
        std::vector<PlaneVerdict> planes;
        std::vector<float> samples, mean, weight, curvature, slope;
        std::vector<std::uint32_t> pixels;
        std::vector<RejectedSample> rejected, merged;
        Growth growth;
    };
    /// `samples` plane by plane, frame by frame, rows of the tile one after the other. The result is in
    /// `scratch.planes`.
    void judge(const float* samples, int width, int height, Scratch& scratch) const;

private:
    bool judges() const;
    void leave_some(const float* samples, std::size_t plane, std::size_t area, Scratch& s) const;
    void look_again(const float* samples, std::size_t plane, std::size_t area, Scratch& s) const;
    void take_grown(const float* samples, std::size_t plane, std::size_t area, std::vector<RejectedSample>& grown,
                    Scratch& s) const;
    void gather(const float* samples, std::size_t area, Scratch& s) const;

    const std::vector<Combiner>& combiners_;
    CombineOptions combine_;
    JudgeOptions options_;
    std::vector<Combiner> survivors_; ///< the same, of what is left
    std::vector<bool> structured_;    ///< by plane: frames feel the structure of the image
};

} // namespace kasane
