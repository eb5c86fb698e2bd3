// What is expected of the samples of a stack: how far a good one may lie from the others.
#pragma once

#include <algorithm>
#include <vector>

namespace kasane {

/// What is expected of a frame's samples in a stack.
struct FrameExpectation {
    float weight = 1;         ///< of its samples in the mean
    float variance = 1;       ///< of its noise at `level`, in squared units of the samples
    float variance_slope = 0; ///< growth of the variance per unit of signal above `level` (photon noise)
    /// Share of the signal above `level` by which its samples may be off: what scales and flats leave.
    float scale_error = 0;
    /// Half the difference of its stars' variance (FWHM / 2.355)^2 from the stack's, squared pixels: where the image is
    /// curved, its samples differ by so much times the Laplacian (of the heat equation, to the first order).
    float blur = 0;
    float shift = 0; ///< pixels by which it may lie beside its place: on a slope its samples differ by so much times it
};

/// The variance of a frame's sample where the signal lies `excess` above the level (below it counts as at it), on an
/// image of that curvature and slope (SampleBlock).
template <class T>
T variance_at(const FrameExpectation& e, T excess, T curvature, T slope) {
    const T signal = std::max(T(0), excess), off = e.scale_error * signal, curved = e.blur * curvature,
            beside = e.shift * slope;
    return e.variance + e.variance_slope * signal + off * off + curved * curved + beside * beside;
}

/// The same of all frames of a stack.
struct StackExpectation {
    std::vector<FrameExpectation> frames;
    float level = 0;         ///< the signal at which FrameExpectation::variance holds
    bool noise_known = true; ///< the variances are trusted as the least spread; otherwise only their ratios count
};

} // namespace kasane
