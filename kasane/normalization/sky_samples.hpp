// What the frames of a stack see of the sky at places of the canvas, so that it can be compared.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/normalization/levels.hpp>

#include <vector>

namespace kasane {

/// The sky of every frame (first index) at every place (canvas pixels), at the frame's scale, with its slope if
/// `tilted`; NaN where a frame shows nothing. It is the middle of a plane through a rectangle of the frame's sky mesh
/// (Background::means): half a cell to each side, less towards edges. At one place the rectangle is the same in all
/// frames that tell there, as small as the one needs whose edge is nearest: a rough sky has another mean in each.
std::vector<std::vector<float>> look_at_sky(const std::vector<LevelInput>& frames, const std::vector<StarScale>& scales,
                                            const std::vector<Point>& places, const Canvas& canvas, bool tilted,
                                            const Workers& workers);

} // namespace kasane
