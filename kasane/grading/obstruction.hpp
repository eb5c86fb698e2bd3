// A part of the field without the stars that should be there: roofs, trees, the edge of a cloud.
#pragma once

#include <vector>

namespace kasane {

/// A star that another exposure of the field shows, where this one should show it too.
struct ExpectedStar {
    double x = 0, y = 0; ///< pixels of this exposure
    bool found = false;
};

/// Share of the field whose cells have far fewer of the expected stars than the rest of the field (Poisson), or the
/// depth of an empty band along an edge where that is more; 0..1. Cells hold about six expected stars; NaN where fewer
/// than 24 are expected in all, since then nothing can be told.
double obstructed_share(const std::vector<ExpectedStar>& expected, int width, int height);

} // namespace kasane
