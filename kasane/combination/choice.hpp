// How calibration frames are combined when nobody says: by what they show and how many they are, with the reason. Few
// frames tell an outlier from noise less surely, so their limits are wider. Of lights, trials on the stack itself
// decide (integration/rejection_trials.hpp).
#pragma once

#include <kasane/combination/rejection.hpp>

namespace kasane {

/// What the frames of a stack show, and so what their outliers are.
enum class StackOf {
    darks, ///< and bias: particles, which only add, and noise of either sign
    flats, ///< stars of the sky, which only add
};

struct CombinationChoice {
    CombineOptions options;
    std::string reason; ///< "16 frames: mean, rejecting beyond 4 sigma below and 3 above (stars in a flat only add)"
};

CombinationChoice choose_combination(StackOf what, int frames);
/// How so many frames are combined, without the reason: "16 frames: mean, rejecting beyond 3 sigma".
std::string combination_text(const CombineOptions& options, int frames);

} // namespace kasane
