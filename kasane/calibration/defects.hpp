// Pixels that cannot be trusted, found in the masters.
#pragma once

#include <kasane/image/image.hpp>
#include <kasane/io/reader.hpp>

#include <vector>

namespace kasane {

/// Defective pixels, by rows.
class DefectList {
public:
    DefectList() = default;
    /// From a mask whose non-zero pixels are defects.
    explicit DefectList(const Mask& mask);

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

private:
    std::vector<std::size_t> starts_; ///< of each row, in columns_; one more than there are rows
    std::vector<int> columns_;
};

struct DefectOptions {
    float hot_sigmas =
        10; ///< excess over the neighbours' median, in units of one dark's noise: such pixels are noisier than the sky
    float least_response = 0.5f; ///< share of the neighbours' response in the flat below which a pixel is dead
    float most_response = 1.6f;  ///< and above which it is defective
};

/// Finds hot pixels in a master dark or bias and dead ones in a master flat; either may be null. `frame_noise` is the
/// noise of a single dark (ADU). Reads by bands; memory for one byte a pixel.
DefectList find_defects(const FrameReader* dark, double frame_noise, const FrameReader* flat,
                        const DefectOptions& options = {});

} // namespace kasane
