// Two images of one field on one grid and at one level, to look at.
#pragma once

#include <kasane/image/image.hpp>
#include <kasane/image/stretch.hpp>

#include <vector>

namespace kasane {

/// Brings an image that lies on the grid of another to its light and sky: (value - sky) / unit + sky of the other, by
/// plane.
void bring_to_level(Image& image, const std::vector<double>& sky, double unit, const std::vector<double>& other_sky);

/// Pictures beside each other, of one height and with a bright line between them.
Raster<std::uint8_t> beside(const std::vector<Raster<std::uint8_t>>& pictures);

/// The left half of one and the right half of the other, of one size, with a bright line between them.
Raster<std::uint8_t> split(const Raster<std::uint8_t>& left, const Raster<std::uint8_t>& right);

/// Where the longer side would be more than `most`, means of squares. What is missing in either is missing.
struct DifferencePicture {
    Raster<std::uint8_t> pixels; ///< grey: 128 where both are the same, brighter where `other` is; no data is black
    double white = 0;            ///< difference that is shown white, ADU: 6 standard deviations of its pixels
};
DifferencePicture difference_picture(View<const float> one, View<const float> other, int most = 1600);

/// Squares of `side` pixels of an image: the middle, and the corners a tenth inside; beside each other, one a place.
Raster<std::uint8_t> crops(const Image& image, const std::vector<Stretch>& stretches, int side);

} // namespace kasane
