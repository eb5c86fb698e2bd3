// Scales between lengths, from what is bright around that which the longer one saturates.
//
// Why beside the stars: a frame of a second shows a dozen of those that one of minutes does not saturate, which tell
// its scale to a few percent. Where it takes over from the longer one that is a step of a few percent of all the light
// there. The unsaturated rim of a bright core tells it to a tenth of a percent, at the very place.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/integration/stack.hpp>

#include <cstdint>
#include <optional>
#include <vector>

namespace kasane {

/// Of one plane of a frame.
struct LengthMatch {
    double factor = 1;       ///< of the light above the sky, to the next longer length
    double error = 0;        ///< of it, relative; 0: not told
    std::int64_t pixels = 0; ///< that told it
};

struct LengthMatches {
    std::vector<std::vector<LengthMatch>> planes; ///< by plane and frame
    std::optional<FrameFailure> failure;          ///< a frame could not be read: nothing was told
};

/// Compares frames of each length with those of the next longer one around what these say they saturate
/// (StackFrame::burnt), pixel by pixel where the image is smooth (no star: neighbours differ by less than 35 %), and
/// bright: a straight line through their samples, by iterated least squares with Huber's weights (P. Huber, Ann. Math.
/// Stat. 35, 1964). A frame's scale becomes the mean of what its stars and the pixels tell, weighed by their errors,
/// and its sky stays where it is; nothing is done where fewer than 200 pixels tell, or less well than the stars.
/// Results do not depend on threads or memory. `levels`: backgrounds of the stack's level by plane, ADU.
LengthMatches match_lengths(std::vector<StackFrame>& frames, const Canvas& canvas, const std::vector<double>& levels,
                            const Context& context);

} // namespace kasane
