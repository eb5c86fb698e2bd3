// Stars that stood still through all frames of a sky flat: rejection cannot know them, their shape does.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/calibration/cfa.hpp>
#include <kasane/image/image.hpp>

#include <cstddef>

namespace kasane {

/// Replaces stars on a flat (a plane of it, or its mosaic) by the flat around them. A star is a compact peak, at least
/// 6 sigma above the ring around it and more than twice as high as anything on that ring, so that the rims of dust
/// shadows, columns and gradients stay. Returns how many pixels were replaced.
std::size_t patch_fixed_stars(View<float> flat, const CfaPattern& cfa, const Workers& workers);

} // namespace kasane
