// Pixels that cannot be trusted, found in the masters.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/calibration/cfa.hpp>
#include <kasane/image/image.hpp>
#include <kasane/io/reader.hpp>

#include <cstdint>
#include <cstring>
#include <string>
#include <utility>
#include <vector>

namespace kasane {

/// The first of some bytes that is not 0; `end` where all are.
inline const std::uint8_t* next_marked(const std::uint8_t* at, const std::uint8_t* end) {
    for (std::uint64_t eight = 0; end - at >= 8; at += 8) { // most are 0
        std::memcpy(&eight, at, 8);
        if (eight != 0) break;
    }
    while (at != end && *at == 0)
        ++at;
    return at;
}

/// Defective pixels, by rows.
class DefectList {
public:
    DefectList() = default;
    /// From a mask whose non-zero pixels are defects.
    explicit DefectList(const Mask& mask);
    /// From places (x, y) in order of rows, then columns, of a frame `height` rows high.
    DefectList(int height, const std::vector<std::pair<int, int>>& places);
    std::vector<std::pair<int, int>> places() const;

    std::size_t size() const { return columns_.size(); }
    bool empty() const { return columns_.empty(); }
    bool contains(int x, int y) const;
    /// Calls `f(x, y)` for each defect inside the region.
    template <class F>
    void for_each(const Region& r, F f) const {
        if (columns_.empty()) return;
        for (int y = r.y; y < r.bottom(); ++y)
            for (std::size_t i = starts_[static_cast<std::size_t>(y)]; i < starts_[static_cast<std::size_t>(y) + 1];
                 ++i)
                if (columns_[i] >= r.x && columns_[i] < r.right()) f(columns_[i], y);
    }
    int height() const { return static_cast<int>(starts_.size()) - 1; } ///< rows it speaks of; -1 when empty

private:
    std::vector<std::size_t> starts_; ///< of each row, in columns_; one more than there are rows
    std::vector<int> columns_;
};

struct DefectOptions {
    CfaPattern cfa = {}; ///< pixels are compared with neighbours of their own colour
    /// Excess over the neighbours' median, in units of one dark's noise: such pixels are noisier than the sky.
    float hot_sigmas = 10;
    float least_response = 0.5f; ///< share of the neighbours' response in the flat below which a pixel is dead
    float most_response = 1.6f;  ///< and above which it is defective
    /// Share of false finds that is put up with: the limit rises above hot_sigmas where the master itself scatters
    /// (Y. Benjamini, Y. Hochberg, J. R. Stat. Soc. B 57, 1995).
    double false_share = 0.01;
    float line_share = 0.2f; ///< of a column or row: where more of it is defective, all of it is
    /// What is wrong with them, in words; empty: nothing.
    std::string check() const;
};

struct DefectCounts {
    std::size_t hot = 0, cold = 0, dead = 0; ///< pixels: too bright and too dark without light, wrong with light
    int columns = 0, rows = 0;               ///< whole ones
};

/// Finds hot and cold pixels in a master dark or bias and dead ones in a master flat; either may be null. `frame_noise`
/// is the noise of a single dark (ADU). Pixels in clusters are judged again by their sound neighbours alone. Reads by
/// bands, on `workers` where they are given; memory for one byte a pixel. Masters of three planes: a defect in any.
DefectList find_defects(const FrameReader* dark, double frame_noise, const FrameReader* flat,
                        const DefectOptions& options = {}, DefectCounts* counts = nullptr,
                        const Workers* workers = nullptr);

} // namespace kasane
