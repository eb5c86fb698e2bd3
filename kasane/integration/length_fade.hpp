// Where a length leaves the stack to a shorter one: it fades before, so that no ring is left of what their scales are
// off.
#pragma once

#include <cstdint>
#include <vector>

namespace kasane {

/// How far the pixels of a rectangle lie from where lengths leave. Keeps its memory from rectangle to rectangle.
class LengthFade {
public:
    /// Pixels over which a length fades; a pixel depends on so many around it.
    static constexpr int kWidth = 4;

    /// `left`: of each pixel how many of the longest lengths have left it, row by row.
    void begin(const std::vector<std::uint8_t>& left, int width, int height);
    /// Of the mean of all that is left at a pixel, the share that stays: 1 where nothing fades, 0 beside where the
    /// longest of it leaves; a smooth step between. The rest is the mean without that length.
    double share(std::size_t pixel) const;

private:
    std::vector<std::uint8_t> distance2_; ///< squared, to the nearest pixel that more lengths have left
};

} // namespace kasane
