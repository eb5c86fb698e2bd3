// What was rejected, as a picture: what lay above the others in warm, what lay below in cold colours.
#pragma once

#include <kasane/integration/stack.hpp>

#include <cstdint>

namespace kasane {

/// Three planes of 8 bits. Larger images are averaged down by a whole factor to a longer side of at most `most`. The
/// square root of the share of the weight; a pixel that lost a quarter of its weight is bright.
Raster<std::uint8_t> draw_rejected(const RejectionMaps& maps, int most = 1600);

} // namespace kasane
