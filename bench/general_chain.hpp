// The same work as an integration, by general-purpose calls: what people put together for themselves.
#pragma once

#include "simulated.hpp"

#include <kasane/integration/integrate.hpp>

namespace kasane::bench {

/// Each frame is calibrated in array passes (minus dark, over flat), warped as a whole (affine, Lanczos kernel of eight
/// taps, OpenCV), kept, and all are clipped at three sigma of the mean, three times, in array passes over whole frames;
/// then averaged. Two threads. Returns the mean at the canvas's middle. All frames are held: needs four bytes a sample.
double general_chain(const std::vector<StackFrame>& frames, int width, int height);

} // namespace kasane::bench
