// Images averaged down by a whole factor.
#pragma once

#include <kasane/image/image.hpp>

namespace kasane {

/// Means over squares of `factor` pixels into `out` (width / factor x height / factor pixels; what is left over at the
/// right and below is dropped; where `out` is a pixel larger its squares hold what lies in the image). Pixels without
/// data do not count; NaN where none does.
void average_down(View<const float> image, int factor, View<float> out);

/// The same into an image of its own.
Image averaged_down(View<const float> image, int factor);

} // namespace kasane
