// Frames that fade out towards their edges, so that where one enters or leaves the coverage no step is left of what its
// level is off.
#pragma once

#include <kasane/combination/combiner.hpp>
#include <kasane/integration/stack.hpp>

#include <vector>

namespace kasane {

/// Of a frame's weight, that is left so many pixels inside its edge where it fades over `width`: smoothly, with no
/// kink at either end.
double feather_share(double deep, double width);

/// Pixels over which frames of that size fade where nobody says otherwise: 3 % of the shorter side, 64 at most; enough
/// that no step shows, little of what a frame is.
double default_feather(int width, int height);

/// What the samples of a rectangle counted too much in their mean: its weights were those of the frames, and frames
/// weigh less over `width` pixels from their edges inwards, down to a hundredth at the edge itself. Keeps its memory
/// from rectangle to rectangle.
class EdgeFeather {
public:
    /// `rejected`: samples of the rectangle, of as many frames, that do not count.
    void begin(const Region& region, const std::vector<RejectedSample>& rejected, std::size_t frames);
    /// One plane of the frame with that index: its samples in the rectangle (NaN: none), and its weight.
    void add(const StackFrame& frame, std::size_t plane, double width, View<const float> samples, double weight,
             std::size_t index);
    /// Takes it out of the mean (times a factor) and the weight of a pixel of the rectangle: as its weight the mean
    /// then has what tells its noise, the square of the sum of the weights used over the sum of w share^2, so that
    /// where all fade alike nothing is lost.
    void apply(std::size_t pixel, float factor, float& mean, float& weight) const;

private:
    Region region_;
    bool any_ = false;
    std::vector<double> sum_, weight_, squares_;       ///< of what is too much; squares: of shares
    std::vector<std::vector<std::uint32_t>> rejected_; ///< pixels, by frame
    std::vector<std::uint8_t> gone_;                   ///< of the frame at hand, by pixel; clear between frames
};

} // namespace kasane
