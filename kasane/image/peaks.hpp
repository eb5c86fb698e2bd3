// The highest values of an image by squares of it: a bound for any rectangle, without looking at its pixels.
#pragma once

#include <kasane/image/image.hpp>

#include <span>
#include <vector>

namespace kasane {

class Peaks {
public:
    static constexpr int kShift = 4, kCell = 1 << kShift; ///< pixels

    /// Takes those of `image`; what is no number does not count.
    void take(View<const float> image) {
        const Region all{0, 0, image.width, image.height};
        take(image, {&all, 1});
    }
    /// Those of no more than some of its rectangles.
    void take(View<const float> image, std::span<const Region> parts);
    /// At least the highest value in a rectangle of the image (columns `left` to `right`, rows `top` to `bottom`, ends
    /// included); -3e38 where there is none.
    float over(int left, int top, int right, int bottom) const {
        float most = kLowest;
        for (int j = top >> kShift; j <= bottom >> kShift; ++j)
            for (int i = left >> kShift; i <= right >> kShift; ++i) {
                const float v = highest_[static_cast<std::size_t>(j) * static_cast<std::size_t>(columns_) +
                                         static_cast<std::size_t>(i)];
                most = most < v ? v : most;
            }
        return most;
    }
    /// At least the highest value of the kNearColumns x kNearRows pixels from (left, top) on: a coarser bound, found at
    /// once.
    float near(int left, int top) const {
        return near_[static_cast<std::size_t>(top >> kShift) * static_cast<std::size_t>(columns_) +
                     static_cast<std::size_t>(left >> kShift)];
    }
    static constexpr int kNearColumns = 2 * kCell + 1, kNearRows = kCell + 1;
    static constexpr float kLowest = -3.0e38f;

private:
    void take_part(View<const float> image, const Region& part);

    int columns_ = 0;
    std::vector<float> highest_, near_, line_;
};

} // namespace kasane
