// What was taken for sky, and the gradient that it told, to look at.
#pragma once

#include <kasane/finishing/gradient.hpp>

#include <cstdint>

namespace kasane {

/// Left the plane as it was, with the places that tell its sky (blue; yellow those in boxes that are sky by hand) and
/// those that rise above it (orange) or are no sky by hand (grey); right the gradient, black where least, white where
/// most. Three planes of 8 bits, `most` pixels wide at most.
Raster<std::uint8_t> draw_gradient(View<const float> plane, const Gradient& gradient, int most = 1600);

} // namespace kasane
