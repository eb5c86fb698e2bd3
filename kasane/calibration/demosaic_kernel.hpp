// The loops over rows of 2 x 2 colour filter arrays. Use calibration/demosaic.hpp.
//
// Every row may be read and written `kRowMargin` values before its first and behind its last, so that loops go on in
// whole vectors; what stands there counts for nothing.
#pragma once

#include <array>
#include <cstddef>

namespace kasane {

constexpr std::size_t kRowMargin = 80; // a vector of the longest, and the pixels around one

/// Which of a row's pixels are green: the first, the third, ..., or the others.
enum class RowPhase { green_first, colour_first };

/// Five rows, the middle one at [2].
using FiveRows = std::array<const float*, 5>;
using RowsOfThree = std::array<const float*, 3>;

/// Green along the row and across it, at sites of the other colours: the mean of the neighbours and the curvature of
/// the pixel's own colour; and how far the pixel lies above it. At green sites the pixel itself, and 0.
struct DirectedRow {
    float *along, *across, *above_along, *above_across;
};
void directed_green_row(const FiveRows& mosaic, RowPhase phase, std::size_t count, const DirectedRow& to);
/// |a - b|, value by value; `a` and `b` may be places of one row.
void change_row(const float* a, const float* b, std::size_t count, float* to);
/// Of the two greens that whose colour differences change less around the pixel: `changes` along the row for five
/// rows, across it for rows two and one before and the row itself.
void decided_green_row(const FiveRows& along, const RowsOfThree& across, const float* green_along,
                       const float* green_across, std::size_t count, float* to);
/// The colour that the row has beside green, and the one it has not, through their differences to green.
void other_colours_row(const RowsOfThree& mosaic, const RowsOfThree& green, RowPhase phase, std::size_t count,
                       float* own, float* other);
/// Green, the row's own colour and the other one as means of the nearest neighbours.
void bilinear_row(const RowsOfThree& mosaic, RowPhase phase, std::size_t count, float* green, float* own, float* other);
/// a - b; 0 where that is no number.
void difference_row(const float* a, const float* b, std::size_t count, float* to);
/// Means of five values around each, along the row, and of those once more. `between` is room for a row.
void smooth_row_twice(const float* from, std::size_t count, float* between, float* to);
/// Means of five rows.
void mean_of_five_rows(const FiveRows& rows, std::size_t count, float* to);
/// Which of a row's pixels show a colour themselves.
enum class OwnSites { even, odd, none };
/// `from`, and `share` times `change` besides where the colour is interpolated.
void give_back_row(const float* from, const float* change, float share, OwnSites own, std::size_t count, float* to);

} // namespace kasane
