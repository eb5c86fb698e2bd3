// A part of the field without the stars that should be there: roofs, trees, the edge of a cloud.
#pragma once

#include <kasane/image/image.hpp>

#include <vector>

namespace kasane {

/// A star that another exposure of the field shows, where this one should show it too.
struct ExpectedStar {
    double x = 0, y = 0; ///< pixels of this exposure
    bool found = false;
};

/// Share of the field whose cells have far fewer of the expected stars than the rest of the field (binomial, with the
/// number of cells that could show it by chance: O. Dunn, J. Am. Stat. Assoc. 56, 1961), or the
/// depth of an empty band along an edge where that is more; 0..1. Cells hold about six expected stars; NaN where fewer
/// than 24 are expected in all, since then nothing can be told.
double obstructed_share(const std::vector<ExpectedStar>& expected, int width, int height);

/// Depth, as a share of the field, of a band along one edge whose lines are far darker than the middle of the frame and
/// end within a few percent of it: a roof that moves into view, not the slope of a nebula. `plane` is calibrated, so
/// that no light is 0; it may be averaged down.
double darkened_edge(View<const float> plane);

/// The same from the sky: share of the cells in which an exposure is far darker than the stack's exposures together
/// make expect. `levels[i]` are the background levels of exposure i on one common grid (no light is 0; NaN outside the
/// frame), `noise[i]` that of one of its pixels. What stands in front of the sky hides its light too, and that shows
/// where stars are few. NaN for exposures that share too little with the others.
std::vector<double> darkened_shares(const std::vector<std::vector<float>>& levels, const std::vector<double>& noise);

} // namespace kasane
