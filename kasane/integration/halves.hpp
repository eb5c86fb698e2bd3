// The noise of a stack as its own samples tell it: one half of the frames against the other.
//
// Why: a master light's pixels hold the sky, and its faint stars look like noise. Between two halves of one stack the
// sky is the same; what differs is noise, whatever lies in the field. But for sharp stars: frames of other seeing, or
// whose pixels sample them elsewhere, differ there by more, so that what is flat tells where there is enough of it.
// Noise is not the same everywhere: more where the glass is darker, or the nebula brighter. As of a frame, the usual of
// the field counts: the median of its cells.
// What does not differ from frame to frame (a pattern of the sensor, where the frames were not dithered) is not seen.
#pragma once

#include <kasane/combination/combiner.hpp>
#include <kasane/integration/structure.hpp>

#include <array>
#include <cstdint>
#include <utility>
#include <vector>

namespace kasane {

/// Counts differences of the weighted means of every other frame and the rest, in units of what is expected of them
/// over the background, by square cells of a canvas. Counts can be added in any order with the same result.
class HalvesScatter {
public:
    /// Of a part of a canvas (for its cells alone).
    explicit HalvesScatter(const Region& canvas) : HalvesScatter(canvas, canvas) {}
    HalvesScatter(const Region& canvas, const Region& part);

    /// Of the rows of a canvas one in so many is looked at: a million pixels tell the noise to 0.1 %, and of small ones
    /// no fewer than a quarter of one.
    static int every(int width, int height);

    /// Looks at all pixels of a part of the canvas's row `y`, from its column `x` on, that have samples in both halves.
    /// `combined` are their values; `structure` (null: none) tells, from the pixel `first` on, where the image is not
    /// flat.
    void add(int x, int y, const SampleBlock& block, const float* combined, const StackExpectation& expectation,
             const Structure* structure = nullptr, std::size_t first = 0);
    /// One of the same canvas, or of a part of it.
    void add(const HalvesScatter& other);
    /// The noise over what is expected of it: the standard deviation of the differences within 3 sigma, corrected for
    /// the tails; of what is flat in each cell, at
    /// the cell's usual brightness; and the median of the cells that hold two hundred such pixels, each as often as
    /// frames show it. Of all pixels, where fewer than a quarter of the cells do; 1 where fewer than a thousand pixels
    /// tell.
    double ratio() const;

private:
    static constexpr int kBins = 512;
    static constexpr double kReach = 16;  ///< expected sigmas to either side
    static constexpr double kOctaves = 4; ///< of the variance at a pixel's brightness, to either side of the level's
    struct Cell {
        std::array<std::uint32_t, kBins> flat{}, structured{}; ///< differences, each by its pixel's brightness
        std::array<std::uint32_t, kBins> variances{};          ///< what pixels' brightness makes of the variance
        std::uint64_t samples = 0;
    };
    static double usual_variance(const Cell& cell);
    Cell& at(int column, int row) {
        return cells_[static_cast<std::size_t>(row - cell_rows_.first) *
                          static_cast<std::size_t>(cell_columns_.second - cell_columns_.first) +
                      static_cast<std::size_t>(column - cell_columns_.first)];
    }

    int left_, top_, side_;                            ///< of the canvas, and of its cells
    std::pair<int, int> cell_columns_{}, cell_rows_{}; ///< that it has, half-open
    std::vector<Cell> cells_;
};

} // namespace kasane
