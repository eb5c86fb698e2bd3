// What is rejected beside what was found: the wings of trails and the halos of particles, which are too faint for the
// limits by themselves, and the other colours of the same sample.
//
// From samples far beyond the limits, and from those that lie together, a region grows over the neighbours of the same
// frame, step by step, as far as the light of such a sample is expected to reach. What a neighbour itself holds does
// not matter: to take out those that lie high would leave the mean of the others too low. (Growing from seeds: R. Adams
// and L. Bischof, IEEE Trans. Pattern Anal. Mach. Intell. 16, 1994.)
#pragma once

#include <kasane/combination/combiner.hpp>
#include <kasane/integration/structure.hpp>

#include <vector>

namespace kasane {

struct GrowthOptions {
    int steps = 2;     ///< pixels, at most; 0: neighbours stay
    float seed = 6;    ///< sigmas from which a sample grows by itself; others where a neighbour was rejected too
    float fall = 0.3f; ///< of its light that the next pixel is expected to hold
    float least = 1;   ///< sigmas that a neighbour is expected to hold at least
    /// What is wrong with them, in words; empty: nothing.
    std::string check() const;
};

/// One plane of a tile that was judged pixel by pixel.
struct JudgedPlane {
    const float* samples = nullptr; ///< frame by frame, rows of the tile one after the other
    const float* mean = nullptr;
    const StackExpectation* expectation = nullptr;
    const Structure* structure = nullptr; ///< may be null
    const std::vector<RejectedSample>* rejected = nullptr;
};

/// Keeps its memory from tile to tile.
class Growth {
public:
    /// Samples that are rejected as well, by plane, in no order. A sample is decided by what lies at most `steps` + 1
    /// pixels from it.
    std::vector<std::vector<RejectedSample>> grow(const GrowthOptions& options, const std::vector<JudgedPlane>& planes,
                                                  int width, int height);

private:
    struct Place {
        std::size_t plane = 0;
        std::uint32_t pixel = 0;
        bool high = false;
        float strength = 0; ///< sigmas
    };
    float deviation(const JudgedPlane& plane, std::size_t frame, std::uint32_t pixel) const;
    bool is_seed(const Place& at) const;
    void spread(const std::vector<JudgedPlane>& planes, std::size_t frame, std::vector<Place>& front);

    GrowthOptions options_;
    int width_ = 0, height_ = 0;
    std::vector<std::vector<std::int8_t>> marks_; ///< by plane: side that was rejected, of the frame at hand
    std::vector<std::vector<RejectedSample>> out_;
};

} // namespace kasane
