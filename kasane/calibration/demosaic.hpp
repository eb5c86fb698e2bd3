// Three colours a pixel from one: what a sensor with a colour filter array did not see is interpolated.
//
// Why two methods: the bilinear one is a fixed linear filter, exact in flux and blurring every colour; the adaptive one
// interpolates green along the direction in which the colour differences change less (D. Menon, S. Andriani, G.
// Calvagno, "Demosaicing with directional filtering and a posteriori decision", IEEE Trans. Image Process. 16, 2007),
// and red and blue through their differences to green, which keeps stars as narrow as the optics made them; fluxes,
// which that draws towards grey where a star is strongly coloured, are then brought back to the bilinear ones over the
// size of a star.
#pragma once

#include <kasane/calibration/cfa.hpp>
#include <kasane/image/image.hpp>

#include <array>

namespace kasane {

enum class Demosaic { bilinear, adaptive };

/// Pixels that a method needs on each side of the rectangle that it makes.
int demosaic_halo(Demosaic method, const CfaPattern& cfa);

/// Fills `planes` (red, green, blue, all of one size) from `mosaic`, which reaches `demosaic_halo` pixels further on
/// each side and whose first pixel has the pattern's phase. Values without data (NaN) are passed over: what lies beside
/// them is interpolated from what is there; they stay NaN only where a colour has no data within the kernel's reach.
/// Every pixel keeps its own colour untouched. All but checkered patterns are made in bilinear quality whatever the
/// method.
void demosaic(View<const float> mosaic, const CfaPattern& phase, Demosaic method,
              const std::array<View<float>, 3>& planes);

/// Means of each colour over squares of cfa.cell() pixels: `planes` hold one value a square, the square at the mosaic's
/// first pixel being the first; the mosaic's phase is that of its first pixel. A square without data in a colour is
/// NaN.
void bin_mosaic(View<const float> mosaic, const CfaPattern& phase, const std::array<View<float>, 3>& planes);

/// Where the samples of a colour lie on average within a square of bin_mosaic, against its centre, in squares.
std::array<double, 2> binned_shift(const CfaPattern& cfa, int colour);

} // namespace kasane
