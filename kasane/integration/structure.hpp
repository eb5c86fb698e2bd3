// Where an image is curved or slopes, beyond its noise: there frames of other seeing, or a little beside their place,
// differ by more than noise.
#pragma once

#include <kasane/combination/expectation.hpp>
#include <kasane/image/image.hpp>

#include <vector>

namespace kasane {

/// The size of the Laplacian and of the gradient of an image by pixel; zero where it is no more than noise makes, at
/// the rim, and beside pixels without data.
struct Structure {
    std::vector<float> curvature, slope;
    std::vector<float> scratch;
    bool any(std::size_t pixel) const { return curvature[pixel] > 0 || slope[pixel] > 0; }
};

/// Of the mean of a stack; `weight` is what the frames that show a pixel have together: of frames that lie side by side
/// few show a place, and its noise is higher. Of the size of `mean`; no pixels: all show every one. Keeps the memory of
/// `out`.
void measure_structure(View<const float> mean, View<const float> weight, const StackExpectation& expectation,
                       Structure& out);

/// What is expected of a frame against the others, by the width of its stars and how well it lies.
bool feels_structure(const StackExpectation& expectation);

} // namespace kasane
