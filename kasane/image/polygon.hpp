// Polygons on pixels.
#pragma once

#include <kasane/image/image.hpp>

#include <utility>
#include <vector>

namespace kasane {

/// Corners (x, y), pixels, centres at integers; the last is joined to the first.
using Polygon = std::vector<std::pair<double, double>>;

/// Sets to 1 the pixels whose centres lie inside (even-odd rule). Corners may lie outside the mask.
void fill_polygon(const Polygon& polygon, Mask& mask);

} // namespace kasane
