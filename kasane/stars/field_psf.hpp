// What a star looks like at any place of a field.
//
// The shape is that of an elliptical Moffat function whose squared widths are polynomials of the place, and what stars
// have beyond it, the same all over the field: an effective point spread function (J. Anderson and I. King, PASP 112,
// 2000), as pixels show it, their own integration included.
#pragma once

#include <kasane/image/image.hpp>
#include <kasane/stars/detection.hpp>
#include <kasane/stars/disc.hpp>

#include <array>
#include <vector>

namespace kasane {

/// Squared FWHM along both axes and across, pixels^2: a star is half as bright as in its middle where 4 d' T^-1 d = 1.
struct StarWidth {
    double xx = 0, xy = 0, yy = 0;
    double major() const; ///< FWHM along the long axis
    double minor() const;
    double fwhm() const; ///< geometric mean of both
};

struct FieldPsf {
    int stars = 0;  ///< that tell it
    int degree = 0; ///< of the polynomials: 0, the same all over the field, to 2
    double beta = 3;
    Image rest; ///< what stars have beyond the Moffat function, over its peak; square, its middle in the middle

    StarWidth width_at(double x, double y) const;
    /// Median of the FWHM over the stars, pixels.
    double fwhm = 0;
    /// Of its Moffat function, the peak 1, at a distance from the middle, pixels.
    double profile(const StarWidth& width, double dx, double dy) const;
    /// Of the light of a star at a place, on pixels: square, 2 reach + 1 wide, none below zero, with the sum 1.
    Image at(double x, double y, int reach) const;

    double middle_x = 0, middle_y = 0, half = 1;        ///< pixels: places are told from there, in units of `half`
    std::array<std::array<double, 6>, 3> polynomials{}; ///< of xx, xy, yy: 1, x, y, x^2, x y, y^2
};

/// A round Moffat function on pixels, as FieldPsf::at.
Image round_star(double fwhm, double beta, int reach);

/// From the bright, unsaturated stars of a plane that have no other beside them and lie in none of the `forbidden`
/// places. Throws DataError where fewer than five tell it.
FieldPsf measure_field_psf(View<const float> plane, const StarList& stars, const std::vector<Disc>& forbidden);

} // namespace kasane
