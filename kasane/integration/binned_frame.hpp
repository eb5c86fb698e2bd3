// Frames of much finer pixels than the canvas: averaged to about its pixels before they are resampled, so that none of
// their light is passed over and no noise folded back.
#pragma once

#include <kasane/integration/stack.hpp>

namespace kasane {

/// The frame as it is where the side of a canvas pixel is less than one and a half of its own; else over squares of as
/// many pixels as that, with transforms, noise and electrons per ADU to match. Brightness a pixel is kept (means).
StackFrame binned_to_canvas(StackFrame frame);

} // namespace kasane
