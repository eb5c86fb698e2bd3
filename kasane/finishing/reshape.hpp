// Turning, mirroring, cropping and binning by whole pixels: nothing is interpolated.
#pragma once

#include <kasane/geometry/affine.hpp>
#include <kasane/image/image.hpp>

#include <string>

namespace kasane {

/// In this order: crop, turn, mirror, bin.
struct Reshape {
    Region crop;         ///< in pixels of the picture as it was; empty: all
    int turn = 0;        ///< degrees counter-clockwise as displayed: 0, 90, 180 or 270
    bool mirror = false; ///< left and right change places
    int bin = 1;         ///< means over squares of so many pixels, 1 to 16
    bool any() const { return !crop.empty() || turn != 0 || mirror || bin > 1; }
    std::string check() const; ///< what is wrong with it, in words; empty: nothing
    bool operator==(const Reshape&) const = default;
};

/// Throws UsageError where it makes no sense, the crop reaches beyond the picture, or less than a pixel is left.
Image reshaped(const Image& image, const Reshape& reshape);

/// Marks what is not, along its row or its column, for no more than 24 pixels between pixels that are: spots and
/// trails. What reaches an edge of the mask stays.
void close_gaps(Mask& mask);

/// The largest rectangle in which the mask is nowhere 0; empty where it is so everywhere. Of several, the uppermost and
/// leftmost.
Region largest_rectangle(const Mask& mask);

/// From a place in the new picture to the one in the old (pixel centres at integers).
Affine to_former(const Reshape& reshape, int width, int height);

} // namespace kasane
